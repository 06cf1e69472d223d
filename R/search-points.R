# What searches that learn have in common: points, which of them come first, and how good they are.
#
# A point is a setting without the values along its family's path: what one fit serves. Points of
# a candidate are tables of settings in which the path's values are the first ones.

path_dimensions <- function(space) {
  if (!is.null(space$path)) return(space$path)
  along <- space$pipeline$family$definition$path$along
  if (length(along) == 0L) return(list())
  Filter(function(d) d$address == "family" && d$argument %in% along, space$dimensions)
}

# How many values of a continuous range along a path are tried.
path_points <- 15L

# with_values() has them at hand.
point_dimensions <- function(space) {
  if (!is.null(space$axes)) return(space$axes)
  setdiff(names(space$dimensions), vapply(path_dimensions(space), `[[`, "", "name"))
}

points_of <- function(space, settings) {
  for (dimension in path_dimensions(space)) {
    settings[[dimension$name]] <- rep(
      dimension_values(dimension, path_points)[1], nrow(settings)
    )
  }
  settings
}

# What a model of the scores sees of points, a row each. `codes`: see codes_of().
point_features <- function(space, points, codes) {
  parts <- lapply(space$dimensions[point_dimensions(space)], function(dimension) {
    dimension_features(dimension, points[[dimension$name]], codes[, dimension$name])
  })
  do.call(cbind, c(list(matrix(0, nrow(points), 0L)), unname(parts)))
}

# All values along the path of every point, cleaned and new: what is proposed, by candidate. Points
# are clean and new themselves.
with_paths <- function(chosen, field, history) {
  lapply(stats::setNames(nm = names(chosen)), function(name) {
    space <- field$spaces[[name]]
    points <- chosen[[name]]
    along <- path_dimensions(space)
    if (length(along) == 0L) return(proposed(points))
    values <- lapply(along, dimension_values, points = path_points)
    names(values) <- vapply(along, `[[`, "", "name")
    several <- prod(lengths(values))
    whole <- frame_of_rows(points, rep(seq_len(nrow(points)), each = several))
    grid <- expand.grid(values, stringsAsFactors = FALSE)
    for (one in names(values)) whole[[one]] <- rep(grid[[one]], nrow(points))
    cleaned <- clean_settings(space, whole)
    cleaned$settings <- not_in(cleaned$settings, history[[name]]$settings)
    cleaned
  })
}

# Every candidate near its defaults, and evenly spread points: so many each, or `first` together.
first_points <- function(field, first, settings) {
  dims <- vapply(field$spaces, function(space) length(point_dimensions(space)), integer(1))
  wanted <- first
  if (length(first) == 1L) {
    wanted <- ifelse(dims == 0L, 1, pmax(1, floor((dims + 2) / sum(dims + 2) * first)))
  }
  chosen <- Map(function(space, n) unique_points(space, spread_points(space, n), n), field$spaces,
    wanted)
  # fewer settings than candidates: in turn
  over <- sum(vapply(chosen, nrow, integer(1))) - settings
  if (over > 0) chosen <- lapply(chosen, frame_of_rows, 1L)[seq_len(min(length(chosen), settings))]
  chosen
}

# The usual setting and as many evenly spread ones as make up n; after them more than are wanted,
# since some could not work.
spread_points <- function(space, n) {
  usual <- usual_setting(space)
  axes <- length(space$dimensions)
  if (axes == 0L) return(usual)
  cube <- rbind(lhs::randomLHS(max(1, n - 1), axes), lhs::randomLHS(n + 4, axes))
  rbind(usual, settings_from_cube(space, cube))
}

# The first n different points that can work.
unique_points <- function(space, points, n) {
  points <- clean_settings(space, points_of(space, points))$settings
  frame_of_rows(points, seq_len(min(n, nrow(points))))
}

# How good points are --------------------------------------------------------------------

# How good all settings are, by candidate, the higher the better; NA where they failed. What does
# not meet the constraints counts as having failed, unless that is all there is.
told_goods <- function(field, history) {
  sign <- if (field$metric$direction == "higher") 1 else -1
  history <- history[names(field$spaces)]
  none <- !any(vapply(history, function(told) any(told$meets & !is.na(told$expected)), NA))
  lapply(history, function(told) ifelse(told$meets | none, sign * told$expected, NA))
}

# Of every point the best one of its values along the path. `point`: that of every setting.
best_of_points <- function(good, point) {
  good[!is.finite(good)] <- NA
  if (!anyDuplicated(point)) return(good)
  at <- order(point, -good)
  good[at[!duplicated(point[at])]]
}

# Everything on one scale: mean 0, variance 1, bent by a logarithm, so that differences between
# good settings count for more than those between bad ones, and a setting that diverged does not
# flatten all others. The bend begins where the better quarter ends. `good`: by candidate, with the
# variance `error`; gives y and the variance of its error, `noise`, by candidate.
scaled_goods <- function(good, error = 0) {
  all <- unlist(good, use.names = FALSE)
  known <- all[!is.na(all)]
  # all failed: one is as good as another
  if (length(known) == 0L) known <- 0
  top <- max(known)
  behind <- top - stats::quantile(known, c(0.75, 0.5), names = FALSE)
  unit <- max(behind[1], behind[2] / 10, 1e-12)
  bent <- function(good) -log1p((top - good) / unit)
  centre <- mean(bent(known))
  width <- stats::sd(bent(known))
  if (is.na(width) || width == 0) width <- 1
  noise <- max(error / unit^2 / width^2, 1e-4)
  worst <- min(known)
  good <- lapply(good, function(one) ifelse(is.na(one), worst, one))
  list(
    y = lapply(good, function(one) (bent(one) - centre) / width),
    # what bends the scores bends their errors
    noise = lapply(good, function(one) pmin(noise / (1 + (top - one) / unit)^2, 1))
  )
}
