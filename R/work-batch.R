# What units bring home, many fits at a time. A batch is of one split and has
#   steps            list of the steps that were learned: node, seconds, stage, warnings
#   fit, stage, message, fit_seconds, predict_seconds, seconds
#                    one entry a fit; message: NA, or why the fit failed; stage: which
#                    part a failure or warning comes from
#   validation       scores, one row a path value, fit after fit; one column a metric
#   training, no_information   NULL, or the same
#   predictions      NULL, or a list by fit
#   warnings         list of list(at, text): warnings of the at-th fit
#   why_na           list of list(at, metric, message): metrics that predictions of the
#                    at-th fit left undefined for some of its values

# `found`: what a reader read off every fit beside its validation scores.
fit_batch <- function(
  fits, stage, message, fit_seconds, seconds, predict_seconds, validation,
  found, warned, context
) {
  counts <- context$work$fits$count[fits]
  failed <- which(!is.na(message))
  found[failed] <- list(NULL)
  scores <- function(what) stacked(lapply(found, `[[`, what), counts, context$metrics)
  batch <- list(
    steps = list(), fit = fits, stage = stage, message = message, fit_seconds = fit_seconds,
    predict_seconds = predict_seconds,
    seconds = seconds, validation = validation,
    training = if (context$wants$training) scores("training"),
    no_information = if (context$wants$no_information) scores("no_information"),
    predictions = if (context$wants$predictions) lapply(found, `[[`, "predictions"),
    warnings = warned[!vapply(warned, `[[`, integer(1), "at") %in% failed]
  )
  batch$why_na <- reasons_for_na(batch, counts, context)
  batch
}

# Fits that could not be done, all for one reason.
failed_batch <- function(fits, stage, message, work, metrics) {
  n <- length(fits)
  list(
    steps = list(), fit = fits, stage = rep(stage, n), message = rep(message, n),
    fit_seconds = numeric(n),
    predict_seconds = numeric(n), seconds = numeric(n),
    validation = blank_scores(sum(work$fits$count[fits]), metrics), warnings = list(),
    why_na = list()
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
reasons_for_na <- function(batch, counts, context) {
  if (!anyNA(batch$validation)) return(list())
  target <- target_rows(context$data$target, context$splits[[context$split]]$validation)
  of <- rep(seq_along(counts), counts)
  reasons <- list()
  for (metric in context$metrics) {
    gone <- setdiff(of[is.na(batch$validation[, metric$name])], which(!is.na(batch$message)))
    if (length(gone) == 0L || !is.null(metric$undefined(target$outcome, target$weights))) next
    reasons <- c(
      reasons,
      lapply(gone, function(at) list(at = at, metric = metric$name, message = metric$why_na))
    )
  }
  reasons
}

bind_batches <- function(batches, steps) {
  if (length(batches) == 1L) {
    whole <- batches[[1]]
    whole$steps <- steps
    return(whole)
  }
  lengths <- vapply(batches, function(batch) length(batch$fit), integer(1))
  before <- cumsum(c(0L, lengths))
  moved <- function(what) {
    unlist(lapply(seq_along(batches), function(b) {
      lapply(batches[[b]][[what]], function(one) {
        one$at <- one$at + before[b]
        one
      })
    }), recursive = FALSE)
  }
  each <- function(what) lapply(batches, `[[`, what)
  rows <- function(what) {
    if (!all(vapply(each(what), is.null, logical(1)))) do.call(rbind, filled(batches, what))
  }
  plain <- c("fit", "stage", "message", "fit_seconds", "predict_seconds", "seconds")
  c(
    list(steps = steps), lapply(stats::setNames(nm = plain), function(what) unlist(each(what))),
    list(
      validation = rows("validation"), training = rows("training"),
      no_information = rows("no_information"),
      predictions = bound_predictions(batches), warnings = moved("warnings"),
      why_na = moved("why_na")
    )
  )
}

# Where a batch of failed fits has nothing, others may have scores.
filled <- function(batches, what) {
  lapply(batches, function(batch) batch[[what]] %||% array(NA_real_, dim(batch$validation)))
}

bound_predictions <- function(batches) {
  if (all(vapply(batches, function(batch) is.null(batch$predictions), logical(1)))) return(NULL)
  unlist(
    lapply(batches, function(batch) batch$predictions %||% vector("list", length(batch$fit))),
    recursive = FALSE
  )
}

# Where a batch's scores belong: for every setting that its fits serve its number
# (`settings`), the fit's place in the batch (`at`) and the row of the scores (`row`); for
# every fit how many settings it serves (`sizes`) and how many rows come before (`before`).
spread_batch <- function(batch, work) {
  members <- work$fits$members[batch$fit]
  counts <- work$fits$count[batch$fit]
  before <- cumsum(counts) - counts
  at <- rep(seq_along(members), lengths(members))
  settings <- unlist(members, use.names = FALSE)
  list(
    settings = settings, at = at, row = before[at] + work$settings$place[settings],
    sizes = lengths(members), before = before
  )
}
