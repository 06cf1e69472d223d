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
    plain = function(model, value) {
      form <- plain_linear(c(0, model$slopes), "cumulative")
      form$cuts <- model$cuts
      form
    },
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
  w <- if (about$weighted) ", weights = w" else ""
  if (length(about$levels) < 3L) return(list(fit = code_lines(r"(
model <- suppressWarnings(
  glm.fit(cbind(1, <<x>>), as.integer(y) - 1, family = binomial()<<w>>)
)
slopes <- ifelse(is.na(model$coefficients), 0, model$coefficients)
)", x = about$matrix, w = w), predict = code_lines(r"(
p <- plogis(drop(cbind(1, <<x>>) %*% slopes))
cbind(1 - p, p)
)", x = about$matrix)))
  # columns that the others make superfluous are left out
  some <- any(about$model$slopes == 0)
  chosen <- if (some) "[, kept, drop = FALSE]" else ""
  list(fit = code_lines(r"(
input_mean <- colMeans(<<x>>)
input_sd <- apply(<<x>>, 2, sd)
<<idle>>
z <- scale(<<x>>, input_mean, input_sd)<<chosen>>
# to begin with, the cuts of a model without columns
up_to <- cumsum(0.5 + <<counts>>) / sum(0.5 + <<counts>>)
model <- MASS::polr(y ~ z<<w>>,
  start = c(rep(0, ncol(z)), qlogis(up_to[-length(up_to)])), control = list(maxit = 500)
)
)",
    x = about$matrix, w = w, chosen = chosen,
    counts = if (about$weighted) "tapply(w, y, sum, default = 0)" else "table(y)",
    idle = if (some) code_lines(r"(
input_sd[input_sd < 1e-12] <- 1
# columns that the others do not make superfluous
kept <- with(qr(cbind(1, scale(<<x>>, input_mean, input_sd))), setdiff(pivot[seq_len(rank)] - 1, 0))
)", x = about$matrix)
  ), predict = code_lines(r"(
z <- scale(<<x>>, input_mean, input_sd)<<chosen>>
up_to <- cbind(0, plogis(outer(-drop(z %*% model$coefficients), model$zeta, `+`)), 1)
up_to[, -1, drop = FALSE] - up_to[, -ncol(up_to), drop = FALSE]
)", x = about$matrix, chosen = chosen))
}
