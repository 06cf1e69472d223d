#' Replace numbers by principal components
#'
#' Columns are centred, and by default scaled, by the training rows. The sign of a
#' component is fixed so that its largest loading is positive.
#'
#' @param number How many components; below 1 as many as hold this share of the
#'   variance.
#' @param equal_scale Divide by the standard deviation first?
#' @param columns Which columns; default all numbers that are not sparse. See [of_kind()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on.
#' @examples
#' pre_components(number = among(3, 0.9))
#' @export
pre_components <- function(number = 5, equal_scale = TRUE, columns = NULL, ...) {
  no_more(...)
  new_step(
    member_step_components(),
    list(number = number, equal_scale = equal_scale),
    rlang::enquo(columns)
  )
}

member_step_components <- function() {
  step_definition("components",
    learn = learn_components, use = use_components, script = script_components, columns = "number",
    plain = function(state) {
      list(
        centre = lapply(state$centres, `[`, 1L), spread = lapply(state$centres, `[`, 2L),
        loadings = matrix_rows(state$loadings), names = state$names
      )
    },
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

script_components <- function(state, about) {
  if (length(state$columns) == 0L) return(list(lines = NULL))
  usual <- identical(paste0("component", seq_along(state$names)), state$names)
  learned <- if (about$weighted) {
    c(
      as_learned(about,
        turn_mean = vapply(state$centres, `[`, 0, 1L), turn_sd = vapply(state$centres, `[`, 0, 2L)
      ),
      paste0(
        "turn_by", about$i, " <- matrix(", r_vector(as.vector(state$loadings)), ", ncol = ",
        length(state$names), ")"
      )
    )
  } else {
    script_loadings(about, length(state$names))
  }
  list(does = paste0("to_components", about$i), lines = code_lines(r"(
turn<<i>> <- <<columns>>
standardise<<i>> <- function(x) {
  z <- scale(as.matrix(x[turn<<i>>]), turn_mean<<i>>, turn_sd<<i>>)
  z[is.na(z)] <- 0
  z
}
<<learned>>
to_components<<i>> <- function(x) {
  components <- standardise<<i>>(x) %*% turn_by<<i>>
  x <- x[setdiff(names(x), turn<<i>>)]
  x[<<names>>] <- as.data.frame(components)
  x
}
)",
    i = about$i, columns = r_columns(state$columns, about$kinds), learned = learned,
    names = if (usual) "paste0(\"component\", seq_len(ncol(components)))" else r_vector(state$names)
  ))
}

script_loadings <- function(about, kept) {
  equal <- about$settings$equal_scale
  code_lines(r"(
turn_mean<<i>> <- vapply(x[turn<<i>>], mean, 0, na.rm = TRUE)
turn_sd<<i>> <- <<unit>>
<<idle>>
turn_z<<i>> <- standardise<<i>>(x)
turned<<i>> <- eigen(crossprod(turn_z<<i>>) / (nrow(x) - 1), symmetric = TRUE)
<<kept>>
loadings<<i>> <- turned<<i>>$vectors[, seq_len(turn_kept<<i>>), drop = FALSE]
# the largest loading of a component is positive
largest<<i>> <- apply(loadings<<i>>, 2, function(l) l[which.max(abs(l))])
turn_by<<i>> <- sweep(loadings<<i>>, 2, sign(largest<<i>>), `*`)
)",
    i = about$i,
    unit = if (equal) {
      paste0("vapply(x[turn", about$i, "], sd, 0, na.rm = TRUE)")
    } else {
      paste0("rep(1, length(turn", about$i, "))")
    },
    idle = if (equal) code_lines(r"(
turn_idle<<i>> <- is.na(turn_sd<<i>>) | turn_sd<<i>> < 1e-12 * pmax(1, abs(turn_mean<<i>>))
turn_sd<<i>>[turn_idle<<i>>] <- 1
)", i = about$i),
    kept = if (about$settings$number < 1) {
      code_lines(r"(
turn_variance<<i>> <- pmax(turned<<i>>$values, 0)
enough<<i>> <- <<share>> * sum(turn_variance<<i>>) - 1e-12
turn_kept<<i>> <- which(cumsum(turn_variance<<i>>) >= enough<<i>>)[1]
)", i = about$i, share = r_text(about$settings$number))
    } else {
      paste0("turn_kept", about$i, " <- ", kept)
    }
  )
}
