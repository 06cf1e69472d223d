# Which fits are done next, and how many of them together. How they are cut into units
# changes nothing but the time it takes.

unit_seconds <- 0.5
longest_unit_seconds <- 20
# Steps of a branch that take less than this are done again rather than waited for.
cheap_step_seconds <- 0.05

# `pending`: fits x splits, TRUE where there is work to do; `share`: of the training rows;
# `costs`: what is known of them, see new_costs(); `timed`: is there a deadline? A schedule has
#   take(part, workers, seconds)   the next unit, list(split, fits, share, branch), or NULL;
#                         `part` (0..1] makes it smaller towards the end of a run; of what would
#                         not be done within `seconds` nothing is begun
#   give_back(units)      puts units back at the front
#   learn(ledger)         tells what fits and steps took
#   expected(fits)        seconds that fits are expected to take; NA while unknown
#   left()                seconds of work that are expected to be left; NA while unknown
#   share_left()          the same in proportion to the work that was done
#   empty()               is nothing left, not even what there was no time for?
#
# Fits of one step branch on one split are a group. Where preparing a branch is cheap,
# units are taken from its splits in turn, so that settings get their scores on all
# splits early; where it is dear a group stays together on one worker, so that its steps
# are learned once, until it would be more than that worker's part of what is left.
new_schedule <- function(
  work, pending, shuffle = FALSE, share = 1, costs = new_costs(work), timed = FALSE
) {
  groups <- pending_groups(work, pending, shuffle, timed)
  candidate <- work$fits$candidate
  before <- costs$spent()
  # splits on which a fit is still to be begun; was it begun on any; was there no time for it?
  open <- rowSums(pending)
  begun <- logical(length(open))
  passed <- logical(length(open))
  # on how many splits it was begun and is not done
  out <- numeric(length(open))
  count <- function(groups) {
    tabulate(
      candidate[unlist(lapply(groups, `[[`, "fits"), use.names = FALSE)], length(work$spaces)
    )
  }
  remaining <- count(groups)
  of_candidate <- match(seq_along(work$spaces), candidate)
  left <- function() {
    there <- which(remaining > 0L)
    sum(remaining[there] * costs$of(of_candidate[there], share))
  }
  dear <- function(branch) branch > 0L && isTRUE(costs$step(branch) > cheap_step_seconds)
  # seconds that fits take on all splits that are left of them
  whole <- function(fits, share, workers) {
    costs$at_most(fits, share) * ceiling(open[fits] / workers)
  }
  # fits of a group for which there is time on all their splits, beside what was begun and will
  # be done in time
  in_time <- function(group, seconds, workers) {
    fits <- group$fits[!passed[group$fits]]
    others <- sort(whole(which(begun & open > 0 & !passed), share, workers))
    owed <- max(0, cumsum(others)[cumsum(others) <= seconds])
    away <- which(out > 0)
    queue <- sum(costs$of(away, share) * out[away], na.rm = TRUE) / workers
    room <- seconds - queue - if (dear(group$branch)) costs$step(group$branch) else 0
    room <- ifelse(begun[fits], room, room - owed)
    takes <- whole(fits, group$share %||% share, workers)
    fits[seconds > 0 & (is.na(takes) | cumsum(ifelse(is.na(takes), 0, takes)) <= room)]
  }
  list(
    take = function(part = 1, workers = 1L, seconds = Inf) {
      while (is.finite(seconds) && length(groups) > 0L) {
        groups <<- cheapest_first(groups, function(fit) costs$at_most(fit, share))
        fits <- in_time(groups[[1]], seconds, workers)
        passed[setdiff(groups[[1]]$fits, fits)] <<- TRUE
        groups[[1]]$fits <<- fits
        if (length(fits) > 0L) break
        groups <<- groups[-1]
      }
      if (length(groups) == 0L) return(NULL)
      group <- groups[[1]]
      together <- dear(group$branch)
      room <- unit_seconds * part
      each <- costs$of(group$fits, group$share %||% share)
      if (together && workers > 1L) {
        room <- max(
          room, min(longest_unit_seconds, sum(each), left() / workers), na.rm = TRUE
        )
      }
      many <- if (is.na(each[1])) {
        1L
      } else {
        max(1L, sum(cumsum(ifelse(is.na(each), Inf, each)) <= room))
      }
      rest <- utils::tail(group$fits, -many)
      groups <<- after_taking(groups, rest, !together)
      unit <- list(
        split = group$split, fits = utils::head(group$fits, many),
        share = group$share %||% share, branch = group$branch
      )
      open[unit$fits] <<- open[unit$fits] - 1
      begun[unit$fits] <<- TRUE
      out[unit$fits] <<- out[unit$fits] + 1
      remaining <<- remaining - count(list(unit))
      unit
    },
    give_back = function(units) {
      groups <<- c(units, groups)
      for (unit in units) {
        open[unit$fits] <<- open[unit$fits] + 1
        out[unit$fits] <<- out[unit$fits] - 1
      }
      remaining <<- remaining + count(units)
    },
    learn = function(ledger) {
      out[ledger$fit] <<- pmax(0, out[ledger$fit] - 1)
      costs$learn(ledger)
    },
    # cost of what is left, beside that of what was done
    share_left = function() left() / (costs$spent() - before),
    expected = function(fits) sum(costs$of(fits, share)),
    left = left, empty = function() length(groups) == 0L && !any(passed)
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
pending_groups <- function(work, pending, shuffle, timed = FALSE) {
  branch <- c(0L, branch_of(work$nodes))[work$fits$node + 1L]
  groups <- list()
  for (one in sort(unique(branch[rowSums(pending) > 0]))) {
    mine <- in_spread_order(which(branch == one), work)
    part <- if (timed) parts_of_waves(mine, work) else list(wave = rep(0L, length(mine)))
    for (turn in split(seq_along(mine), part, drop = TRUE)) {
      for (split in seq_len(ncol(pending))) {
        fits <- mine[turn][pending[mine[turn], split]]
        if (length(fits) == 0L) next
        groups[[length(groups) + 1L]] <- list(
          split = split, fits = fits, branch = one, wave = part$wave[turn[1]]
        )
      }
    }
  }
  if (!shuffle) return(with_pilots(groups, work, timed))
  lapply(rev(groups), function(group) {
    group$fits <- rev(group$fits)
    group
  })
}

# Where time is short a setting of every candidate comes first, then two more of each, then four,
# so that those that are done when the time is up are spread over the whole field.
parts_of_waves <- function(fits, work) {
  candidate <- work$fits$candidate[fits]
  place <- stats::ave(seq_along(fits), candidate, FUN = seq_along)
  list(candidate = candidate, wave = as.integer(floor(log2(place))))
}

# Of the earliest wave the group that takes least comes first: more is done when time is up.
# What nobody knows yet comes last.
cheapest_first <- function(groups, seconds_of) {
  wave <- vapply(groups, function(group) group$wave %||% -1L, integer(1))
  early <- which(wave == min(wave))
  seconds <- seconds_of(vapply(groups[early], function(group) group$fits[1], integer(1)))
  seconds[is.na(seconds)] <- Inf
  first <- early[which.min(signif(seconds, 1))]
  groups[c(first, seq_along(groups)[-first])]
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

# One fit of every candidate comes first, so that what all will take is soon known; where time is
# short, those of the simplest family before others.
with_pilots <- function(groups, work, simplest_first = FALSE) {
  candidate <- work$fits$candidate
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
  if (simplest_first) {
    ranks <- vapply(work$families, function(f) f$part$definition$complexity_rank, numeric(1))
    pilots <- pilots[order(vapply(pilots, function(p) ranks[candidate[p$fits]], numeric(1)))]
  }
  c(pilots, Filter(function(group) length(group$fits) > 0L, groups))
}
