#' Put numbers on a common scale
#'
#' Centre and spread are learned on the training rows. A column without spread
#' is centred only. Sparse columns are divided but not centred, so that they stay
#' sparse.
#'
#' @param by `"sd"`: mean 0 and standard deviation 1; `"range"`: 0 to 1;
#'   `"iqr"`: median 0 and interquartile range 1, little moved by outliers.
#' @param columns Which columns; default all numbers. See [of_kind()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on.
#' @examples
#' pre_scale(by = among("sd", "iqr"))
#' @export
pre_scale <- function(by = "sd", columns = NULL, ...) {
  no_more(...)
  new_step(member_step_scale(), list(by = by), rlang::enquo(columns))
}

member_step_scale <- function() {
  step_definition("scale",
    learn = learn_scale, use = use_scale, script = script_scale,
    plain = function(state) {
      # columns of mostly zeros keep them
      zeros <- lapply(state$sparse, function(sd) 0)
      list(
        centre = c(lapply(state$dense, `[`, 1L), zeros),
        spread = c(lapply(state$dense, `[`, 2L), as.list(state$sparse))
      )
    },
    does = "Puts numbers on a common scale.", columns = "number",
    hyperparameters = list(
      by = hyperparameter("choice", "sd",
        choices = c("sd", "range", "iqr"),
        sensible = function(rows, columns, classes) among("sd", "range", "iqr"),
        meaning = "Which spread becomes 1."
      )
    )
  )
}

learn_scale <- function(frame, target, settings, seed) {
  dense <- intersect(settings$columns, names(frame$columns))
  centre_spread <- lapply(frame$columns[dense], function(x) {
    if (!is.numeric(x)) refuse_column_kind("scale", "numbers", x)
    centre_and_spread(x, settings$by, target$weights)
  })
  sparse <- intersect(settings$columns, colnames(frame$sparse))
  spreads <- if (length(sparse) > 0L) {
    sparse_spreads(frame$sparse[, sparse, drop = FALSE], settings$by, target$weights)
  }
  list(state = list(dense = centre_spread, sparse = spreads), training = NULL)
}

centre_and_spread <- function(x, by, weights = NULL) {
  known <- known_values(x, weights)
  x <- known$x
  if (length(x) == 0L) return(c(0, 1))
  found <- switch(by,
    sd = c(weighted_mean(x, known$weights), weighted_sd(x, known$weights)),
    range = c(min(x), max(x) - min(x)),
    iqr = c(
      weighted_median(x, known$weights), diff(weighted_quantile(x, c(0.25, 0.75), known$weights))
    )
  )
  if (is.na(found[2]) || found[2] < 1e-12 * max(1, abs(found[1]))) found[2] <- 1
  found
}

# An interquartile range of mostly zeros says nothing: sparse columns take the sd.
sparse_spreads <- function(matrix, by, weights = NULL) {
  if (!is.null(weights)) {
    matrix <- matrix[weights > 0, , drop = FALSE]
    weights <- weights[weights > 0]
  }
  spread <- if (by == "range") {
    vapply(seq_len(ncol(matrix)), function(j) diff(range(matrix[, j])), numeric(1))
  } else {
    weights <- weights_as_rows(weights) %||% rep(1, nrow(matrix))
    n <- sum(weights)
    squares <- as.vector(Matrix::crossprod(matrix^2, weights))
    sums <- as.vector(Matrix::crossprod(matrix, weights))
    sqrt(pmax(squares - sums^2 / n, 0) / max(n - 1, 1))
  }
  spread[spread < 1e-12] <- 1
  stats::setNames(spread, colnames(matrix))
}

use_scale <- function(state, frame) {
  scaled <- each_known(frame, state$dense, function(x, known) (x - known[1]) / known[2])
  frame <- frame_replace(frame, scaled)
  if (length(state$sparse) == 0L) return(frame)
  factors <- stats::setNames(rep(1, ncol(frame$sparse)), colnames(frame$sparse))
  factors[names(state$sparse)] <- 1 / state$sparse
  names <- colnames(frame$sparse)
  scaled <- frame$sparse %*% Matrix::Diagonal(x = unname(factors))
  colnames(scaled) <- names
  new_frame(frame$columns, scaled)
}

script_scale <- function(state, about) {
  centre <- switch(about$settings$by, sd = "mean", range = "min", iqr = "median")
  spread <- switch(about$settings$by,
    sd = "sd", iqr = "IQR", range = "function(v, ...) diff(range(v, ...))"
  )
  words <- names(state$sparse)
  columns <- c(names(state$dense), words)
  if (length(columns) == 0L) return(list(lines = NULL))
  named <- r_columns(columns, about$kinds)
  all <- identical(named, "names(x)")
  some <- if (all) "x" else paste0("x[scaled", about$i, "]")
  # columns of mostly zeros keep their zeros, and are divided by their sd but for a range
  sparse <- if (length(words) > 0L && !about$weighted) code_lines(r"(
mostly_zero<<i>> <- <<words>>
centre<<i>>[mostly_zero<<i>>] <- 0
<<spread>>
)",
    i = about$i, words = r_columns(words, about$kinds),
    spread = if (about$settings$by == "iqr") paste0(
      "spread", about$i, "[mostly_zero", about$i, "] <- vapply(x[mostly_zero", about$i, "], sd, 0)"
    )
  )
  learned <- if (about$weighted) {
    as_learned(about,
      centre = c(vapply(state$dense, `[`, 0, 1L), 0 * state$sparse),
      spread = c(vapply(state$dense, `[`, 0, 2L), state$sparse)
    )
  } else {
    code_lines(r"(
centre<<i>> <- vapply(<<some>>, <<centre>>, 0, na.rm = TRUE)
spread<<i>> <- vapply(<<some>>, <<spread>>, 0, na.rm = TRUE)
<<sparse>>
<<idle>>
)",
      i = about$i, centre = centre, spread = spread, sparse = sparse, some = some,
      idle = if (any(c(vapply(state$dense, `[`, 0, 2L), state$sparse) == 1)) code_lines(r"(
# a column without spread is centred only
idle<<i>> <- is.na(spread<<i>>) | spread<<i>> < 1e-12 * pmax(1, abs(centre<<i>>))
spread<<i>>[idle<<i>>] <- 1
)", i = about$i)
    )
  }
  list(does = paste0("scale_columns", about$i), lines = code_lines(r"(
<<columns>>
<<learned>>
scale_columns<<i>> <- function(x) {
  <<scaled>> <- scale(<<some>>, centre<<i>>, spread<<i>>)
  x
}
)",
    i = about$i, columns = if (!all) paste0("scaled", about$i, " <- ", named),
    learned = learned, some = some, scaled = if (all) "x[]" else some
  ))
}
