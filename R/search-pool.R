# Where a guided search may go next: the points of a candidate that are not known yet, from which it
# takes what promises most.

# Where few enough, all points; else random ones and neighbours of the best. New ones only, and for
# a process such that differ from the best in few things.
whole_pool <- 1000L

# A pool: the table of its points, their codes (codes_of()), and their features
# (point_features()) where these are at hand. `ranges`: what is known of continuous ranges; what is
# new of them has the numbers after that.
pool_of_points <- function(space, points, ranges) {
  ranges <- Map(function(known, name) unique(c(known, points[[name]])), ranges, names(ranges))
  list(points = points, codes = codes_of(space, points, ranges), features = NULL)
}

pool_rows <- function(pool, rows) {
  list(
    points = frame_of_rows(pool$points, rows), codes = pool$codes[rows, , drop = FALSE],
    features = pool$features[rows, , drop = FALSE]
  )
}

point_pool <- function(space, seen, process) {
  changes <- if (process) changes_at_once(seen) else Inf
  pool <- space$every %||% pool_of_points(space, drawn_points(space, seen, changes), seen$ranges)
  fresh <- new_codes(pool$codes, seen$codes)
  few <- fresh
  if (is.finite(changes)) {
    apart <- changes_from(pool$points, best_point(seen), point_dimensions(space))
    if (any(fresh & apart <= changes)) few <- fresh & apart <= changes
  }
  without_twins(pool_rows(pool, which(few)), seen)
}

# Every point that can work at hand, where they are few enough.
with_every_point <- function(space) {
  dimensions <- space$dimensions[point_dimensions(space)]
  if (length(dimensions) == 0L || any(vapply(dimensions, is_continuous, NA))) return(space)
  sizes <- vapply(dimensions, function(d) length(dimension_values(d, NULL)), integer(1))
  if (prod(sizes) > whole_pool) return(space)
  points <- able_points(space, every_point(space, dimensions))
  pool <- pool_of_points(space, points, no_ranges(space))
  pool$features <- point_features(space, pool$points, pool$codes)
  space$every <- pool
  space
}

drawn_points <- function(space, seen, changes) {
  random <- matrix(stats::runif(400L * length(space$dimensions)), 400L)
  points <- settings_from_cube(space, rbind(random, near_places(seen, 100L)))
  if (changes < length(point_dimensions(space))) {
    points <- bind_tables(points, changed_points(space, seen, 400L, changes))
  }
  able_points(space, points)
}

# The points among settings that can work.
able_points <- function(space, settings) {
  judged <- judge_settings(space, points_of(space, settings))
  frame_of_rows(judged$settings, which(is.na(judged$why)))
}

# A process that knows little expects most from the corners, where it knows least, and changes
# everything at once to get there. Near the defaults, where a search begins, more is gained by
# changing one thing at a time; the more points are known, the more may differ from the best one.
points_per_change <- 6L

changes_at_once <- function(seen) ceiling(length(seen$y) / points_per_change)

best_point <- function(seen) frame_of_rows(seen$points, which.max(seen$y))

# In how many hyperparameters each row differs from the point, where both have an effect.
changes_from <- function(settings, point, names) {
  differs <- lapply(names, function(name) {
    differs <- settings[[name]] != point[[name]]
    !is.na(differs) & differs
  })
  Reduce(`+`, differs, integer(nrow(settings)))
}

# The best point with so many hyperparameters drawn anew, or moved a little.
changed_points <- function(space, seen, n, changes) {
  axes <- point_dimensions(space)
  base <- frame_of_rows(best_point(seen), rep(1L, n))
  drawn <- bind_tables(random_settings(space, n - n %/% 2L), near_points(space, seen, n %/% 2L))
  draws <- matrix(stats::runif(n * length(axes)), n)
  rank <- matrix(0L, n, length(axes))
  rank[order(row(rank), draws)] <- rep(seq_along(axes), n)
  for (j in seq_along(axes)) {
    change <- rank[, j] <= changes | is.na(base[[axes[j]]])
    base[[axes[j]]][change] <- drawn[[axes[j]]][change]
  }
  base
}

every_point <- function(space, dimensions) {
  grid <- expand.grid(lapply(dimensions, dimension_values, points = NULL),
    stringsAsFactors = FALSE, KEEP.OUT.ATTRS = FALSE)
  for (dimension in path_dimensions(space)) {
    grid[[dimension$name]] <- rep(dimension_values(dimension, path_points)[1], nrow(grid))
  }
  plain_frame(unclass(grid)[names(space$dimensions)], nrow(grid))
}

# Steps of a tenth of the cube, and now and then another level, from the best points.
near_points <- function(space, seen, n) settings_from_cube(space, near_places(seen, n))

near_places <- function(seen, n) {
  best <- order(-seen$y)[seq_len(min(5L, length(seen$y)))]
  from <- seen$cube[rep(best, length.out = n), , drop = FALSE]
  from[is.na(from)] <- 0.5
  moved <- from + stats::rnorm(length(from), sd = 0.1)
  jump <- stats::runif(length(from)) < 0.1
  moved[jump] <- stats::runif(sum(jump))
  pmin(pmax(moved, 0), 1)
}
