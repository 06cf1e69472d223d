#' Replace numbers by principal components
#'
#' Columns are centred, and by default scaled, by the training rows. The sign of a
#' component is fixed so that its largest loading is positive.
#'
#' @param number How many components; below 1 as many as hold this share of the
#'   variance.
#' @param equal_scale Divide by the standard deviation first?
#' @param columns Which columns; default all numbers that are not sparse. See [of_kind()].
#' @return A step for [pipeline()].
#' @examples
#' pre_components(number = among(3, 0.9))
#' @export
pre_components <- function(number = 5, equal_scale = TRUE, columns = NULL) {
  new_step(
    member_step_components(),
    list(number = number, equal_scale = equal_scale),
    rlang::enquo(columns)
  )
}

member_step_components <- function() {
  step_definition("components",
    learn = learn_components, use = use_components, columns = "number",
    does = "Replaces numbers by their leading principal components.",
    hyperparameters = list(
      number = hyperparameter("number", 5,
        min = 0, open_min = TRUE,
        sensible = function(rows, columns, classes) among(0.8, 0.9, 0.99),
        meaning = "How many components, or below 1 which share of the variance, is kept.",
        rising = "Less bias, more variance."
      ),
      equal_scale = hyperparameter(
        "flag",
        TRUE,
        sensible = function(rows, columns, classes) among(TRUE, FALSE),
        meaning = "Whether all columns count alike whatever their spread."
      )
    )
  )
}

learn_components <- function(frame, target, settings, seed) {
  columns <- dense_columns_of(frame, settings$columns)
  columns <- columns[vapply(columns, is.numeric, logical(1))]
  if (length(columns) == 0L) return(list(state = list(columns = character()), training = NULL))
  centres <- lapply(columns, centre_and_spread, by = "sd", weights = target$weights)
  if (!settings$equal_scale) centres <- lapply(centres, function(c) c(c[1], 1))
  z <- standardised(columns, centres, frame$n)
  if (!is.null(target$weights)) z <- z * sqrt(target$weights)
  decomposed <- eigen(crossprod(z) / max(1, frame$n - 1), symmetric = TRUE)
  variance <- pmax(decomposed$values, 0)
  kept <- if (settings$number < 1) {
    which(cumsum(variance) >= settings$number * sum(variance) - 1e-12)[1]
  } else {
    min(settings$number, ncol(z))
  }
  loadings <- decomposed$vectors[, seq_len(kept), drop = FALSE]
  top <- apply(abs(loadings), 2L, which.max)
  loadings <- loadings * rep(sign(loadings[cbind(top, seq_len(kept))]), each = nrow(loadings))
  names <- fresh_names(
    paste0("component", seq_len(kept)), setdiff(frame_names(frame), names(columns))
  )
  list(
    state = list(columns = names(columns), centres = centres, loadings = loadings, names = names),
    training = NULL
  )
}

# Missing values lie at the centre.
standardised <- function(columns, centres, n) {
  z <- Map(function(x, centre) (x - centre[1]) / centre[2], columns[names(centres)], centres)
  z <- matrix(unlist(z, use.names = FALSE), n, length(centres))
  z[is.na(z)] <- 0
  z
}

use_components <- function(state, frame) {
  if (length(state$columns) == 0L) return(frame)
  z <- standardised(frame$columns[state$columns], state$centres, frame$n) %*% state$loadings
  columns <- stats::setNames(lapply(seq_along(state$names), function(j) z[, j]), state$names)
  frame_swap(frame, remove = state$columns, columns = columns)
}
