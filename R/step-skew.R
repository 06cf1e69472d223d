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
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on.
#' @examples
#' pre_skew(by = among("yeo_johnson", "normal"), columns = weight_g)
#' @export
pre_skew <- function(by = "yeo_johnson", columns = NULL) {
  new_step(member_step_skew(), list(by = by), rlang::enquo(columns))
}

member_step_skew <- function() {
  step_definition("skew",
    learn = learn_skew, use = use_skew, script = script_skew, columns = "number",
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
  columns <- lapply(names(state$columns), function(name) {
    x <- frame$columns[[name]]
    known <- state$columns[[name]]
    if (isTRUE(known$idle)) return(x)
    switch(state$by,
      log = log(pmax(x + known$shift, known$floor)),
      box_cox = box_cox(pmax(x + known$shift, known$floor), known$power),
      yeo_johnson = yeo_johnson(x, known$power),
      normal = to_normal(x, known)
    )
  })
  frame_replace(frame, stats::setNames(columns, names(state$columns)))
}

to_normal <- function(x, known) {
  if (length(known$grid) < 2L) return(ifelse(is.na(x), NA_real_, 0))
  stats::approx(known$grid, known$scores, x, rule = 2)$y
}

# The logarithm and Yeo and Johnson's transformation.
script_skew <- function(state, about) {
  idle <- vapply(state$columns, function(known) isTRUE(known$idle), NA)
  few <- about$frame$n <= 1e4
  if (about$weighted || any(idle) || !state$by %in% c("log", "yeo_johnson")) return(NULL)
  if (state$by == "yeo_johnson" && !few) return(NULL)
  columns <- r_columns(names(state$columns), about$kinds)
  if (state$by == "log") {
    return(list(does = paste0("take_log", about$i), lines = code_lines(r"(
# columns that reach 0 or below are shifted above it
shift<<i>> <- lapply(x[<<columns>>], function(v) {
  lowest <- min(v, na.rm = TRUE)
  if (lowest > 0) return(c(0, lowest))
  shift <- -lowest + median(abs(v - lowest), na.rm = TRUE) / 100 + 1e-8 * max(1, abs(lowest))
  c(shift, lowest + shift)
})
take_log<<i>> <- function(x) {
  for (name in names(shift<<i>>)) {
    x[[name]] <- log(pmax(x[[name]] + shift<<i>>[[name]][1], shift<<i>>[[name]][2]))
  }
  x
}
)", i = about$i, columns = columns)))
  }
  list(does = paste0("straighten", about$i), lines = code_lines(r"(
# Yeo & Johnson (2000); the power is that of the largest likelihood
bend<<i>> <- function(v, power) {
  up <- !is.na(v) & v >= 0
  down <- !is.na(v) & v < 0
  other <- 2 - power
  v[up] <- if (abs(power) < 1e-6) log1p(v[up]) else ((v[up] + 1)^power - 1) / power
  v[down] <- if (abs(other) < 1e-6) -log1p(-v[down]) else -((1 - v[down])^other - 1) / other
  v
}
powers<<i>> <- lapply(x[<<columns>>], function(v) {
  v <- v[!is.na(v)]
  likelihood <- function(power) {
    z <- bend<<i>>(v, power)
    variance <- mean((z - mean(z))^2)
    if (!is.finite(variance) || variance <= 0) return(-1e300)
    -length(v) / 2 * log(variance) + (power - 1) * sum(sign(v) * log1p(abs(v)))
  }
  signif(optimize(likelihood, c(-5, 5), maximum = TRUE, tol = 1e-4)$maximum, 6)
})
straighten<<i>> <- function(x) {
  for (name in names(powers<<i>>)) x[[name]] <- bend<<i>>(x[[name]], powers<<i>>[[name]])
  x
}
)", i = about$i, columns = columns))
}
