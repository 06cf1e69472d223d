# The ledger as rows of a journal, and back.

# A function of a part of the ledger that gives its rows, one a path value, as columns in the
# order of the journal's. `names`: see row_names_of_fits().
new_row_writer <- function(work, names, metrics, splits) {
  keys <- vapply(splits, `[[`, "", "key")
  function(part) {
    counts <- work$fits$count[part$fit]
    at <- rep(seq_along(part$fit), counts)
    n <- length(at)
    failed <- !is.na(part$message)
    nothing <- rep(list(rep(NA_real_, n)), length(metrics))
    numbers <- function(scores) {
      if (is.null(scores)) nothing else lapply(metrics, function(metric) scores[, metric])
    }
    status <- ifelse(is.na(part$validation[, 1]), "undefined", "ok")
    status[failed[at]] <- ifelse(is_passing(part$message), "stopped", "failed")[at][failed[at]]
    c(
      list(
        split = keys[part$split][at], fit = names$fit[part$fit][at], share = part$share[at],
        value = as.character(unlist(names$value[part$fit], use.names = FALSE)),
        status = status, stage = part$stage[at],
        message = ifelse(
          failed, part$message, joined_by_fit(part, "why_na", c("metric", "message"))
        )[at],
        warnings = joined_by_fit(part, "warnings", "text")[at],
        fit_seconds = (part$fit_seconds / counts)[at],
        predict_seconds = (part$predict_seconds / counts)[at],
        seconds = (part$seconds / counts)[at]
      ),
      stats::setNames(
        c(numbers(part$validation), numbers(part$training), numbers(part$no_information)),
        journal_columns(length(metrics))
      ),
      list(prediction = stored_predictions(part, counts))
    )
  }
}

# Steps that were learned as rows of a journal, and back. Nodes go by their chain of keys.
step_rows <- function(steps, work, splits) {
  nodes <- vapply(work$nodes, `[[`, "", "key")[steps$node]
  list(
    split = vapply(splits, `[[`, "", "key")[steps$split],
    node = if (length(nodes) > 0L) short_hash(nodes) else character(),
    share = steps$share, stage = steps$stage,
    warnings = vapply(steps$warnings, paste, "", collapse = "\n"),
    seconds = steps$seconds
  )
}

# Those that are not among others.
steps_not_in <- function(rows, known) {
  same <- function(table) paste(table$split, table$node, table$share, number_text(table$seconds))
  lapply(rows, `[`, !same(rows) %in% same(known))
}

steps_of_rows <- function(rows, work, splits) {
  keys <- vapply(work$nodes, `[[`, "", "key")
  node <- match(rows$node, if (length(keys) > 0L) short_hash(keys))
  split <- match(rows$split, vapply(splits, `[[`, "", "key"))
  steps <- new_steps(
    node, split, rows$share, rows$seconds, rows$stage,
    strsplit(rows$warnings, "\n", fixed = TRUE)
  )
  take_steps(steps, which(!is.na(node) & !is.na(split)))
}

# Remarks on fits, one text a fit: a line for every remark, its parts divided by tabs.
joined_by_fit <- function(part, what, columns) {
  texts <- character(length(part$fit))
  for (one in part[[what]]) {
    texts[one$at] <- paste0(
      texts[one$at], if (nzchar(texts[one$at])) "\n",
      paste(unlist(one[columns]), collapse = "\t")
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

# What is of settings of a run, but not among what it took: of an earlier call with other limits,
# under which a screen dropped less. A text, for the facts.
rows_beside <- function(rows, names, ledger, plan) {
  if (NROW(rows) == 0L) return("")
  keys <- vapply(plan$splits, `[[`, "", "key")
  taken <- rep(seq_along(ledger$fit), lengths(names$value[ledger$fit]))
  used <- row_keys(keys[ledger$split][taken], names$fit[ledger$fit][taken], ledger$share[taken],
    unlist(names$value[ledger$fit], use.names = FALSE))
  ours <- rows$fit %in% names$fit & rows$split %in% keys
  held <- row_keys(rows$split, rows$fit, rows$share, rows$value)
  paste(setdiff(held[ours], used), collapse = " ")
}

# `beside`: that text, or NULL.
without_beside <- function(rows, beside) {
  if (is.null(beside) || !nzchar(beside)) return(rows)
  held <- row_keys(rows$split, rows$fit, rows$share, rows$value)
  rows[!held %in% strsplit(beside, " ", fixed = TRUE)[[1]], , drop = FALSE]
}

row_keys <- function(split, fit, share, value) short_hash(paste(split, fit, share, value))

value_texts <- function(values) {
  if (!is.data.frame(values)) return(canonical_number(values))
  row_texts(lapply(values, function(v) if (is.numeric(v)) canonical_number(v) else v))
}

# One BLOB a path value, or NULL: numbers of 8 bytes, the lowest byte first, class after class.
stored_predictions <- function(part, counts) {
  if (is.null(part$predictions)) return(rep(list(NULL), sum(counts)))
  unlist(Map(function(predictions, n) {
    if (is.null(predictions)) return(rep(list(NULL), n))
    several <- length(dim(predictions)) == 3L
    lapply(seq_len(n), function(i) {
      values <- if (several) predictions[, , i] else predictions[, i]
      writeBin(as.double(values), raw(), endian = "little")
    })
  }, part$predictions, counts), recursive = FALSE)
}

# The fits that a journal holds in full on a share of the training rows, a part of the ledger for
# every split. `asked`: fits x splits, TRUE for those that are asked for. Fits that a time limit
# stopped, and those without all that is wanted now, count as not done.
journal_parts <- function(rows, work, names, asked, share, plan, wanted) {
  keys <- vapply(plan$splits, `[[`, "", "key")
  value <- unlist(names$value, use.names = FALSE)
  fit <- rep(seq_along(names$fit), work$fits$count)
  called <- paste(names$fit[fit], value)
  rows <- rows[rows$share == share, , drop = FALSE]
  held <- paste(rows$fit, rows$value)
  of_split <- split(seq_len(nrow(rows)), factor(rows$split, keys))
  parts <- lapply(which(lengths(of_split) > 0L & colSums(asked) > 0L), function(s) {
    at <- of_split[[s]][match(called, held[of_split[[s]]])]
    whole <- asked[, s]
    whole[fit[is.na(at)]] <- FALSE
    if (!any(whole)) return(NULL)
    found <- rows[at[whole[fit]], , drop = FALSE]
    part_of_rows(found, which(whole), work, plan, wanted, s, share)
  })
  unname(Filter(Negate(is.null), parts))
}

# `rows`: those of `fits`, fit after fit, value after value.
part_of_rows <- function(rows, fits, work, plan, wanted, split, share) {
  apparent <- plan$splits[[split]]$rep == 0L
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
  total <- function(what) as.vector(rowsum(rows[[what]], of))
  keeps <- (wanted$predictions || wanted$held) && !apparent
  failed <- seq_along(fits) %in% of[rows$status == "failed"]
  part <- new_ledger(
    fits, split, share, rows$stage[first],
    ifelse(failed, rows$message[first], NA_character_), scores("validation"),
    fit_seconds = total("fit_seconds"), predict_seconds = total("predict_seconds"),
    seconds = total("seconds"), training = if (wanted$training) scores("training"),
    no_information = if (wanted$no_information && apparent) scores("no_information"),
    predictions = if (keeps) {
      classes <- plan$brief$levels
      rows_held <- length(plan$splits[[split]]$validation)
      dims <- c(rows_held, if (length(classes) > 0L) length(classes))
      unname(lapply(base::split(rows$prediction, of), read_predictions, dims, wanted$held))
    },
    warnings = lines_by_fit(rows$warnings[first], !failed),
    why_na = lapply(lines_by_fit(rows$message[first], !failed), as_reason)
  )
  lacking <- of[rows$status == "stopped"]
  if (wanted$training) {
    lacking <- c(
      lacking,
      setdiff(fits_with_scores(part$validation, of), fits_with_scores(part$training, of))
    )
  }
  if (keeps && !wanted$held) {
    lacking <- c(lacking, which(!failed & vapply(part$predictions, is.null, logical(1))))
  }
  take_entries(part, setdiff(seq_along(fits), lacking), work$fits$count)
}

fits_with_scores <- function(scores, of) unique(of[rowSums(!is.na(scores)) > 0])

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

# NULL where some are missing or not as long as they must be; `some`: where all are, else NA.
read_predictions <- function(blobs, dims, some = FALSE) {
  whole <- vapply(blobs, function(blob) is.raw(blob) && length(blob) == 8 * prod(dims), logical(1))
  if (!all(whole) && !(some && any(whole))) return(NULL)
  values <- array(NA_real_, c(prod(dims), length(blobs)))
  for (i in which(whole)) {
    values[, i] <- readBin(blobs[[i]], what = "double", n = prod(dims), endian = "little")
  }
  array(values, c(dims, length(blobs)))
}
