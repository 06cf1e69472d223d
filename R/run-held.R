# Predictions that are held as a run goes, where its plan wants a blend, so that no member of it
# must be fitted again: those of the best fits of every candidate. After a round a journal gets them
# too, of a path its best value's only.

will_blend <- function(plan) {
  !isFALSE(planned_rule(plan)$blend) && is.null(plan$splitter$summary)
}

# So many fits of a candidate are held after a round: what a blend takes of it, and two more, which
# may be among these once all splits are done.
most_held <- 5L

# So many bytes of a round are held, before the best so far are picked.
most_held_bytes <- 4e8

# What is held of a run:
#   held(part)       a part of the ledger, with its predictions as long as there is room
#   too_much(part)   is there no room for them any more?
#   thin(ledger, work, complete)   the ledger with the predictions of the best fits only;
#                    `complete`: of those that are scored on all splits, others will not be any more
#   new_rows(ledger, work, rows)   of a ledger that was thinned: rows for the journal of what it has
#                    not yet; `rows`: see new_row_writer()
new_holder <- function(plan) {
  bytes <- 0
  # were there too many even of the best
  full <- FALSE
  best <- NULL
  # by fit and split, the place of the value that the journal has
  written <- integer()
  list(
    held = function(part) {
      if (full) part["predictions"] <- list(NULL)
      bytes <<- bytes + as.numeric(utils::object.size(part$predictions))
      part
    },
    too_much = function(part) {
      !full && bytes + as.numeric(utils::object.size(part$predictions)) > most_held_bytes
    },
    thin = function(ledger, work, complete = TRUE) {
      if (is.null(ledger$predictions)) return(ledger)
      best <<- best_fits(ledger, work, plan, complete)
      ledger$predictions[!ledger$fit %in% best$fit] <- list(NULL)
      bytes <<- as.numeric(utils::object.size(ledger$predictions))
      full <<- full || !complete && bytes > most_held_bytes / 2
      ledger
    },
    new_rows = function(ledger, work, rows) {
      there <- which(!vapply(ledger$predictions, is.null, NA))
      place <- best$place[match(ledger$fit, best$fit)]
      # after a further round another value of a path may be its best; of one that an earlier call
      # fitted the journal has its best of then
      there <- Filter(function(at) has_prediction(ledger$predictions[[at]], place[at]), there)
      called <- paste(ledger$fit, ledger$split)
      known <- written[called[there]]
      at <- there[is.na(known) | known != place[there]]
      if (length(at) == 0L) return(NULL)
      written[called[at]] <<- place[at]
      made <- rows(take_entries(ledger, at, work$fits$count))
      count <- work$fits$count[ledger$fit[at]]
      mine <- cumsum(count) - count + place[at]
      made$prediction[-mine] <- list(NULL)
      made
    }
  )
}

# Of a path's predictions, are those of one value there?
has_prediction <- function(predictions, place) {
  !is.na(predictions[[length(predictions) / utils::tail(dim(predictions), 1L) * place]])
}

# Of every candidate the fits with the best settings that meet the constraints, by their means so
# far, in the order of the standings, and the places of these along the fits' paths.
best_fits <- function(ledger, work, plan, complete) {
  results <- results_of(ledger, work, plan, judged = FALSE, seconds = FALSE)
  good <- goodness(
    rowMeans(round_scores(results, plan), na.rm = !complete), plan$metrics[[plan$decide]]
  )
  good[is.nan(good) | !meet_so_far(results, plan)] <- NA
  at <- best_first(good, plan$spaces, results, last = NA)
  at <- at[!duplicated(work$settings$fit[at])]
  place <- stats::ave(seq_along(at), work$settings$candidate[at], FUN = seq_along)
  at <- at[place <= most_held]
  list(fit = work$settings$fit[at], place = work$settings$place[at])
}
