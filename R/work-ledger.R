# The ledger: the one record of what was fitted and scored. Units bring home parts of it, the
# journal stores it, standings and searches read it by way of views (run-results.R). It has
#   fit, split, share, stage, message, fit_seconds, predict_seconds, seconds
#                    one entry a fit on a split; share: of the training rows that were used;
#                    message: NA, or why the fit failed; stage: which part a failure or warning
#                    comes from
#   validation       scores, one row a path value, fit after fit; one column a metric
#   training, no_information   NULL, or the same
#   predictions      NULL, or a list, one entry a fit on a split
#   warnings         list of list(at, text): warnings of the at-th entry
#   why_na           list of list(at, metric, message): metrics that predictions of the
#                    at-th entry left undefined for some of its values
#   steps            the steps that were learned, as columns: see new_steps()
# Fits and nodes are numbers of the run's work (work-tree.R).
new_ledger <- function(
  fit, split, share, stage, message, validation, fit_seconds = numeric(length(fit)),
  predict_seconds = numeric(length(fit)), seconds = numeric(length(fit)), training = NULL,
  no_information = NULL, predictions = NULL, warnings = list(), why_na = list(),
  steps = new_steps()
) {
  n <- length(fit)
  list(
    fit = fit, split = rep_len(split, n), share = rep_len(share, n), stage = rep_len(stage, n),
    message = rep_len(message, n), fit_seconds = fit_seconds, predict_seconds = predict_seconds,
    seconds = seconds, validation = validation, training = training,
    no_information = no_information, predictions = predictions, warnings = warnings,
    why_na = why_na, steps = steps
  )
}

# Columns with one entry a step that was learned on a split; warnings: a list of texts.
new_steps <- function(
  node = integer(), split = integer(), share = numeric(), seconds = numeric(),
  stage = character(), warnings = list()
) {
  list(
    node = node, split = split, share = share, seconds = seconds, stage = stage,
    warnings = warnings
  )
}

take_steps <- function(steps, at) lapply(steps, `[`, at)

bind_steps <- function(parts) do.call(Map, c(list(c, new_steps()), parts))

empty_ledger <- function(metrics, steps = new_steps()) {
  new_ledger(
    integer(), integer(), numeric(), character(), character(), blank_scores(0L, metrics),
    steps = steps
  )
}

# Columns with one entry a fit on a split.
ledger_columns <- c(
  "fit", "split", "share", "stage", "message", "fit_seconds", "predict_seconds", "seconds"
)

# Why something is no ledger of this work with scores by these metrics, or NULL.
wrong_ledger <- function(ledger, work, metrics) {
  if (!is.list(ledger)) return("it sent no scores")
  n <- length(ledger$fit)
  count <- work$fits$count
  fits <- is.numeric(ledger$fit) && all(ledger$fit %in% seq_along(count))
  if (!fits) return("it sent scores of other fits")
  rows <- sum(count[ledger$fit])
  numbers <- function(x) is.numeric(x) && length(x) == n
  seconds <- function(x) numbers(x) && !any(is.nan(x) | x < 0, na.rm = TRUE)
  text <- function(x) is.character(x) && length(x) == n
  more <- function(x) is.null(x) || are_scores(x, rows, metrics)
  remarks <- function(x) are_remarks(x, n)
  wanted <- list(
    split = function(x) numbers(x) && !anyNA(x),
    share = function(x) numbers(x) && all(x > 0 & x <= 1),
    fit_seconds = seconds, predict_seconds = seconds, seconds = seconds, message = text,
    stage = text, validation = function(x) are_scores(x, rows, metrics), training = more,
    no_information = more, warnings = remarks, why_na = remarks,
    steps = function(x) are_steps(x, length(work$nodes)),
    predictions = function(x) is.null(x) || is.list(x) && length(x) == n
  )
  fits_it <- vapply(names(wanted), function(name) isTRUE(wanted[[name]](ledger[[name]])), NA)
  if (all(fits_it)) NULL else paste("it sent no", gsub("_", " ", names(which(!fits_it))[1]))
}

are_scores <- function(x, rows, metrics) {
  is.matrix(x) && is.numeric(x) && nrow(x) == rows && identical(colnames(x), names(metrics))
}

are_remarks <- function(x, n) {
  is.list(x) && all(vapply(x, function(one) is.list(one) && isTRUE(one$at %in% seq_len(n)), NA))
}

are_steps <- function(x, nodes) {
  if (!is.list(x) || !identical(names(x), names(new_steps()))) return(FALSE)
  numbers <- vapply(x[c("node", "split", "share", "seconds")], is.numeric, NA)
  all(lengths(x) == length(x$node), numbers) && is.character(x$stage) && is.list(x$warnings) &&
    all(x$node %in% seq_len(nodes), x$seconds >= 0)
}

# What fits of one unit gave. `found`: what a reader read off every fit beside its validation
# scores.
ledger_of_fits <- function(
  fits, stage, message, fit_seconds, seconds, predict_seconds, validation,
  found, warned, context
) {
  counts <- context$work$fits$count[fits]
  failed <- which(!is.na(message))
  found[failed] <- list(NULL)
  scores <- function(what) stacked(lapply(found, `[[`, what), counts, context$metrics)
  ledger <- new_ledger(
    fits, context$split, context$share, stage, message, validation,
    fit_seconds = fit_seconds, predict_seconds = predict_seconds, seconds = seconds,
    training = if (context$wants$training) scores("training"),
    no_information = if (context$wants$no_information) scores("no_information"),
    predictions = if (context$wants$predictions || context$wants$held) {
      lapply(found, `[[`, "predictions")
    },
    warnings = warned[!vapply(warned, `[[`, integer(1), "at") %in% failed]
  )
  ledger$why_na <- reasons_for_na(ledger, counts, context)
  ledger
}

# Fits that could not be done, all for one reason.
ledger_of_failures <- function(unit, fits, stage, message, work, metrics) {
  new_ledger(
    fits, unit$split, unit$share %||% 1, stage, message,
    blank_scores(sum(work$fits$count[fits]), metrics)
  )
}

blank_scores <- function(rows, metrics) {
  matrix(NA_real_, rows, length(metrics), dimnames = list(NULL, names(metrics)))
}

# Scores of fits one below the other; NA where there are none.
stacked <- function(parts, counts, metrics) {
  there <- !vapply(parts, is.null, logical(1))
  whole <- blank_scores(sum(counts), metrics)
  if (any(there)) whole[rep(there, counts), ] <- do.call(rbind, parts[there])
  whole
}

# A metric that the truth allows has no score for some value of a fit.
reasons_for_na <- function(ledger, counts, context) {
  if (!anyNA(ledger$validation)) return(list())
  target <- target_rows(context$data$target, context$splits[[context$split]]$validation)
  of <- rep(seq_along(counts), counts)
  reasons <- list()
  for (metric in context$metrics) {
    gone <- setdiff(of[is.na(ledger$validation[, metric$name])], which(!is.na(ledger$message)))
    if (length(gone) == 0L || !is.null(metric$undefined(truth_of(target), target$weights))) next
    reasons <- c(
      reasons,
      lapply(gone, function(at) list(at = at, metric = metric$name, message = metric$why_na))
    )
  }
  reasons
}

# The same record where split i is number at[i].
renumbered_splits <- function(ledger, at) {
  ledger$split <- at[ledger$split]
  ledger$steps$split <- at[ledger$steps$split]
  ledger
}

bind_ledgers <- function(ledgers) {
  if (length(ledgers) == 1L) return(ledgers[[1]])
  lengths <- vapply(ledgers, function(ledger) length(ledger$fit), integer(1))
  before <- cumsum(c(0L, lengths))
  each <- function(what) lapply(ledgers, `[[`, what)
  moved <- function(what) {
    unlist(lapply(seq_along(ledgers), function(b) {
      lapply(ledgers[[b]][[what]], function(one) {
        one$at <- one$at + before[b]
        one
      })
    }), recursive = FALSE) %||% list()
  }
  rows <- function(what) {
    if (!all(vapply(each(what), is.null, logical(1)))) do.call(rbind, filled(ledgers, what))
  }
  whole <- lapply(stats::setNames(nm = ledger_columns), function(what) {
    unlist(each(what), use.names = FALSE)
  })
  do.call(new_ledger, c(whole, list(
    validation = rows("validation"), training = rows("training"),
    no_information = rows("no_information"), predictions = bound_predictions(ledgers),
    warnings = moved("warnings"), why_na = moved("why_na"),
    steps = bind_steps(each("steps"))
  )))
}

# Some of its entries; steps stay. `count`: path values by fit.
take_entries <- function(ledger, at, count) {
  of <- rep(seq_along(ledger$fit), count[ledger$fit])
  for (name in ledger_columns) ledger[[name]] <- ledger[[name]][at]
  rows <- which(of %in% at)
  for (name in c("validation", "training", "no_information")) {
    if (!is.null(ledger[[name]])) ledger[[name]] <- ledger[[name]][rows, , drop = FALSE]
  }
  if (!is.null(ledger$predictions)) ledger$predictions <- ledger$predictions[at]
  for (name in c("warnings", "why_na")) {
    ledger[[name]] <- lapply(Filter(function(one) one$at %in% at, ledger[[name]]), function(one) {
      one$at <- match(one$at, at)
      one
    })
  }
  ledger
}

without_entries <- function(ledger, at, work) {
  take_entries(ledger, setdiff(seq_along(ledger$fit), at), work$fits$count)
}

# Where a part of failed fits has nothing, others may have scores.
filled <- function(ledgers, what) {
  lapply(ledgers, function(ledger) ledger[[what]] %||% array(NA_real_, dim(ledger$validation)))
}

bound_predictions <- function(ledgers) {
  if (all(vapply(ledgers, function(ledger) is.null(ledger$predictions), logical(1)))) return(NULL)
  unlist(
    lapply(ledgers, function(ledger) ledger$predictions %||% vector("list", length(ledger$fit))),
    recursive = FALSE
  )
}

# Where scores belong: for every setting that the fits serve its number (`settings`), the
# entry's place in the ledger (`at`) and the row of the scores (`row`); for every entry how many
# settings it serves (`sizes`) and how many rows come before (`before`).
spread_ledger <- function(ledger, work) {
  members <- work$fits$members[ledger$fit]
  counts <- work$fits$count[ledger$fit]
  before <- cumsum(counts) - counts
  at <- rep(seq_along(members), lengths(members))
  settings <- unlist(members, use.names = FALSE)
  list(
    settings = settings, at = at, row = before[at] + work$settings$place[settings],
    sizes = lengths(members), before = before
  )
}

# The splits on which every setting is to be scored.
splits_of_all <- function(plan) plan$everywhere %||% seq_along(plan$splits)

# What screens and searches dropped in all rounds.
dropped_settings <- function(rounds, work) {
  table <- do.call(rbind, lapply(rounds, `[[`, "dropped"))
  if (is.null(table)) {
    return(plain_frame(list(
      candidate = integer(), setting = integer(), splits = integer(), share = numeric(),
      behind = numeric(), why = character(), at = integer()
    ), 0L))
  }
  table$at <- match(
    paste(table$candidate, table$setting), paste(work$settings$candidate, work$settings$row)
  )
  table
}

# Settings that are tried together: tables by candidate; the rows of them that a limit allows,
# or NULL for all; what a screen dropped; the tasks of a search, or NULL where all is wanted in
# full.
new_round <- function(tables, kept = NULL, dropped = NULL, tasks = NULL) {
  list(tables = tables, kept = kept, dropped = dropped, tasks = tasks)
}

# Do values keep to a constraint? NA where there is no value.
keeps_to <- function(constraint, values) {
  get(constraint$comparison, baseenv())(values, constraint$bound)
}

# Does a setting meet the plan's constraints, as far as is known?
meet_so_far <- function(results, plan) {
  Reduce(`&`, lapply(plan$provided, function(constraint) {
    fine <- keeps_to(constraint, rowMeans(results$scores[[constraint$metric]], na.rm = TRUE))
    is.na(fine) | fine
  }), rep(TRUE, length(results$candidate)))
}
