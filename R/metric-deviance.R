# Deviances: twice the log likelihood that a prediction falls short of the best one.

member_metric_poisson_deviance <- function() {
  metric_definition("poisson_deviance", "Poisson deviance", c("count", "positive"), "lower",
    range = c(0, Inf), row_wise = TRUE,
    why_na = "a prediction is 0 or less where something was counted, which cannot be",
    does = paste(
      "Mean Poisson deviance, 2 (y log(y / m) - y + m): for counts and rates (McCullagh & Nelder",
      "1989)."
    ),
    score = function(truth, prediction, weights) {
      prediction[prediction < 0 | (prediction == 0 & truth > 0)] <- NA
      ratio <- truth * log(truth / prediction)
      ratio[truth == 0, ] <- 0
      weighted_columns(2 * (ratio - truth + prediction), weights)
    }
  )
}

member_metric_gamma_deviance <- function() {
  metric_definition("gamma_deviance", "Gamma deviance", "positive", "lower",
    range = c(0, Inf), row_wise = TRUE,
    why_na = "a prediction is 0 or less, which a positive amount cannot be",
    does = paste(
      "Mean gamma deviance, 2 ((y - m) / m - log(y / m)): errors in proportion (McCullagh &",
      "Nelder 1989)."
    ),
    score = function(truth, prediction, weights) {
      prediction[prediction <= 0] <- NA
      weighted_columns(2 * ((truth - prediction) / prediction - log(truth / prediction)), weights)
    }
  )
}
