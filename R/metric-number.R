# Metrics for numeric outcomes. Predictions are rows x values.

member_metric_rmse <- function() {
  metric_definition("rmse", "RMSE", "number", "lower", unit = "outcome", range = c(0, Inf),
    does = "Root of the mean squared error, in the outcome's unit.",
    score = function(truth, prediction, weights) {
      sqrt(weighted_columns((prediction - truth)^2, weights))
    })
}

member_metric_mae <- function() {
  metric_definition("mae", "MAE", "number", "lower", unit = "outcome", range = c(0, Inf),
    does = "Mean absolute error, in the outcome's unit.",
    score = function(truth, prediction, weights) weighted_columns(abs(prediction - truth), weights))
}

member_metric_r_squared <- function() {
  metric_definition("r_squared", "R-squared", "number", "higher", range = c(-Inf, 1),
    undefined = function(truth, weights) {
      if (length(unique(truth)) < 2L) "the validation rows hold one outcome value only"
    },
    does = "1 - squared error / squared distance from the validation rows' own mean.",
    score = function(truth, prediction, weights) {
      w <- weights %||% rep(1, length(truth))
      centre <- sum(w * truth) / sum(w)
      1 - colSums(w * (prediction - truth)^2) / sum(w * (truth - centre)^2)
    })
}
