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
    pairs_in_parts = auc_pairs, score_of_pairs = auc_of_pairs,
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
  auc_of_pairs(auc_pairs(truth, prediction, weights, part))
}

# By class: pairs (how many there are, by weight, in every part), right (values x parts: how many of
# them are in the right order).
auc_pairs <- function(truth, prediction, weights, part) {
  classes <- if (nlevels(truth) == 2L) 2L else seq_len(nlevels(truth))
  weight <- weights %||% rep(1, length(truth))
  in_part <- split(seq_along(truth), part)
  lapply(classes, function(class) {
    event <- as.integer(truth) == class
    pairs <- vapply(in_part, function(rows) {
      sum(weight[rows][event[rows]]) * sum(weight[rows][!event[rows]])
    }, 1)
    right <- matrix(0, dim(prediction)[3], length(pairs), dimnames = list(NULL, names(pairs)))
    for (name in names(pairs)[pairs > 0]) {
      rows <- in_part[[name]]
      found <- auc_of_class(class, truth[rows], prediction[rows, , , drop = FALSE], weights[rows])
      right[, name] <- pairs[[name]] * found
    }
    list(pairs = pairs, right = right)
  })
}

auc_of_pairs <- function(by_class) {
  there <- Filter(function(one) sum(one$pairs) > 0, by_class)
  if (length(there) == 0L) return(rep(NA_real_, nrow(by_class[[1]]$right)))
  each <- lapply(there, function(one) rowSums(one$right) / sum(one$pairs))
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
