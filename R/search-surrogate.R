# Models of how a score depends on settings, for searches that learn. `x`: a matrix of features
# from 0 to 1 (point_features()), a row a setting; `y`: goodness, scaled; `noise`: its variance.
# A surrogate has best() -> the most that it expects of any point that it learned from;
# predict(x) -> list(mean, sd, imagine); imagine(at, rows) -> the same of these rows of x, once the
# point in row `at` is taken to be as good as it is expected to be.

# A Gaussian process with the Matern covariance of smoothness 5/2 and one length a feature
# (Rasmussen & Williams 2006, chapters 2, 4 and 5). Lengths and the variance of the process are
# those of highest likelihood under a broad prior, found by at most `steps` gradient steps from
# `start`. Solving takes the cube of the points, so that many are not used: the best ones and a
# spread of the others are, fewer for the lengths than for the predictions.
most_fitted <- 150L
most_solved <- 400L

fit_process <- function(x, y, noise, start = NULL, steps = 20L) {
  at <- most_telling(y, most_fitted)
  start <- start %||% likely_lengths(ncol(x))
  found <- start
  if (steps > 0L) {
    value <- process_likelihood(x[at, , drop = FALSE], y[at], noise[at])
    found <- stats::optim(start, value$of, value$gradient,
      method = "L-BFGS-B", lower = c(rep(log(0.03), ncol(x)), log(0.05)),
      upper = c(rep(log(20), ncol(x)), log(20)), control = list(maxit = steps)
    )$par
  }
  at <- most_telling(y, most_solved)
  solved <- solve_process(x[at, , drop = FALSE], y[at], noise[at], found)
  list(theta = found, best = function() max(solved$mean(x)), predict = solved$predict)
}

# Middle of the prior, which is broad: a factor of about e either way. Half the cube for one
# feature, and the longer the more there are, as distances are: else everything would be far from
# everything (Hvarfner, Hellsten & Nardi 2024). The last one is the variance, that of the scores.
likely_lengths <- function(features) c(rep(log(0.5 * sqrt(features)), features), 0)

# The best third of `most` points, and the others evenly by rank.
most_telling <- function(y, most) {
  if (length(y) <= most) return(seq_along(y))
  ranks <- unique(round(c(seq_len(most %/% 3), seq(1, length(y), length.out = most))))
  sort(order(-y)[ranks[seq_len(most)]])
}

# Squared differences of features, a matrix for each: rows of a x rows of b.
feature_gaps <- function(a, b) {
  lapply(seq_len(ncol(a)), function(j) outer(a[, j], b[, j], `-`)^2)
}

matern <- function(squared, variance) {
  r <- sqrt(5 * squared)
  variance * (1 + r + r^2 / 3) * exp(-r)
}

# Of rows of a x rows of b.
squared_distances <- function(a, b) {
  squared <- outer(rowSums(a^2), rowSums(b^2), `+`) - 2 * tcrossprod(a, b)
  squared[squared < 0] <- 0
  squared
}

scaled_distance <- function(gaps, lengths) {
  Reduce(`+`, Map(function(gap, length) gap / length^2, gaps, lengths))
}

jitter <- 1e-6

# Minus the logarithm of likelihood times prior, of log lengths and log variance, and its gradient.
process_likelihood <- function(x, y, noise) {
  gaps <- feature_gaps(x, x)
  d <- ncol(x)
  last <- NULL
  at <- function(theta) {
    if (identical(theta, last$theta)) return(last)
    lengths <- exp(theta[seq_len(d)])
    squared <- scaled_distance(gaps, lengths)
    k <- matern(squared, exp(theta[d + 1L]))
    root <- chol(k + diag(noise + jitter, length(y)))
    alpha <- backsolve(root, backsolve(root, y, transpose = TRUE))
    last <<- list(theta = theta, k = k, squared = squared, root = root, alpha = alpha)
    last
  }
  centre <- likely_lengths(d)
  list(
    of = function(theta) {
      now <- at(theta)
      sum(log(diag(now$root))) + sum(y * now$alpha) / 2 + sum((theta - centre)^2) / 2
    },
    gradient = function(theta) {
      now <- at(theta)
      inner <- chol2inv(now$root) - tcrossprod(now$alpha)
      r <- sqrt(5 * now$squared)
      # derivative by the log of one length, but for the gap
      slope <- exp(theta[d + 1L]) * (5 / 3) * (1 + r) * exp(-r) * inner
      by_length <- vapply(seq_len(d), function(j) {
        sum(slope * gaps[[j]]) / exp(theta[j])^2 / 2
      }, numeric(1))
      c(by_length, sum(inner * now$k) / 2) + theta - centre
    }
  )
}

solve_process <- function(x, y, noise, theta) {
  d <- ncol(x)
  lengths <- exp(theta[seq_len(d)])
  variance <- exp(theta[d + 1L])
  scaled <- sweep(x, 2L, lengths, `/`)
  k <- matern(squared_distances(scaled, scaled), variance)
  root <- chol(k + diag(noise + jitter, length(y)))
  alpha <- backsolve(root, backsolve(root, y, transpose = TRUE))
  scaled_by <- function(new) sweep(new, 2L, lengths, `/`)
  likeness <- function(new) matern(squared_distances(scaled, new), variance)
  expected <- function(cross) as.vector(crossprod(cross, alpha))
  list(
    mean = function(new) expected(likeness(scaled_by(new))),
    predict = function(new) {
      new <- scaled_by(new)
      cross <- likeness(new)
      solved <- backsolve(root, cross, transpose = TRUE)
      predicted_process(expected(cross), variance - colSums(solved^2), solved, new, variance,
        mean(noise))
    }
  )
}

# `left`: what is left of the variance at points `new`, and `solved` what was taken off, a row for
# every known point. A point that is as good as expected changes no mean; it is one more row of the
# root (Rasmussen & Williams 2006, chapter 2 and appendix A).
predicted_process <- function(mean, left, solved, new, variance, noise) {
  list(
    mean = mean, sd = sqrt(pmax(left, 1e-12)),
    imagine = function(at, rows) {
      apart <- squared_distances(new[rows, , drop = FALSE], new[at, , drop = FALSE])
      shared <- matern(apart, variance) -
        crossprod(solved[, rows, drop = FALSE], solved[, at, drop = FALSE])
      row <- as.vector(shared) / sqrt(left[at] + noise + jitter)
      predicted_process(mean[rows], left[rows] - row^2, rbind(solved[, rows, drop = FALSE], row),
        new[rows, , drop = FALSE], variance, noise)
    }
  )
}

# A forest of regression trees: mean and spread of what its trees say (Hutter, Hoos &
# Leyton-Brown 2011). For many features, and for choices that switch others on and off. A point
# more moves the means of the leaves that it falls into; the trees stay as they are.
surrogate_trees <- 60L

fit_surrogate_forest <- function(x, y) {
  forest <- grow_forest(x, y, surrogate_trees, ceiling(ncol(x) * 5 / 6), least = 3L)
  list(
    best = function() max(forest_says(forest, x)$mean),
    predict = function(new) predicted_forest(forest_says(forest, new))
  )
}

# `said`: mean and sd, what every tree says of every point (`each`), of how many points (`sizes`),
# and in which leaf (`leaves`).
predicted_forest <- function(said) {
  list(
    mean = said$mean, sd = said$sd,
    imagine = function(at, rows) {
      predicted_forest(forest_imagined(said$each, said$sizes, said$leaves, rows, at, said$mean[at]))
    }
  )
}

# How much better than `best` a setting is expected to be (Jones, Schonlau & Welch 1998).
expected_improvement <- function(predicted, best) {
  z <- (predicted$mean - best) / predicted$sd
  (predicted$mean - best) * stats::pnorm(z) + predicted$sd * stats::dnorm(z)
}
