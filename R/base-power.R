# Powers that straighten numbers, and back.

box_cox <- function(x, power) if (abs(power) < 1e-6) log(x) else (x^power - 1) / power

yeo_johnson <- function(x, power) {
  out <- x
  up <- !is.na(x) & x >= 0
  down <- !is.na(x) & x < 0
  out[up] <- if (abs(power) < 1e-6) log1p(x[up]) else ((x[up] + 1)^power - 1) / power
  other <- 2 - power
  out[down] <- if (abs(other) < 1e-6) -log1p(-x[down]) else -((1 - x[down])^other - 1) / other
  out
}

# Profile likelihood of a power: -n/2 log(variance) + (power - 1) * log-Jacobian.
best_power <- function(x, transform, log_jacobian, weights = NULL) {
  jacobian <- if (is.null(weights)) sum(log_jacobian) else sum(weights * log_jacobian)
  n <- if (is.null(weights)) length(x) else sum(weights)
  likelihood <- function(power) {
    z <- transform(x, power)
    variance <- weighted_mean((z - weighted_mean(z, weights))^2, weights)
    if (!is.finite(variance) || variance <= 0) return(-1e300)
    -n / 2 * log(variance) + (power - 1) * jacobian
  }
  signif(stats::optimize(likelihood, c(-5, 5), maximum = TRUE, tol = 1e-4)$maximum, 6)
}

# Backwards. What no number would have become is taken for the nearest that one would have.
from_box_cox <- function(z, power) {
  if (abs(power) < 1e-6) exp(z) else pmax(power * z + 1, 1e-12)^(1 / power)
}

from_yeo_johnson <- function(z, power) {
  out <- z
  up <- !is.na(z) & z >= 0
  down <- !is.na(z) & z < 0
  out[up] <- from_box_cox(z[up], power) - 1
  out[down] <- 1 - from_box_cox(-z[down], 2 - power)
  out
}
