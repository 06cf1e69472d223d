# Metrics for several quantiles at once. Predictions are rows x quantiles x values.

quantile_metric <- function(name, label, loss, does, unit = "outcome", range = c(0, Inf), ...) {
  metric_definition(name, label, "quantiles", "lower",
    unit = unit, range = range, does = does,
    score = function(truth, prediction, weights) {
      quantiles <- attr(truth, "quantiles")
      columns <- lapply(seq_along(quantiles), function(i) class_slice(prediction, i))
      loss(as.double(truth), columns, quantiles, weights)
    },
    ...
  )
}

member_metric_mean_pinball <- function() {
  quantile_metric("mean_pinball", "Pinball loss of all quantiles",
    row_wise = TRUE,
    does = paste(
      "Pinball loss (Koenker & Bassett 1978) averaged over the quantiles, in the outcome's unit:",
      "lowest where they are the true ones."
    ),
    loss = function(truth, columns, quantiles, weights) {
      each <- Map(function(predicted, quantile) {
        error <- truth - predicted
        pmax(quantile * error, (quantile - 1) * error)
      }, columns, quantiles)
      weighted_columns(Reduce(`+`, each) / length(quantiles), weights)
    }
  )
}

member_metric_coverage_gap <- function() {
  quantile_metric("coverage_gap", "Coverage gap",
    unit = "", range = c(0, 1),
    does = paste(
      "How far the share of rows between the lowest and the highest quantile is from what it",
      "should be; of a single quantile, the share below it."
    ),
    loss = function(truth, columns, quantiles, weights) {
      last <- length(quantiles)
      inside <- truth <= columns[[last]]
      if (last > 1L) inside <- inside & truth >= columns[[1]]
      should <- quantiles[last] - if (last > 1L) quantiles[1] else 0
      round(abs(weighted_columns(inside * 1, weights) - should), 12)
    }
  )
}

member_metric_interval_width <- function() {
  quantile_metric("interval_width", "Interval width",
    row_wise = TRUE,
    does = paste(
      "Mean distance from the lowest to the highest quantile, in the outcome's unit; says nothing",
      "without the coverage."
    ),
    loss = function(truth, columns, quantiles, weights) {
      weighted_columns(abs(columns[[length(columns)]] - columns[[1]]), weights)
    }
  )
}

member_metric_crossing <- function() {
  quantile_metric("crossing", "Crossing",
    unit = "", range = c(0, 1), row_wise = TRUE,
    does = "Share of rows in which a higher quantile is predicted below a lower one.",
    loss = function(truth, columns, quantiles, weights) {
      crossed <- columns[[1]] * 0
      for (i in seq_along(columns)[-1]) crossed <- crossed + (columns[[i]] < columns[[i - 1L]])
      weighted_columns((crossed > 0) * 1, weights)
    }
  )
}
