# What is predicted: one number a row; or a probability of each class, or several quantiles, rows x
# columns; along a path one more dimension. Truth is double, or a factor of the classes; see
# truth_of() for quantiles.

# A single prediction as a path of one value.
as_path_prediction <- function(truth, prediction) {
  dims <- dim(prediction)
  if (!is.null(prediction_columns(truth))) {
    if (length(dims) == 2L) dim(prediction) <- c(dims, 1L)
  } else if (is.null(dims)) {
    dim(prediction) <- c(length(prediction), 1L)
  }
  prediction
}

# A path of one value without its last dimension.
one_prediction <- function(prediction, kind) {
  if (!is_wide(kind)) return(as.vector(prediction))
  dims <- dim(prediction)
  matrix(prediction, dims[1], dims[2])
}

# One value of a path.
path_prediction_at <- function(prediction, place, kind) {
  if (is_wide(kind)) prediction <- prediction[, , place, drop = FALSE]
  if (!is_wide(kind)) prediction <- prediction[, place, drop = FALSE]
  one_prediction(prediction, kind)
}

# Of several sets of rows, below one another.
bind_predictions <- function(parts, kind) {
  if (is_wide(kind)) do.call(rbind, parts) else unlist(parts)
}

prediction_rows <- function(prediction, rows) {
  if (is.null(dim(prediction))) prediction[rows] else prediction[rows, , drop = FALSE]
}

# Of no row.
no_prediction <- function(kind, levels) {
  if (is_wide(kind)) matrix(0, 0L, length(levels)) else numeric()
}
