# Where parts of the ledger go as they come: into the record, the journal, and what a listener is
# told.

# Takes what units bring home, as they come. `held`: are predictions for the run alone, and those of
# the best fits only? See run-held.R.
new_sink <- function(plan, listener, journal, units = 0, log = NULL, held = FALSE) {
  parts <- list()
  work <- NULL
  names <- NULL
  rows <- NULL
  watch <- new_watch(plan, listener)
  holder <- if (held) new_holder(plan)
  whole <- function() {
    if (length(parts) != 1L) {
      parts <<- list(bind_ledgers(c(list(empty_ledger(plan$metrics)), parts)))
    }
    parts[[1]]
  }
  grow <- function(larger) {
    work <<- larger
    watch$grow(work)
    if (!is.null(log)) log$grow(work)
    if (is.null(journal)) return(invisible())
    names <<- row_names_of_fits(work)
    rows <<- new_row_writer(work, names, journal$metrics, plan$splits)
  }
  list(
    # before parts of a further round come
    grow = grow,
    known = function(ledger, work) {
      grow(work)
      parts <<- list(ledger)
      watch$again(ledger)
      if (!is.null(log)) log$take(ledger, work)
      if (is.null(journal)) return(invisible())
      steps <- step_rows(ledger$steps, work, plan$splits)
      journal$write(rows(ledger), steps_not_in(steps, journal$steps()))
    },
    start = watch$start,
    take = function(part, write = TRUE, took = 0) {
      if (held) {
        if (holder$too_much(part)) parts <<- list(holder$thin(whole(), work, complete = FALSE))
        parts[[length(parts) + 1L]] <<- holder$held(part)
        part["predictions"] <- list(NULL)
      } else {
        parts[[length(parts) + 1L]] <<- part
      }
      units <<- units + took
      if (write && !is.null(journal)) {
        journal$write(rows(part), step_rows(part$steps, work, plan$splits), took)
      }
      watch$tick(part)
      if (!is.null(log)) log$take(part, work)
    },
    drop = watch$drop,
    # while nothing comes, for so many seconds
    rest = function(ahead = 0) if (!is.null(journal)) journal$tend(ahead),
    # after a round
    thin = function() {
      if (!held) return(invisible())
      parts <<- list(holder$thin(whole(), work))
      if (is.null(journal)) return(invisible())
      new <- holder$new_rows(parts[[1]], work, rows)
      if (!is.null(new)) journal$write(new, step_rows(new_steps(), work, plan$splits))
    },
    # pairs of fit and split that are done on a share of the training rows
    done = function(share) {
      ledger <- whole()
      at <- which(ledger$share == share)
      cbind(ledger$fit[at], ledger$split[at])
    },
    # what somebody sent who is not believed any more
    forget = function(unit) {
      ledger <- whole()
      gone <- ledger$fit %in% unit$fits & ledger$split == unit$split & ledger$share == unit$share
      parts <<- list(take_entries(ledger, which(!gone), work$fits$count))
      if (!is.null(journal)) {
        journal$forget(names$fit[unit$fits], plan$splits[[unit$split]]$key, unit$share)
      }
      if (!is.null(log) && unit$share == 1) log$forget(unit$fits, unit$split, work)
      watch$again(parts[[1]])
    },
    progress = watch$progress, end = watch$end, ledger = whole, units = function() units,
    names = function() names,
    results = function(seconds = TRUE) {
      results_of(whole(), work, plan, units, judged = FALSE, seconds = seconds)
    }
  )
}

# Keeps the running totals that the listener is told about.
new_watch <- function(plan, listener) {
  work <- NULL
  n_splits <- length(plan$splits)
  sums <- squares <- numeric()
  counts <- seen <- integer()
  done <- failed <- 0
  started <- began <- seconds_now()
  last <- 0
  usable <- is.na(plan$undefined[[plan$decide]])
  # a search that goes on, or a screen: nobody knows how much it will be
  dropped <- integer()
  searching <- !all(vapply(plan$seats, function(s) s$search$at_once, NA))
  open <- !is.null(plan$screen) || searching
  rounds <- 0L
  # every candidate's setting with the best mean so far, the best first; none before three splits
  leaders <- function() {
    ready <- which(counts >= min(3L, sum(usable)) & is.finite(sums))
    good <- goodness(sums[ready] / counts[ready], plan$metrics[[plan$decide]])
    ready <- ready[order(-good)]
    ready[!duplicated(work$settings$candidate[ready])]
  }
  best_so_far <- function() {
    at <- leaders()
    if (length(at) == 0L) return(NULL)
    mean <- sums[at] / counts[at]
    list(
      candidate = names(plan$spaces)[work$settings$candidate[at]], mean = mean,
      sd = sqrt(pmax(0, squares[at] - counts[at] * mean^2) / (counts[at] - 1)),
      splits = counts[at]
    )
  }
  share_left <- function() NA_real_
  emit <- function(type) {
    seconds <- seconds_now() - started
    listener(list(
      type = type, done = done, total = length(seen) * n_splits, failed = failed,
      seconds = seconds,
      seconds_left = if (open) NA else (seconds_now() - began) * share_left(),
      metric = plan$decide, round = if (searching) rounds, dropped = length(dropped),
      best = if (type == "start") NULL else best_so_far()
    ))
  }
  tick <- function(part) {
    if (any(part$share < 1)) {
      part <- take_entries(part, which(part$share == 1), work$fits$count)
    }
    spread <- spread_ledger(part, work)
    settings <- spread$settings
    done <<- done + length(settings)
    seen[settings] <<- seen[settings] + 1L
    lost <- !is.na(part$message)[spread$at]
    failed <<- failed + sum(lost)
    sums[settings[lost]] <<- NA
    if (length(part$split) > 0L && usable[part$split[1]]) {
      score <- part$validation[spread$row, plan$decide][!lost]
      fine <- settings[!lost]
      sums[fine] <<- sums[fine] + score
      squares[fine] <<- squares[fine] + score^2
      counts[fine] <<- counts[fine] + 1L
    }
  }
  drop <- function(settings) {
    dropped <<- union(dropped, settings)
    done <<- done + sum(n_splits - seen[settings])
    seen[settings] <<- n_splits
  }
  list(
    grow = function(larger) {
      work <<- larger
      rounds <<- rounds + 1L
      more <- length(work$settings$fit) - length(seen)
      sums <<- c(sums, numeric(more))
      squares <<- c(squares, numeric(more))
      counts <<- c(counts, integer(more))
      seen <<- c(seen, integer(more))
    },
    start = function(left) {
      began <<- seconds_now()
      share_left <<- left
      emit("start")
    },
    # settings that are not scored any further
    drop = drop,
    end = function() emit("end"),
    progress = function() emit("progress"),
    # a part of one split
    tick = function(part) {
      tick(part)
      if (seconds_now() - last > 0.1) {
        last <<- seconds_now()
        emit("progress")
      }
    },
    # everything anew, of the whole ledger
    again = function(ledger) {
      n <- length(seen)
      sums <<- squares <<- numeric(n)
      counts <<- seen <<- integer(n)
      done <<- failed <<- 0
      for (split in unique(ledger$split)) {
        tick(take_entries(ledger, which(ledger$split == split), work$fits$count))
      }
      drop(dropped)
    }
  )
}
