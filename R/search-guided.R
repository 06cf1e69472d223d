#' Search where a model of the scores expects more
#'
#' Starts with something plain, the simplest candidate near its defaults, so that there is a model
#' soon; goes on with every other candidate near its defaults and with settings that are spread
#' evenly; then, round after round, learns from all scores so far how they depend on the settings,
#' and tries next what promises most: the expected improvement over the best setting as the model
#' sees it, so that one lucky score leads nowhere, divided by what the setting newly needs: a fit,
#' and a tenth of one more where its steps are those of no setting before. While little is known of
#' a candidate, new settings differ from its best one in one thing, then in two, and so on.
#' Settings that would score as a known one does, since what they differ in made no difference to
#' the last digit wherever it was tried, are left for the end.
#' The candidates of a plan are looked at together: one that promises nothing gets no further
#' settings, unless the model is a forest and has found nothing better for two rounds: then one
#' setting of each round is drawn, of the candidate of which least is known.
#'
#' Values along a family's path come with one fit: for every setting that is proposed all of them
#' are tried, and the model learns the best. They do not count as settings here.
#'
#' The model is a Gaussian process for each candidate, or, where more than two choices of steps are
#' made or more than eight hyperparameters vary, a forest. Proposals depend on scores alone, not on
#' time, so that the same seed gives the same on any number of workers.
#'
#' @param settings Number of settings that are proposed, of all candidates together.
#' @param first So many of them before anything is learned; default one, near its defaults, for
#'   every candidate, or some more where the model is a forest: half as many as hyperparameters
#'   vary, and one, if more than four do; at least `at_once` and at most half of all.
#' @param at_once So many are proposed a round: about as many as there are workers, or a multiple.
#' @param surrogate `"process"`, `"forest"` or `"auto"`.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A search for [plan_comparison()].
#' @references Jones, Schonlau & Welch (1998), Efficient global optimization of expensive black-box
#'   functions, J. Global Optimization 13. Snoek, Larochelle & Adams (2012), Practical Bayesian
#'   optimization of machine learning algorithms, NIPS 25. Hutter, Hoos & Leyton-Brown (2011),
#'   Sequential model-based optimization for general algorithm configuration, LION 5. Hvarfner,
#'   Hellsten & Nardi (2024), Vanilla Bayesian optimization performs great in high dimensions,
#'   ICML 41 (lengths that grow with the number of dimensions).
#' @section Errors:
#' `kw_error_argument` for a value out of range, `kw_error_package` when a package that it needs is
#' not installed.
#' @examples
#' search_guided(settings = 60)
#' @export
search_guided <- function(settings = 60, first = NULL, at_once = 4, surrogate = "auto", ...) {
  no_more(...)
  check_number(settings, "settings", min = 1, max = 1e5, whole = TRUE)
  if (!is.null(first)) check_number(first, "first", min = 1, max = settings, whole = TRUE)
  check_number(at_once, "at_once", min = 1, max = 1000, whole = TRUE)
  check_choice(surrogate, c("auto", "process", "forest"), "surrogate")
  need("lhs", "A guided search")
  new_search(
    "guided",
    list(settings = settings, first = first, at_once = at_once, surrogate = surrogate),
    paste0("guided, ", count_of(settings, "setting")),
    start = function(field, seed) {
      list(
        seed = seed, turn = 0L, left = settings, theta = list(), waiting = FALSE, best = -Inf,
        stalled = 0L
      )
    },
    propose = function(state, field, history) {
      state$turn <- state$turn + 1L
      seed <- derive_seed(state$seed, paste("guided search, round", state$turn))
      if (is.null(state$points)) {
        first <- first %||% enough_to_learn(field, at_once, settings, surrogate)
        state$points <- guided_points(field, state$seed, first, settings)
      }
      begin <- guided_start(field, state, history)
      state$waiting <- is.null(history)
      if (!is.null(history)) {
        begun <- !is.null(state$known)
        state$known <- grown_known(state$known, field, history, "features")
        if (!begun) state$known$spaces <- lapply(state$known$spaces, with_every_point)
        field$spaces <- state$known$spaces
      }
      chosen <- begin %||% with_seed(seed, if (state$left > 0) {
        seen <- scaled_field(field, history, state$known)
        state <- with_progress(state, seen)
        state$theta <- surrogate_lengths(field, seen, state$theta, surrogate)
        promising_points(
          field, seen, min(at_once, state$left), state$theta, surrogate, passed_over(history),
          stalled = state$stalled >= patience
        )
      })
      state$left <- state$left - sum(vapply(chosen, nrow, integer(1)))
      list(round = with_paths(chosen, field, history), state = state)
    }
  )
}

member_search_guided <- function() {
  maker_definition("search", "guided", search_guided,
    "Learns from scores where better settings are likely, and looks there."
  )
}

# First points ---------------------------------------------------------------------------

# What comes before anything is learned, of every candidate that can have any.
guided_points <- function(field, seed, first, settings) {
  points <- with_seed(
    derive_seed(seed, "guided search, round 1"), first_points(field, first, settings)
  )
  able <- Filter(function(table) nrow(table) > 0L, points)
  if (length(able) > 0L) able else points
}

# Something plain at once, so that there is a model soon, then the others (`state$waiting`). NULL
# after that.
guided_start <- function(field, state, history) {
  points <- state$points
  if (is.null(history)) return(plain_points(field, points))
  if (!state$waiting) return(NULL)
  rest <- Map(function(space, all) {
    not_in(all, history[[space$candidate]]$settings)
  }, field$spaces[names(points)], points)
  if (sum(vapply(rest, nrow, 1L)) > 0L) rest
}

# The simplest candidates near their defaults: what cannot vary, and the simplest one that can.
# All points where there is one candidate only.
plain_points <- function(field, points) {
  if (length(points) < 2L) return(points)
  rank <- vapply(field$spaces[names(points)], function(space) {
    space$pipeline$family$definition$complexity_rank
  }, 1)
  varies <- vapply(field$spaces[names(points)], function(space) length(space$dimensions) > 0L, NA)
  plain <- if (any(varies)) rank <= min(rank[varies]) else rep(TRUE, length(rank))
  lapply(points[plain], frame_of_rows, 1L)
}

# How many points of each candidate come first: of a process one, near the defaults, since it says
# how little it knows elsewhere; a forest cannot, and needs more, the more where much varies, while
# more still would only put off what it learns. Together at least `at_once`.
enough_to_learn <- function(field, at_once, settings, surrogate) {
  forest <- vapply(field$spaces, wants_forest, NA, surrogate = surrogate)
  dims <- vapply(field$spaces, function(space) length(point_dimensions(space)), integer(1))
  wanted <- ifelse(forest & dims > 0L, ceiling((dims + 2L) / ifelse(dims > 4L, 2, 3)), 1L)
  short <- min(at_once, settings) - sum(wanted)
  if (short > 0L && any(dims > 0L)) wanted <- wanted + (dims > 0L) * ceiling(short / sum(dims > 0L))
  most <- max(length(wanted), settings %/% 2)
  if (sum(wanted) > most) pmax(1L, floor(wanted / sum(wanted) * most)) else wanted
}

# What was learned -----------------------------------------------------------------------

# The points of every candidate: points, places in the unit cube, features x, good, and what tells
# which are alike.
seen_of_field <- function(field, history, known) {
  Map(function(space, one, told, good) {
    list(
      points = one$table, cube = one$cube, x = one$features,
      good = best_of_points(good, one$point), codes = one$codes, ranges = one$ranges,
      alike = alike_values(space, one, told, splits_to_compare(field))
    )
  }, field$spaces, known$points, history[names(field$spaces)], told_goods(field, history))
}

# Variance of a mean score once what all settings have in common on a split is taken out.
error_of_means <- function(history) {
  scores <- do.call(rbind, lapply(history, `[[`, "scores"))
  scores <- scores[rowSums(is.na(scores)) == 0L, , drop = FALSE]
  if (nrow(scores) < 3L || ncol(scores) < 2L) return(0)
  rest <- scores - rowMeans(scores)
  rest <- sweep(rest, 2L, colMeans(rest))
  sum(rest^2) / ((nrow(rest) - 1) * (ncol(rest) - 1)) / ncol(scores)
}

# The points of every candidate with y and noise; NULL where all failed. `known`: see grown_known().
scaled_field <- function(field, history, known) {
  seen <- seen_of_field(field, history, known)
  good <- lapply(seen, `[[`, "good")
  if (all(is.na(unlist(good, use.names = FALSE)))) return(NULL)
  scaled <- scaled_goods(good, error_of_means(history))
  Map(function(one, y, noise) c(one, list(y = y, noise = noise)), seen, scaled$y, scaled$noise)
}

# A process takes a choice of steps for a distance, which holds for one or two; with more of them
# it would rule out what it has never seen.
most_choices <- 2L

wants_forest <- function(space, surrogate) {
  if (surrogate != "auto") return(surrogate == "forest")
  choices <- sum(vapply(space$dimensions, function(d) d$kind == "alternative", logical(1)))
  choices > most_choices || length(point_dimensions(space)) > 8L
}

# The lengths of every candidate's process; found again when a quarter more points are known.
surrogate_lengths <- function(field, seen, theta, surrogate) {
  for (name in names(seen)) {
    one <- seen[[name]]
    n <- length(one$y)
    if (n < 3L || ncol(one$x) == 0L || wants_forest(field$spaces[[name]], surrogate)) next
    if (!is.null(theta[[name]]) && n < 1.25 * theta[[name]]$n) next
    centred <- one$y - mean(one$y)
    found <- fit_process(one$x, centred, one$noise, theta[[name]]$values)
    theta[[name]] <- list(values = found$theta, n = n)
  }
  theta
}

# How many rounds in turn have brought nothing better. What was best may no longer count, once
# something meets the constraints.
with_progress <- function(state, seen) {
  best <- max(unlist(lapply(seen, `[[`, "good"), use.names = FALSE), -Inf, na.rm = TRUE)
  state$stalled <- if (best > state$best) 0L else state$stalled + 1L
  state$best <- best
  state
}

# After so many something is drawn in each round.
patience <- 2L

# The points that promise most, one after the other, those before imagined to be as good as
# they are expected to be. `seen`: see scaled_field(); `passed_over`: see there; `stalled`: has
# nothing better been found for some rounds?
promising_points <- function(field, seen, n, theta, surrogate, passed_over, stalled) {
  if (is.null(seen)) return(list())
  rivals <- lapply(stats::setNames(nm = names(seen)[!passed_over[names(seen)]]), function(name) {
    new_rival(field$spaces[[name]], seen[[name]], theta[[name]]$values, surrogate)
  })
  rivals <- Filter(Negate(is.null), rivals)
  chosen <- list()
  for (i in seq_len(n)) {
    best <- max(unlist(lapply(seen, `[[`, "y"), use.names = FALSE), -Inf)
    smooth <- max(vapply(rivals, `[[`, 1, "best"), -Inf)
    rivals <- lapply(rivals, with_gains, to_beat = if (is.finite(smooth)) smooth else best)
    gains <- lapply(rivals, `[[`, "gains")
    top <- vapply(gains, max, numeric(1))
    if (length(top) == 0L || !any(is.finite(top))) break
    drawn <- if (i == n && n > 1L) hardly_known(rivals, chosen, stalled)
    name <- drawn %||% names(rivals)[which.max(top)]
    at <- which.max(gains[[name]])
    if (!is.null(drawn)) at <- sample.int(nrow(rivals[[name]]$pool), 1L)
    point <- frame_of_rows(rivals[[name]]$pool, at)
    chosen[[name]] <- if (is.null(chosen[[name]])) point else bind_tables(chosen[[name]], point)
    if (i < n) rivals[[name]] <- imagined(rivals[[name]], at)
  }
  chosen
}

# What each point of a rival promises; the same as before where nothing of it has changed.
with_gains <- function(rival, to_beat) {
  if (identical(rival$to_beat, to_beat)) return(rival)
  rival$to_beat <- to_beat
  rival$gains <- if (nrow(rival$pool) == 0L) {
    -Inf
  } else {
    expected_improvement(rival$predicted, to_beat - rival$centre) / rival$cost
  }
  rival
}

# A forest does not know where it has seen nothing, so that at first one proposal of a round is
# drawn, of the candidate of which the fewest points are known (Hutter, Hoos & Leyton-Brown 2011
# draw every other one): until so many are known as hyperparameters vary, and two more, and again
# while what promises most is no better than what is known, since what the forest took for
# hopeless after a few points would never be looked at again. NULL where there are only processes.
hardly_known <- function(rivals, chosen, stalled) {
  open <- Filter(function(rival) {
    rival$forest && nrow(rival$pool) > 0L && (stalled || rival$known < rival$wanted)
  }, rivals)
  known <- vapply(names(open), function(name) {
    open[[name]]$known + (nrow(chosen[[name]]) %||% 0L)
  }, 1)
  if (length(open) > 0L) names(open)[which.min(known)]
}

# A candidate with its model and the points that could be tried next; NULL where there are none.
new_rival <- function(space, seen, theta, surrogate) {
  if (length(point_dimensions(space)) == 0L || length(seen$y) == 0L) return(NULL)
  centre <- mean(seen$y)
  y <- seen$y - centre
  forest <- wants_forest(space, surrogate)
  model <- if (forest && length(y) >= 3L) {
    fit_surrogate_forest(seen$x, y)
  } else {
    fit_process(seen$x, y, seen$noise, theta, steps = 0L)
  }
  pool <- point_pool(space, seen, process = !forest)
  if (nrow(pool$points) == 0L) return(NULL)
  if (is.null(pool$features)) pool$features <- point_features(space, pool$points, pool$codes)
  pool <- pool_rows(pool, apart_from(pool$features, seen$x))
  list(
    known = length(y), forest = forest, wanted = length(point_dimensions(space)) + 2,
    centre = centre, pool = pool$points, features = pool$features,
    predicted = model$predict(pool$features), best = model$best() + centre,
    cost = point_costs(space, pool$codes, seen$codes)
  )
}

# What a point newly needs, in fits: one of its own, and steps that no point has had before. What
# that takes in seconds is nothing to go by, since it is never twice the same.
new_steps_cost <- 0.1

# `codes` of points, and those of the known ones: see codes_of().
point_costs <- function(space, codes, known) {
  steps <- which(vapply(space$dimensions, function(d) d$address != "family", NA))
  group <- group_codes(rbind(known, codes)[, steps, drop = FALSE])
  own <- seq_len(nrow(known))
  1 + new_steps_cost * !(group[-own] %in% group[own])
}

# Rows that are not next to a known point, where there are others: a fiftieth of a range tells
# nothing new.
beside <- 0.02

apart_from <- function(features, known) {
  apart <- which(points_apart(features, known, beside))
  if (length(apart) > 0L) apart else seq_len(nrow(features))
}

imagined <- function(rival, at) {
  # what the next one has to beat
  rival$best <- max(rival$best, rival$predicted$mean[at] + rival$centre)
  rest <- apart_from(rival$features, rival$features[at, , drop = FALSE])
  rest <- rest[rest != at]
  rival$predicted <- rival$predicted$imagine(at, rest)
  rival$pool <- frame_of_rows(rival$pool, rest)
  rival$features <- rival$features[rest, , drop = FALSE]
  rival$cost <- rival$cost[rest]
  rival$to_beat <- NULL
  rival
}
