#' Predict new rows with the final model
#'
#' New rows may have their columns in any order, more columns than needed, levels
#' never seen and missing values. Numbers that came as text are mended; what
#' cannot be read as the column's type is an error. The brief's missing codes apply.
#'
#' @param object A model from [fit_final()] or [open_model()].
#' @param new_data Data frame with the brief's predictor columns.
#' @param type `"value"` for numeric outcomes; `"class"`, `"probability"` or both
#'   (the default) for classes.
#' @param ... Not used.
#' @return A tibble, one row a new row, in order: `value`, or `class` and
#'   `p_<level>` for every class. The class is the most probable one, or the event from
#'   the threshold of [set_threshold()] on.
#' @section Errors:
#' `kw_error_new_data` when a column is absent or of another type, naming it.
#' @examples
#' job <- brief(demo_pots(), outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'              ignore = c("cracked", "grade", "notes"))
#' cmp <- run_comparison(job, candidates(tree = fam_tree()), splits = split_kfold(3), seed = 1,
#'                       quiet = TRUE)
#' predict(fit_final(select_final(cmp)), demo_pots()[1:3, ])
#' @export
predict.kw_model <- function(object, new_data, type = NULL, ...) {
  choices <- if (object$kind == "number") "value" else c("class", "probability")
  if (!is.null(type)) check_choice(type, choices, "type")
  frame <- frame_from_new(new_data, object$schema, object$missing_codes)
  prediction <- predict_frame(object, frame)
  if (object$kind == "number") return(tibble::tibble(value = prediction))
  colnames(prediction) <- paste0("p_", object$levels)
  probabilities <- tibble::as_tibble(prediction)
  called <- if (is.null(object$threshold)) unname(prediction) else calls_at(prediction, object$threshold)
  class <- factor(object$levels[predicted_class(as_path_prediction(factor(object$levels), called))],
                  levels = object$levels)
  switch(type %||% "both", class = tibble::tibble(class = class), probability = probabilities,
         tibble::add_column(probabilities, class = class, .before = 1L))
}

# One prediction (vector, or rows x classes) for a frame of raw predictors.
predict_frame <- function(model, frame) {
  if (frame$n == 0L) {
    return(if (model$kind == "number") numeric() else matrix(0, 0L, length(model$levels)))
  }
  for (learned in model$steps) frame <- use_step(learned, frame)
  fitted <- model$family
  prediction <- without_rng_trace(
    predict_family(fitted, family_input(frame, fitted$definition), model$value)
  )
  dims <- dim(prediction)
  if (is.null(fitted$definition$path)) return(prediction)
  if (length(dims) == 3L) matrix(prediction, dims[1], dims[2]) else as.vector(prediction)
}
