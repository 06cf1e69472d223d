# Views of the ledger: what standings, searches and figures read. Settings are rows, in the order
# of the rounds; splits are columns.
#   candidate, row, round   of every setting; `row` numbers the candidate's settings
#   tables       settings by candidate
#   scores, training, no_information   matrices (or vectors) by metric; NA where there is none
#   seconds      a setting's share of the fits and steps that it had in common with others
#   done         was the setting fitted there, on all training rows, or failed?
#   predictions  list of list(settings, split, place, values); held: the same of the best settings,
#                where a blend will be made of them (run-held.R)
#   failures, unscored, warnings   lists of list(settings, split, stage, message, ...)
#   dropped      what a screen or a search dropped, a data frame; at: number of the setting
#   partial      scores on a share of the training rows, a data frame
#   fits, nodes  how many there are; spent: seconds by what they were spent on
#   pooled       scores of held-out predictions taken together, where the plan says so
results_of <- function(
  ledger, work, plan, spent_units = 0, rounds = list(), judged = TRUE, seconds = TRUE
) {
  results <- new_results(work, plan, !is.null(ledger$training), !is.null(ledger$predictions))
  spread <- spread_ledger(ledger, work)
  cells <- cbind(spread$settings, ledger$split[spread$at])
  if (seconds) {
    results <- add_step_seconds(results, ledger$steps, work)
    of_fits <- (ledger$seconds / spread$sizes)[spread$at]
    results$seconds <- added_at(results$seconds, cells[, 1], cells[, 2], of_fits)
  }
  results$spent <- ledger_seconds(ledger) + c(0, 0, 0, 0, spent_units)
  results$partial <- partial_scores(ledger, spread, plan)
  whole <- ledger$share[spread$at] == 1
  cells <- cells[whole, , drop = FALSE]
  rows <- spread$row[whole]
  results$done[cells] <- TRUE
  for (metric in names(results$scores)) {
    results$scores[[metric]][cells] <- ledger$validation[rows, metric]
    if (!is.null(ledger$training)) {
      results$training[[metric]][cells] <- ledger$training[rows, metric]
    }
    if (!is.null(results$no_information) && !is.null(ledger$no_information)) {
      apparent <- is_apparent(plan$splits)[cells[, 2]]
      results$no_information[[metric]][cells[apparent, 1]] <-
        ledger$no_information[rows[apparent], metric]
    }
  }
  results <- with_remarks(results, ledger, spread, work)
  dropped <- dropped_settings(rounds, work)
  # a search may have wanted more of them than a screen
  whole <- rowSums(!results$done[, splits_of_all(plan), drop = FALSE]) == 0L
  results$dropped <- dropped[!whole[dropped$at], ]
  if (plan$pooled) pool_scores(results, plan, judged) else results
}

# Fits on splits that were done, all shares of rows; a blend is made of those of others.
fits_done <- function(cmp) sum(cmp$ledger$stage != "blend")

# All fields, with nothing in them yet.
new_results <- function(work, plan, training, predictions) {
  n <- length(work$settings$fit)
  empty <- matrix(NA_real_, n, length(plan$splits))
  scores <- lapply(plan$metrics, function(metric) empty)
  list(
    candidate = work$settings$candidate, row = work$settings$row, round = work$settings$round,
    tables = work$tables, scores = scores, training = if (training) scores, seconds = empty,
    done = matrix(FALSE, n, length(plan$splits)),
    no_information = if (identical(plan$splitter$summary, "632plus")) {
      lapply(plan$metrics, function(metric) rep(NA_real_, n))
    },
    predictions = if (predictions) list(), held = NULL, failures = list(), unscored = list(),
    warnings = list(), partial = NULL, dropped = NULL, pooled = NULL, spent = NULL,
    fits = length(work$fits$node), nodes = length(work$nodes)
  )
}

# Every setting below a step bears its part of it.
add_step_seconds <- function(results, steps, work) {
  if (length(steps$node) == 0L) return(results)
  learned <- unique(steps$node)
  at <- match(steps$node, learned)
  members <- lapply(fits_below(work)[learned], function(fits) {
    unlist(work$fits$members[fits], use.names = FALSE)
  })
  # all at once: a search asks after every round
  sizes <- lengths(members)[at]
  results$seconds <- added_at(
    results$seconds, unlist(members[at], use.names = FALSE), rep(steps$split, sizes),
    rep(steps$seconds / sizes, sizes)
  )
  for (i in which(lengths(steps$warnings) > 0L)) {
    results$warnings <- note_warnings(
      results$warnings, steps$warnings[[i]], steps$stage[i], members[[at[i]]], steps$split[i]
    )
  }
  results
}

ledger_seconds <- function(ledger) {
  ok <- is.na(ledger$message)
  fits <- sum(ledger$fit_seconds[ok])
  predictions <- sum(ledger$predict_seconds[ok])
  c(
    steps = sum(ledger$steps$seconds), fits = fits, predictions = predictions,
    scoring = sum(ledger$seconds[ok]) - fits - predictions, units = 0
  )
}

# Scores by the deciding metric on a share of the training rows: columns setting, split, share,
# score.
partial_scores <- function(ledger, spread, plan) {
  part <- which(ledger$share[spread$at] < 1)
  plain_frame(list(
    setting = spread$settings[part], split = ledger$split[spread$at][part],
    share = ledger$share[spread$at][part],
    score = unname(ledger$validation[spread$row[part], plan$decide])
  ), length(part))
}

# What is kept of single fits: predictions, failures, metrics without a score, warnings.
with_remarks <- function(results, ledger, spread, work) {
  members <- function(at) work$fits$members[[ledger$fit[at]]]
  results$failures <- lapply(which(!is.na(ledger$message)), function(at) {
    list(
      settings = members(at), split = ledger$split[at], stage = ledger$stage[at],
      message = ledger$message[at]
    )
  })
  kept <- which(!vapply(ledger$predictions, is.null, logical(1)) & ledger$share == 1)
  results$predictions <- c(results$predictions, lapply(kept, function(at) {
    list(
      settings = members(at), split = ledger$split[at],
      place = work$settings$place[members(at)], values = ledger$predictions[[at]]
    )
  }))
  results$unscored <- lapply(ledger$why_na, function(why) {
    rows <- spread$before[why$at] + work$settings$place[members(why$at)]
    list(
      settings = members(why$at)[is.na(ledger$validation[rows, why$metric])],
      split = ledger$split[why$at], stage = paste("metric", why$metric), metric = why$metric,
      message = why$message
    )
  })
  texts <- split(
    vapply(ledger$warnings, `[[`, "", "text"), vapply(ledger$warnings, `[[`, integer(1), "at")
  )
  for (name in names(texts)) {
    at <- as.integer(name)
    results$warnings <- note_warnings(
      results$warnings, texts[[name]], ledger$stage[at], members(at), ledger$split[at]
    )
  }
  results
}

note_warnings <- function(warnings, texts, stage, members, split) {
  for (message in unique(texts)) {
    warnings[[length(warnings) + 1L]] <-
      list(
        settings = members, stage = stage, split = split, message = message,
        count = sum(texts == message)
      )
  }
  warnings
}

# Of scores settings x splits: mean, sd, lowest, highest; NA for settings without all of them.
spread_of <- function(scores) {
  n <- ncol(scores)
  mean <- rowMeans(scores)
  sd <- if (n < 2L) rep(NA_real_, nrow(scores)) else sqrt(rowSums((scores - mean)^2) / (n - 1))
  columns <- lapply(seq_len(n), function(j) scores[, j])
  list(mean = mean, sd = sd, lowest = do.call(pmin, columns), highest = do.call(pmax, columns))
}
