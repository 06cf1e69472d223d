# Predicted classes by a decision threshold.

# Probabilities of two classes as certain calls: the event from the threshold on.
calls_at <- function(prediction, threshold) {
  called <- as.double(prediction[, 2] >= threshold)
  cbind(1 - called, called, deparse.level = 0)
}

# Scores of one prediction by every metric; metrics of the predicted class see it with
# the threshold, if there is one. NA where a metric is undefined.
score_with_threshold <- function(metrics, truth, prediction, weights, threshold = NULL) {
  dims <- dim(prediction)
  if (!is.null(prediction_columns(truth))) {
    prediction <- matrix(prediction, dims[1], dims[2])
  } else {
    prediction <- as.vector(prediction)
  }
  called <- if (!is.null(threshold)) calls_at(prediction, threshold)
  vapply(metrics, function(metric) {
    if (!is.null(metric$undefined(truth, weights))) return(NA_real_)
    used <- if (!is.null(threshold) && metric$by_class) called else prediction
    as.double(score_predictions(metric, truth, used, weights))
  }, numeric(1))
}

# Scores at many thresholds at once: rows x 2 x thresholds.
calls_at_many <- function(event, thresholds) {
  called <- outer(event, thresholds, `>=`) * 1
  stacked <- array(0, c(length(event), 2L, length(thresholds)))
  stacked[, 1, ] <- 1 - called
  stacked[, 2, ] <- called
  stacked
}
