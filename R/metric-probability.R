# Metrics that look at the probabilities themselves, or at their order.

member_metric_log_loss <- function() {
  metric_definition(
    "log_loss",
    "Log loss",
    c("two_class", "many_class"),
    "lower",
    range = c(0, Inf),
    row_wise = TRUE,
    does = "Mean of minus the log of the probability given to the true class (at least 1e-15).",
    score = function(truth, prediction, weights) {
      log_loss_columns(prediction, as.integer(truth), weights %||% numeric(), nlevels(truth), 1e-15)
    }
  )
}

member_metric_brier <- function() {
  metric_definition(
    "brier",
    "Brier score",
    c("two_class", "many_class"),
    "lower",
    range = c(0, 2),
    row_wise = TRUE,
    does = "Mean squared error of the event's probability (Brier 1950); for many classes summed over them, at most 2.",
    score = function(truth, prediction, weights) {
      classes <- if (nlevels(truth) == 2L) 2L else seq_len(nlevels(truth))
      errors <- lapply(classes, function(class) {
        (class_slice(prediction, class) - (as.integer(truth) == class))^2
      })
      weighted_columns(Reduce(`+`, errors), weights)
    }
  )
}

member_metric_auc <- function() {
  metric_definition("auc", "AUC", c("two_class", "many_class"), "higher",
    range = c(0, 1),
    undefined = needs_two_classes,
    does = paste(
      "Probability that a random row with the event is ranked above one without, ties",
      "counting half (Mann-Whitney); for many classes the mean over one-against-rest."
    ),
    score = function(truth, prediction, weights) {
      if (nlevels(truth) == 2L) return(auc_of_class(2L, truth, prediction, weights))
      present <- which(tabulate(truth, nlevels(truth)) > 0L)
      rowMeans(matrix(vapply(present, auc_of_class, numeric(dim(prediction)[3]),
        truth = truth,
        prediction = prediction, weights = weights
      ), ncol = length(present)))
    }
  )
}

auc_of_class <- function(class, truth, prediction, weights) {
  auc_columns(prediction, class, nlevels(truth), as.integer(truth) == class, weights %||% numeric())
}

member_metric_average_precision <- function() {
  metric_definition(
    "average_precision",
    "Average precision",
    "two_class",
    "higher",
    range = c(0, 1),
    undefined = needs_events,
    does = "Precision averaged over the rises of recall as rows are taken from the most probable down; tied rows together.",
    score = function(truth, prediction, weights) {
      average_precision_columns(prediction, 2L, 2L, as.integer(truth) == 2L, weights %||% numeric())
    }
  )
}

member_metric_lift <- function() lift_metric("lift", "Lift at 10 %", 0.1)

lift_metric <- function(name, label, share) {
  metric_definition(name, label, "two_class", "higher",
    range = c(0, Inf), undefined = needs_events,
    unit = "times the overall share", arguments = list(share = share),
    does = paste0(
      "Share of events among the most probable ", format(100 * share),
      " % of rows, divided by their share among all; rows tied at the cut count in part."
    ),
    score = function(truth, prediction, weights) {
      lift_columns(prediction, 2L, 2L, as.integer(truth) == 2L, weights %||% numeric(), share)
    }
  )
}
