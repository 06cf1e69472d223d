# What a run brings home: matrices settings x splits, failures and warnings.

new_results <- function(plan, work, wanted) {
  n <- length(work$settings$fit)
  empty <- matrix(NA_real_, n, length(plan$splits))
  scores <- lapply(plan$metrics, function(metric) empty)
  list(
    candidate = work$settings$candidate, row = work$settings$row, tables = work$tables,
    scores = scores, training = if (wanted$training) scores, seconds = empty,
    no_information = if (identical(plan$splitter$summary, "632plus")) {
      lapply(plan$metrics, function(metric) rep(NA_real_, n))
    },
    predictions = if (wanted$predictions) list(), failures = list(), unscored = list(),
    warnings = list(),
    fits = length(work$fits$node), nodes = length(work$nodes),
    spent = c(steps = 0, fits = 0, predictions = 0, scoring = 0, units = 0)
  )
}

# Writes a batch into the score matrices of its split. A setting's seconds are its share
# of the fits and steps that it had in common with others. `spread`: see spread_batch().
take_batch <- function(results, batch, spread, work, split, below) {
  for (step in batch$steps) {
    members <- unlist(work$fits$members[below[[step$node]]], use.names = FALSE)
    results$seconds[members, split] <- add_seconds(
      results$seconds[members, split], step$seconds / length(members)
    )
    results$warnings <- note_warnings(results$warnings, step$warnings, step$stage, members, split)
  }
  settings <- spread$settings
  results$seconds[settings, split] <- add_seconds(
    results$seconds[settings, split], (batch$seconds / spread$sizes)[spread$at]
  )
  for (metric in names(results$scores)) {
    results$scores[[metric]][settings, split] <- batch$validation[spread$row, metric]
    if (!is.null(batch$training)) {
      results$training[[metric]][settings, split] <- batch$training[spread$row, metric]
    }
    if (!is.null(batch$no_information)) {
      results$no_information[[metric]][settings] <- batch$no_information[spread$row, metric]
    }
  }
  results$spent <- results$spent + batch_seconds(batch)
  take_remarks(results, batch, spread, work, split)
}

batch_seconds <- function(batch) {
  ok <- is.na(batch$message)
  fits <- sum(batch$fit_seconds[ok])
  predictions <- sum(batch$predict_seconds[ok])
  c(
    steps = sum(vapply(batch$steps, `[[`, numeric(1), "seconds")), fits = fits,
    predictions = predictions,
    scoring = sum(batch$seconds[ok]) - fits - predictions, units = 0
  )
}

# What is kept of single fits: predictions, failures, metrics without a score, warnings.
take_remarks <- function(results, batch, spread, work, split) {
  members <- function(at) work$fits$members[[batch$fit[at]]]
  for (at in which(!is.na(batch$message))) {
    results$failures[[length(results$failures) + 1L]] <-
      list(
        settings = members(at), split = split, stage = batch$stage[at],
        message = batch$message[at]
      )
  }
  for (at in which(!vapply(batch$predictions, is.null, logical(1)))) {
    results$predictions[[length(results$predictions) + 1L]] <-
      list(
        settings = members(at), split = split, place = work$settings$place[members(at)],
        values = batch$predictions[[at]]
      )
  }
  for (why in batch$why_na) {
    rows <- spread$before[why$at] + work$settings$place[members(why$at)]
    results$unscored[[length(results$unscored) + 1L]] <-
      list(
        settings = members(why$at)[is.na(batch$validation[rows, why$metric])], split = split,
        stage = paste("metric", why$metric),
        metric = why$metric, message = why$message
      )
  }
  texts <- split(
    vapply(batch$warnings, `[[`, "", "text"), vapply(batch$warnings, `[[`, integer(1), "at")
  )
  for (name in names(texts)) {
    at <- as.integer(name)
    results$warnings <- note_warnings(
      results$warnings, texts[[name]], batch$stage[at], members(at), split
    )
  }
  results
}

add_seconds <- function(so_far, more) ifelse(is.na(so_far), 0, so_far) + more

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
  list(
    candidate = c(a$candidate, b$candidate), row = c(a$row, b$row + unname(before)[b$candidate]),
    tables = Map(bind_tables, a$tables, b$tables), scores = bind(a$scores, b$scores),
    training = if (!is.null(a$training)) bind(a$training, b$training),
    seconds = rbind(a$seconds, b$seconds),
    no_information = if (!is.null(a$no_information)) Map(c, a$no_information, b$no_information),
    predictions = c(a$predictions, moved(b$predictions)),
    pooled = join_pooled(a$pooled, b$pooled),
    failures = c(a$failures, moved(b$failures)), unscored = c(a$unscored, moved(b$unscored)),
    warnings = c(a$warnings, moved(b$warnings)), fits = a$fits + b$fits,
    nodes = a$nodes + b$nodes,
    spent = a$spent + b$spent
  )
}

# Also of tables without columns, where nothing varies.
bind_tables <- function(a, b) {
  if (nrow(a) == 0L || nrow(b) == 0L) return(if (nrow(a) == 0L) b else a)
  rbind(a, b)
}

join_pooled <- function(a, b) {
  if (is.null(a)) return(NULL)
  Map(join_pooled_scores, a, b)
}
