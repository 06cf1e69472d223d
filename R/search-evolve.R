#' Search by evolution
#'
#' Begins with every candidate near its defaults and with settings that are spread evenly, together
#' half a population. Keeps a population of settings, of all candidates together, and makes new ones
#' of them: mixed from two settings (crossover), where two candidates are mixed in what both vary
#' alike, such as their preparation; and with one value or chosen step changed, now and then more
#' (mutation), the more often to one the better it did so far, with any candidate. Parents win a
#' tournament by mean score. The population is the best of all settings so far together with the
#' front of score against simplicity, settings than which none is both better and simpler, and with
#' the best ones of every candidate, so that one which needs several changes has the time for them.
#' Settings that would score as a known one does to the last digit, since what they differ in made
#' no difference in settings like them, are passed over. It fits fields where much is chosen, such
#' as steps by [either()] and [optional()], about which a model of the scores has little to say.
#'
#' As with [search_guided()], all values along a family's path are tried with every setting
#' that is proposed, and do not count; proposals depend on scores alone.
#'
#' @param settings Number of settings that are proposed, of all candidates together.
#' @param population So many of the best are kept as parents, beside the front and the best ones of
#'   every candidate.
#' @param at_once So many are proposed a round.
#' @param tournament The best of so many that are drawn from the population becomes a parent.
#' @param mixed Share of the new settings that are mixed from two.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A search for [plan_comparison()].
#' @references Eiben & Smith (2015), Introduction to evolutionary computing, 2nd edition, Springer,
#'   chapters 3 to 5. Deb, Pratap, Agarwal & Meyarivan (2002), A fast and elitist multiobjective
#'   genetic algorithm, IEEE Transactions on Evolutionary Computation 6 (the front).
#' @section Errors:
#' `kw_error_argument` for a value out of range, `kw_error_package` when a package that it needs is
#' not installed.
#' @examples
#' search_evolve(settings = 100)
#' @export
search_evolve <- function(
  settings = 100, population = 8, at_once = 4, tournament = 5, mixed = 0.5, ...
) {
  no_more(...)
  check_number(settings, "settings", min = 1, max = 1e5, whole = TRUE)
  check_number(population, "population", min = 2, max = 1e4, whole = TRUE)
  check_number(at_once, "at_once", min = 1, max = 1000, whole = TRUE)
  check_number(tournament, "tournament", min = 1, max = 1000, whole = TRUE)
  check_number(mixed, "mixed", min = 0, max = 1)
  need("lhs", "A search by evolution")
  new_search(
    "evolve",
    list(
      settings = settings, population = population, at_once = at_once, tournament = tournament,
      mixed = mixed
    ),
    paste0("evolution, ", count_of(settings, "setting")),
    start = function(field, seed) list(seed = seed, turn = 0L, left = settings),
    propose = function(state, field, history) {
      state$turn <- state$turn + 1L
      seed <- derive_seed(state$seed, paste("evolution, round", state$turn))
      chosen <- with_seed(seed, if (is.null(history)) {
        first_points(field, min(ceiling(population / 2), settings), settings)
      } else if (state$left > 0) {
        next_generation(
          field, history, min(at_once, state$left), population, tournament, mixed
        )
      })
      state$left <- state$left - sum(vapply(chosen, nrow, integer(1)))
      list(round = with_paths(chosen, field, history), state = state)
    }
  )
}

member_search_evolve <- function() {
  maker_definition("search", "evolve", search_evolve,
    "Breeds settings and whole pipelines from the better ones of those tried."
  )
}

# New points, a list by candidate of tables.
next_generation <- function(field, history, n, population, tournament, mixed) {
  seen <- scaled_field(field, history) %||% seen_of_field(field, history)
  parents <- parents_of(field$spaces, seen, population)
  spaces <- lapply(field$spaces, with_values)
  open <- names(spaces)[!mapply(wholly_known, spaces, seen)]
  parents <- parents[names(spaces)[parents$candidate] %in% open, ]
  if (length(open) == 0L) return(list())
  seen <- with_chances(spaces, seen)
  for (name in names(spaces)) {
    seen[[name]]$cube <- settings_to_cube(spaces[[name]], seen[[name]]$points)
  }
  twins <- Map(function(space, one) known_twins(space, one$points, one$good), spaces, seen)
  keys <- lapply(seen, function(one) point_keys(one$points))
  chosen <- list()
  for (i in seq_len(n)) {
    for (attempt in seq_len(most_attempts)) {
      # a child that was there already says little: in the end anything new will do
      fresh <- nrow(parents) == 0L || attempt > most_attempts / 2 || stats::runif(1) < 0.05
      child <- if (fresh) {
        newcomer(spaces[open])
      } else {
        child_of(spaces, seen, parents, tournament, mixed)
      }
      name <- child$name
      if (point_keys(child$point) %in% keys[[name]]) next
      point <- clean_settings(spaces[[name]], child$point)$settings
      if (nrow(point) == 0L || point_keys(point) %in% keys[[name]]) next
      if (!fresh && likely_twin(point, twins[[name]])) next
      chosen[[name]] <- if (is.null(chosen[[name]])) point else bind_tables(chosen[[name]], point)
      keys[[name]] <- c(keys[[name]], point_keys(point))
      break
    }
  }
  chosen
}

most_attempts <- 20L

# The values of what varies, and what lies along a path, are asked for again and again.
with_values <- function(space) {
  space$dimensions <- lapply(space$dimensions, function(dimension) {
    if (!is_continuous(dimension)) dimension$values <- dimension_values(dimension, NULL)
    dimension
  })
  space$path <- lapply(path_dimensions(space), function(dimension) {
    dimension$values <- dimension_values(dimension, path_points)
    dimension
  })
  space
}

# Is every point of a candidate known?
wholly_known <- function(space, seen) {
  sizes <- vapply(space$dimensions[point_dimensions(space)], function(dimension) {
    if (is_continuous(dimension)) Inf else as.numeric(length(dimension$values))
  }, 1)
  nrow(seen$points) >= prod(sizes)
}

point_keys <- function(points) {
  if (length(points) == 0L) rep("", nrow(points)) else row_texts(points)
}

# The best points of all candidates, the front of score against simplicity, and each candidate's
# own best, since a candidate may need several changes before it is any good: candidate (its
# number), row, good, front. Of those with the same score to the last digit the simplest.
parents_of <- function(spaces, seen, population) {
  sizes <- vapply(seen, function(one) length(one$good), integer(1))
  candidate <- rep(seq_along(seen), sizes)
  row <- sequence(sizes)
  good <- unlist(lapply(seen, `[[`, "good"))
  keys <- simplicity_columns(spaces, lapply(seen, `[[`, "points"), candidate, row)
  simple <- order(order(do.call(order, keys)))
  able <- intersect(order(-good, simple), which(!is.na(good)))
  able <- able[!duplicated(paste(candidate, match(good, good))[able])]
  best <- utils::head(able, population)
  own <- lapply(split(able, candidate[able]), utils::head, ceiling(population / length(seen)))
  # from the simplest on, what is better than all that are simpler
  from_simple <- able[order(simple[able], -good[able])]
  front <- from_simple[good[from_simple] > c(-Inf, utils::head(cummax(good[from_simple]), -1L))]
  at <- unique(c(best, front, unlist(own)))
  data.frame(candidate = candidate[at], row = row[at], good = good[at], front = at %in% front)
}
