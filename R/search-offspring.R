# How evolution makes new points of known ones: newcomers, children of one or two parents, and what
# is changed in them. A point is a setting without the values along its family's path
# (search-points.R).

# New children, one after the other list(name, key, code, fresh, point): of which candidate, its
# text and codes (search-known.R), whether it has no parents, a function that gives its table.
# Without those that cannot work. `open`: candidates of which not all is known; `fresh`: without
# parents, all of them.
new_brood <- function(n, known, parents, chances, open, tournament, mixed, fresh) {
  places <- lapply(seq_len(n), function(i) {
    if (fresh || nrow(parents) == 0L || stats::runif(1) < 0.05) return(newcomer(known, open))
    child_of(known, parents, chances, tournament, mixed)
  })
  candidate <- vapply(places, `[[`, 1L, "candidate")
  brood <- vector("list", n)
  for (one in unique(candidate)) {
    mine <- which(candidate == one)
    brood[mine] <- whole_children(places[mine], known$spaces[[one]], known$points[[one]])
  }
  Filter(Negate(is.null), brood)
}

# NULL for those that cannot work.
whole_children <- function(places, space, one) {
  cube <- do.call(rbind, lapply(places, `[[`, "place"))
  judged <- judge_settings(space, settings_from_cube(space, matrix(cube, length(places))))
  points <- points_of(space, judged$settings)
  keys <- point_keys(points)
  codes <- codes_of(space, points, one$ranges)
  lapply(seq_along(places), function(i) {
    if (!is.na(judged$why[i])) return(NULL)
    list(
      name = space$candidate, key = keys[i], code = codes[i, ], fresh = places[[i]]$fresh,
      point = function() frame_of_rows(points, i)
    )
  })
}

# A random point of a random candidate.
newcomer <- function(known, open) {
  candidate <- open[[sample.int(length(open), 1L)]]
  place <- stats::runif(length(known$spaces[[candidate]]$dimensions))
  list(candidate = candidate, place = place, fresh = TRUE)
}

# Of one parent, or of two.
child_of <- function(known, parents, chances, tournament, mixed) {
  place_of <- function(at) known$points[[parents$candidate[at]]]$cube[parents$row[at], ]
  first <- first_parent(parents, tournament)
  candidate <- parents$candidate[first]
  place <- place_of(first)
  others <- seq_along(parents$good)[-first]
  if (length(others) > 0L && stats::runif(1) < mixed) {
    second <- draw_parent(parents, others, tournament)
    theirs <- place_of(second)
    # hyperparameters and choices that have an effect in it
    swap <- known$shared[[candidate]][[parents$candidate[second]]]
    swap <- swap[!is.na(theirs[swap])]
    swap <- swap[stats::runif(length(swap)) < 0.7]
    place[swap] <- theirs[swap]
  }
  # what had no effect may have one in the child
  idle <- is.na(place)
  if (any(idle)) place[idle] <- stats::runif(length(place))[idle]
  list(candidate = candidate, place = mutated(place, chances[[candidate]]), fresh = FALSE)
}

# Every second time one of a candidate that is drawn, so that none dies out.
first_parent <- function(parents, tournament) {
  rows <- seq_along(parents$good)
  if (stats::runif(1) < 0.5) {
    candidates <- unique(parents$candidate)
    rows <- which(parents$candidate == candidates[sample.int(length(candidates), 1L)])
  }
  draw_parent(parents, rows, tournament)
}

# Of these rows, few times out of ten one of the front, else the best of some that are drawn.
draw_parent <- function(parents, rows, tournament) {
  front <- rows[parents$front[rows]]
  if (length(front) > 0L && stats::runif(1) < 0.2) return(front[sample.int(length(front), 1L)])
  drawn <- rows[sample.int(length(rows), min(tournament, length(rows)))]
  drawn[which.max(parents$good[drawn])]
}

# What values are worth ----------------------------------------------------------------------

# By candidate and dimension what every value is worth: by how much the scores with it are above the
# candidate's mean, drawn towards 0 as if there were one more, that is average. What another
# candidate varies alike counts half. NULL for continuous ranges. `y`: see scaled_goods().
merits_of_field <- function(known, y) {
  sums <- Map(sums_of_values, known$spaces, known$points, y)
  Map(function(space, alike, own) {
    Map(function(dimension, alike) {
      if (is_continuous(dimension)) return(NULL)
      merits_of_values(lapply(sums[alike], `[[`, dimension$name), 1 - 0.5 * (alike != own))
    }, space$dimensions, alike)
  }, known$spaces, known$alike, seq_along(known$spaces))
}

# Of a candidate's points, by dimension: how many there are of every value, and the sum of their
# scores above the candidate's mean. NULL for continuous ranges.
sums_of_values <- function(space, one, y) {
  above <- y - mean(y)
  lapply(space$dimensions, function(dimension) {
    if (is_continuous(dimension)) return(NULL)
    at <- one$codes[, dimension$name]
    sums <- numeric(length(dimension$values))
    # most have few values, of which this is the quickest
    for (value in unique(at[at > 0L])) sums[value] <- sum(above[at == value])
    list(numbers = tabulate(at, length(sums)), sums = sums)
  })
}

# `several`: of every candidate that varies this over the same values, see sums_of_values();
# `shares`: how much each counts.
merits_of_values <- function(several, shares) {
  sums <- numbers <- 0
  for (i in seq_along(several)) {
    numbers <- numbers + shares[i] * several[[i]]$numbers
    sums <- sums + shares[i] * several[[i]]$sums
  }
  sums / (numbers + 1)
}

# What may change in a point: the axes, how often each, and where to (moves_along()). As often one
# of the family's hyperparameters as one of the steps'.
chances_of_moves <- function(space, merits = NULL) {
  axes <- match(point_dimensions(space), names(space$dimensions))
  of_family <- vapply(space$dimensions[axes], function(d) d$address == "family", NA)
  list(
    axes = axes, often = 1 / ifelse(of_family, sum(of_family), sum(!of_family)),
    moves = lapply(axes, function(axis) moves_along(space$dimensions[[axis]], merits[[axis]]))
  )
}

# What has a merit of one standard deviation more is taken twenty times as often.
merit_pull <- 3

# Where a value may move to, as places on its axis, how likely each is, and all together, as a
# function of its place: of a range to one nearby, of ordered values mostly to the next ones, of
# others to any. Worked out once for each value that is asked for, since there may be thousands.
moves_along <- function(dimension, merit) {
  if (is_continuous(dimension)) {
    return(function(place) {
      list(to = min(max(place + stats::rnorm(1, sd = 0.15), 0), 1), likely = 1, together = 1)
    })
  }
  levels <- length(dimension_values(dimension, NULL))
  ordered <- is_ordered_dimension(dimension)
  found <- vector("list", levels)
  function(place) {
    at <- min(floor(place * levels), levels - 1) + 1
    if (!is.null(found[[at]])) return(found[[at]])
    to <- seq_len(levels)[-at]
    likely <- rep(1, levels - 1L)
    if (ordered) likely <- stats::dnorm(to - at, sd = max(1.5, 0.15 * levels))
    likely <- likely / sum(likely)
    if (!is.null(merit)) likely <- likely * exp(merit_pull * (merit[to] - merit[at]))
    found[[at]] <<- list(to = (to - 0.5) / levels, likely = likely, together = sum(likely))
    found[[at]]
  }
}

# One value changed, now and then more.
mutated <- function(place, chances) {
  axes <- chances$axes
  if (length(axes) == 0L) return(place)
  moves <- vector("list", length(axes))
  likely <- numeric(length(axes))
  for (k in seq_along(axes)) {
    moves[[k]] <- chances$moves[[k]](place[axes[k]])
    likely[k] <- moves[[k]]$together * chances$often[k]
  }
  for (i in seq_len(1L + stats::rbinom(1, length(axes) - 1L, 0.5 / length(axes)))) {
    if (!any(likely > 0)) break
    at <- sample.int(length(axes), 1L, prob = likely)
    move <- moves[[at]]
    to <- if (length(move$to) > 1L) sample.int(length(move$to), 1L, prob = move$likely) else 1L
    place[axes[at]] <- move$to[to]
    likely[at] <- 0
  }
  place
}
