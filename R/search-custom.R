#' Define a search of your own
#'
#' Returns a constructor for a search: a function that takes its arguments, to be given
#' to [plan_comparison()] like any other. A search is a conversation: it proposes settings, is
#' told how all settings so far scored, and proposes more, until it proposes none. What it is
#' told does not depend on which fits were finished first, so that the same seed gives the same
#' proposals on any number of workers and after a run was resumed from its journal, as long as
#' the search decides nothing by `seconds`.
#'
#' @param name One word.
#' @param propose `function(field, history, arguments, memory)`, run under a seed of its own in
#'   every round. `field` says what can be tried:
#'   \describe{
#'   \item{`candidates`}{names of the candidates that the search looks after}
#'   \item{`dimensions(candidate)`}{a data frame with `name`, `type` (`"range"` or
#'     `"values"`), `from`, `to`, `spacing`, and a list `values` of what varies}
#'   \item{`from_cube(candidate, cube)`}{settings at points of a unit cube: `cube` is a matrix
#'     with a row a setting and a column a dimension, 0 to 1. Ranges lie on their own scale,
#'     listed values in equal intervals. Settings that cannot work, were ruled out or are equal
#'     are left out}
#'   \item{`to_cube(candidate, settings)`}{the inverse; `NA` for values without effect}
#'   \item{`metric`, `higher_is_better`}{the deciding metric}
#'   \item{`splits`}{numbers of the splits that it is scored on; none where predictions of several
#'     splits are scored together}
#'   }
#'   `history` is a list by candidate of lists with `settings` (a data frame), and, for each
#'   setting, `mean` and `sd` of its scores (`NA` unless scored on all splits, such as where there
#'   was no time for it), `expected` (the mean, or a guess of it where some scores are there),
#'   `scores` (matrix settings x splits), `seconds`, `failed`, and `meets` (does it meet the plan's
#'   constraints, as far as is known); `splits`, numbers of the columns of `scores`; and `partial`,
#'   a data frame of scores on a share of the training rows: `setting` (row of `settings`), `split`,
#'   `share`, `score`. It is
#'   `NULL` in the first round. `arguments` is the list of the arguments of the search, `memory`
#'   what the search gave back in the round before (`NULL` at first).
#'
#'   It returns a list with `settings`, a list by candidate of data frames such as
#'   `from_cube()` gives, and, if wanted, `memory`, plain data. No settings: the search is done.
#'   Settings that were tried before are not tried again; after three rounds without a new one
#'   the search is taken to be done.
#'
#'   Settings need not be scored in full. `splits` says on which of `field$splits`: numbers, or a
#'   list by candidate of numbers or of a list with numbers for each setting; `share` on which
#'   share of the training rows (stratified, groups whole): a number, or a list by candidate of
#'   numbers, one for each setting. Settings that were tried before may then come again, with more
#'   splits or rows, up to all of them (`splits = field$splits`). What was never scored in full is
#'   not ranked; `standings(cmp, level = "all")` lists it. The simplest setting of the first round,
#'   and the most promising one where none was asked for in full, are scored in full all the same.
#' @param defaults Named list: arguments and their default values.
#' @param does One sentence, for [list_parts()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A function with the arguments as arguments.
#' @section Errors:
#' `kw_error_definition` when `propose` uses something from outside itself; while running,
#' `kw_error_search` when it proposes what is not in the field, or fails.
#' @examples
#' # the middle of everything, then a step to either side of the best so far
#' search_nearby <- define_search("nearby",
#'   defaults = list(step = 0.1, rounds = 3),
#'   propose = function(field, history, arguments, memory) {
#'     turn <- if (is.null(memory)) 1 else memory + 1
#'     if (turn > arguments$rounds) return(NULL)
#'     settings <- lapply(stats::setNames(nm = field$candidates), function(candidate) {
#'       width <- nrow(field$dimensions(candidate))
#'       if (is.null(history)) return(field$from_cube(candidate, matrix(0.5, 1, width)))
#'       known <- history[[candidate]]
#'       sign <- if (field$higher_is_better) 1 else -1
#'       best <- field$to_cube(candidate, known$settings[which.max(sign * known$mean), ])
#'       best[is.na(best)] <- 0.5
#'       moves <- rbind(best - arguments$step, best + arguments$step)
#'       field$from_cube(candidate, pmin(pmax(moves, 0), 1))
#'     })
#'     list(settings = settings, memory = turn)
#'   }
#' )
#' search_nearby(step = 0.2)
#' @export
define_search <- function(name, propose, defaults = list(), does = "", ...) {
  no_more(...)
  check_word(name, "name")
  check_named(defaults, "defaults")
  check_sentence(does, "does")
  check_argument(
    is.function(propose) && length(formals(propose)) == 4L, "propose",
    "a function(field, history, arguments, memory)", propose
  )
  check_self_contained(list(propose = propose), name)
  propose <- portable_function(propose, "`propose`")
  make <- function(...) {
    custom_search(name, given_arguments(list(...), defaults, "search", name), propose)
  }
  make <- structure(make, defaults = defaults)
  as_member(make, "search", name, function() maker_definition("search", name, make, does))
}

# A search is done after so many rounds in a row without anything new, or so many in all.
most_idle_rounds <- 3L
most_rounds <- 10000L

custom_search <- function(name, arguments, propose) {
  new_search(
    name, arguments, label = name,
    start = function(field, seed) list(seed = seed, turn = 0L, idle = 0L, memory = NULL),
    propose = function(state, field, history) {
      state$turn <- state$turn + 1L
      if (state$turn > most_rounds) {
        stop_kw("search", paste0(
          "The search ", quoted(name), " has not ended after ", most_rounds, " rounds."
        ), remedy = "Give the run limits(settings = ) or limits(minutes = ).")
      }
      repeat {
        found <- ask_custom(name, propose, state, field, history, arguments)
        round <- new_proposals(found, field, history, complaint_of_search(name))
        state$memory <- found$memory
        if (length(found$settings) == 0L || has_proposals(round)) break
        state$idle <- state$idle + 1L
        state$turn <- state$turn + 1L
        if (state$idle >= most_idle_rounds) return(list(round = list(), state = state))
      }
      state$idle <- 0L
      list(round = round, state = state)
    },
    asks_seconds = TRUE
  )
}

complaint_of_search <- function(name) {
  function(...) stop_kw("search", paste0("The search ", quoted(name), " ", ...))
}

ask_custom <- function(name, propose, state, field, history, arguments) {
  fail <- complaint_of_search(name)
  found <- tryCatch(
    with_seed(
      derive_seed(state$seed, paste("search", name, "round", state$turn)),
      propose(public_field(field), history, arguments, state$memory)
    ),
    kw_error = stop,
    error = function(e) fail("failed: ", plain_message(e))
  )
  if (is.null(found)) return(list())
  if (!is.list(found) || !(is.null(found$settings) || is.list(found$settings))) {
    fail("must return a list with `settings`, a list by candidate; it gave ",
      describe_value(found), ".")
  }
  odd <- setdiff(names(found$settings), names(field$spaces))
  if (length(odd) > 0L || length(names(found$settings)) != length(found$settings)) {
    fail("proposed settings of ", if (length(odd) > 0L) quoted(odd[1]) else "no name",
      ", which is none of its candidates.")
  }
  found
}

has_proposals <- function(round) {
  any(vapply(round, function(one) nrow(one$settings) > 0L || length(one$tasks) > 0L, NA))
}

# Rows of one table that are not in the other, each once.
not_in <- function(table, known) frame_of_rows(table, is_new(table, known))

is_new <- function(table, known) {
  n <- nrow(table)
  if (n == 0L) return(logical())
  if (length(table) == 0L) return(NROW(known) == 0L & seq_len(n) == 1L)
  both <- if (is.null(known)) table else bind_tables(known, table)
  !duplicated(group_rows(both, nrow(both)))[nrow(both) - n + seq_len(n)]
}

# The field as a user's search sees it.
public_field <- function(field) {
  space_of <- function(candidate) {
    check_choice(candidate, names(field$spaces), "candidate")
    field$spaces[[candidate]]
  }
  list(
    candidates = names(field$spaces), metric = field$metric$name,
    higher_is_better = field$metric$direction == "higher", splits = field$splits,
    dimensions = function(candidate) describe_dimensions(space_of(candidate)),
    from_cube = function(candidate, cube) {
      space <- space_of(candidate)
      check_cube(cube, length(space$dimensions))
      clean_settings(space, settings_from_cube(space, cube))$settings
    },
    to_cube = function(candidate, settings) settings_to_cube(space_of(candidate), settings)
  )
}

check_cube <- function(cube, width) {
  fine <- is.matrix(cube) && is.numeric(cube) && ncol(cube) == width && !anyNA(cube) &&
    all(cube >= 0 & cube <= 1)
  check_argument(
    fine, "cube", paste0("a matrix of numbers from 0 to 1 with ", count_of(width, "column")), cube
  )
}

describe_dimensions <- function(space) {
  dimensions <- unname(space$dimensions)
  ranges <- vapply(dimensions, function(d) inherits(d$varying, "kw_range"), NA)
  of_range <- function(what, none) {
    found <- rep(none, length(dimensions))
    for (i in which(ranges)) found[i] <- dimensions[[i]]$varying[[what]]
    found
  }
  table <- data.frame(
    name = vapply(dimensions, `[[`, "", "name"), type = ifelse(ranges, "range", "values"),
    from = of_range("from", NA_real_), to = of_range("to", NA_real_),
    spacing = of_range("spacing", NA_character_)
  )
  table$values <- lapply(dimensions, function(d) {
    if (!inherits(d$varying, "kw_range")) dimension_values(d, NULL)
  })
  table
}
