#' Open the set-aside rows and score the final model on them
#'
#' Meant to be done once, at the very end. Every opening of the same rows is
#' counted; from the second on a warning says so, since choosing again after
#' looking makes the score too good.
#'
#' @param model A model from [fit_final()] or [open_model()].
#' @param brief The brief with the set-aside rows; needed only for a model that was
#'   opened from a file.
#' @param draws Bootstrap draws of the set-aside rows (of whole groups, if the brief has
#'   any) for the interval.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A tibble, one row a metric: `metric`, `training` (final model on the
#'   working rows it was fitted to), `validation`, `validation_sd`,
#'   `validation_se` (from the comparison), `set_aside`, `low`, `high` (95 %
#'   interval of it: bootstrap percentiles from 30 rows or groups on, of fewer by the
#'   jackknife and the t distribution), `rows`, `groups` (`NA` without), `openings`.
#' @section Errors:
#' `kw_error_set_aside` when nothing was set aside, or when `brief` has other
#' set-aside rows than the model's.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' ) |>
#'   set_aside(share = 0.2, seed = 7)
#' cmp <- run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1,
#'   quiet = TRUE
#' )
#' score_set_aside(fit_final(select_final(cmp)))
#' @export
score_set_aside <- function(model, brief = NULL, draws = 1000, ...) {
  no_more(...)
  check_class(model, "kw_model", "model", "Make one with fit_final().")
  check_number(draws, "draws", min = 20, whole = TRUE)
  if (!is.null(brief)) check_class(brief, "kw_brief", "brief", "Make one with brief().")
  brief <- brief %||% model$brief
  if (is.null(brief)) {
    stop_kw("set_aside", "A model opened from a file does not carry the set-aside rows.",
      remedy = "Give the brief: score_set_aside(model, job)."
    )
  }
  if (is.null(brief$sealed)) {
    stop_kw("set_aside", "No rows were set aside.",
      remedy = "Use set_aside() on the brief before the comparison."
    )
  }
  sealed <- sealed_part(brief)
  if (is.null(sealed)) {
    stop_kw(
      "set_aside",
      "The set-aside rows are not in this session: plans and models do not carry them.",
      remedy = "Give the brief: score_set_aside(model, job)."
    )
  }
  if (!identical(sealed$fingerprint, model$facts$seal_fingerprint)) {
    stop_kw("set_aside", "The set-aside rows of this brief are not those of the model.",
      remedy = "Use the same table, the same roles and the same seed as for the comparison."
    )
  }
  times <- record_opening(sealed$fingerprint, model$facts$openings %||% 0L)
  if (times > 1L) {
    warn_kw("opened_again", paste0("These rows have now been opened ", times, " times."),
      remedy = "A model changed after looking at them will seem better than it is."
    )
  }
  frame <- frame_from_new(sealed$table, model$schema, model$missing_codes)
  prediction <- predict_frame(model, frame)
  weights <- row_weights(brief, sealed$table)
  group <- if (!is.null(brief$roles$group)) sealed$table[[brief$roles$group]]
  target <- new_target(
    sealed$table[[model$outcome]], weights, group, quantiles = model$quantiles,
    costs = row_costs(model$costs, sealed$table)
  )
  truth <- truth_of(target)
  scores <- model$scores
  found <- scores_with_reach(model, target, prediction, draws)
  scores[c("set_aside", "low", "high")] <- found[c("score", "low", "high")]
  scores$rows <- length(truth)
  scores$groups <- if (is.null(group)) NA_integer_ else length(unique(group))
  scores$openings <- times
  scores <- aside_listing(scores)
  if (!is.null(model$folds)) attr(scores, "intervals") <- interval_coverage(model, frame, truth)
  if (!is.null(model$origin)) model$origin$set_aside <- scores
  scores
}

aside_listing <- function(scores) {
  times <- scores$openings[1]
  listing(scores,
    title = paste0(
      "The final model on the ", count_of(scores$rows[1], "row"), " set aside",
      if (times > 1L) paste0(", opened ", times, " times")
    ),
    scores = c("training", "validation", "validation_sd", "validation_se", "set_aside"),
    certain = stats::setNames((scores$high - scores$low) / 4, scores$metric),
    interval = 0.95, hide = c("validation_se", "rows", "groups", "openings"),
    called = c(set_aside = "set aside", validation_sd = "sd")
  )
}

# Scores of a model's metrics on rows, with 95 % intervals: list(score, low, high).
scores_with_reach <- function(model, target, prediction, draws) {
  truth <- truth_of(target)
  score <- function(at) {
    score_with_threshold(
      model$metrics, truth[at], prediction_rows(prediction, at), target$weights[at],
      model$threshold
    )
  }
  ranges <- lapply(model$metrics, `[[`, "range")
  reach <- set_aside_interval(score, target, draws, model$facts$seed, ranges)
  list(score = unname(score(seq_along(truth))), low = reach[1, ], high = reach[2, ])
}

# 95 % intervals of scores on these rows, 2 x metrics. From 30 rows or groups on: the
# percentiles of bootstrap draws of them (Efron & Tibshirani 1993, chapter 13). Of fewer the
# percentiles would be too close: there the jackknife's standard error and the t
# distribution with one degree of freedom less than there are groups.
set_aside_interval <- function(score, target, draws, seed, ranges) {
  unit <- inner_unit(target)
  units <- length(unique(unit))
  if (units >= enough_units) return(bootstrap_interval(score, target, draws, seed))
  whole <- score(seq_along(unit))
  if (units < 2L) return(matrix(NA_real_, 2L, length(whole)))
  without <- vapply(unique(unit), function(u) score(which(unit != u)), numeric(length(whole)))
  without <- t(matrix(without, length(whole)))
  known <- colSums(is.na(without)) == 0L
  se <- ifelse(known, jackknife_error(without), NA_real_)
  reach <- stats::qt(0.975, units - 1) * se
  lowest <- vapply(ranges, `[`, 1, 1L)
  highest <- vapply(ranges, `[`, 1, 2L)
  unname(rbind(pmax(whole - reach, lowest), pmin(whole + reach, highest)))
}

enough_units <- 30L

bootstrap_interval <- function(score, target, draws, seed) {
  draw <- unit_drawer(target)
  each <- with_seed(derive_seed(seed, "set-aside intervals"), {
    vapply(seq_len(draws), function(i) {
      score(draw()$inside)
    }, numeric(length(score(seq_along(target$outcome)))))
  })
  unname(apply(
    matrix(each, ncol = draws), 1L, stats::quantile,
    probs = c(0.025, 0.975), names = FALSE, na.rm = TRUE
  ))
}
