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

# What a model of the scores sees of a dimension: of numbers their place among the others, 0 to 1;
# of levels indicators. Values without effect are in the middle, so that they tell nothing. `codes`:
# of listed values which ones they are; less than 1 for others.
dimension_features <- function(dimension, column, codes) {
  if (is_continuous(dimension)) {
    place <- position_in_range(dimension$varying, column)
    place[is.na(place)] <- 0.5
    return(place)
  }
  n <- length(dimension_values(dimension, NULL))
  other <- which(codes < 1L)
  if (is_ordered_dimension(dimension)) {
    place <- (codes - 0.5) / n
    place[other] <- 0.5
    return(place)
  }
  indicators <- matrix(0, length(codes), n)
  known <- which(codes > 0L)
  indicators[known + (codes[known] - 1L) * length(codes)] <- 1
  indicators[other, ] <- 1 / n
  # two levels are one apart, as the ends of a range are
  indicators / sqrt(2)
}

is_ordered_dimension <- function(dimension) {
  inherits(dimension$varying, "kw_range") || is.numeric(dimension$varying$values)
}
