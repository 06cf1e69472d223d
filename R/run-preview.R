#' See what a comparison will do, before it starts
#'
#' Counts settings, scores, and the fits and steps that are really needed once
#' shared work is shared.
#'
#' @param plan A plan from [plan_comparison()], or a [brief()].
#' @param ... Arguments of [plan_comparison()] when the first one is a brief.
#' @return A `kw_preview`; its element `candidates` is a tibble with one row a
#'   candidate: `candidate`, `combinations`, `ruled_out`, `impossible`, `merged`,
#'   `settings`, `fits` (needed a split), `varies`.
#' @examples
#' job <- brief(demo_pots(), outcome = "cracked", event = "yes", id = "pot_id",
#'              group = "firing_id")
#' preview(job, seed = 1)
#' @export
preview <- function(plan, ...) {
  plan <- as_plan(plan, ...)
  work <- compile_work(plan$spaces, lapply(plan$round, `[[`, "settings"))
  counts <- t(vapply(plan$round, `[[`, numeric(4), "counts"))
  table <- tibble::tibble(
    candidate = names(plan$spaces), combinations = counts[, "combinations"],
    ruled_out = counts[, "ruled_out"], impossible = counts[, "impossible"],
    merged = counts[, "merged"],
    settings = vapply(plan$round, function(round) nrow(round$settings), integer(1)),
    fits = tabulate(work$fits$candidate, length(plan$spaces)),
    varies = vapply(plan$round, function(round) varying_text(round$settings), character(1))
  )
  n_splits <- length(plan$splits)
  structure(
    list(plan = plan, candidates = table, splits = n_splits, settings = sum(table$settings),
         scores = sum(table$settings) * n_splits, fits = length(work$fits$node) * n_splits,
         steps = length(work$nodes) * n_splits,
         steps_unshared = sum(chain_lengths(work)) * n_splits),
    class = "kw_preview"
  )
}

chain_lengths <- function(work) {
  depth <- integer(length(work$nodes))
  for (i in seq_along(work$nodes)) {
    parent <- work$nodes[[i]]$parent
    depth[i] <- 1L + if (parent == 0L) 0L else depth[parent]
  }
  c(0L, depth)[work$settings$node + 1L]
}

varying_text <- function(settings) {
  if (length(settings) == 0L) return("")
  several <- vapply(settings, function(column) length(unique(column)), integer(1))
  paste0(names(settings), " (", several, ")", collapse = ", ")
}

#' Settings that will not be tried, and why
#'
#' @param plan A plan from [plan_comparison()], or a [brief()].
#' @param ... Arguments of [plan_comparison()] when the first one is a brief.
#' @return A tibble, one row a setting (at most 10,000 a candidate): `candidate`,
#'   `values`, `why`.
#' @examples
#' job <- brief(demo_pots(), outcome = "cracked", event = "yes", id = "pot_id")
#' rivals <- candidates(forest = fam_forest(split_rule = among("usual", "rank"), min_leaf = among(1, 5)))
#' list_left_out(job, rivals, seed = 1)
#' @export
list_left_out <- function(plan, ...) {
  plan <- as_plan(plan, ...)
  rows <- lapply(names(plan$round), function(name) {
    gone <- plan$round[[name]]$left_out
    list(candidate = rep(name, length(gone$why)), values = settings_text(gone$settings), why = gone$why)
  })
  tibble::as_tibble(data.table::rbindlist(rows))
}

settings_text <- function(settings) {
  if (nrow(settings) == 0L) return(character())
  parts <- Map(function(column, name) ifelse(is.na(column), "", paste(name, "=", format_plain(column))), settings, names(settings))
  gsub("^(, )+|(, )+$", "", do.call(paste, c(unname(parts), sep = ", ")))
}

format_plain <- function(column) {
  if (is.numeric(column)) format(column, trim = TRUE, digits = 6, drop0trailing = TRUE) else as.character(column)
}
