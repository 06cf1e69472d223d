# Records of fits as rows of a journal, and back.

# One row a path value, in the order of the journal's columns.
record_rows <- function(record, split_key, work, metrics) {
  values <- value_texts(work, record$fit)
  n <- length(values)
  m <- length(metrics)
  numbers <- function(scores) lapply(seq_len(m), function(i) if (is.null(scores)) rep(NA_real_, n) else as.double(scores[[i]]))
  columns <- function(x) if (is.null(x)) NULL else lapply(metrics, function(metric) x[, metric])
  information <- if (!is.null(record$no_information)) {
    lapply(metrics, function(metric) record$no_information[[metric]] %||% rep(NA_real_, n))
  }
  scores <- c(numbers(columns(record$validation)), numbers(columns(record$training)), numbers(information))
  undefined <- if (is.null(record$validation)) rep(FALSE, n) else is.na(record$validation[, 1])
  if (record$type == "failed") {
    status <- rep(if (is_too_slow(record$message)) "stopped" else "failed", n)
    message <- record$message
  } else {
    status <- ifelse(undefined, "undefined", "ok")
    message <- paste(names(record$why_na), unlist(record$why_na), sep = "\t", collapse = "\n")
  }
  c(list(split = rep(split_key, n), fit = rep(fit_texts(work, record$fit), n), value = values, status = status,
         stage = rep(record$stage, n), message = rep(message, n),
         warnings = rep(paste(record$warnings, collapse = "\n"), n),
         fit_seconds = rep((record$fit_seconds %||% 0) / n, n), seconds = rep(record$seconds / n, n)),
    stats::setNames(scores, journal_columns(metrics)),
    list(prediction = if (is.null(record$predictions)) rep(list(NULL), n) else prediction_slices(record$predictions, n)))
}

is_too_slow <- function(message) grepl("^stopped after the limit of", message)

# What fits are, whatever run they are part of.
fit_texts <- function(work, fits) short_hash(paste(fit_chains(work, fits), work$fits$key[fits]))

value_texts <- function(work, fit) {
  values <- work$fits$values[[fit]]
  if (is.null(values)) return("")
  if (!is.data.frame(values)) return(canonical_number(values))
  row_texts(lapply(values, function(v) if (is.numeric(v)) canonical_number(v) else v))
}

prediction_slices <- function(predictions, n) {
  dims <- dim(predictions)
  lapply(seq_len(n), function(i) serialize(if (length(dims) == 3L) predictions[, , i] else predictions[, i], NULL, xdr = FALSE))
}

# Records of the fits that a journal holds in full: list(records, by split; done, fits x
# splits). Fits that a time limit stopped count as not done.
journal_records <- function(rows, work, plan, wanted) {
  done <- matrix(FALSE, length(work$fits$node), length(plan$splits))
  records <- lapply(plan$splits, function(split) list())
  if (nrow(rows) == 0L) return(list(records = records, done = done))
  place <- split(seq_len(nrow(rows)), paste(rows$split, rows$fit))
  texts <- fit_texts(work, seq_along(work$fits$node))
  for (s in seq_along(plan$splits)) {
    for (fit in seq_along(texts)) {
      mine <- place[[paste(plan$splits[[s]]$key, texts[fit])]]
      if (is.null(mine)) next
      record <- record_from_rows(rows[mine, , drop = FALSE], fit, work, plan, wanted, plan$splits[[s]]$rep == 0L)
      if (is.null(record)) next
      records[[s]] <- c(records[[s]], list(record))
      done[fit, s] <- TRUE
    }
  }
  list(records = records, done = done)
}

record_from_rows <- function(rows, fit, work, plan, wanted, apparent) {
  at <- match(value_texts(work, fit), rows$value)
  if (anyNA(at)) return(NULL)
  rows <- rows[at, , drop = FALSE]
  if (any(rows$status == "stopped")) return(NULL)
  if (any(rows$status == "failed")) {
    return(list(type = "failed", fit = fit, stage = rows$stage[1], message = rows$message[1], seconds = sum(rows$seconds)))
  }
  metrics <- names(plan$metrics)
  scores <- function(what) {
    found <- as.matrix(rows[paste0(what, "_", seq_along(metrics))])
    dimnames(found) <- list(NULL, metrics)
    storage.mode(found) <- "double"
    found
  }
  training <- if (wanted$training) scores("training")
  if (!is.null(training) && all(is.na(training)) && !all(is.na(scores("validation")))) return(NULL)
  predictions <- if (wanted$predictions && !apparent) stored_predictions(rows$prediction, plan$job$kind)
  if (wanted$predictions && !apparent && is.null(predictions)) return(NULL)
  list(type = "ok", fit = fit, stage = rows$stage[1], fit_seconds = sum(rows$fit_seconds), seconds = sum(rows$seconds),
       warnings = lines_of(rows$warnings[1]), validation = scores("validation"), why_na = reasons_of(rows$message[1]),
       training = training,
       no_information = if (wanted$no_information && apparent) as.list(as.data.frame(scores("no_information"))),
       predictions = predictions)
}

lines_of <- function(text) if (nzchar(text)) strsplit(text, "\n", fixed = TRUE)[[1]] else character()

reasons_of <- function(text) {
  parts <- strsplit(lines_of(text), "\t", fixed = TRUE)
  stats::setNames(lapply(parts, `[`, 2L), vapply(parts, `[`, "", 1L))
}

stored_predictions <- function(blobs, kind) {
  if (any(vapply(blobs, is.null, logical(1)))) return(NULL)
  parts <- lapply(blobs, unserialize)
  dims <- if (kind == "number") c(length(parts[[1]]), length(parts)) else c(dim(parts[[1]]), length(parts))
  array(unlist(parts), dims)
}
