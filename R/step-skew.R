#' Straighten skewed numbers
#'
#' What the transformation needs is learned on the training rows. New values
#' outside the range where a transformation is defined are moved to its edge.
#'
#' * `"yeo_johnson"`: power transformation for any sign (Yeo & Johnson 2000,
#'   Biometrika 87), power by maximum likelihood.
#' * `"box_cox"`: power transformation for positive numbers (Box & Cox 1964); others
#'   are shifted to be positive first.
#' * `"log"`: logarithm, after a shift where numbers are not positive.
#' * `"normal"`: to the quantiles of a normal distribution.
#'
#' The likelihood is taken over all training values, or over 10,000 of their
#' quantiles where there are more.
#'
#' @param by Which transformation.
#' @param columns Which columns; default all numbers. See [of_kind()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on.
#' @examples
#' pre_skew(by = among("yeo_johnson", "normal"), columns = weight_g)
#' @export
pre_skew <- function(by = "yeo_johnson", columns = NULL, ...) {
  no_more(...)
  new_step(member_step_skew(), list(by = by), rlang::enquo(columns))
}

member_step_skew <- function() {
  step_definition("skew",
    learn = learn_skew, use = use_skew, script = script_skew, columns = "number",
    plain = function(state) {
      list(by = state$by, columns = Filter(function(x) !isTRUE(x$idle), state$columns))
    },
    does = "Transforms skewed numbers to be closer to symmetric.",
    hyperparameters = list(
      by = hyperparameter(
        "choice",
        "yeo_johnson",
        choices = c("yeo_johnson", "box_cox", "log", "normal"),
        sensible = function(rows, columns, classes) among("yeo_johnson", "log", "normal"),
        meaning = "Which transformation."
      )
    )
  )
}

learn_skew <- function(frame, target, settings, seed) {
  learned <- lapply(dense_columns_of(frame, settings$columns), function(x) {
    if (!is.numeric(x)) refuse_column_kind("skew", "numbers", x)
    known <- known_values(x, target$weights)
    straighten(known$x, settings$by, known$weights)
  })
  list(state = list(by = settings$by, columns = learned), training = NULL)
}

# The selected columns that are not sparse.
dense_columns_of <- function(frame, columns) frame$columns[intersect(columns, names(frame$columns))]

straighten <- function(x, by, weights = NULL) {
  if (length(x) < 2L || min(x) == max(x)) return(list(idle = TRUE))
  lowest <- min(x)
  shift <- if (lowest > 0) {
    0
  } else {
    -lowest + weighted_median(abs(x - lowest), weights) / 100 + 1e-8 * max(1, abs(lowest))
  }
  floor <- lowest + shift
  some <- x
  of_some <- weights
  if (length(x) > 1e4) {
    some <- weighted_quantile(x, stats::ppoints(1e4), weights)
    of_some <- NULL
  }
  switch(by,
    log = list(shift = shift, floor = floor),
    box_cox = list(
      shift = shift, floor = floor,
      power = best_power(some + shift, box_cox, log(some + shift), of_some)
    ),
    yeo_johnson = list(
      power = best_power(some, yeo_johnson, sign(some) * log1p(abs(some)), of_some)
    ),
    normal = {
      n <- rows_of_weights(weights, length(x))
      grid <- unique(weighted_quantile(x, stats::ppoints(min(1000, n)), weights))
      middle <- (share_up_to(x, grid, weights) + share_below(x, grid, weights)) / 2
      half <- 0.5 / n
      list(grid = grid, scores = stats::qnorm(pmin(pmax(middle, half), 1 - half)))
    }
  )
}

share_up_to <- function(x, grid, weights, below = FALSE) {
  order <- order(x)
  sums <- c(0, cumsum((weights %||% rep(1, length(x)))[order]))
  sums[findInterval(grid, x[order], left.open = below) + 1L] / sums[length(sums)]
}

share_below <- function(x, grid, weights) share_up_to(x, grid, weights, below = TRUE)

use_skew <- function(state, frame) {
  columns <- each_known(frame, state$columns, function(x, known) {
    if (isTRUE(known$idle)) return(x)
    switch(state$by,
      log = log(pmax(x + known$shift, known$floor)),
      box_cox = box_cox(pmax(x + known$shift, known$floor), known$power),
      yeo_johnson = yeo_johnson(x, known$power),
      normal = to_normal(x, known)
    )
  })
  frame_replace(frame, columns)
}

to_normal <- function(x, known) {
  if (length(known$grid) < 2L) return(ifelse(is.na(x), NA_real_, 0))
  stats::approx(known$grid, known$scores, x, rule = 2)$y
}

script_skew <- function(state, about) {
  # columns of one value are left as they are
  known <- Filter(function(column) !isTRUE(column$idle), state$columns)
  if (length(known) == 0L) return(list(lines = NULL))
  about$columns <- r_columns(names(known), about$kinds)
  switch(state$by,
    log = script_log(known, about), normal = script_normal(known, about),
    script_power(known, state$by, about)
  )
}

# Lines that learn how far columns are shifted, and from where.
script_shift <- function(known, about) {
  if (about$weighted) return(as_learned(about, shift = lapply(known, function(column) {
    c(column$shift, column$floor)
  })))
  code_lines(r"(
# columns that reach 0 or below are shifted above it
shift<<i>> <- lapply(x[<<columns>>], function(v) {
  lowest <- min(v, na.rm = TRUE)
  if (lowest > 0) return(c(0, lowest))
  shift <- -lowest + median(abs(v - lowest), na.rm = TRUE) / 100 + 1e-8 * max(1, abs(lowest))
  c(shift, lowest + shift)
})
)", i = about$i, columns = about$columns)
}

script_log <- function(known, about) {
  list(does = paste0("take_log", about$i), lines = code_lines(r"(
<<shift>>
take_log<<i>> <- function(x) {
  for (name in names(shift<<i>>)) {
    x[[name]] <- log(pmax(x[[name]] + shift<<i>>[[name]][1], shift<<i>>[[name]][2]))
  }
  x
}
)", i = about$i, shift = script_shift(known, about)))
}

# Powers: Box & Cox (1964), Yeo & Johnson (2000).
script_power <- function(known, by, about) {
  shifts <- by == "box_cox"
  shift <- paste0("shift", about$i, "[[name]]")
  learned <- if (about$weighted) {
    as_learned(about, powers = vapply(known, `[[`, 0, "power"))
  } else {
    code_lines(r"(
# the power of the largest likelihood
powers<<i>> <- vapply(<<columns>>, function(name) {
  v <- x[[name]][!is.na(x[[name]])]
  <<some>>
  <<shift>>
  likelihood <- function(power) {
    z <- bend<<i>>(v, power)
    variance <- mean((z - mean(z))^2)
    if (!is.finite(variance) || variance <= 0) return(-1e300)
    -length(v) / 2 * log(variance) + (power - 1) * sum(<<jacobian>>)
  }
  signif(optimize(likelihood, c(-5, 5), maximum = TRUE, tol = 1e-4)$maximum, 6)
}, 0)
)",
      i = about$i, columns = about$columns,
      some = if (about$frame$n > 1e4) {
        "if (length(v) > 1e4) v <- quantile(v, ppoints(1e4), names = FALSE)"
      },
      shift = if (shifts) paste0("v <- v + ", shift, "[1]"),
      jacobian = if (shifts) "log(v)" else "sign(v) * log1p(abs(v))"
    )
  }
  list(does = paste0("straighten", about$i), lines = code_lines(r"(
<<shift>>
<<bend>>
<<learned>>
straighten<<i>> <- function(x) {
  for (name in names(powers<<i>>)) {
    v <- <<v>>
    x[[name]] <- bend<<i>>(v, powers<<i>>[[name]])
  }
  x
}
)",
    i = about$i, learned = learned, shift = if (shifts) script_shift(known, about),
    bend = script_bend(paste0("bend", about$i), by),
    v = if (shifts) paste0("pmax(x[[name]] + ", shift, "[1], ", shift, "[2])") else "x[[name]]"
  ))
}

script_normal <- function(known, about) {
  learned <- if (about$weighted) {
    as_learned(about, ranks = lapply(known, `[`, c("grid", "scores")))
  } else {
    code_lines(r"(
# normal scores of up to 1,000 quantiles
ranks<<i>> <- lapply(x[<<columns>>], function(v) {
  v <- sort(v)
  grid <- unique(quantile(v, ppoints(min(1000, length(v))), names = FALSE))
  below <- findInterval(grid, v, left.open = TRUE)
  middle <- (findInterval(grid, v) + below) / 2 / length(v)
  half <- 0.5 / length(v)
  list(grid = grid, scores = qnorm(pmin(pmax(middle, half), 1 - half)))
})
)", i = about$i, columns = about$columns)
  }
  list(does = paste0("to_normal", about$i), lines = code_lines(r"(
<<learned>>
to_normal<<i>> <- function(x) {
  for (name in names(ranks<<i>>)) {
    known <- ranks<<i>>[[name]]
    x[[name]] <- <<score>>
  }
  x
}
)",
    i = about$i, learned = learned,
    score = if (any(lengths(lapply(known, `[[`, "grid")) < 2L)) c(
      "if (length(known$grid) < 2) ifelse(is.na(x[[name]]), NA, 0) else",
      "  approx(known$grid, known$scores, x[[name]], rule = 2)$y"
    ) else "approx(known$grid, known$scores, x[[name]], rule = 2)$y"
  ))
}
