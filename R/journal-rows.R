# Batches as rows of a journal, and back.

# A function of a batch and its split's key that gives the rows, one a path value, as
# columns in the order of the journal's. `names`: see row_names_of_fits().
new_row_writer <- function(work, names, metrics) {
  function(batch, split_key) {
    counts <- work$fits$count[batch$fit]
    at <- rep(seq_along(batch$fit), counts)
    n <- length(at)
    failed <- !is.na(batch$message)
    nothing <- rep(list(rep(NA_real_, n)), length(metrics))
    numbers <- function(scores) {
      if (is.null(scores)) nothing else lapply(metrics, function(metric) scores[, metric])
    }
    status <- ifelse(is.na(batch$validation[, 1]), "undefined", "ok")
    status[failed[at]] <- ifelse(is_passing(batch$message), "stopped", "failed")[at][failed[at]]
    c(
      list(
        split = rep(split_key, n), fit = names$fit[batch$fit][at],
        value = unlist(names$value[batch$fit], use.names = FALSE),
        status = status, stage = batch$stage[at],
        message = ifelse(
          failed, batch$message, joined_by_fit(batch, "why_na", c("metric", "message"))
        )[at],
        warnings = joined_by_fit(batch, "warnings", "text")[at],
        fit_seconds = (batch$fit_seconds / counts)[at], seconds = (batch$seconds / counts)[at]
      ),
      stats::setNames(
        c(numbers(batch$validation), numbers(batch$training), numbers(batch$no_information)),
        journal_columns(length(metrics))
      ),
      list(prediction = stored_predictions(batch, counts))
    )
  }
}

# Remarks on fits, one text a fit: a line for every remark, its parts divided by tabs.
joined_by_fit <- function(batch, what, parts) {
  texts <- character(length(batch$fit))
  for (one in batch[[what]]) {
    texts[one$at] <- paste0(
      texts[one$at], if (nzchar(texts[one$at])) "\n",
      paste(unlist(one[parts]), collapse = "\t")
    )
  }
  texts
}

# Failures that say nothing of the setting: a limit was reached, or somebody killed the worker.
# They are tried again when the journal is resumed.
is_passing <- function(message) {
  grepl("^stopped after the limit of|^the worker process died", message)
}

# What fits are called, whatever run they are part of: fit, a text by fit; value, a list
# by fit of one text a path value.
row_names_of_fits <- function(work) {
  fits <- seq_along(work$fits$node)
  value <- as.list(rep("", length(fits)))
  pathed <- !vapply(work$fits$values, is.null, logical(1))
  value[pathed] <- lapply(work$fits$values[pathed], value_texts)
  list(fit = short_hash(paste(fit_chains(work, fits), work$fits$key)), value = value)
}

value_texts <- function(values) {
  if (!is.data.frame(values)) return(canonical_number(values))
  row_texts(lapply(values, function(v) if (is.numeric(v)) canonical_number(v) else v))
}

# One BLOB a path value, or NULL: numbers of 8 bytes, the lowest byte first, class after class.
stored_predictions <- function(batch, counts) {
  if (is.null(batch$predictions)) return(rep(list(NULL), sum(counts)))
  unlist(Map(function(predictions, n) {
    if (is.null(predictions)) return(rep(list(NULL), n))
    several <- length(dim(predictions)) == 3L
    lapply(seq_len(n), function(i) {
      values <- if (several) predictions[, , i] else predictions[, i]
      writeBin(as.double(values), raw(), endian = "little")
    })
  }, batch$predictions, counts), recursive = FALSE)
}

# The fits that a journal holds in full, a batch for every split. Fits that a time limit
# stopped, and those without all that is wanted now, count as not done.
journal_batches <- function(rows, work, names, plan, wanted) {
  keys <- vapply(plan$splits, `[[`, "", "key")
  of_split <- split(seq_len(nrow(rows)), factor(rows$split, keys))
  value <- unlist(names$value, use.names = FALSE)
  fit <- rep(seq_along(names$fit), work$fits$count)
  called <- paste(names$fit[fit], value)
  held <- paste(rows$fit, rows$value)
  lapply(seq_along(keys), function(s) {
    at <- of_split[[s]][match(called, held[of_split[[s]]])]
    whole <- rep(TRUE, length(names$fit))
    whole[fit[is.na(at)]] <- FALSE
    mine <- rows[at[whole[fit]], , drop = FALSE]
    batch_of_rows(mine, which(whole), work, plan, wanted, plan$splits[[s]])
  })
}

# `rows`: those of `fits`, fit after fit, value after value.
batch_of_rows <- function(rows, fits, work, plan, wanted, split) {
  apparent <- split$rep == 0L
  counts <- work$fits$count[fits]
  of <- rep(seq_along(fits), counts)
  first <- cumsum(counts) - counts + 1L
  metrics <- names(plan$metrics)
  scores <- function(what) {
    found <- vapply(
      seq_along(metrics),
      function(m) as.double(rows[[paste0(what, "_", m)]]),
      numeric(nrow(rows))
    )
    matrix(found, nrow(rows), length(metrics), dimnames = list(NULL, metrics))
  }
  keeps <- wanted$predictions && !apparent
  failed <- seq_along(fits) %in% of[rows$status == "failed"]
  batch <- list(
    steps = list(), fit = fits, stage = rows$stage[first],
    message = ifelse(failed, rows$message[first], NA_character_),
    fit_seconds = as.vector(rowsum(rows$fit_seconds, of)), predict_seconds = numeric(length(fits)),
    seconds = as.vector(rowsum(rows$seconds, of)), validation = scores("validation"),
    training = if (wanted$training) scores("training"),
    no_information = if (wanted$no_information && apparent) scores("no_information"),
    predictions = if (keeps) {
      classes <- plan$brief$levels
      dims <- c(length(split$validation), if (length(classes) > 0L) length(classes))
      unname(lapply(base::split(rows$prediction, of), read_predictions, dims))
    },
    warnings = lines_by_fit(rows$warnings[first], !failed),
    why_na = lapply(lines_by_fit(rows$message[first], !failed), as_reason)
  )
  lacking <- of[rows$status == "stopped"]
  if (wanted$training) {
    lacking <- c(
      lacking,
      setdiff(fits_with_scores(batch$validation, of), fits_with_scores(batch$training, of))
    )
  }
  if (keeps) lacking <- c(lacking, which(!failed & vapply(batch$predictions, is.null, logical(1))))
  take_fits(batch, setdiff(seq_along(fits), lacking), of)
}

fits_with_scores <- function(scores, of) unique(of[rowSums(!is.na(scores)) > 0])

# Some of a batch's fits; `of`: the fit of every row of its scores.
take_fits <- function(batch, at, of) {
  for (name in c("fit", "stage", "message", "fit_seconds", "predict_seconds", "seconds")) {
    batch[[name]] <- batch[[name]][at]
  }
  for (name in c("validation", "training", "no_information")) {
    batch[[name]] <- batch[[name]][of %in% at, , drop = FALSE]
  }
  if (!is.null(batch$predictions)) batch$predictions <- batch$predictions[at]
  for (name in c("warnings", "why_na")) {
    batch[[name]] <- lapply(Filter(function(one) one$at %in% at, batch[[name]]), function(one) {
      one$at <- match(one$at, at)
      one
    })
  }
  batch
}

# list(at, text) for every line of some of the texts.
lines_by_fit <- function(texts, some) {
  filled <- which(some & nzchar(texts))
  lines <- strsplit(texts[filled], "\n", fixed = TRUE)
  Map(
    function(at, text) list(at = at, text = text),
    rep(filled, lengths(lines)),
    unlist(lines),
    USE.NAMES = FALSE
  )
}

as_reason <- function(line) {
  parts <- strsplit(line$text, "\t", fixed = TRUE)[[1]]
  list(at = line$at, metric = parts[1], message = parts[2])
}

# NULL where some are missing or not as long as they must be.
read_predictions <- function(blobs, dims) {
  whole <- vapply(blobs, function(blob) is.raw(blob) && length(blob) == 8 * prod(dims), logical(1))
  if (!all(whole)) return(NULL)
  parts <- lapply(blobs, readBin, what = "double", n = prod(dims), endian = "little")
  array(unlist(parts), c(dims, length(parts)))
}
