# Which fits are done next, and how many of them together. How they are cut into units
# changes nothing but the time it takes.

unit_seconds <- 0.5
longest_unit_seconds <- 20
# Steps of a branch that take less than this are done again rather than waited for.
cheap_step_seconds <- 0.05

# `pending`: fits x splits, TRUE where there is work to do; `share`: of the training rows. A
# schedule has
#   take(part, workers)   the next unit, list(split, fits, share, branch), or NULL; `part`
#                         (0..1] makes it smaller towards the end of a run
#   give_back(units)      puts units back at the front
#   learn(ledger)         tells what fits and steps took
#   expected(fits)        seconds that fits are expected to take; NA while unknown
#   left()                seconds of work that are expected to be left; NA while unknown
#   share_left()          the same in proportion to the work that was done
#
# Fits of one step branch on one split are a group. Where preparing a branch is cheap,
# units are taken from its splits in turn, so that settings get their scores on all
# splits early; where it is dear a group stays together on one worker, so that its steps
# are learned once, until it would be more than that worker's part of what is left.
new_schedule <- function(work, pending, shuffle = FALSE, share = 1) {
  groups <- pending_groups(work, pending, shuffle)
  candidate <- work$fits$candidate
  node_branch <- branch_of(work$nodes)
  spent <- numeric(length(work$spaces))
  known <- numeric(length(work$spaces))
  preparing <- numeric()
  # what a fit took on another split, else the mean of its candidate's, else NA
  own <- rep(NA_real_, length(candidate))
  cost <- function(fits) {
    mean <- spent[candidate[fits]] / known[candidate[fits]]
    mean[is.nan(mean)] <- NA
    ifelse(is.na(own[fits]), mean, own[fits])
  }
  count <- function(groups) {
    tabulate(candidate[unlist(lapply(groups, `[[`, "fits"), use.names = FALSE)], length(spent))
  }
  remaining <- count(groups)
  left <- function() {
    open <- remaining > 0L
    sum(remaining[open] * ifelse(known[open] > 0, spent[open] / known[open], NA))
  }
  dear <- function(branch) {
    branch > 0L && isTRUE(preparing[as.character(branch)] > cheap_step_seconds)
  }
  list(
    take = function(part = 1, workers = 1L) {
      if (length(groups) == 0L) return(NULL)
      group <- groups[[1]]
      together <- dear(group$branch)
      room <- unit_seconds * part
      if (together && workers > 1L) {
        room <- max(
          room, min(longest_unit_seconds, sum(cost(group$fits)), left() / workers),
          na.rm = TRUE
        )
      }
      costs <- cost(group$fits)
      many <- if (is.na(costs[1])) {
        1L
      } else {
        max(1L, sum(cumsum(ifelse(is.na(costs), Inf, costs)) <= room))
      }
      rest <- utils::tail(group$fits, -many)
      groups <<- after_taking(groups, rest, !together)
      unit <- list(
        split = group$split, fits = utils::head(group$fits, many),
        share = group$share %||% share, branch = group$branch
      )
      remaining <<- remaining - count(list(unit))
      unit
    },
    give_back = function(units) {
      groups <<- c(units, groups)
      remaining <<- remaining + count(units)
    },
    learn = function(ledger) {
      for (step in ledger$steps) {
        branch <- as.character(node_branch[step$node])
        preparing[branch] <<- max(step$seconds, preparing[branch], na.rm = TRUE)
      }
      own[ledger$fit] <<- ledger$seconds
      whose <- candidate[ledger$fit]
      for (one in unique(whose)) {
        spent[one] <<- spent[one] + sum(ledger$seconds[whose == one])
        known[one] <<- known[one] + sum(whose == one)
      }
    },
    # cost of what is left, beside that of what was done
    share_left = function() left() / sum(spent),
    # what fits are expected to take, NA while unknown
    expected = function(fits) sum(cost(fits)),
    left = left, empty = function() length(groups) == 0L
  )
}

# The groups without the fits that were taken from the first one. In turn: what is left
# of it goes behind the other groups of its branch.
after_taking <- function(groups, rest, in_turn) {
  first <- groups[[1]]
  groups <- groups[-1]
  if (length(rest) == 0L) return(groups)
  first$fits <- rest
  same <- if (in_turn) {
    cumprod(vapply(groups, function(group) identical(group$branch, first$branch), logical(1)))
  } else {
    0
  }
  append(groups, list(first), after = sum(same))
}

# Branch after branch, and within a branch split after split.
pending_groups <- function(work, pending, shuffle) {
  branch <- c(0L, branch_of(work$nodes))[work$fits$node + 1L]
  groups <- list()
  for (one in sort(unique(branch))) {
    mine <- in_spread_order(which(branch == one), work)
    for (split in seq_len(ncol(pending))) {
      fits <- mine[pending[mine, split]]
      if (length(fits) > 0L) {
        groups[[length(groups) + 1L]] <- list(split = split, fits = fits, branch = one)
      }
    }
  }
  if (!shuffle) return(with_pilots(groups, work$fits$candidate))
  lapply(rev(groups), function(group) {
    group$fits <- rev(group$fits)
    group
  })
}

# Fits of one node and candidate stay together, but do not follow the grid, along which they
# often get dearer and dearer: a few long ones left to the end would keep one worker busy
# and the others idle. Neighbours lie far apart, the last is among the first.
in_spread_order <- function(fits, work) {
  fits <- fits[order(work$fits$node[fits], work$fits$candidate[fits])]
  begins <- c(TRUE, diff(work$fits$node[fits]) != 0 | diff(work$fits$candidate[fits]) != 0)
  at <- seq_along(fits)
  fits[order(cumsum(begins), -radical_inverse(at - cummax(ifelse(begins, at, 0L))))]
}

# The binary digits of whole numbers mirrored at the point (van der Corput 1935).
radical_inverse <- function(x) {
  inverse <- numeric(length(x))
  digit <- 0.5
  while (any(x > 0)) {
    inverse <- inverse + digit * (x %% 2)
    x <- x %/% 2
    digit <- digit / 2
  }
  inverse
}

# One fit of every candidate comes first, so that what all will take is soon known.
with_pilots <- function(groups, candidate) {
  pilots <- list()
  seen <- integer()
  for (i in seq_along(groups)) {
    fits <- sort(groups[[i]]$fits)
    first <- fits[!duplicated(candidate[fits]) & !candidate[fits] %in% seen]
    seen <- c(seen, candidate[first])
    pilots <- c(
      pilots,
      lapply(first, function(fit) {
        list(split = groups[[i]]$split, fits = fit, branch = groups[[i]]$branch)
      })
    )
    groups[[i]]$fits <- setdiff(groups[[i]]$fits, first)
  }
  c(pilots, Filter(function(group) length(group$fits) > 0L, groups))
}
