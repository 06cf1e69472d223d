# What a run brings home: matrices settings x splits, failures and warnings.

new_results <- function(plan, work, wanted) {
  n <- length(work$settings$fit)
  empty <- matrix(NA_real_, n, length(plan$splits))
  scores <- lapply(plan$metrics, function(metric) empty)
  list(candidate = work$settings$candidate, row = work$settings$row, tables = work$tables,
       scores = scores, training = if (wanted$training) scores, seconds = empty,
       no_information = if (identical(plan$splitter$summary, "632plus")) lapply(plan$metrics, function(metric) rep(NA_real_, n)),
       predictions = if (wanted$predictions) list(), failures = list(), unscored = list(), warnings = list(),
       fits = length(work$fits$node), nodes = length(work$nodes),
       spent = c(steps = 0, fits = 0, predictions = 0, scoring = 0, units = 0))
}

# Writes a unit's records into the score matrices of its split. A setting's
# seconds are its share of the fits and steps that it had in common with others.
take_records <- function(results, records, work, split, below) {
  for (record in records) {
    if (record$type == "step") {
      members <- unlist(work$fits$members[below[[record$node]]], use.names = FALSE)
      results$seconds[members, split] <- add_seconds(results$seconds[members, split], record$seconds / length(members))
      results$spent[["steps"]] <- results$spent[["steps"]] + record$seconds
      results$warnings <- note_warnings(results$warnings, record, members, split)
      next
    }
    members <- work$fits$members[[record$fit]]
    results$seconds[members, split] <- add_seconds(results$seconds[members, split], record$seconds / length(members))
    if (record$type == "failed") {
      results$failures[[length(results$failures) + 1L]] <-
        list(settings = members, split = split, stage = record$stage, message = record$message)
      next
    }
    place <- work$settings$place[members]
    for (metric in names(results$scores)) {
      results$scores[[metric]][members, split] <- record$validation[place, metric]
      if (!is.null(results$training)) {
        results$training[[metric]][members, split] <- record$training[place, metric]
      }
    }
    for (metric in names(record$no_information)) {
      results$no_information[[metric]][members] <- record$no_information[[metric]][place]
    }
    if (!is.null(record$predictions)) {
      results$predictions[[length(results$predictions) + 1L]] <-
        list(settings = members, split = split, place = place, values = record$predictions)
    }
    for (metric in names(record$why_na)) {
      gone <- members[is.na(record$validation[place, metric])]
      results$unscored[[length(results$unscored) + 1L]] <-
        list(settings = gone, split = split, stage = paste("metric", metric), metric = metric, message = record$why_na[[metric]])
    }
    results$spent[["fits"]] <- results$spent[["fits"]] + record$fit_seconds
    predicting <- record$predict_seconds %||% 0
    results$spent[["predictions"]] <- results$spent[["predictions"]] + predicting
    results$spent[["scoring"]] <- results$spent[["scoring"]] + record$seconds - record$fit_seconds - predicting
    results$warnings <- note_warnings(results$warnings, record, members, split)
  }
  results
}

add_seconds <- function(so_far, more) ifelse(is.na(so_far), 0, so_far) + more

note_warnings <- function(warnings, record, members, split) {
  for (message in unique(record$warnings)) {
    warnings[[length(warnings) + 1L]] <- list(
      settings = members, stage = record$stage, split = split,
      message = message, count = sum(record$warnings == message)
    )
  }
  warnings
}

# Later rounds are appended; setting numbers go on within each candidate.
join_rounds <- function(a, b) {
  shift <- length(a$candidate)
  before <- vapply(a$tables, nrow, integer(1))
  bind <- function(x, y) Map(rbind, x, y)
  moved <- function(records) {
    lapply(records, function(record) {
      record$settings <- record$settings + shift
      record
    })
  }
  list(candidate = c(a$candidate, b$candidate), row = c(a$row, b$row + unname(before)[b$candidate]),
       tables = Map(bind_tables, a$tables, b$tables), scores = bind(a$scores, b$scores),
       training = if (!is.null(a$training)) bind(a$training, b$training),
       seconds = rbind(a$seconds, b$seconds),
       no_information = if (!is.null(a$no_information)) Map(c, a$no_information, b$no_information),
       predictions = c(a$predictions, moved(b$predictions)), pooled = join_pooled(a$pooled, b$pooled),
       failures = c(a$failures, moved(b$failures)), unscored = c(a$unscored, moved(b$unscored)),
       warnings = c(a$warnings, moved(b$warnings)), fits = a$fits + b$fits, nodes = a$nodes + b$nodes,
       spent = a$spent + b$spent)
}

# Also of tables without columns, where nothing varies.
bind_tables <- function(a, b) {
  if (nrow(a) == 0L || nrow(b) == 0L) return(if (nrow(a) == 0L) b else a)
  rbind(a, b)
}

join_pooled <- function(a, b) {
  if (is.null(a)) return(NULL)
  Map(function(x, y) list(scores = rbind(x$scores, y$scores), se = c(x$se, y$se)), a, b)
}
