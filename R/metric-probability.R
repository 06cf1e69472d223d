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
    does = paste(
      "Mean squared error of the event's probability (Brier 1950); for many classes",
      "summed over them, at most 2."
    ),
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
    range = c(0, 1), compares_rows = TRUE, score_in_parts = auc_in_parts,
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

# The share of the pairs of rows within a part that are in the right order, over all parts;
# for many classes the mean over one-against-rest.
auc_in_parts <- function(truth, prediction, weights, part) {
  classes <- if (nlevels(truth) == 2L) 2L else seq_len(nlevels(truth))
  weight <- weights %||% rep(1, length(truth))
  each <- lapply(classes, function(class) {
    event <- as.integer(truth) == class
    right <- 0
    pairs <- 0
    for (rows in split(seq_along(truth), part)) {
      here <- sum(weight[rows][event[rows]]) * sum(weight[rows][!event[rows]])
      if (here == 0) next
      pairs <- pairs + here
      found <- auc_of_class(class, truth[rows], prediction[rows, , , drop = FALSE], weights[rows])
      right <- right + here * found
    }
    if (pairs > 0) right / pairs
  })
  each <- Filter(Negate(is.null), each)
  if (length(each) == 0L) return(rep(NA_real_, dim(prediction)[3]))
  Reduce(`+`, each) / length(each)
}

member_metric_average_precision <- function() {
  metric_definition(
    "average_precision",
    "Average precision",
    "two_class",
    "higher",
    range = c(0, 1), compares_rows = TRUE,
    undefined = needs_events,
    does = paste(
      "Precision averaged over the rises of recall as rows are taken from the most probable",
      "down; tied rows together."
    ),
    score = function(truth, prediction, weights) {
      average_precision_columns(prediction, 2L, 2L, as.integer(truth) == 2L, weights %||% numeric())
    }
  )
}

member_metric_lift <- function() lift_metric("lift", "Lift at 10 %", 0.1)

lift_metric <- function(name, label, share) {
  metric_definition(name, label, "two_class", "higher",
    range = c(0, Inf), undefined = needs_events,
    compares_rows = TRUE, unit = "times the overall share", arguments = list(share = share),
    does = paste0(
      "Share of events among the most probable ", format(100 * share),
      " % of rows, divided by their share among all; rows tied at the cut count in part."
    ),
    score = function(truth, prediction, weights) {
      lift_columns(prediction, 2L, 2L, as.integer(truth) == 2L, weights %||% numeric(), share)
    }
  )
}
