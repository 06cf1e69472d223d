#' Cumulative logit regression for ordered classes
#'
#' One weight a column for all cuts between the classes: the odds of being above a cut rise alike
#' at every cut (proportional odds; package MASS). With two classes it is logistic regression.
#' Columns that others make superfluous get no coefficient.
#'
#' @eval family_help("cumulative")
#' @return A family for [pipeline()] and [candidates()].
#' @references McCullagh (1980), Regression models for ordinal data, J. R. Stat. Soc. B 42(2).
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have.
#' @examples
#' pipeline(pre_missing(), pre_onehot(drop_one = TRUE), fam_cumulative())
#' @export
fam_cumulative <- function() new_family(member_fam_cumulative(), list())

member_fam_cumulative <- function() {
  family_definition("cumulative", "Cumulative logit", "ordered",
    complexity_rank = 20, accepts = list(weights = TRUE), fit = fit_cumulative,
    predict = predict_cumulative, script = script_cumulative, packages = "MASS",
    does = "Weighs the columns and adds them up; the sum says how far up the classes a row stands."
  )
}

fit_cumulative <- function(x, y, weights, settings, seed, threads) {
  weights <- weights %||% rep(1, length(y))
  if (nlevels(y) == 2L) {
    fit <- logistic_fit(cbind(1, x), as.integer(y) - 1L, weights)
    coefficients <- plain_coefficients(fit$coefficients)
    return(list(slopes = coefficients[-1L], cuts = -coefficients[1]))
  }
  scale <- column_scale(x)
  scaled <- scaled_columns(x, scale)
  # columns that the others and a constant do not make superfluous
  independent <- qr(cbind(1, scaled))
  kept <- setdiff(independent$pivot[seq_len(independent$rank)] - 1L, 0L)
  data <- list(y = y, x = scaled[, kept, drop = FALSE], w = weights)
  # the cuts of a model without columns, to begin with
  counts <- 0.5 + weighted_counts(y, nlevels(y), weights)
  shares <- cumsum(counts) / sum(counts)
  start <- c(rep(0, length(kept)), stats::qlogis(shares[-nlevels(y)]))
  fit <- MASS::polr(y ~ x,
    data = data, weights = data$w, start = start, Hess = FALSE, control = list(maxit = 500)
  )
  if (fit$convergence != 0L) {
    warning("cumulative logit regression stopped before it converged", call. = FALSE)
  }
  slopes <- numeric(ncol(x))
  slopes[kept] <- unname(fit$coefficients) / scale$sd[kept]
  list(slopes = slopes, cuts = unname(fit$zeta) + sum(slopes * scale$centre))
}

predict_cumulative <- function(model, x) {
  height <- drop(x %*% model$slopes)
  up_to <- cbind(0, stats::plogis(outer(-height, model$cuts, `+`)), 1)
  unname(up_to[, -1L, drop = FALSE] - up_to[, -ncol(up_to), drop = FALSE])
}

script_cumulative <- function(settings, about) {
  # columns that the others make superfluous were left out
  if (about$weighted || any(about$model$slopes == 0) || length(about$levels) < 3L) return(NULL)
  list(fit = code_lines(r"(
input_mean <- colMeans(<<x>>)
input_sd <- apply(<<x>>, 2, sd)
z <- scale(<<x>>, input_mean, input_sd)
# to begin with, the cuts of a model without columns
up_to <- cumsum(0.5 + table(y)) / sum(0.5 + table(y))
model <- MASS::polr(y ~ z,
  start = c(rep(0, ncol(z)), qlogis(up_to[-length(up_to)])), control = list(maxit = 500)
)
)", x = about$matrix), predict = code_lines(r"(
height <- drop(scale(<<x>>, input_mean, input_sd) %*% model$coefficients)
up_to <- cbind(0, plogis(outer(-height, model$zeta, `+`)), 1)
up_to[, -1, drop = FALSE] - up_to[, -ncol(up_to), drop = FALSE]
)", x = about$matrix))
}
