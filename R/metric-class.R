# Metrics for classes. Predictions are probabilities, rows x classes x values;
# the predicted class is the most probable one, the first in order if tied.

member_metric_accuracy <- function() {
  metric_definition("accuracy", "Accuracy", c("two_class", "many_class"), "higher",
    range = c(0, 1), does = "Share of rows whose predicted class is the true one.",
    score = function(truth, prediction, weights) {
      hit <- predicted_class(prediction) == as.integer(truth)
      weighted_columns(hit, weights)
    })
}

member_metric_balanced_accuracy <- function() {
  metric_definition("balanced_accuracy", "Balanced accuracy", c("two_class", "many_class"), "higher",
    range = c(0, 1), undefined = needs_two_classes,
    does = "Mean over the classes present of the share of their rows that are predicted right.",
    score = function(truth, prediction, weights) {
      hit <- predicted_class(prediction) == as.integer(truth)
      recalls <- lapply(split(seq_along(truth), truth, drop = TRUE), function(rows) {
        weighted_columns(hit[rows, , drop = FALSE], weights[rows])
      })
      Reduce(`+`, recalls) / length(recalls)
    })
}

member_metric_f1 <- function() {
  metric_definition("f1", "F1", "two_class", "higher", range = c(0, 1), undefined = needs_events,
    does = "Harmonic mean of precision and recall of the event.",
    score = function(truth, prediction, weights) {
      called <- predicted_class(prediction) == 2L
      event <- as.integer(truth) == 2L
      w <- weights %||% rep(1, length(truth))
      found <- colSums(called * (w * event))
      2 * found / (colSums(called * w) + sum(w * event))
    })
}

member_metric_log_loss <- function() {
  metric_definition("log_loss", "Log loss", c("two_class", "many_class"), "lower", range = c(0, Inf),
    does = "Mean of minus the log of the probability given to the true class (at least 1e-15).",
    score = function(truth, prediction, weights) {
      given <- prediction_of_truth(prediction, as.integer(truth))
      weighted_columns(-log(pmax(given, 1e-15)), weights)
    })
}

member_metric_auc <- function() {
  metric_definition("auc", "AUC", c("two_class", "many_class"), "higher", range = c(0, 1),
    undefined = needs_two_classes,
    does = paste("Probability that a random row with the event is ranked above one without, ties",
                 "counting half (Mann-Whitney); for many classes the mean over one-against-rest."),
    score = function(truth, prediction, weights) {
      if (nlevels(truth) == 2L) return(auc_of_class(2L, truth, prediction, weights))
      present <- which(tabulate(truth, nlevels(truth)) > 0L)
      rowMeans(matrix(vapply(present, auc_of_class, numeric(dim(prediction)[3]), truth = truth,
                             prediction = prediction, weights = weights), ncol = length(present)))
    })
}

auc_of_class <- function(class, truth, prediction, weights) {
  scores <- class_slice(prediction, class)
  auc_columns(scores, as.integer(truth) == class, weights %||% numeric())
}

# rows x values of one class
class_slice <- function(prediction, class) {
  matrix(prediction[, class, ], dim(prediction)[1], dim(prediction)[3])
}

prediction_of_truth <- function(prediction, truth) {
  dims <- dim(prediction)
  flat <- matrix(prediction, dims[1] * dims[2], dims[3])
  flat[seq_len(dims[1]) + (truth - 1L) * dims[1], , drop = FALSE]
}

# rows x values, numbers of the most probable class
predicted_class <- function(prediction) {
  best <- class_slice(prediction, 1L)
  winner <- matrix(1L, nrow(best), ncol(best))
  for (class in seq_len(dim(prediction)[2])[-1]) {
    here <- class_slice(prediction, class)
    higher <- here > best
    winner[is.na(higher)] <- NA
    higher[is.na(higher)] <- FALSE
    winner[higher] <- class
    best[higher] <- here[higher]
  }
  winner
}

weighted_columns <- function(x, weights) {
  if (is.null(weights)) colMeans(x) else colSums(x * weights) / sum(weights)
}

needs_two_classes <- function(truth, weights) {
  if (length(unique(truth)) < 2L) "the validation rows hold one class only"
}

needs_events <- function(truth, weights) {
  if (!any(as.integer(truth) == 2L)) "no validation row has the event"
}
