# Statistics of weighted values. Whole weights count as that many rows: every result is that of
# the table in which each row is repeated so often. Weights that sum to less than the number of
# rows, such as shares, count as if they summed to it. `weights`: NULL, or one number a value.

# Values that are not missing and have a weight: list(x, weights).
known_values <- function(x, weights = NULL) {
  if (is.null(weights) && !anyNA(x)) return(list(x = x, weights = NULL))
  here <- !is.na(x)
  if (!is.null(weights)) here <- here & weights > 0
  list(x = x[here], weights = weights[here])
}

# How many rows weights stand for.
rows_of_weights <- function(weights, n) {
  if (is.null(weights)) n else max(sum(weights), sum(weights > 0))
}

# Weights that sum to the number of rows that they stand for, for whatever counts rows.
weights_as_rows <- function(weights) {
  if (is.null(weights) || sum(weights) <= 0) return(weights)
  weights * (rows_of_weights(weights) / sum(weights))
}

# Rows as often as whole weights say, for what counts rows by its nature; NULL where weights are
# not whole, or stand for many more rows than there are.
repeated_rows <- function(weights) {
  if (is.null(weights) || any(weights != round(weights))) return(NULL)
  if (sum(weights) <= 20 * length(weights)) rep(seq_along(weights), weights)
}

weighted_mean <- function(x, weights) {
  if (is.null(weights)) mean(x) else sum(x * weights) / sum(weights)
}

weighted_sd <- function(x, weights) {
  if (is.null(weights)) return(stats::sd(x))
  squares <- sum(weights * (x - weighted_mean(x, weights))^2) / sum(weights)
  sqrt(squares / (1 - 1 / rows_of_weights(weights, length(x))))
}

# The quantiles of type 7 (Hyndman & Fan 1996).
weighted_quantile <- function(x, shares, weights) {
  if (is.null(weights)) return(stats::quantile(x, shares, names = FALSE))
  if (length(x) == 0L) return(rep(NA_real_, length(shares)))
  n <- rows_of_weights(weights, length(x))
  order <- order(x)
  x <- x[order]
  last <- cumsum(weights_as_rows(weights)[order])
  at <- (n - 1) * shares + 1
  value_at <- function(place) {
    x[pmin(findInterval(place - 1e-9 * n, last, left.open = TRUE) + 1L, length(x))]
  }
  below <- value_at(floor(at + 1e-9))
  above <- value_at(ceiling(at - 1e-9))
  below + (at - floor(at + 1e-9)) * (above - below)
}

# The value with half of the weight on either side; the mean of two where it falls
# between them.
weighted_median <- function(x, weights) {
  if (anyNA(x)) return(NA_real_)
  if (is.null(weights)) return(stats::median(x))
  order <- order(x)
  x <- x[order]
  below <- cumsum(weights[order]) / sum(weights)
  at <- which(below >= 0.5 - 1e-12)[1]
  if (abs(below[at] - 0.5) > 1e-12) return(x[at])
  after <- which(weights[order] > 0 & seq_along(x) > at)
  if (length(after) == 0L) x[at] else (x[at] + x[after[1]]) / 2
}

# Weight of every code from 1 to n; NA has none.
weighted_counts <- function(codes, n, weights) {
  if (is.null(weights)) tabulate(codes, n) else sums_of_codes(codes, n, weights)
}

sums_of_codes <- function(codes, n, x) {
  sums <- numeric(n)
  found <- rowsum(x[!is.na(codes)], as.integer(codes)[!is.na(codes)])
  sums[as.integer(rownames(found))] <- found
  sums
}

# Correlations of the columns of a matrix, of pairs without missing values; 0 without spread.
weighted_correlations <- function(x, weights) {
  if (is.null(weights)) {
    return(quiet_cor(x, use = if (anyNA(x)) "pairwise.complete.obs" else "everything"))
  }
  known <- !is.na(x)
  x[!known] <- 0
  total <- crossprod(known * weights, known)
  sums <- crossprod(x * weights, known)
  squares <- crossprod(x^2 * weights, known)
  spread <- pmax(squares - sums^2 / total, 0)
  r <- (crossprod(x * weights, x) - sums * t(sums) / total) / sqrt(spread * t(spread))
  r[!is.finite(r)] <- 0
  r
}
