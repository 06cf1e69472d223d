# Partition kernels: dealing rows, or whole groups of rows, into parts.

# Deals n rows at random into parts whose sizes follow `shares` (sum 1), balanced within
# every stratum; rows of one group stay together. Where rows weigh differently, the parts' sums
# of weights come near the shares. Returns the part of each row.
deal_rows <- function(n, shares, strata = NULL, group = NULL, weights = NULL) {
  strata <- if (is.null(strata)) rep(1L, n) else as.integer(factor(strata))
  if (length(unique(weights)) < 2L) weights <- NULL
  if (!is.null(group) && anyDuplicated(group)) {
    return(deal_groups(strata, as.integer(factor(group)), shares, weights))
  }
  deal_single_rows(strata, shares, weights)
}

# Every stratum is shuffled and dealt so that each part gets the floor or the ceiling of
# its share; who gets the ceiling is settled by what the parts are still owed from the
# strata before, so that the parts' totals stay balanced too.
deal_single_rows <- function(strata, shares, weights = NULL) {
  part <- integer(length(strata))
  owed <- owed_weight <- numeric(length(shares))
  for (rows in split(seq_along(strata), strata)) {
    exact <- length(rows) * shares
    counts <- floor(exact + 1e-9)
    divided <- which(exact - counts > 1e-9)
    short <- length(rows) - sum(counts)
    claim <- (exact - counts + owed)[divided]
    lucky <- divided[order(-claim, stats::runif(length(divided)))[seq_len(short)]]
    counts[lucky] <- counts[lucky] + 1
    owed <- owed + exact - counts
    if (is.null(weights)) {
      part[rows[sample.int(length(rows))]] <- rep(seq_along(shares), counts)
      next
    }
    owed_weight <- owed_weight + sum(weights[rows]) * shares
    dealt <- dealt_by_weight(weights[rows], counts, owed_weight)
    part[rows] <- dealt$part
    owed_weight <- dealt$owed
  }
  part
}

# So many rows to each part, at random; then rows of the part that has most too much change places
# with rows of the one that lacks most, until the sums of weights are close to what is owed.
dealt_by_weight <- function(weights, counts, owed) {
  part <- rep(seq_along(counts), counts)[sample.int(length(weights))]
  ahead <- sums_of_codes(part, length(counts), weights) - owed
  near <- pmax(mean(weights) / 4, owed / 1000)
  dealt <- which(counts > 0)
  for (attempt in seq_len(most_exchanges)) {
    if (all(abs(ahead[dealt]) <= near[dealt])) break
    from <- dealt[which.max(ahead[dealt])]
    to <- dealt[which.min(ahead[dealt])]
    pairs <- exchanged_rows(which(part == from), which(part == to), weights,
      (ahead[from] - ahead[to]) / 2)
    moved <- sum(weights[pairs$give] - weights[pairs$take])
    part[pairs$give] <- to
    part[pairs$take] <- from
    ahead[c(from, to)] <- ahead[c(from, to)] + c(-moved, moved)
  }
  list(part = part, owed = -ahead)
}

most_exchanges <- 100L

# Pairs of rows of two parts, met at random: as many as do not move more than is wanted, or the one
# that comes next to it, if that is nearer than none.
exchanged_rows <- function(from, to, weights, wanted) {
  n <- min(length(from), length(to))
  give <- from[sample.int(length(from), n)]
  take <- to[sample.int(length(to), n)]
  moves <- weights[give] - weights[take]
  heavier <- which(moves > 0)
  chosen <- heavier[cumsum(moves[heavier]) <= wanted]
  if (length(chosen) == 0L) {
    chosen <- which.min(abs(moves - wanted))
    if (abs(moves[chosen] - wanted) >= wanted) chosen <- integer()
  }
  list(give = give[chosen], take = take[chosen])
}

# Deals whole groups: shuffled and cut where the shares end, so that each is as likely to come into
# a part as its share says, however large it is; then single groups are moved, or two swapped, as
# long as that brings the parts' counts of each stratum closer to their targets, until they are
# close enough: what is dealt as evenly as can be is dealt alike every time. However uneven the
# groups are, no part is left empty where there are as many groups as parts.
deal_groups <- function(strata, group, shares, weights = NULL) {
  counts <- table_counts(group, strata, weights)
  several <- ncol(counts)
  # all rows together count for as much as the strata do together
  if (several > 1L) counts <- cbind(counts, rowSums(counts))
  target <- outer(colSums(counts), shares)
  scale <- 1 / pmax(target, 1e-9)
  scale[-seq_len(several), ] <- several * scale[-seq_len(several), ]
  near <- near_enough * colMeans(counts)
  best <- list(cost = Inf)
  # of many groups one start comes as near as the next
  few <- nrow(counts) <= most_swapped_groups
  for (start in seq_len(if (few) most_starts else 1L)) {
    part <- without_empty_parts(cut_parts(counts, shares), counts, target, scale)
    part <- moved_groups(part, counts, target, scale, near)
    if (few) part <- swapped_groups(part, counts, target, scale, near)
    ahead <- counts_ahead(part, counts, target)
    cost <- sum(ahead^2 * scale)
    if (cost < best$cost) best <- list(cost = cost, part = part)
    if (all(abs(ahead) <= near)) break
  }
  best$part[group]
}

# Of what a group has of a stratum on average: so far may a part be from its target.
near_enough <- 0.75

most_starts <- 5L

# Trying all pairs takes the square of the number of groups.
most_swapped_groups <- 400L

# A group is in the part in which its middle row would be.
cut_parts <- function(counts, shares) {
  order <- sample.int(nrow(counts))
  size <- rowSums(counts)[order]
  middle <- (cumsum(size) - size / 2) / sum(size)
  part <- integer(nrow(counts))
  part[order] <- findInterval(middle, cumsum(shares)[-length(shares)]) + 1L
  part
}

# Every empty part gets the group that is missed least where there are several.
without_empty_parts <- function(part, counts, target, scale) {
  if (nrow(counts) < ncol(target)) return(part)
  for (empty in setdiff(seq_len(ncol(target)), part)) {
    ahead <- counts_ahead(part, counts, target)
    movable <- which(tabulate(part, ncol(target))[part] > 1L)
    cost <- vapply(movable, function(g) {
      cost_of_adding(-counts[g, ], ahead, scale)[part[g]] +
        cost_of_adding(counts[g, ], ahead, scale)[empty]
    }, numeric(1))
    part[movable[which.min(cost)]] <- empty
  }
  part
}

# Change of sum((filled - target)^2 / target) in each part if `change` is added to it;
# `ahead` is filled - target, strata x parts.
cost_of_adding <- function(change, ahead, scale) colSums((2 * ahead + change) * change * scale)

counts_ahead <- function(part, counts, target) {
  filled <- vapply(seq_len(ncol(target)), function(p) {
    colSums(counts[part == p, , drop = FALSE])
  }, numeric(ncol(counts)))
  matrix(filled, ncol(counts)) - target
}

moved_groups <- function(part, counts, target, scale, near, passes = 10L) {
  ahead <- counts_ahead(part, counts, target)
  groups <- tabulate(part, ncol(target))
  for (pass in seq_len(passes)) {
    moved <- FALSE
    for (g in sample.int(length(part))) {
      if (all(abs(ahead) <= near)) return(part)
      here <- part[g]
      if (groups[here] == 1L) next
      change <- cost_of_adding(counts[g, ], ahead, scale)
      change[here] <- Inf
      there <- which.min(change)
      leaving <- cost_of_adding(-counts[g, ], ahead, scale)[here]
      if (change[there] + leaving > -1e-9) next
      ahead[, here] <- ahead[, here] - counts[g, ]
      ahead[, there] <- ahead[, there] + counts[g, ]
      part[g] <- there
      groups[c(here, there)] <- groups[c(here, there)] + c(-1L, 1L)
      moved <- TRUE
    }
    if (!moved) break
  }
  part
}

swapped_groups <- function(part, counts, target, scale, near, passes = 5L) {
  ahead <- counts_ahead(part, counts, target)
  strata_first <- t(counts)
  for (pass in seq_len(passes)) {
    swapped <- FALSE
    for (g in sample.int(length(part))) {
      if (all(abs(ahead) <= near)) return(part)
      here <- part[g]
      change <- strata_first - counts[g, ]
      cost <- colSums((2 * ahead[, here] + change) * change * scale[, here]) +
        colSums((change - 2 * ahead[, part, drop = FALSE]) * change * scale[, part, drop = FALSE])
      cost[part == here] <- Inf
      other <- which.min(cost)
      if (cost[other] > -1e-9) next
      there <- part[other]
      ahead[, here] <- ahead[, here] + change[, other]
      ahead[, there] <- ahead[, there] - change[, other]
      part[c(g, other)] <- c(there, here)
      swapped <- TRUE
    }
    if (!swapped) break
  }
  part
}

# Counts (weights) of each stratum in each group as a plain matrix, groups x strata.
table_counts <- function(group, strata, weights = NULL) {
  n_groups <- max(group)
  n_strata <- max(strata)
  cell <- group + n_groups * (strata - 1L)
  matrix(weighted_counts(cell, n_groups * n_strata, weights), n_groups, n_strata)
}

# Strata of an outcome: its classes, or quantile bins of a numeric one, at most
# ten and each large enough to be dealt into `parts`.
outcome_strata <- function(outcome, parts, weights = NULL) {
  if (is.factor(outcome)) return(as.integer(outcome))
  bins <- max(1L, min(10L, length(outcome) %/% (2L * parts)))
  if (bins == 1L) return(rep(1L, length(outcome)))
  cuts <- unique(weighted_quantile(outcome, seq_len(bins - 1L) / bins, weights))
  findInterval(outcome, cuts) + 1L
}
