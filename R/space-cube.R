# Settings as points of a unit cube, and back: one axis a dimension, in the order of the space's
# dimensions. Ranges lie along the axis by their spacing (a range on the log scale by the
# logarithm); of values that are listed the i-th of k has the interval from (i - 1) / k to i / k.

# `cube`: a matrix, settings x dimensions, 0 to 1. Values without effect are not blanked yet:
# see clean_settings().
settings_from_cube <- function(space, cube) {
  columns <- Map(function(dimension, axis) {
    dimension_draws(dimension, cube[, axis])
  }, space$dimensions, seq_along(space$dimensions))
  plain_frame(columns, nrow(cube))
}

# NA where a value has no effect.
settings_to_cube <- function(space, settings) {
  axes <- vapply(space$dimensions, function(dimension) {
    dimension_place(dimension, settings[[dimension$name]])
  }, numeric(nrow(settings)))
  matrix(axes, nrow(settings), length(space$dimensions),
    dimnames = list(NULL, names(space$dimensions)))
}

# Where values lie on the axis: the inverse of dimension_draws().
dimension_place <- function(dimension, column) {
  range <- dimension$varying
  if (is_continuous(dimension)) return(position_in_range(range, column))
  values <- dimension_values(dimension, NULL)
  (match(column, values) - 0.5) / length(values)
}

position_in_range <- function(range, values) {
  scale <- if (range$spacing == "log") log else identity
  position <- (scale(values) - scale(range$from)) / (scale(range$to) - scale(range$from))
  pmin(pmax(position, 0), 1)
}

# What a model of the scores sees of settings: numbers as their place among the others, 0 to 1;
# levels as indicators. Values without effect are in the middle, so that they tell nothing.
cube_features <- function(space, settings) {
  parts <- lapply(space$dimensions, function(dimension) {
    column <- settings[[dimension$name]]
    if (is_ordered_dimension(dimension)) {
      place <- dimension_place(dimension, column)
      return(cbind(ifelse(is.na(place), 0.5, place)))
    }
    values <- dimension_values(dimension, NULL)
    at <- match(column, values)
    indicators <- matrix(0, length(at), length(values))
    known <- which(!is.na(at))
    indicators[known + (at[known] - 1L) * length(at)] <- 1
    indicators[is.na(at), ] <- 1 / length(values)
    # two levels are one apart, as the ends of a range are
    indicators / sqrt(2)
  })
  do.call(cbind, c(list(matrix(0, nrow(settings), 0L)), unname(parts)))
}

is_ordered_dimension <- function(dimension) {
  inherits(dimension$varying, "kw_range") || is.numeric(dimension$varying$values)
}
