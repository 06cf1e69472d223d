# What a search is: it proposes rounds of settings and is told how all before them scored.
#   start(field, seed)              -> state, plain data
#   propose(state, field, history)  -> list(round, state); round: a list by candidate of
#                                      list(settings, counts, by_rule, left_out) and perhaps
#                                      tasks (search-tasks.R); nothing in any: done
# A field is list(spaces, metric, splits, screened): the spaces of the candidates that the search
# looks after, the deciding metric, the numbers of the splits that have a score of it, and whether a
# screen decides what is scored on which of them. A history is told in the order of the settings,
# whatever was finished first: a list by candidate of list(settings, mean, sd, expected, scores,
# splits, seconds, failed, meets, partial), `settings` a table, `scores` a matrix settings x splits,
# `mean` NA where not all of them are there, `expected` a guess of it where some are, `partial` what
# is known on shares of the training rows.
# at_once says that all settings are in the first round; exhaustive, that these are all there are;
# asks_seconds, that it goes by what settings took, which is not worked out for others: it is a
# third of what it takes to tell a search anything.
new_search <- function(
  name, arguments, label, start, propose, at_once = FALSE, exhaustive = FALSE,
  asks_seconds = FALSE
) {
  structure(list(
    name = name, arguments = arguments, start = start, propose = propose, label = label,
    at_once = at_once, exhaustive = exhaustive, asks_seconds = asks_seconds
  ), class = "kw_search")
}

# By candidate: was there no time for a setting of it that was asked for? There will not be more.
passed_over <- function(history) {
  vapply(history, function(told) {
    seen <- told$failed | !is.na(told$expected)
    !all(seen | seq_along(seen) %in% told$partial$setting)
  }, NA)
}

# Searches that look at every candidate by itself. `propose_one(space, seed)` gives all that is
# to be tried of a candidate, at once.
search_at_once <- function(name, arguments, label, propose_one, exhaustive = FALSE) {
  new_search(
    name, arguments, label,
    start = function(field, seed) list(seed = seed, done = FALSE),
    propose = function(state, field, history) {
      if (state$done) return(list(round = list(), state = state))
      round <- lapply(field$spaces, propose_one, seed = state$seed)
      state$done <- TRUE
      list(round = round, state = state)
    },
    at_once = TRUE, exhaustive = exhaustive
  )
}

new_field <- function(spaces, metric, splits, screened) {
  list(spaces = spaces, metric = metric, splits = splits, screened = screened)
}

# One setting table, as all searches give it.
proposed <- function(settings) {
  list(
    settings = settings,
    counts = c(combinations = nrow(settings), impossible = 0, ruled_out = 0, merged = 0),
    by_rule = NULL,
    left_out = list(settings = frame_of_rows(settings, integer()), why = character())
  )
}

# What a search proposed for a candidate, if it is in the candidate's space; what cannot work is
# left out.
check_proposal <- function(space, settings) {
  refuse <- function(...) {
    stop_kw("search", paste0("The search of the candidate ", quoted(space$candidate), " ", ...),
      remedy = "See define_search() for what it may propose."
    )
  }
  if (!is.data.frame(settings)) refuse("proposed no table of settings.")
  if (nrow(settings) == 0L) return(settings)
  names <- names(space$dimensions)
  odd <- c(setdiff(names(settings), names), setdiff(names, names(settings)))
  if (length(odd) > 0L) {
    how <- if (odd[1] %in% names) "without " else "with "
    refuse("proposed settings ", how, quoted(odd[1]), ".")
  }
  for (dimension in space$dimensions) {
    column <- settings[[dimension$name]]
    outside <- which(!is_in_dimension(dimension, column))
    if (length(outside) > 0L) {
      refuse(
        "proposed ", dimension$name, " = ", format(column[outside[1]]),
        ", which is not among the values to try."
      )
    }
  }
  clean_settings(space, plain_frame(unclass(settings)[names], nrow(settings)))$settings
}

# NA stands for a value without effect.
is_in_dimension <- function(dimension, column) {
  range <- dimension$varying
  if (!inherits(range, "kw_range")) return(is.na(column) | column %in% dimension_values(dimension))
  if (!is.numeric(column)) return(is.na(column) & is.logical(column))
  room <- 1e-6 * max(abs(c(range$from, range$to)))
  inside <- column >= range$from - room & column <= range$to + room
  whole <- dimension$declared$type != "whole" | column == round(column)
  is.na(column) | (inside & whole)
}

# Who searches what: one seat for every search, with the candidates that it looks after.
search_seats <- function(search, names) {
  if (inherits(search, "kw_seats")) {
    return(lapply(unclass(search), `[`, c("search", "candidates")))
  }
  by_candidate <- searches_by_candidate(search, names)
  if (inherits(search, "kw_search")) {
    return(list(list(search = search, candidates = names)))
  }
  given <- names(search) %||% rep("", length(search))
  alone <- intersect(names, given)
  rest <- setdiff(names, given)
  c(
    lapply(alone, function(name) list(search = by_candidate[[name]], candidates = name)),
    if (length(rest) > 0L) list(list(search = by_candidate[[rest[1]]], candidates = rest))
  )
}

# The search of each candidate: one for all, or a list with one per named
# candidate and an unnamed one for the rest.
searches_by_candidate <- function(search, names) {
  if (inherits(search, "kw_search")) {
    return(stats::setNames(rep(list(search), length(names)), names))
  }
  check_argument(
    is.list(search) && all(vapply(search, inherits, logical(1), "kw_search")),
    "search",
    "a search, e.g. search_grid(), or a list of searches",
    search
  )
  given <- names(search) %||% rep("", length(search))
  for (name in setdiff(given[nzchar(given)], names)) {
    stop_kw("argument", paste0("`search` names ", quoted(name), ", which is no candidate."),
      remedy = did_you_mean(name, names, "Candidates")
    )
  }
  rest <- search[!nzchar(given)]
  lapply(stats::setNames(names, names), function(name) {
    if (name %in% given) return(search[[name]])
    if (length(rest) == 1L) return(rest[[1]])
    stop_kw("argument", paste0("`search` says nothing about the candidate ", quoted(name), "."),
      remedy = "Add one unnamed search for the rest."
    )
  })
}

# The search of a candidate.
search_of <- function(seats, candidate) {
  for (seat in seats) if (candidate %in% seat$candidates) return(seat$search)
}
