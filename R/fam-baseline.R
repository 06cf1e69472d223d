#' Baseline: predict without looking at the predictors
#'
#' The mean of a numeric outcome, or the shares of the classes. Whatever cannot
#' beat it has learned nothing.
#'
#' @return A family for [pipeline()] and [candidates()].
#' @examples
#' candidates(baseline = fam_baseline(), linear = fam_linear())
#' @export
fam_baseline <- function() new_family(member_fam_baseline(), list())

member_fam_baseline <- function() {
  family_definition("baseline", "Baseline", c("number", "two_class", "many_class"),
    complexity_rank = 0,
    accepts = list(factors = TRUE, sparse = TRUE, missing = TRUE, nothing = TRUE),
    fit = fit_baseline, predict = predict_baseline,
    does = "Predicts the mean, or the shares of the classes, whatever the predictors say.")
}

fit_baseline <- function(x, y, weights, settings, seed, threads) {
  if (!is.factor(y)) return(stats::weighted.mean(y, weights %||% rep(1, length(y))))
  totals <- tapply(weights %||% rep(1, length(y)), y, sum)
  as.double(totals / sum(totals))
}

predict_baseline <- function(model, x) {
  if (length(model) == 1L) return(rep(model, nrow(x)))
  matrix(model, nrow(x), length(model), byrow = TRUE)
}
