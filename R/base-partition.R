# Partition kernels: dealing rows, or whole groups of rows, into parts.

# Deals n rows into parts whose sizes follow `shares` (sum 1), balanced within
# every stratum; rows of one group stay together. Returns the part of each row.
# Groups are placed, largest first and ties in random order, where they bring
# the class counts of the parts closest to their targets (a greedy rule).
deal_rows <- function(n, shares, strata = NULL, group = NULL) {
  strata <- if (is.null(strata)) rep(1L, n) else as.integer(factor(strata))
  if (is.null(group) || !anyDuplicated(group)) return(deal_single_rows(strata, shares))
  deal_groups(strata, as.integer(factor(group)), shares)
}

# Every stratum is shuffled and dealt by largest remainder; the remainders carry
# over from stratum to stratum so that the parts' totals stay balanced too.
deal_single_rows <- function(strata, shares) {
  part <- integer(length(strata))
  owed <- numeric(length(shares))
  for (rows in split(seq_along(strata), strata)) {
    exact <- length(rows) * shares + owed
    counts <- pmax(floor(exact + 1e-9), 0)
    short <- length(rows) - sum(counts)
    if (short > 0) {
      most <- order(-(exact - counts), stats::runif(length(shares)))[seq_len(short)]
      counts[most] <- counts[most] + 1
    } else if (short < 0) {
      for (i in seq_len(-short)) {
        last <- which.max(counts - exact)
        counts[last] <- counts[last] - 1
      }
    }
    owed <- exact - counts
    part[rows[sample.int(length(rows))]] <- rep(seq_along(shares), counts)
  }
  part
}

deal_groups <- function(strata, group, shares) {
  counts <- table_counts(group, strata)
  order <- sample.int(nrow(counts))
  order <- order[order(-rowSums(counts)[order])]
  target <- outer(colSums(counts), shares)
  scale <- 1 / pmax(target, 1e-9)
  filled <- matrix(0, ncol(counts), length(shares))
  part_of_group <- integer(nrow(counts))
  for (g in order) {
    # change of sum((filled - target)^2 / target) if g goes to each part
    change <- colSums((2 * (filled - target) + counts[g, ]) * counts[g, ] * scale)
    best <- which.min(change)
    part_of_group[g] <- best
    filled[, best] <- filled[, best] + counts[g, ]
  }
  part_of_group[group]
}

# Counts of each stratum in each group as a plain matrix, groups x strata.
table_counts <- function(group, strata) {
  n_groups <- max(group)
  n_strata <- max(strata)
  matrix(tabulate(group + n_groups * (strata - 1L), n_groups * n_strata), n_groups, n_strata)
}

# Strata of an outcome: its classes, or quantile bins of a numeric one, at most
# ten and each large enough to be dealt into `parts`.
outcome_strata <- function(outcome, parts) {
  if (is.factor(outcome)) return(as.integer(outcome))
  bins <- max(1L, min(10L, length(outcome) %/% (2L * parts)))
  if (bins == 1L) return(rep(1L, length(outcome)))
  cuts <- unique(stats::quantile(outcome, seq_len(bins - 1L) / bins, names = FALSE, type = 7))
  findInterval(outcome, cuts) + 1L
}
