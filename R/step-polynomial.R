#' Add powers and splines of numbers
#'
#' `pre_polynomial()` keeps a number and adds its powers, after centring and
#' scaling by the training rows. `pre_splines()` puts a natural cubic spline in
#' the number's place, with knots at quantiles of the training rows; beyond the
#' outer knots it goes on as a straight line.
#'
#' @param degree Highest power, at least 2.
#' @param pieces Columns of the spline basis (degrees of freedom).
#' @param columns Which columns; default all numbers. See [of_kind()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on.
#' @examples
#' pre_polynomial(degree = among(2, 3), columns = wall_mm)
#' pre_splines(pieces = 4, columns = c(wall_mm, ramp_c_per_h))
#' @export
pre_polynomial <- function(degree = 2, columns = NULL, ...) {
  no_more(...)
  new_step(member_step_polynomial(), list(degree = degree), rlang::enquo(columns))
}

member_step_polynomial <- function() {
  step_definition("polynomial",
    learn = learn_polynomial, use = use_polynomial, script = script_polynomial, columns = "number",
    plain = function(state) {
      list(
        centre = lapply(state$known, `[`, 1L), spread = lapply(state$known, `[`, 2L),
        powers = state$powers, names = state$names
      )
    },
    does = "Adds powers of numbers, so that linear families can bend.",
    hyperparameters = list(
      degree = hyperparameter("whole", 2,
        min = 2, max = 10,
        sensible = function(rows, columns, classes) among(2, 3),
        meaning = "Highest power that is added.", rising = "Less bias, more variance."
      )
    )
  )
}

learn_polynomial <- function(frame, target, settings, seed) {
  known <- lapply(
    dense_columns_of(frame, settings$columns), centre_and_spread,
    by = "sd", weights = target$weights
  )
  powers <- seq(2, settings$degree)
  names <- paste0(
    rep(names(known), each = length(powers)),
    rep(paste0("_power", powers), length(known))
  )
  list(
    state = list(known = known, powers = powers, names = fresh_names(names, frame_names(frame))),
    training = NULL
  )
}

use_polynomial <- function(state, frame) {
  columns <- each_known(frame, state$known, function(x, known) {
    z <- (x - known[1]) / known[2]
    lapply(state$powers, function(power) z^power)
  })
  frame_swap(
    frame,
    columns = stats::setNames(as.list(unlist(columns, recursive = FALSE)), state$names)
  )
}

#' @rdname pre_polynomial
#' @export
pre_splines <- function(pieces = 4, columns = NULL, ...) {
  no_more(...)
  new_step(member_step_splines(), list(pieces = pieces), rlang::enquo(columns))
}

member_step_splines <- function() {
  step_definition("splines",
    learn = learn_splines, use = use_splines, script = script_splines, columns = "number",
    does = "Puts a natural cubic spline in the place of a number.",
    hyperparameters = list(
      pieces = hyperparameter("whole", 4,
        min = 2, max = 50,
        sensible = function(rows, columns, classes) among(3, 5, 8),
        meaning = "Columns of the spline's basis.",
        rising = "A more flexible curve: less bias, more variance."
      )
    )
  )
}

learn_splines <- function(frame, target, settings, seed) {
  known <- lapply(dense_columns_of(frame, settings$columns), function(x) {
    known <- known_values(x, target$weights)
    ends <- if (length(known$x) > 0L) range(known$x) else c(0, 0)
    inner <- unique(weighted_quantile(
      known$x, seq_len(settings$pieces - 1L) / settings$pieces, known$weights
    ))
    list(ends = ends, inner = inner[inner > ends[1] & inner < ends[2]])
  })
  sizes <- vapply(
    known, function(k) if (k$ends[1] < k$ends[2]) length(k$inner) + 1L else 1L, integer(1)
  )
  names <- paste0(rep(names(known), sizes), "_spline", sequence(sizes))
  list(
    state = list(
      known = known,
      names = fresh_names(names[seq_len(sum(sizes))], setdiff(frame_names(frame), names(known)))
    ),
    training = NULL
  )
}

use_splines <- function(state, frame) {
  columns <- each_known(frame, state$known, function(x, known) {
    if (known$ends[1] >= known$ends[2]) return(list(x))
    basis <- matrix(NA_real_, length(x), length(known$inner) + 1L)
    here <- which(!is.na(x))
    if (length(here) > 0L) {
      basis[here, ] <- splines::ns(x[here], knots = known$inner, Boundary.knots = known$ends)
    }
    lapply(seq_len(ncol(basis)), function(j) basis[, j])
  })
  columns <- stats::setNames(as.list(unlist(columns, recursive = FALSE)), state$names)
  frame_swap(frame, remove = names(state$known), columns = columns)
}

script_polynomial <- function(state, about) {
  if (length(state$known) == 0L) return(list(lines = NULL))
  by <- rep(names(state$known), each = length(state$powers))
  powers <- deparsed(as.integer(state$powers))
  made <- new_column_names(
    about, "power_names", paste0("paste0(name, \"_power\", ", powers, ")"),
    paste0(by, "_power", state$powers), state$names, by
  )
  learned <- if (about$weighted) as_learned(about, centre_sd = state$known) else code_lines(r"(
centre_sd<<i>> <- lapply(x[<<columns>>], function(v) {
  spread <- sd(v, na.rm = TRUE)
  # a column without spread is centred only
  if (is.na(spread) || spread < 1e-12 * max(1, abs(mean(v, na.rm = TRUE)))) spread <- 1
  c(mean(v, na.rm = TRUE), spread)
})
)", i = about$i, columns = r_columns(names(state$known), about$kinds))
  list(does = paste0("add_powers", about$i), lines = code_lines(r"(
<<learned>>
<<names>>
add_powers<<i>> <- function(x) {
  for (name in names(centre_sd<<i>>)) {
    z <- (x[[name]] - centre_sd<<i>>[[name]][1]) / centre_sd<<i>>[[name]][2]
    x[<<made>>] <- lapply(<<powers>>, function(power) z^power)
  }
  x
}
)", i = about$i, learned = learned, names = made$lines, made = made$code, powers = powers))
}

script_splines <- function(state, about) {
  if (length(state$known) == 0L) return(list(lines = NULL))
  bends <- vapply(state$known, function(known) known$ends[1] < known$ends[2], NA)
  sizes <- ifelse(bends, lengths(lapply(state$known, `[[`, "inner")) + 1L, 1L)
  by <- rep(names(state$known), sizes)
  made <- new_column_names(
    about, "spline_names", "paste0(name, \"_spline\", seq_len(ncol(basis)))",
    paste0(by, "_spline", sequence(sizes)), state$names, by
  )
  learned <- if (about$weighted || !all(bends)) {
    as_learned(about, knots = state$known)
  } else {
    code_lines(r"(
knots<<i>> <- lapply(x[<<columns>>], function(v) {
  ends <- range(v, na.rm = TRUE)
  inner <- unique(quantile(v, seq_len(<<pieces>> - 1) / <<pieces>>, na.rm = TRUE, names = FALSE))
  list(ends = ends, inner = inner[inner > ends[1] & inner < ends[2]])
})
)",
      i = about$i, columns = r_columns(names(state$known), about$kinds),
      pieces = r_text(as.double(about$settings$pieces))
    )
  }
  list(does = paste0("add_splines", about$i), lines = code_lines(r"(
<<learned>>
<<names>>
add_splines<<i>> <- function(x) {
  for (name in names(knots<<i>>)) {
    known <- knots<<i>>[[name]]
    v <- x[[name]]
    here <- !is.na(v)
    basis <- matrix(NA_real_, length(v), length(known$inner) + 1)
    if (any(here)<<and>>) {
      basis[here, ] <- splines::ns(v[here], knots = known$inner, Boundary.knots = known$ends)
    }
<<flat>>
    x[[name]] <- NULL
    x[<<made>>] <- as.data.frame(basis)
  }
  x
}
)",
    i = about$i, learned = learned, names = made$lines, made = made$code,
    and = if (all(bends)) "" else " && known$ends[1] < known$ends[2]",
    flat = if (!all(bends)) c(
      "    # a column without spread stays as it is",
      "    if (known$ends[1] == known$ends[2]) basis <- matrix(v)"
    )
  ))
}
