#' See what a comparison will do, before it starts
#'
#' Counts settings, scores, and the fits and steps that are really needed once
#' shared work is shared; and does up to three fits of every candidate on the first split,
#' to say how many minutes and how much memory the whole will take. Of a search that goes on
#' after what it learns this is its first round; a candidate that comes later is timed near its
#' defaults.
#'
#' @param plan A plan from [plan_comparison()], or a [brief()].
#' @param ... Arguments of [plan_comparison()] when the first one is a brief.
#' @param pilots Do fits to tell the time? `FALSE` only counts.
#' @return A `kw_preview`; its element `candidates` is a tibble with one row a
#'   candidate: `candidate`, `combinations`, `ruled_out`, `impossible`, `merged`,
#'   `settings`, `fits` (needed a split), `varies`, `fit_seconds` (mean of the pilots, with
#'   their scoring; `NA` without pilots or where they failed) and `seconds` (all fits of the
#'   candidate on all splits by one process). `seconds` is the whole with its steps,
#'   `megabytes` the most memory that R held during the pilots, with the room that all
#'   scores will take.
#' @section Errors:
#' `kw_error_argument` for anything but a plan.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "cracked", event = "yes", id = "pot_id",
#'   group = "firing_id"
#' )
#' preview(job, seed = 1)
#' @export
preview <- function(plan, ..., pilots = TRUE) {
  plan <- as_plan(plan, ...)
  check_flag(pilots, "pilots")
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
  asked <- asked_fits(plan, work)
  timed <- if (pilots) without_rng_trace(run_pilots(plan, work)) else no_pilots(plan)
  table$fit_seconds <- timed$fit_seconds
  candidate <- factor(work$fits$candidate, seq_along(plan$spaces))
  whole <- unname(vapply(split(asked$whole, candidate), sum, 1))
  table$seconds <- ifelse(whole == 0, 0, timed$fit_seconds * whole)
  scores <- sum(asked$times[work$settings$fit])
  structure(
    list(
      plan = plan, candidates = table,
      seconds = sum(table$seconds) + timed$step_seconds * n_splits,
      megabytes = timed$megabytes +
        sum(table$settings) * n_splits * length(plan$metrics) * 8 / 2^20,
      splits = n_splits, settings = sum(table$settings),
      scores = scores, fits = sum(asked$times), in_part = scores < sum(table$settings) * n_splits,
      steps = length(work$nodes) * n_splits,
      steps_unshared = sum(chain_lengths(work)) * n_splits
    ),
    class = "kw_preview"
  )
}

# By fit: how often the first round makes it, and how many fits on all training rows that amounts
# to. A search may ask for some splits only, or for a share of the rows.
asked_fits <- function(plan, work) {
  n <- length(plan$splits)
  times <- whole <- rep(n, length(work$fits$node))
  tasks <- tasks_of_round(plan$round)
  if (is.null(tasks)) return(list(times = times, whole = whole))
  stages <- stages_of_tasks(tasks, work, rep(TRUE, length(times)))
  # before anything is looked at in part
  stages$new[simplest_fit(work)] <- TRUE
  in_full <- matrix(stages$new, length(times), n)
  extra <- extra_whole <- numeric(length(times))
  for (part in stages$parts) {
    splits <- if (length(part$splits) == 0L) seq_len(n) else part$splits
    if (part$share == 1) {
      in_full[part$fits, splits] <- TRUE
    } else {
      extra[part$fits] <- extra[part$fits] + length(splits)
      extra_whole[part$fits] <- extra_whole[part$fits] + part$share * length(splits)
    }
  }
  list(
    times = as.integer(rowSums(in_full) + extra), whole = rowSums(in_full) + extra_whole
  )
}

# No pilots are begun after so many seconds, but one of every candidate.
pilots_seconds <- 5

# The last, middle and first fit of every candidate on the first split: mean seconds of a
# fit with its scoring by candidate, seconds of all steps on one split, peak memory. A candidate
# of which nothing is in the first round is timed near its defaults.
run_pilots <- function(plan, work, turns = c(1, 0.5, 0)) {
  counted <- seq_along(work$nodes)
  later <- names(plan$spaces)[tabulate(work$fits$candidate, length(plan$spaces)) == 0L]
  usual <- lapply(plan$spaces[later], function(space) {
    clean_settings(space, usual_setting(space))$settings
  })
  if (length(later) > 0L) work <- extend_work(work, usual)
  run <- new_run(plan, work, working_data(plan$brief), "none", no_limits)
  split <- which(!is_apparent(plan$splits))[1]
  cache <- new_cache()
  started <- seconds_now()
  invisible(gc(reset = TRUE, full = FALSE))
  parts <- list()
  for (turn in turns) {
    for (candidate in seq_along(plan$spaces)) {
      if (turn < 1 && seconds_now() - started > pilots_seconds) break
      fits <- which(work$fits$candidate == candidate)
      if (length(fits) == 0L) next
      fit <- fits[1 + round((1 - turn) * (length(fits) - 1))]
      parts <- c(parts, list(run_unit(run, split, fit, cache)))
    }
  }
  list(
    fit_seconds = vapply(
      seq_along(plan$spaces), pilot_seconds, numeric(1),
      parts = parts, work = work
    ),
    step_seconds = sum(pilot_steps(parts, work)[counted]), megabytes = sum(gc(full = FALSE)[, 6])
  )
}

no_pilots <- function(plan) {
  list(
    fit_seconds = rep(NA_real_, length(plan$spaces)), step_seconds = NA_real_,
    megabytes = NA_real_
  )
}

pilot_seconds <- function(candidate, parts, work) {
  fit <- unlist(lapply(parts, `[[`, "fit"))
  seconds <- unlist(lapply(parts, `[[`, "seconds"))
  ok <- is.na(unlist(lapply(parts, `[[`, "message")))
  mean(seconds[ok & work$fits$candidate[fit] == candidate & !duplicated(fit)])
}

# Seconds by step. Those that were not done in a pilot are taken to cost what others of their kind
# do.
pilot_steps <- function(parts, work) {
  steps <- bind_steps(lapply(parts, `[[`, "steps"))
  if (length(work$nodes) == 0L) return(numeric())
  kind <- vapply(work$nodes, function(node) node$step$definition$name, "")
  seconds <- rep(NA_real_, length(kind))
  seconds[steps$node] <- steps$seconds
  means <- tapply(seconds, kind, mean, na.rm = TRUE)
  filled <- ifelse(is.na(seconds), means[kind], seconds)
  ifelse(is.na(filled), mean(seconds, na.rm = TRUE), filled)
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
#' @section Errors:
#' `kw_error_argument` for anything but a plan or a comparison.
#' @examples
#' job <- brief(demo_pots(), outcome = "cracked", event = "yes", id = "pot_id")
#' rivals <- candidates(forest = fam_forest(cut_rule = among("usual", "rank"),
#'   min_node = among(1, 5)))
#' list_ruled_out(job, rivals, seed = 1)
#' @export
list_ruled_out <- function(plan, ...) {
  plan <- as_plan(plan, ...)
  rows <- lapply(names(plan$round), function(name) {
    gone <- plan$round[[name]]$left_out
    list(
      candidate = rep(name, length(gone$why)), values = settings_text(gone$settings),
      why = gone$why
    )
  })
  table <- tibble::as_tibble(data.table::rbindlist(rows))
  listing(table,
    title = paste0(count_of(nrow(table), "setting"), " will not be tried"),
    none = "Nothing is ruled out.", texts = "why"
  )
}

settings_text <- function(settings) {
  if (nrow(settings) == 0L) return(character())
  parts <- Map(
    function(column, name) ifelse(is.na(column), "", paste(name, "=", format_plain(column))),
    settings,
    names(settings)
  )
  gsub("^(, )+|(, )+$", "", do.call(paste, c(unname(parts), sep = ", ")))
}

format_plain <- function(column) {
  if (is.numeric(column)) {
    format(column, trim = TRUE, digits = 6, drop0trailing = TRUE)
  } else {
    as.character(column)
  }
}
