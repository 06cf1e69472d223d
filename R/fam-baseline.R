#' Baseline: predict without looking at the predictors
#'
#' Whatever cannot beat it has learned nothing.
#'
#' @eval family_help("baseline")
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A family for [pipeline()] and [candidates()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have.
#' @examples
#' candidates(baseline = fam_baseline(), linear = fam_linear())
#' @export
fam_baseline <- function(guess = "shares", ...) {
  no_more(...)
  new_family(member_fam_baseline(), list(guess = guess))
}

member_fam_baseline <- function() {
  family_definition(
    "baseline", "Baseline",
    c("number", "count", "positive", "quantiles", "two_class", "many_class", "ordered"),
    hyperparameters = list(
      guess = hyperparameter("choice", "shares",
        choices = c("shares", "majority", "draw"),
        sensible = function(rows, columns, classes) among("shares", "majority", "draw"),
        meaning = "For classes: their shares, the commonest one, or one drawn for each row.",
        active_when = for_classes
      )
    ),
    complexity_rank = 0,
    accepts = list(factors = TRUE, sparse = TRUE, missing = TRUE, weights = TRUE, nothing = TRUE),
    random = TRUE, fit = fit_baseline, predict = predict_baseline, script = script_baseline,
    plain = function(model, value) {
      if (!isTRUE(model$draw)) plain_constant(model$shares %||% model$mean)
    },
    does = "Predicts the mean, or the shares of the classes, whatever the predictors say."
  )
}

# For hyperparameters that matter for classes, or for numbers, only.
for_classes <- function(settings, kind) rep(has_classes(kind), length(settings[[1]]))
for_numbers <- function(settings, kind) rep(!has_classes(kind), length(settings[[1]]))

fit_baseline <- function(x, y, weights, settings, seed, threads, quantiles = NULL) {
  if (!is.null(quantiles)) {
    return(list(shares = weighted_quantile(y, quantiles, weights), draw = FALSE))
  }
  weights <- weights %||% rep(1, length(y))
  if (!is.factor(y)) return(list(mean = stats::weighted.mean(y, weights)))
  totals <- as.double(tapply(weights, y, sum, default = 0))
  shares <- totals / sum(totals)
  if (settings$guess == "majority") shares <- as.double(seq_along(shares) == which.max(shares))
  list(shares = shares, draw = settings$guess == "draw", seed = seed)
}

predict_baseline <- function(model, x) {
  n <- nrow(x)
  if (is.null(model$shares)) return(rep(model$mean, n))
  if (!model$draw) return(matrix(model$shares, n, length(model$shares), byrow = TRUE))
  drawn <- with_seed(model$seed, sample.int(length(model$shares), n, TRUE, model$shares))
  out <- matrix(0, n, length(model$shares))
  out[cbind(seq_len(n), drawn)] <- 1
  out
}

script_baseline <- function(settings, about) {
  weighted <- about$weighted
  if (!is.null(about$quantiles)) {
    shares <- r_vector(about$quantiles)
    return(list(
      fit = c(
        if (weighted) script_weighted_quantile(),
        if (weighted) paste0("guess <- weighted_quantile(y, ", shares, ", w)") else
          paste0("guess <- quantile(y, ", shares, ", names = FALSE)")
      ),
      predict = "matrix(guess, nrow(x), length(guess), byrow = TRUE)"
    ))
  }
  if (is.null(about$levels)) {
    mean <- if (weighted) "weighted.mean(y, w)" else "mean(y)"
    return(list(fit = paste("guess <-", mean), predict = "rep(guess, nrow(x))"))
  }
  shares <- if (weighted) {
    "class_shares <- as.numeric(tapply(w, y, sum, default = 0)) / sum(w)"
  } else {
    "class_shares <- as.numeric(table(y)) / length(y)"
  }
  list(
    fit = c(shares, if (settings$guess == "majority") {
      "class_shares <- as.numeric(seq_along(class_shares) == which.max(class_shares))"
    }),
    predict = if (settings$guess == "draw") {
      code_lines(r"(
<<seed>>
drawn <- sample.int(length(class_shares), nrow(x), TRUE, class_shares)
p <- matrix(0, nrow(x), length(class_shares))
p[cbind(seq_len(nrow(x)), drawn)] <- 1
p
)", seed = r_seed(about$seed))
    } else {
      "matrix(class_shares, nrow(x), length(class_shares), byrow = TRUE)"
    }
  )
}
