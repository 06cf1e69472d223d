# What fits and steps take, learned as a run goes, round after round. It decides how fits are cut
# into units and what is begun before a deadline, never a score.
#   grow(work)            before fits of a further round are asked for
#   learn(ledger)         tells what fits and steps took
#   of(fits, share)       seconds that fits are expected to take on a share of the training rows:
#                         what they took on another split, else the mean of their candidate's,
#                         else NA
#   at_most(fits, share)  the same, with room for error
#   step(branch)          seconds that the dearest step of a branch took, NA while unknown
#   spent()               seconds of all fits so far
new_costs <- function(work) {
  candidate <- branch_of_node <- integer()
  by_share <- list()
  preparing <- numeric()
  spent <- 0
  n_candidates <- length(work$spaces)
  grow <- function(work) {
    candidate <<- work$fits$candidate
    branch_of_node <<- branch_of(work$nodes)
  }
  grow(work)
  # what was seen on just this share: seconds of the fits, mean and sd of their candidates
  seen <- function(fits, share) {
    known <- by_share[[as.character(share)]]
    whose <- candidate[fits]
    mean <- known$sums[whose] / known$counts[whose]
    sd <- sqrt(pmax(0, known$squares[whose] / known$counts[whose] - mean^2))
    # the first fits of a process are its slowest
    few <- known$counts[whose] %in% 1:2
    list(own = known$own[fits], mean = mean, most = ifelse(few, known$least[whose], mean + sd))
  }
  # the nearest share on which anything was seen first; more rows take more, but not in proportion
  from_shares <- function(fits, share, of_seen, exponent) {
    shares <- as.numeric(names(by_share))
    seconds <- rep(NA_real_, length(fits))
    for (other in shares[order(abs(shares - share))]) {
      ratio <- share / other
      at <- which(is.na(seconds))
      seconds[at] <- of_seen(seen(fits[at], other)) * ratio^exponent(ratio)
    }
    seconds
  }
  list(
    grow = grow,
    of = function(fits, share = 1) {
      from_shares(fits, share, function(s) ifelse(is.na(s$own), s$mean, s$own), function(ratio) 0.7)
    },
    # fewer rows take at most the same
    at_most = function(fits, share = 1) {
      from_shares(
        fits, share, function(s) 1.25 * ifelse(is.na(s$own), s$most, s$own),
        function(ratio) if (ratio > 1) 0.7 else 0
      )
    },
    learn = function(ledger) {
      branches <- as.character(branch_of_node[ledger$steps$node])
      for (i in seq_along(branches)) {
        longest <- max(ledger$steps$seconds[i], preparing[branches[i]], na.rm = TRUE)
        preparing[branches[i]] <<- longest
      }
      for (share in unique(ledger$share)) {
        at <- which(ledger$share == share)
        by_share[[as.character(share)]] <<- with_seconds(
          by_share[[as.character(share)]], ledger$fit[at], ledger$seconds[at], candidate,
          n_candidates
        )
      }
      spent <<- spent + sum(ledger$seconds)
    },
    step = function(branch) unname(preparing[as.character(branch)]),
    spent = function() spent
  )
}

# own: least seconds of every fit; counts, sums, squares, least: by candidate.
with_seconds <- function(known, fits, seconds, candidate, n_candidates) {
  none <- numeric(n_candidates)
  known <- known %||% list(
    own = numeric(), counts = none, sums = none, squares = none, least = none + Inf
  )
  known$own <- c(known$own, rep(NA_real_, length(candidate) - length(known$own)))
  known$own[fits] <- pmin(known$own[fits], seconds, na.rm = TRUE)
  whose <- candidate[fits]
  for (one in unique(whose)) {
    mine <- seconds[whose == one]
    known$counts[one] <- known$counts[one] + length(mine)
    known$sums[one] <- known$sums[one] + sum(mine)
    known$squares[one] <- known$squares[one] + sum(mine^2)
    known$least[one] <- min(known$least[one], mine)
  }
  known
}
