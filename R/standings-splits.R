#' Every split's scores, rows and failures
#'
#' `scores_by_split()` gives every score; `rows_by_split()` the rows it was had on,
#' so that anyone can repeat a score by hand; `failures()` what went wrong and
#' `warnings_by_split()` what was warned about, such as a fit that did not converge.
#'
#' @param cmp A comparison from [run_comparison()].
#' @param metric Names of metrics; default all.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return `scores_by_split()`: a tibble with `candidate`, `setting`, `repeat`,
#'   `split`, `metric`, `validation`, `training` (`NA` unless kept), `seconds`; of splits that
#'   [settle()] added, for the settings that were scored on them.
#'   `rows_by_split()`: a list with one element a split, each a list of integer
#'   vectors `training` and `validation`, row numbers of the table given to
#'   [brief()]; training rows of a bootstrap repeat. `failures()` and `warnings_by_split()`: a
#'   tibble with
#'   `candidate`, `setting`, `repeat`, `split`, `stage`, `message`; no rows if
#'   nothing failed. Where a prediction left a metric undefined, `stage` is
#'   `"metric <name>"` and `message` the reason. Repeat 0, split 0 is the apparent score
#'   of the .632 bootstraps: all working rows on both sides.
#' @section Errors:
#' `kw_error_argument` for a metric that was not scored.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline()),
#'   splits = split_kfold(3),
#'   seed = 1, quiet = TRUE
#' )
#' scores_by_split(cmp, metric = "rmse")
#' lengths(rows_by_split(cmp)[[1]])
#' failures(cmp)
#' @export
scores_by_split <- function(cmp, metric = NULL, ...) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  results <- cmp$results
  metrics <- metric %||% names(metrics_of(cmp))
  for (metric in metrics) cmp_metric(cmp, metric)
  n <- length(results$candidate)
  n_splits <- length(all_splits(cmp))
  place <- split_places(cmp)
  one <- function(name) {
    tibble::tibble(
      candidate = rep(candidate_names(cmp), n_splits), setting = rep(results$row, n_splits),
      `repeat` = rep(place$rep, each = n), split = rep(place$part, each = n),
      metric = name, validation = as.vector(results$scores[[name]]),
      training = if (is.null(results$training)) NA_real_ else as.vector(results$training[[name]]),
      seconds = as.vector(results$seconds)
    )
  }
  asked <- results$done
  asked[, splits_of_all(cmp$plan)] <- TRUE
  asked <- as.vector(asked)
  table <- tibble::as_tibble(
    data.table::rbindlist(lapply(metrics, function(name) one(name)[asked, ]))
  )
  labels <- vapply(metrics, function(name) cmp_metric(cmp, name)$label, "")
  sizes <- vapply(metrics, function(name) middle(score_summary(cmp, name)$sd), 1)
  listing(table,
    title = paste0(
      "Scores split by split: ", enumerate(labels), " of ", count_of(n, "setting"), " on ",
      count_of(n_splits, "split")
    ),
    scores = c("validation", "training"), certain = stats::setNames(sizes / 2, metrics),
    hide = c(
      if (max(place$rep) == 1L) "repeat", if (is.null(results$training)) "training", "setting"
    ),
    settings = varied_settings(cmp)
  )
}

split_places <- function(cmp) {
  list(
    rep = vapply(all_splits(cmp), function(s) as.integer(s$rep), integer(1)),
    part = vapply(all_splits(cmp), function(s) as.integer(s$part), integer(1))
  )
}

#' @rdname scores_by_split
#' @export
rows_by_split <- function(cmp, ...) {
  no_more(...)
  if (!inherits(cmp, "kw_plan")) {
    check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  }
  plan <- if (inherits(cmp, "kw_plan")) cmp else cmp$plan
  lapply(plan$splits, function(split) {
    list(training = plan$brief$rows[split$training], validation = plan$brief$rows[split$validation])
  })
}

#' @rdname scores_by_split
#' @export
failures <- function(cmp, ...) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  incidents(cmp, c(cmp$results$failures, cmp$results$unscored), "failed")
}

#' @rdname scores_by_split
#' @export
warnings_by_split <- function(cmp, ...) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  incidents(cmp, cmp$results$warnings, "warned")
}

# One row for every setting that an incident concerns.
incidents <- function(cmp, records, what) {
  table <- incident_rows(cmp, records)
  concerned <- length(unique(paste(table$candidate, table$setting)))
  listing(table,
    title = paste0(
      count_of(concerned, "setting"), " ", what, ", ", count_of(nrow(table), "time"), " in all"
    ),
    none = paste0("No setting ", what, "."), hide = "setting", texts = "message",
    settings = varied_settings(cmp)
  )
}

incident_rows <- function(cmp, records) {
  place <- split_places(cmp)
  rows <- lapply(records, function(record) {
    n <- length(record$settings)
    list(
      candidate = candidate_names(cmp)[record$settings],
      setting = cmp$results$row[record$settings],
      `repeat` = rep(place$rep[record$split], n), split = rep(place$part[record$split], n),
      stage = rep(record$stage, n), message = rep(record$message, n)
    )
  })
  if (length(rows) == 0L) {
    return(tibble::tibble(
      candidate = character(), setting = integer(), `repeat` = integer(),
      split = integer(), stage = character(), message = character()
    ))
  }
  table <- tibble::as_tibble(data.table::rbindlist(rows))
  table[order(
    match(table$candidate, names(spaces_of(cmp))),
    table$setting,
    table$`repeat`,
    table$split,
    table$stage
  ), ]
}

# What the columns of scores are called: "3", of several repeats "2.3", of pooled ones "repeat 2".
split_names <- function(cmp, counted) {
  splits <- all_splits(cmp)[counted]
  repeats <- vapply(splits, `[[`, 1, "rep")
  if (has_pooled_scores(cmp)) return(paste("repeat", seq_along(unique(repeats))))
  parts <- vapply(splits, function(s) paste(s$part), "")
  if (any(repeats > 1)) paste0(repeats, ".", parts) else parts
}
