# Which fits are done next, and how many of them together. How they are cut into units
# changes nothing but the time it takes.

unit_seconds <- 0.5
longest_unit_seconds <- 20
# Steps of a branch that take less than this are done again rather than waited for.
cheap_step_seconds <- 0.05

# `pending`: fits x splits, TRUE where there is work to do; `share`: of the training rows;
# `costs`: what is known of them, see new_costs(); `timed`: is there a deadline? `hopeful`: is what
# fits are expected to take the most that they take? A schedule has
#   take(part, workers, seconds)   the next unit, list(split, fits, share, branch), or NULL;
#                         `part` (0..1] makes it smaller towards the end of a run; of what would
#                         not be done within `seconds` nothing is begun
#   give_back(units)      puts units back at the front
#   learn(ledger)         tells what fits and steps took
#   expected(fits)        seconds that fits are expected to take; NA while unknown
#   left()                seconds of work that are expected to be left; NA while unknown
#   share_left()          the same in proportion to the work that was done
#   empty()               is nothing left, not even what there is no time for?
#
# Fits of one step branch on one split are a group. Where preparing a branch is cheap,
# units are taken from its splits in turn, so that settings get their scores on all
# splits early; where it is dear a group stays together on one worker, so that its steps
# are learned once, until it would be more than that worker's part of what is left.
new_schedule <- function(
  work, pending, shuffle = FALSE, share = 1, costs = new_costs(work), timed = FALSE, hopeful = FALSE
) {
  at_most <- if (hopeful) costs$of else costs$at_most
  groups <- pending_groups(work, pending, shuffle, timed)
  candidate <- work$fits$candidate
  before <- costs$spent()
  # splits on which a fit is still to be begun; was it begun on any?
  open <- rowSums(pending)
  begun <- logical(length(open))
  # on how many splits it was begun and is not done
  out <- numeric(length(open))
  # there was no time for anything; only what comes back can change that
  in_vain <- FALSE
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
  # By fit: seconds that it takes on all splits that are left of it, and those there are for it,
  # beside what is under way and what was begun and will be done in time.
  time_of_fits <- function(seconds, workers) {
    takes <- at_most(seq_along(open), share) * ceiling(open / workers)
    others <- sort(takes[begun & open > 0])
    owed <- max(0, cumsum(others)[cumsum(others) <= seconds])
    away <- which(out > 0)
    queue <- sum(costs$of(away, share) * out[away], na.rm = TRUE) / workers
    list(takes = takes, room = seconds - queue - ifelse(begun, 0, owed))
  }
  # The earliest group of which something will be done in time, with those fits first: list(at,
  # fits, many), or NULL.
  in_time <- function(seconds, workers) {
    if (seconds <= 0) return(NULL)
    known <- time_of_fits(seconds, workers)
    fine <- is.na(known$takes) | known$takes <= known$room
    for (at in cheapest_first(groups, known$takes)) {
      fits <- groups[[at]]$fits[fine[groups[[at]]$fits]]
      if (length(fits) == 0L) next
      # together, too, and with the step before them
      branch <- groups[[at]]$branch
      first <- if (dear(branch)) costs$step(branch) else 0
      sums <- first + cumsum(ifelse(is.na(known$takes[fits]), 0, known$takes[fits]))
      fits <- fits[sums <= known$room[fits]]
      if (length(fits) == 0L) next
      return(list(at = at, fits = union(fits, groups[[at]]$fits), many = length(fits)))
    }
    NULL
  }
  list(
    take = function(part = 1, workers = 1L, seconds = Inf) {
      if (length(groups) == 0L || in_vain) return(NULL)
      most <- Inf
      if (is.finite(seconds)) {
        first <- in_time(seconds, workers)
        in_vain <<- is.null(first)
        if (in_vain) return(NULL)
        groups <<- groups[c(first$at, seq_along(groups)[-first$at])]
        groups[[1]]$fits <<- first$fits
        most <- first$many
      }
      group <- groups[[1]]
      together <- dear(group$branch)
      room <- unit_seconds * part
      if (together && workers > 1L) {
        in_all <- sum(costs$of(group$fits, group$share %||% share))
        room <- max(room, min(longest_unit_seconds, in_all, left() / workers), na.rm = TRUE)
      }
      each <- seconds_of_first(costs, group$fits, group$share %||% share, room)
      many <- if (is.na(each[1])) {
        1L
      } else {
        max(1L, sum(cumsum(ifelse(is.na(each), Inf, each)) <= room))
      }
      many <- min(many, most)
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
      in_vain <<- FALSE
      groups <<- c(units, groups)
      for (unit in units) {
        open[unit$fits] <<- open[unit$fits] + 1
        out[unit$fits] <<- out[unit$fits] - 1
      }
      remaining <<- remaining + count(units)
    },
    learn = function(ledger) {
      in_vain <<- FALSE
      out[ledger$fit] <<- pmax(0, out[ledger$fit] - 1)
      costs$learn(ledger)
    },
    # cost of what is left, beside that of what was done
    share_left = function() left() / (costs$spent() - before),
    expected = function(fits) sum(costs$of(fits, share)),
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

# Of so many first fits that they take longer than `room`, or all: what a group of 100,000 takes is
# not worked out for each of its units.
seconds_of_first <- function(costs, fits, share, room) {
  many <- min(1000L, length(fits))
  repeat {
    each <- costs$of(fits[seq_len(many)], share)
    if (many == length(fits) || anyNA(each) || sum(each) > room) return(each)
    many <- min(4L * many, length(fits))
  }
}

# Groups in the order in which they are looked at where time is short: by wave, and within a wave
# the group that takes least first, since more is done so when time is up. What nobody knows yet
# comes last. `takes`: seconds by fit.
cheapest_first <- function(groups, takes) {
  wave <- vapply(groups, function(group) group$wave %||% -1L, integer(1))
  seconds <- takes[vapply(groups, function(group) group$fits[1], integer(1))]
  order(wave, signif(seconds, 1))
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
    ranks <- complexity_ranks(work$spaces)
    pilots <- pilots[order(vapply(pilots, function(p) ranks[candidate[p$fits]], numeric(1)))]
  }
  c(pilots, Filter(function(group) length(group$fits) > 0L, groups))
}
