#' Open the set-aside rows and score the final model on them
#'
#' Meant to be done once, at the very end. Every opening of the same rows is
#' counted; from the second on a warning says so, since choosing again after
#' looking makes the score too good.
#'
#' @param model A model from [fit_final()] or [open_model()].
#' @param job The brief with the set-aside rows; needed only for a model that was
#'   opened from a file.
#' @return A tibble, one row a metric: `metric`, `training` (final model on the
#'   working rows it was fitted to), `validation`, `validation_sd`,
#'   `validation_se` (from the comparison), `set_aside`, `rows`, `openings`.
#' @section Errors:
#' `kw_error_set_aside` when nothing was set aside, or when `job` has other
#' set-aside rows than the model's.
#' @examples
#' job <- brief(demo_pots(), outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'              ignore = c("cracked", "grade", "notes")) |>
#'   set_aside(share = 0.2, seed = 7)
#' cmp <- run_comparison(job, candidates(tree = fam_tree()), splits = split_kfold(3), seed = 1,
#'                       quiet = TRUE)
#' score_set_aside(fit_final(select_final(cmp)))
#' @export
score_set_aside <- function(model, job = NULL) {
  check_class(model, "kw_model", "model", "Make one with fit_final().")
  if (!is.null(job)) check_class(job, "kw_brief", "job", "Make one with brief().")
  job <- job %||% model$job
  if (is.null(job)) {
    stop_kw("set_aside", "A model opened from a file does not carry the set-aside rows.",
            remedy = "Give the brief: score_set_aside(model, job).")
  }
  if (is.null(job$sealed)) {
    stop_kw("set_aside", "No rows were set aside.",
            remedy = "Use set_aside() on the brief before the comparison.")
  }
  sealed <- job$sealed
  if (!identical(sealed$fingerprint, model$facts$seal_fingerprint)) {
    stop_kw("set_aside", "The set-aside rows of this brief are not those of the model.",
            remedy = "Use the same table, the same roles and the same seed as for the comparison.")
  }
  times <- record_opening(sealed$fingerprint, model$facts$openings %||% 0L)
  if (times > 1L) {
    warn_kw("opened_again", paste0("These rows have now been opened ", times, " times."),
            remedy = "A model changed after looking at them will seem better than it is.")
  }
  prediction <- predict_frame(model, frame_from_new(sealed$table, model$schema, model$missing_codes))
  truth <- sealed$table[[model$outcome]]
  weights <- if (!is.null(job$roles$weight)) sealed$table[[job$roles$weight]]
  found <- score_with_threshold(model$metrics, truth, prediction, weights, model$threshold)
  scores <- model$scores
  scores$set_aside <- unname(found)
  scores$rows <- length(truth)
  scores$openings <- times
  scores
}
