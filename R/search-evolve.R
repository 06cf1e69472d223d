#' Search by evolution
#'
#' Begins with every candidate near its defaults and with settings that are spread evenly, together
#' one and a half populations, or half of one where all are scored on all splits. Keeps a population
#' of settings, of all candidates together, and makes new ones of them: mixed from two settings
#' (crossover), where two candidates are mixed in what both vary alike, such as their preparation;
#' and with one value or chosen step changed, now and then more (mutation), the more often to one
#' the better it did so far, with any candidate. Parents win a tournament by mean score. The
#' population is the best of all settings so far together with the front of score against
#' simplicity, settings than which none is both better and simpler, and with the best ones of every
#' candidate, so that one which needs several changes has the time for them. Settings that would
#' score as a known one does to the last digit, since what they differ in made no difference in
#' settings like them, are passed over. It fits fields where much is chosen, such as steps by
#' [either()] and [optional()], about which a model of the scores has little to say.
#'
#' New settings are looked at on few splits first, each generation on other ones. Of what may then
#' be better than the best that is scored in full, the two most promising (of large generations
#' more) are scored on the others, and so on; only when none is left the next generation is made. So
#' most of what is worse costs a part of a fit: it is never ranked, but [standings()] of level
#' `"all"` lists it. At the end the best of every candidate is scored in full, and so are the
#' simpler ones that are hardly worse, of which [select_final()] may choose one. Where a screen of
#' the plan decides what is scored on which splits, where there are fewer than five, and where
#' predictions of several are scored together, all settings are scored on all splits at once.
#'
#' As with [search_guided()], all values along a family's path are tried with every setting
#' that is proposed, and do not count; proposals depend on scores alone.
#'
#' @param settings Number of settings that are proposed, of all candidates together.
#' @param population So many of the best are kept as parents, beside the front and the best ones of
#'   every candidate.
#' @param at_once So many new ones are proposed at once: a generation. Default eight, or a fifth of
#'   those so far if that is more, and four where all are scored on all splits.
#' @param tournament The best of so many that are drawn from the population becomes a parent.
#' @param mixed Share of the new settings that are mixed from two.
#' @param first_splits On so many splits new settings are scored at first; as many as there are, or
#'   more: on all of them.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A search for [plan_comparison()].
#' @references Eiben & Smith (2015), Introduction to evolutionary computing, 2nd edition, Springer,
#'   chapters 3 to 5. Deb, Pratap, Agarwal & Meyarivan (2002), A fast and elitist multiobjective
#'   genetic algorithm, IEEE Transactions on Evolutionary Computation 6 (the front). Maron &
#'   Moore (1994), Hoeffding races, NIPS 6 (first looks).
#' @section Errors:
#' `kw_error_argument` for a value out of range, `kw_error_package` when a package that it needs is
#' not installed.
#' @examples
#' search_evolve(settings = 100)
#' @export
search_evolve <- function(
  settings = 100, population = 8, at_once = NULL, tournament = 5, mixed = 0.5, first_splits = 1, ...
) {
  no_more(...)
  check_number(settings, "settings", min = 1, max = 1e5, whole = TRUE)
  check_number(population, "population", min = 2, max = 1e4, whole = TRUE)
  if (!is.null(at_once)) check_number(at_once, "at_once", min = 1, max = 1000, whole = TRUE)
  check_number(tournament, "tournament", min = 1, max = 1000, whole = TRUE)
  check_number(mixed, "mixed", min = 0, max = 1)
  check_number(first_splits, "first_splits", min = 1, whole = TRUE)
  need("lhs", "A search by evolution")
  arguments <- list(
    settings = settings, population = population, at_once = at_once, tournament = tournament,
    mixed = mixed, first_splits = first_splits
  )
  new_search(
    "evolve", arguments, paste0("evolution, ", count_of(settings, "setting")),
    start = function(field, seed) {
      list(seed = seed, turn = 0L, left = settings, generation = 0L, asked = character())
    },
    propose = function(state, field, history) evolve_further(state, field, history, arguments)
  )
}

evolve_further <- function(state, field, history, arguments) {
  state$turn <- state$turn + 1L
  looks <- can_look_first(field, arguments$first_splits)
  many <- generation_size(arguments, state, looks)
  worth <- function(last) {
    if (!looks || is.null(history)) return(NULL)
    worth_the_rest(state$known, field, history, state$asked, max(2, many %/% 4), last)
  }
  if (!is.null(history)) state$known <- grown_known(state$known, field, history, "simple")
  more <- worth(last = FALSE)
  if (NROW(more) == 0L) {
    chosen <- new_generation(many, state, field, history, arguments)
    if (length(chosen) == 0L) more <- worth(last = TRUE)
  }
  if (NROW(more) > 0L) {
    state$asked <- c(state$asked, more$key)
    return(list(round = as_further_looks(field, history, more), state = state))
  }
  state$left <- state$left - sum(vapply(chosen, nrow, integer(1)))
  state$generation <- state$generation + 1L
  round <- with_paths(chosen, field, history)
  if (looks) round <- as_looks(round, field, arguments$first_splits, state$generation)
  list(round = round, state = state)
}

# How many new settings come next. What is looked at in part is cheap, so that more can be; and
# where many are known, a few more change little of what is learned from them.
generation_size <- function(arguments, state, looks) {
  so_far <- arguments$settings - state$left
  size <- if (so_far == 0) {
    ceiling((if (looks) 1.5 else 0.5) * arguments$population)
  } else {
    arguments$at_once %||% (if (looks) max(8, so_far %/% 5) else 4)
  }
  min(size, state$left)
}

new_generation <- function(many, state, field, history, arguments) {
  with_seed(derive_seed(state$seed, paste("evolution, round", state$turn)), {
    if (is.null(history)) {
      first_points(field, many, arguments$settings)
    } else if (many > 0) {
      next_generation(
        state$known, field, history, many, arguments$population, arguments$tournament,
        arguments$mixed
      )
    }
  })
}

member_search_evolve <- function() {
  maker_definition("search", "evolve", search_evolve,
    "Breeds settings and whole pipelines from the better ones of those tried."
  )
}

# New points, a list by candidate of tables. `known`: see grown_known().
next_generation <- function(known, field, history, n, population, tournament, mixed) {
  spaces <- known$spaces
  good <- Map(function(one, good) best_of_points(good, one$point), known$points,
    told_goods(field, history))
  parents <- parents_of(known, good, population)
  open <- which(!mapply(wholly_known, spaces, known$points) & !passed_over(history[names(spaces)]))
  if (length(open) == 0L) return(list())
  parents <- frame_of_rows(parents, parents$candidate %in% open)
  merits <- merits_of_field(known, scaled_goods(good)$y)
  chances <- Map(chances_of_moves, spaces, merits)
  alike <- Map(pairs_alike, known$points, history[names(spaces)], splits_to_compare(field))
  keys <- list()
  chosen <- list()
  for (turn in seq_len(most_broods)) {
    lacking <- n - sum(vapply(chosen, nrow, 1L))
    if (lacking == 0L) break
    # children that were there already say little: in the end anything new will do
    brood <- new_brood(lacking * brood_size, known, parents, chances, alike, open, tournament,
      mixed, turn > most_broods / 2)
    for (child in brood) {
      name <- child$name
      if (child$twin || child$key %in% keys[[name]]) next
      keys[[name]] <- c(keys[[name]], child$key)
      chosen[[name]] <- if (is.null(chosen[[name]])) {
        child$point()
      } else {
        bind_tables(chosen[[name]], child$point())
      }
      lacking <- lacking - 1L
      if (lacking == 0L) break
    }
  }
  chosen
}

# Most children are known already, or twins of what is known: so many are bred together for every
# one that is wanted, and so often.
brood_size <- 3L
most_broods <- 6L

# Is every point of a candidate known?
wholly_known <- function(space, one) {
  sizes <- vapply(space$dimensions[point_dimensions(space)], function(dimension) {
    if (is_continuous(dimension)) Inf else as.numeric(length(dimension$values))
  }, 1)
  length(one$keys) >= prod(sizes)
}

# The best points of all candidates, the front of score against simplicity, and each candidate's
# own best, since a candidate may need several changes before it is any good: candidate (its
# number), row, good, front. Of those with the same score to the last digit the simplest.
parents_of <- function(known, good, population) {
  sizes <- lengths(good)
  candidate <- rep(seq_along(sizes), sizes)
  row <- sequence(sizes)
  good <- unlist(good, use.names = FALSE)
  simple <- order(do.call(order, simple_first(lapply(known$points, `[[`, "simple"))))
  able <- intersect(order(-good, simple), which(!is.na(good)))
  able <- able[!duplicated(paste(candidate, match(good, good))[able])]
  best <- utils::head(able, population)
  own <- lapply(split(able, candidate[able]), utils::head, ceiling(population / length(sizes)))
  # from the simplest on, what is better than all that are simpler
  from_simple <- able[order(simple[able], -good[able])]
  front <- from_simple[good[from_simple] > c(-Inf, utils::head(cummax(good[from_simple]), -1L))]
  at <- unique(c(best, front, unlist(own)))
  plain_frame(list(
    candidate = candidate[at], row = row[at], good = good[at], front = at %in% front
  ), length(at))
}

# Columns to sort the points of all candidates by, one candidate after the other. What families say
# of themselves comes between their rank and the number of steps, of some more than of others.
simple_first <- function(simple) {
  simple <- Filter(Negate(is.null), unname(simple))
  most <- max(lengths(simple))
  whole <- lapply(simple, function(columns) {
    none <- rep(list(numeric(length(columns[[1]]))), most - length(columns))
    append(columns, none, after = length(columns) - 1L)
  })
  do.call(Map, c(list(c), whole))
}
