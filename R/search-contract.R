# What a search is: it proposes rounds of settings and is told how they scored.
#   start(space, seed)        -> state
#   propose(state)            -> list(settings, counts, by_rule, left_out, state); no
#                                rows: done
#   take_in(state, results)   -> state; told the whole round, in setting order
new_search <- function(name, arguments, start, propose, take_in = function(state, results) state,
                       label) {
  structure(list(
    name = name, arguments = arguments, start = start, propose = propose,
    take_in = take_in, label = label
  ), class = "kw_search")
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
