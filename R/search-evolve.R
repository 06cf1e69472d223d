#' Search by evolution
#'
#' Begins with every candidate near its defaults and with settings that are spread evenly. Keeps a
#' population of settings, of all candidates together, and makes new ones of them: values
#' and chosen steps are changed a little (mutation), or mixed from two settings (crossover); two
#' candidates are mixed in what both vary alike, such as their preparation. Parents win a tournament
#' by mean score. The population is the best of all settings so far together with the front of score
#' against simplicity, settings than which none is both better and simpler, and with the best ones
#' of every candidate, so that one which needs several changes has the time for them. Settings that
#' differ in nothing but what never made a difference are not tried again. It fits fields where much
#' is chosen, such as steps by [either()] and [optional()], about which a model of the scores has
#' little to say.
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
  settings = 100, population = 12, at_once = 4, tournament = 5, mixed = 0.5, ...
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
        first_points(field, min(population, settings), settings)
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
  seen <- seen_of_field(field, history)
  parents <- parents_of(field$spaces, seen, population)
  idle <- lapply(seen, function(one) idle_choices(one$points, one$good))
  chosen <- list()
  for (i in seq_len(n)) {
    for (attempt in seq_len(most_attempts)) {
      # a child that was there already says little: in the end anything new will do
      fresh <- nrow(parents) == 0L || attempt > most_attempts / 2 || stats::runif(1) < 0.1
      child <- if (fresh) {
        newcomer(field$spaces)
      } else {
        child_of(field$spaces, seen, parents, tournament, mixed)
      }
      name <- child$name
      known <- bind_tables(
        seen[[name]]$points, chosen[[name]] %||% frame_of_rows(child$point, integer())
      )
      point <- not_in(child$point, known)
      if (!fresh && nrow(point) > 0L) point <- new_but_for(point, known, idle[[name]])
      if (nrow(point) > 0L) {
        chosen[[name]] <- if (is.null(chosen[[name]])) point else bind_tables(chosen[[name]], point)
        break
      }
    }
  }
  chosen
}

most_attempts <- 20L

# Hyperparameters that never made a difference: of settings that differ in nothing else all had the
# same score to the last digit, such as an answer to outliers where there are none.
idle_choices <- function(points, good) {
  known <- which(!is.na(good))
  points <- frame_of_rows(points, known)
  good <- good[known]
  varying <- names(points)[vapply(points, function(x) length(unique(x)) > 1L, NA)]
  if (length(varying) < 2L) return(character())
  never <- vapply(varying, function(name) {
    rest <- frame_columns_of(points, setdiff(varying, name))
    alike <- split(good, group_rows(rest, length(good)))
    alike <- alike[lengths(alike) > 1L]
    apart <- vapply(alike, function(x) diff(range(x)), 1)
    sum(choose(lengths(alike), 2)) >= 2 && all(apart <= 1e-12 * max(abs(good)))
  }, NA)
  varying[never]
}

# Not if something that is known differs in idle choices only.
new_but_for <- function(point, known, idle) {
  if (length(idle) == 0L) return(point)
  telling <- setdiff(names(point), idle)
  old <- matching_rows(frame_columns_of(point, telling), frame_columns_of(known, telling))
  frame_of_rows(point, which(is.na(old)))
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
  able <- able[!duplicated(data.frame(candidate, good)[able, ])]
  best <- utils::head(able, population)
  own <- lapply(split(able, candidate[able]), utils::head, ceiling(population / length(seen)))
  # from the simplest on, what is better than all that are simpler
  from_simple <- able[order(simple[able], -good[able])]
  front <- from_simple[good[from_simple] > c(-Inf, utils::head(cummax(good[from_simple]), -1L))]
  at <- unique(c(best, front, unlist(own)))
  data.frame(candidate = candidate[at], row = row[at], good = good[at], front = at %in% front)
}

# A random point of a random candidate.
newcomer <- function(spaces) {
  name <- names(spaces)[sample.int(length(spaces), 1L)]
  list(name = name, point = one_point(spaces[[name]], random_settings(spaces[[name]], 1L)))
}

child_of <- function(spaces, seen, parents, tournament, mixed) {
  point_of <- function(at) {
    frame_of_rows(seen[[names(spaces)[parents$candidate[at]]]]$points, parents$row[at])
  }
  first <- first_parent(parents, tournament)
  name <- names(spaces)[parents$candidate[first]]
  space <- spaces[[name]]
  point <- point_of(first)
  others <- setdiff(seq_len(nrow(parents)), first)
  if (length(others) > 0L && stats::runif(1) < mixed) {
    second <- others[draw_parent(parents[others, ], tournament)]
    theirs <- point_of(second)
    swap <- shared_dimensions(space, spaces[[parents$candidate[second]]], theirs)
    swap <- swap[stats::runif(length(swap)) < 0.7]
    point[swap] <- theirs[swap]
  }
  cube <- settings_to_cube(space, point)
  # what had no effect may have one in the child
  cube <- ifelse(is.na(cube), stats::runif(length(cube)), cube)
  list(name = name, point = one_point(space, settings_from_cube(space, mutated(space, cube))))
}

# Names of what the second parent has to give, which may be of another candidate: hyperparameters
# and choices that both vary over the same values, and that have an effect in it.
shared_dimensions <- function(space, other, theirs) {
  Filter(function(name) {
    !is.na(theirs[[name]]) &&
      identical(space$dimensions[[name]]$varying, other$dimensions[[name]]$varying)
  }, intersect(names(theirs), names(space$dimensions)))
}

# Every second time one of a candidate that is drawn, so that none dies out.
first_parent <- function(parents, tournament) {
  if (stats::runif(1) >= 0.5) return(draw_parent(parents, tournament))
  candidates <- unique(parents$candidate)
  some <- which(parents$candidate == candidates[sample.int(length(candidates), 1L)])
  some[draw_parent(parents[some, ], tournament)]
}

# Few times out of ten somebody of the front, else the best of some who are drawn.
draw_parent <- function(parents, tournament) {
  front <- which(parents$front)
  if (length(front) > 0L && stats::runif(1) < 0.2) return(front[sample.int(length(front), 1L)])
  drawn <- sample.int(nrow(parents), min(tournament, nrow(parents)))
  drawn[which.max(parents$good[drawn])]
}

# One or some of the values changed: numbers by a step, levels for any other.
mutated <- function(space, cube) {
  axes <- match(point_dimensions(space), names(space$dimensions))
  if (length(axes) == 0L) return(cube)
  changing <- axes[stats::runif(length(axes)) < 1 / length(axes)]
  if (length(changing) == 0L) changing <- axes[sample.int(length(axes), 1L)]
  for (axis in changing) {
    dimension <- space$dimensions[[axis]]
    range <- inherits(dimension$varying, "kw_range") && is.null(dimension$varying$points)
    levels <- if (!range) length(dimension_values(dimension, NULL))
    if (identical(levels, 1L)) next
    cube[axis] <- if (is_ordered_dimension(dimension)) {
      moved <- cube[axis] + stats::rnorm(1, sd = max(0.15, 1 / levels))
      pmin(pmax(moved, 0), 1)
    } else {
      # another level than this one
      (cube[axis] + sample.int(levels - 1L, 1L) / levels) %% 1
    }
  }
  cube
}

one_point <- function(space, settings) clean_settings(space, points_of(space, settings))$settings
