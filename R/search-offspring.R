# How evolution makes new points of known ones: newcomers, children of one or two parents, and what
# is changed in them. A point is a setting without the values along its family's path
# (search-points.R).

# New children, one after the other list(name, key, twin, point): of which candidate, its text,
# whether it will likely score as a known one does, a function that gives its table. Without those
# that are known or cannot work. `alike`: by candidate, see pairs_alike(); `open`: candidates of
# which not all is known; `fresh`: without parents, all of them.
new_brood <- function(n, known, parents, chances, alike, open, tournament, mixed, fresh) {
  bred <- bred_places(n, parents, lapply(known$points, `[[`, "cube"), chances, known$shared, open,
    tournament, mixed, fresh)
  brood <- vector("list", n)
  for (one in unique(bred$candidate)) {
    mine <- which(bred$candidate == one)
    brood[mine] <- whole_children(bred$place[mine], bred$fresh[mine], known$spaces[[one]],
      known$points[[one]], alike[[one]])
  }
  Filter(Negate(is.null), brood)
}

# NULL for those that are known or cannot work. `fresh`: which have no parents, and are no twins.
whole_children <- function(places, fresh, space, one, alike) {
  cube <- matrix(as.numeric(unlist(places)), length(places), byrow = TRUE)
  judged <- judge_settings(space, settings_from_cube(space, cube))
  points <- points_of(space, judged$settings)
  keys <- point_keys(points)
  codes <- codes_of(space, points, one$ranges)
  new <- is.na(judged$why) & !keys %in% one$keys
  twin <- new & !fresh
  twin[twin] <- likely_twins(codes[twin, , drop = FALSE], one$codes, one$pairs, alike)
  lapply(seq_along(places), function(i) {
    if (!new[i]) return(NULL)
    list(
      name = space$candidate, key = keys[i], twin = twin[i],
      point = function() frame_of_rows(points, i)
    )
  })
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

# What may change in a point: the axes, how often each, and of those that have levels how many, in
# an order or not, and what each is worth (merits_of_field()). As often one of the family's
# hyperparameters as one of the steps'.
chances_of_moves <- function(space, merits = NULL) {
  axes <- match(point_dimensions(space), names(space$dimensions))
  dimensions <- space$dimensions[axes]
  of_family <- vapply(dimensions, function(d) d$address == "family", NA)
  levels <- vapply(dimensions, function(dimension) {
    if (is_continuous(dimension)) 0L else length(dimension_values(dimension, NULL))
  }, 1L)
  list(
    axes = axes, often = 1 / ifelse(of_family, sum(of_family), sum(!of_family)), levels = levels,
    ordered = vapply(dimensions, is_ordered_dimension, NA),
    merits = lapply(axes, function(axis) merits[[axis]])
  )
}
