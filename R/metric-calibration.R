# Metrics of whether probabilities of two classes are right, whatever they tell apart.

member_metric_calibration_error <- function() {
  metric_definition("calibration_error", "Calibration error", "two_class", "lower",
    range = c(0, 1), undefined = needs_two_classes,
    does = paste(
      "How far mean probability and share of events are apart in ten groups of rows of equal size",
      "by probability, on average; small parts have some by chance (Naeini, Cooper & Hauskrecht",
      "2015)."
    ),
    score = of_probabilities(error_in_tenths)
  )
}

# A score of the event's probabilities, value by value along a path: `one(p, event, weights)`,
# `event` being 0 or 1, `weights` never NULL.
of_probabilities <- function(one) {
  force(one)
  function(truth, prediction, weights) {
    apply(class_slice(prediction, 2L), 2L, one,
      event = as.double(as.integer(truth) == 2L), weights = weights %||% rep(1, length(truth))
    )
  }
}

# Rows of one probability stay together: by the middle of the share of rows that they take up.
error_in_tenths <- function(p, event, weights) {
  value <- match(p, sort(unique(p)))
  size <- sums_of_codes(value, max(value), weights)
  middle <- (cumsum(size) - size / 2) / sum(size)
  tenth <- pmin(floor(10 * middle + 1e-9), 9)[value] + 1
  sum(abs(sums_of_codes(tenth, 10L, weights * (p - event)))) / sum(weights)
}

member_metric_slope_gap <- function() {
  metric_definition("slope_gap", "Calibration slope, from 1", "two_class", "lower",
    range = c(0, Inf), undefined = needs_two_classes,
    why_na = "the probabilities tell all rows apart, so that no slope is the best",
    does = paste(
      "How far from 1 the slope of a logistic regression of the event on the log odds is that were",
      "predicted: below 1 predictions are too extreme (Cox 1958). One probability for all rows",
      "tells nothing apart: its slope counts as 0."
    ),
    score = of_probabilities(function(p, event, weights) {
      abs(logistic_slope(log_odds(p), event, weights) - 1)
    })
  )
}

member_metric_intercept_gap <- function() {
  metric_definition("intercept_gap", "Calibration intercept, from 0", "two_class", "lower",
    range = c(0, Inf), undefined = needs_two_classes,
    does = paste(
      "How far from 0 the constant is that must be added to the predicted log odds to have as many",
      "events as there are: calibration in the large (Cox 1958)."
    ),
    score = of_probabilities(function(p, event, weights) {
      abs(logistic_constant(log_odds(p), event, weights))
    })
  )
}

log_odds <- function(p) stats::qlogis(pmin(pmax(p, 1e-6), 1 - 1e-6))

# Slope of a logistic regression on one column, by Newton's method; NA where it has no end.
logistic_slope <- function(x, event, weights) {
  if (diff(range(x[weights > 0])) < 1e-9) return(0)
  likelihood <- function(beta) {
    line <- beta[1] + beta[2] * x
    sum(weights * stats::plogis(ifelse(event == 1, line, -line), log.p = TRUE))
  }
  beta <- c(0, 0)
  reached <- likelihood(beta)
  for (step in 1:100) {
    p <- stats::plogis(beta[1] + beta[2] * x)
    w <- weights * p * (1 - p)
    gradient <- c(sum(weights * (event - p)), sum(weights * (event - p) * x))
    s <- c(sum(w), sum(w * x), sum(w * x^2))
    determinant <- s[1] * s[3] - s[2]^2
    if (!is.finite(determinant) || determinant < 1e-12 * s[1]^2) return(NA_real_)
    change <- c(
      s[3] * gradient[1] - s[2] * gradient[2], s[1] * gradient[2] - s[2] * gradient[1]
    ) / determinant
    # half the way as long as that is no gain
    while (likelihood(beta + change) < reached - 1e-12 && max(abs(change)) > 1e-10) {
      change <- change / 2
    }
    beta <- beta + change
    reached <- likelihood(beta)
    if (max(abs(change)) < 1e-9) return(beta[2])
  }
  NA_real_
}

# The constant under which as many events are expected as there are.
logistic_constant <- function(x, event, weights) {
  share <- sum(weights * event) / sum(weights)
  apart <- function(constant) sum(weights * stats::plogis(x + constant)) / sum(weights) - share
  stats::uniroot(apart, c(-40, 40), tol = 1e-10)$root
}
