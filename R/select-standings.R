#' The standings of a comparison
#'
#' One row a setting, best first by the deciding metric.
#'
#' The standard error is `sd / sqrt(k)` for k-fold, however many repeats: scores
#' of different repeats are not independent. For bootstrap and repeated holdout
#' it is `sd * sqrt(1/J + n_validation/n_training)` over J draws (Nadeau & Bengio
#' 2003, Inference for the generalization error, Machine Learning 52), counting
#' distinct training rows. Where held-out predictions are scored together it is the
#' jackknife's, and `sd` is over repeats. For the .632 bootstraps `mean` and `sd` are of
#' the corrected scores.
#'
#' @param cmp A comparison from [run_comparison()].
#' @param metric The metric to rank by; default the deciding one.
#' @param top Only the first so many rows.
#' @param level `"settings"`: one row a setting that was to be scored in full; `"candidates"`: the
#'   best setting of every candidate; `"families"`: the best one of every model family; `"all"`:
#'   also what a screen dropped, at the end.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A tibble, of which printing shows the first rows with settings in words, numbers
#'   rounded to their uncertainty and the spread over the splits as a strip, under what the best
#'   is worth (see [honest_score()]); `print(x, n = 20)` shows more, [tibble::as_tibble()] all
#'   columns: `place` (`NA` for settings that cannot be ranked since a split failed, or that miss
#'   a constraint), `candidate`, `setting` (number within the candidate), one column for every
#'   hyperparameter that varied, `metric`, `mean`, `sd`, `se`, `lowest`, `highest`, `splits` (that
#'   counted), `training` and `gap` (mean training score and its distance from the mean, if kept),
#'   `seconds` (the setting's share of all work), `failed` (splits that failed or left the metric
#'   undefined) and, with constraints, `provided` (are they met?). With `level = "all"` also
#'   `so_far` (mean of the scores that there are, on all training rows), `share` (of the training
#'   rows when a setting was dropped), `behind` (how much worse than the leader it was then) and
#'   `why` it was dropped, or has not all its scores; `splits` says on how many it was scored.
#' @section Errors:
#' `kw_error_argument` for a level or a metric that there is not.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline(), tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1, quiet = TRUE
#' )
#' standings(cmp)
#' @export
standings <- function(cmp, metric = NULL, top = NULL, level = "settings", ...) {
  no_more(...)
  table <- standings_rows(cmp, metric, top, level)
  metric <- cmp_metric(cmp, metric)
  best <- tryCatch(
    select_final(cmp, "best_mean", metric = metric$name, blend = FALSE),
    kw_error_select = function(e) NULL
  )
  mark_table(table, c("kw_standings", "kw_listing"), about = list(
    label = metric$label, direction = metric$direction, settings = length(cmp$results$candidate),
    candidates = length(spaces_of(cmp)), splits = splitter_of(cmp)$label,
    worth = if (!is.null(best)) honest_text(best, leader = TRUE)
  ))
}
