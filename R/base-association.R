# Association kernels: how strongly a column goes with an outcome or with another
# column. Used by filters, findings and figures.

# F statistic of a one-way analysis of variance of every column of x (matrix, no
# missing values) over classes; for a numeric outcome, of its regression on x. `weights`: NULL or
# above 0, see base-weighted.R.
f_statistics <- function(x, outcome, weights = NULL) {
  n <- rows_of_weights(weights, nrow(x))
  if (is.factor(outcome)) {
    outcome <- droplevels(outcome)
    k <- nlevels(outcome)
    weights <- weights_as_rows(weights)
    w <- weights %||% 1
    counts <- as.double(weighted_counts(outcome, k, weights))
    sums <- rowsum(x * w, as.integer(outcome), reorder = TRUE)
    total <- colSums(x * w)
    between <- colSums(sums^2 / counts) - total^2 / n
    within <- colSums(x^2 * w) - colSums(sums^2 / counts)
    f <- (between / (k - 1)) / (within / (n - k))
  } else {
    r <- if (is.null(weights)) {
      quiet_cor(x, outcome)
    } else {
      weighted_correlations(cbind(x, outcome), weights)[seq_len(ncol(x)), ncol(x) + 1L]
    }
    r2 <- as.vector(r)^2
    f <- r2 / (1 - r2) * (n - 2)
  }
  f[is.nan(f)] <- 0
  f
}

quiet_cor <- function(x, y = NULL, ...) {
  r <- suppressWarnings(stats::cor(x, y, ...))
  r[is.na(r)] <- 0
  r
}

# Codes 1..bins of a column: levels of a factor, quantile bins of a number;
# missing values get a code of their own.
coarse_codes <- function(x, bins = 10L, weights = NULL) {
  codes <- if (is.factor(x)) {
    as.integer(x)
  } else if (is.character(x)) {
    match(x, unique(x[!is.na(x)]))
  } else {
    number <- as.double(x)
    known <- known_values(number, weights)
    cuts <- unique(weighted_quantile(known$x, seq_len(bins - 1L) / bins, known$weights))
    findInterval(number, cuts, left.open = TRUE) + 1L
  }
  codes[is.na(codes)] <- max(c(0L, codes), na.rm = TRUE) + 1L
  match(codes, sort(unique(codes)))
}

count_pairs <- function(a, b, weights = NULL) {
  pairs <- a + max(a) * (b - 1L)
  matrix(weighted_counts(pairs, max(a) * max(b), weights), max(a), max(b))
}

# Pearson's chi-squared of two coded columns.
chi_squared_statistic <- function(a, b, weights = NULL) {
  counts <- count_pairs(a, b, weights)
  expected <- outer(rowSums(counts), colSums(counts)) / sum(counts)
  sum(((counts - expected)^2 / expected)[expected > 0])
}

# Cramer's V with Bergsma's (2013) bias correction, 0 to 1.
cramers_v <- function(a, b) {
  n <- length(a)
  rows <- max(a)
  columns <- max(b)
  if (rows < 2L || columns < 2L) return(0)
  phi <- max(0, chi_squared_statistic(a, b) / n - (rows - 1) * (columns - 1) / (n - 1))
  smaller <- min(rows - (rows - 1)^2 / (n - 1), columns - (columns - 1)^2 / (n - 1)) - 1
  if (smaller <= 0) 0 else min(1, sqrt(phi / smaller))
}

# Mutual information of two coded columns, in nats.
mutual_information <- function(a, b, weights = NULL) {
  joint <- count_pairs(a, b, weights)
  joint <- joint / sum(joint)
  product <- outer(rowSums(joint), colSums(joint))
  sum((joint * log(joint / product))[joint > 0])
}

# Correlation ratio: square root of the share of a number's variance that lies
# between classes.
correlation_ratio <- function(number, codes) {
  present <- !is.na(number)
  number <- number[present]
  codes <- codes[present]
  total <- sum((number - mean(number))^2)
  if (length(number) < 2L || total <= 0) return(0)
  counts <- tabulate(codes)
  means <- rowsum(number, codes)[, 1] / counts[counts > 0]
  sqrt(min(1, sum(counts[counts > 0] * (means - mean(number))^2) / total))
}

# Association of any two columns, 0 to 1: absolute Pearson correlation of two
# numbers, correlation ratio of a number and a category, Cramer's V of two
# categories.
association <- function(a, b) {
  numbers <- c(is.numeric(a), is.numeric(b))
  if (all(numbers)) {
    return(abs(as.vector(quiet_cor(a, b, use = "pairwise.complete.obs"))))
  }
  if (!any(numbers)) return(cramers_v(coarse_codes(a), coarse_codes(b)))
  if (numbers[1]) correlation_ratio(a, coarse_codes(b)) else correlation_ratio(b, coarse_codes(a))
}

# Of every pair of columns; 0 where there is nothing to compare.
association_matrix <- function(columns) {
  strength <- diag(length(columns))
  for (i in seq_along(columns)[-1]) for (j in seq_len(i - 1L)) {
    strength[i, j] <- strength[j, i] <- association(columns[[i]], columns[[j]])
  }
  strength[is.na(strength)] <- 0
  strength
}
