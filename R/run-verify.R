# Doubt about workers from elsewhere: a sample of their fits, and the first of every worker, is
# done once more by another worker. Where the two differ the fit is done in this process, which
# tells who was wrong: a worker that was is out, and all that it did is done again. Names of
# workers are their own; who knows the run's secret could lie about that, too: this is against
# machines that reckon otherwise, not against an enemy who was let in.

new_doubt <- function(verify) {
  checks <- list()
  out <- character()
  did <- list()
  held <- new.env(parent = emptyenv())
  cache <- new_cache()
  here <- function(run, unit) timed_unit(run, unit$split, unit$fits, cache, unit$share)
  key <- function(unit, fit) paste(unit$split, fit, unit$share)
  list(
    here = here,
    is_out = function(worker) isTRUE(worker %in% out),
    # the next unit that is to be done once more, or NULL
    take = function() {
      if (length(checks) == 0L) return(NULL)
      unit <- checks[[1]]
      checks <<- checks[-1]
      unit
    },
    again = function(units) checks <<- c(checks, units),
    # an answer that was taken
    taken = function(answer, unit) {
      worker <- answer$worker
      if (verify == 0 || is.null(worker)) return(invisible())
      drawn <- unit$fits[stats::runif(length(unit$fits)) < verify]
      if (is.null(did[[worker]])) drawn <- union(unit$fits[1], drawn)
      did[[worker]] <<- c(did[[worker]], list(unit))
      for (fit in drawn) {
        assign(key(unit, fit), list(worker = worker, ledger = answer$ledger), envir = held)
        checks[[length(checks) + 1L]] <<- list(
          split = unit$split, fits = fit, share = unit$share, branch = unit$branch, check = TRUE
        )
      }
    },
    # the second answer to a unit of one fit; NULL where nobody gave one
    settle = function(answer, unit, run, schedule, sink) {
      first <- held[[key(unit, unit$fits)]]
      # checked before: a fit that was done again may have been drawn twice
      if (is.null(first)) return(invisible())
      rm(list = key(unit, unit$fits), envir = held)
      if (first$worker %in% out) return(invisible())
      scored <- function(ledger) scores_of_fit(ledger, unit$fits, run$work)
      other <- !is.null(answer) && !identical(answer$worker, first$worker)
      if (other && alike_scores(scored(first$ledger), scored(answer$ledger))) return(invisible())
      found <- scored(here(run, unit)$ledger)
      wrong <- c(
        if (!alike_scores(scored(first$ledger), found)) first$worker,
        if (other && !alike_scores(scored(answer$ledger), found)) answer$worker
      )
      for (worker in unique(wrong)) {
        out <<- c(out, worker)
        units <- did[[worker]]
        did[[worker]] <<- NULL
        for (one in units) sink$forget(one)
        schedule$give_back(units)
        warn_kw("workers", paste0(
          "A worker sent scores that this machine does not find: ",
          count_of(length(unlist(lapply(units, `[[`, "fits"))), "fit"), " of it are done again."
        ), remedy = "Do all machines have the same versions of R and packages?")
      }
    }
  )
}

scores_of_fit <- function(ledger, fit, work) {
  one <- take_entries(ledger, match(fit, ledger$fit), work$fits$count)
  list(scores = one$validation, failed = !is.na(one$message), passing = is_passing(one$message))
}

# Machines round differently, so that not all digits are compared. A limit that was reached on
# one says nothing of the other.
alike_scores <- function(a, b) {
  if (isTRUE(a$passing) || isTRUE(b$passing)) return(TRUE)
  if (a$failed != b$failed || !identical(is.na(a$scores), is.na(b$scores))) return(FALSE)
  all(abs(a$scores - b$scores) <= 1e-6 * pmax(1, abs(b$scores)), na.rm = TRUE)
}
