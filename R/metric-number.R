# Metrics for numeric outcomes. Predictions are rows x values.

number_metric <- function(name, label, loss, unit = "outcome", row_wise = TRUE, does, ...) {
  metric_definition(name, label, "number", "lower",
    unit = unit, range = c(0, Inf),
    row_wise = row_wise, does = does,
    score = function(truth, prediction, weights) weighted_columns(loss(truth, prediction), weights),
    ...
  )
}

member_metric_rmse <- function() {
  metric_definition("rmse", "RMSE", "number", "lower",
    unit = "outcome", range = c(0, Inf),
    does = "Root of the mean squared error, in the outcome's unit.",
    score = function(truth, prediction, weights) {
      sqrt(weighted_columns((prediction - truth)^2, weights))
    }
  )
}

member_metric_mae <- function() {
  number_metric("mae", "MAE", function(truth, prediction) abs(prediction - truth),
    does = "Mean absolute error, in the outcome's unit."
  )
}

member_metric_median_error <- function() {
  metric_definition(
    "median_error",
    "Median absolute error",
    "number",
    "lower",
    unit = "outcome",
    range = c(0, Inf),
    does = "Median of the absolute errors, in the outcome's unit: deaf to a few large ones.",
    score = function(truth, prediction, weights) {
      apply(abs(prediction - truth), 2L, weighted_median, weights)
    }
  )
}

member_metric_r_squared <- function() {
  metric_definition(
    "r_squared",
    "R-squared",
    "number",
    "higher",
    range = c(-Inf, 1),
    undefined = needs_spread,
    does = "1 - squared error / squared distance from the validation rows' own mean.",
    score = function(truth, prediction, weights) {
      w <- weights %||% rep(1, length(truth))
      centre <- sum(w * truth) / sum(w)
      1 - colSums(w * (prediction - truth)^2) / sum(w * (truth - centre)^2)
    }
  )
}

member_metric_mape <- function() {
  number_metric(
    "mape",
    "MAPE",
    function(truth, prediction) 100 * abs(prediction - truth) / abs(truth),
    unit = "%",
    undefined = function(truth, weights) {
      if (any(truth == 0)) "an outcome is 0, so that there is no error in percent of it"
    },
    does = "Mean absolute error in percent of the outcome; undefined where an outcome is 0."
  )
}

member_metric_smape <- function() {
  number_metric("smape", "Symmetric MAPE", function(truth, prediction) {
    size <- (abs(prediction) + abs(truth)) / 2
    ifelse(size == 0, 0, 100 * abs(prediction - truth) / size)
  },
  unit = "%",
  does = "Mean absolute error in percent of the mean size of outcome and prediction, at most 200."
  )
}

member_metric_rmsle <- function() {
  metric_definition("rmsle", "RMSLE", "number", "lower",
    range = c(0, Inf),
    undefined = function(truth, weights) {
      if (any(truth <= -1)) "an outcome is -1 or less, so that log(1 + outcome) is undefined"
    },
    why_na = "a prediction is -1 or less, so that log(1 + prediction) is undefined",
    does = "Root of the mean squared error of log(1 + outcome): errors in proportion.",
    score = function(truth, prediction, weights) {
      prediction[prediction <= -1] <- NA
      sqrt(weighted_columns((log1p(prediction) - log1p(truth))^2, weights))
    }
  )
}

member_metric_pinball <- function() pinball_metric("pinball", "Pinball loss at 0.5", 0.5)

pinball_metric <- function(name, label, quantile) {
  number_metric(name, label, function(truth, prediction) {
    error <- truth - prediction
    pmax(quantile * error, (quantile - 1) * error)
  },
  arguments = list(quantile = quantile),
  does = paste0(
    "Mean pinball loss for the ", format(quantile),
    " quantile (Koenker & Bassett 1978), in the outcome's unit."
  )
  )
}

member_metric_huber <- function() huber_metric("huber", "Huber loss", 1)

huber_metric <- function(name, label, bend) {
  number_metric(name, label, function(truth, prediction) {
    size <- abs(prediction - truth)
    ifelse(size <= bend, size^2 / 2, bend * (size - bend / 2))
  },
  unit = "outcome squared", arguments = list(bend = bend),
  does = paste0(
    "Mean Huber loss: half the squared error up to ", format(bend),
    ", straight beyond (Huber 1964)."
  )
  )
}

member_metric_lin_concordance <- function() {
  metric_definition(
    "lin_concordance",
    "Concordance correlation",
    "number",
    "higher",
    range = c(-1, 1),
    undefined = needs_spread,
    does = "How close the points lie to the line outcome = prediction (Lin 1989).",
    score = function(truth, prediction, weights) {
      w <- (weights %||% rep(1, length(truth))) / sum(weights %||% rep(1, length(truth)))
      centre <- sum(w * truth)
      centres <- colSums(w * prediction)
      moved <- sweep(prediction, 2L, centres)
      2 * colSums(w * moved * (truth - centre)) / (sum(w * (truth - centre)^2) +
        colSums(w * moved^2) + (centre - centres)^2)
    }
  )
}

needs_spread <- function(truth, weights) {
  present <- if (is.null(weights)) truth else truth[weights > 0]
  if (length(unique(present)) < 2L) "the validation rows hold one outcome value only"
}
