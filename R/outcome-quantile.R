# Several quantiles of a number at once: what it will be at most in 10, 50, 90 of 100 cases.

member_outcome_quantiles <- function() {
  outcome_definition("quantiles", "quantiles", "quantiles of a number",
    read = function(values, rows, name, event, asked) {
      list(values = outcome_numbers(values, name, "quantiles"), levels = NULL, event = NULL)
    },
    wide = TRUE, metrics = c("mean_pinball", "coverage_gap"),
    says = function(outcome, brief, weights) {
      says_number(outcome, brief, weights, paste(quantile_words(brief$quantiles), "of the number"))
    },
    about = about_number,
    foretells = function(model) quantile_words(model$quantiles)
  )
}

quantile_words <- function(quantiles) {
  paste("the", enumerate(vapply(quantiles, format, ""), 9L), "quantiles")
}

quantile_names <- function(quantiles) {
  if (!is.null(quantiles)) paste0("q_", vapply(100 * quantiles, format, "", digits = 6))
}

# Which of the columns stands for the whole where one has to.
middle_quantile <- function(quantiles) {
  from_half <- abs(quantiles - 0.5)
  which(from_half < min(from_half) + 1e-9)
}

# Predictions of it: rows x quantiles -> one number a row.
middle_prediction <- function(prediction, quantiles) {
  rowMeans(prediction[, middle_quantile(quantiles), drop = FALSE])
}

middle_words <- function(quantiles) {
  at <- vapply(quantiles[middle_quantile(quantiles)], format, "")
  if (length(at) == 1L) return(paste("the", at, "quantile"))
  paste("halfway between the", paste(at, collapse = " and the "), "quantile")
}

usual_quantiles <- c(0.1, 0.5, 0.9)

check_quantiles <- function(quantiles, kind, outcome) {
  if (is.null(quantiles)) return(if (kind == "quantiles") usual_quantiles)
  if (kind != "quantiles") {
    stop_kw("brief", paste0(
      "`quantiles` is for numbers, but ", quoted(outcome), " is predicted as ", kind_words(kind),
      "."
    ), remedy = "Leave it out.")
  }
  fine <- is.numeric(quantiles) && length(quantiles) > 0L && !anyNA(quantiles) &&
    all(quantiles > 0) && all(quantiles < 1) && !is.unsorted(quantiles, strictly = TRUE)
  check_argument(fine, "quantiles", "rising numbers between 0 and 1", quantiles)
  as.double(quantiles)
}

# The outcome of some rows as metrics see it: of quantiles, with the note of which they are.
truth_of <- function(target, rows = seq_along(target$outcome)) {
  truth <- target$outcome[rows]
  if (!is.null(target$costs)) {
    return(structure(truth,
      costs = target$costs[rows, , drop = FALSE], class = c("kw_costed_truth", "factor")
    ))
  }
  if (is.null(target$quantiles)) return(truth)
  structure(truth, quantiles = target$quantiles, class = "kw_quantile_truth")
}

#' @export
`[.kw_quantile_truth` <- function(x, i) {
  structure(unclass(x)[i], quantiles = attr(x, "quantiles"), class = "kw_quantile_truth")
}

# Classes with what a mistake costs in each row.
#' @export
`[.kw_costed_truth` <- function(x, i) {
  bare <- structure(x, costs = NULL, class = "factor")
  structure(bare[i],
    costs = attr(x, "costs")[i, , drop = FALSE], class = c("kw_costed_truth", "factor")
  )
}

# The columns that a prediction has: of classes, of quantiles; NULL: it is one number a row.
prediction_columns <- function(truth) {
  if (is.factor(truth)) levels(truth) else quantile_names(attr(truth, "quantiles"))
}
