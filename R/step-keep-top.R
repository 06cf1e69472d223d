#' Keep the columns that go best with the outcome
#'
#' A filter: every selected column is judged by itself on the training rows (or,
#' under `"importance"`, by a random forest) and the best are kept. Numbers and categories
#' of few or many levels are judged on one scale.
#'
#' @param top How many columns to keep; below 1 the share of them.
#' @param by `"p_value"`: of the F test of a number or a category against a numeric outcome,
#'   of a number against classes, and of the chi-squared test of a category against
#'   classes; the smallest are kept. `"information"`: mutual information, numbers cut into
#'   quantile bins, less what a column without any would get by chance, (rows - 1)
#'   (columns - 1) / (2 n) of the table (Miller 1955). `"importance"`: a forest's impurity
#'   importance, corrected for bias (Nembrini, Koenig & Wright 2018, Bioinformatics 34); whole
#'   weights repeat rows, others are chances of being drawn.
#' @param columns Which columns compete; default all numbers and categories. Others
#'   stay. Ordered categories are judged by their places.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on.
#' @examples
#' pre_keep_top(top = among(5, 10, 20), by = "information")
#' @export
pre_keep_top <- function(top = 20, by = "p_value", columns = NULL, ...) {
  no_more(...)
  new_step(member_step_keep_top(), list(top = top, by = by), rlang::enquo(columns))
}

member_step_keep_top <- function() {
  step_definition("keep_top",
    learn = learn_keep_top, use = drop_named, script = script_keep_top,
    plain = plain_dropped,
    does = "Keeps the columns that go best with the outcome.",
    columns = c("number", "category", "ordered"), random = TRUE, packages = "ranger",
    hyperparameters = list(
      top = hyperparameter("number", 20,
        min = 0, open_min = TRUE,
        sensible = function(rows, columns, classes) among(0.25, 0.5, 0.75),
        meaning = "How many columns (below 1: which share of them) are kept.",
        rising = "Less bias, more variance, slower."
      ),
      by = hyperparameter("choice", "p_value",
        choices = c("p_value", "information", "importance"),
        sensible = function(rows, columns, classes) among("p_value", "information"),
        meaning = "How columns are judged."
      )
    )
  )
}

learn_keep_top <- function(frame, target, settings, seed) {
  names <- settings$columns
  kept <- if (settings$top < 1) {
    ceiling(settings$top * length(names))
  } else {
    min(settings$top, length(names))
  }
  scores <- judge_columns(frame, names, target$outcome, settings$by, target$weights)
  best <- names[order(-scores)][seq_len(kept)]
  list(state = setdiff(names, best), training = NULL)
}

# One score a column, higher = goes better with the outcome.
judge_columns <- function(frame, names, outcome, by, weights = NULL) {
  if (!is.null(weights)) {
    frame <- frame_rows(frame, which(weights > 0))
    outcome <- outcome[weights > 0]
    weights <- weights_as_rows(weights[weights > 0])
  }
  repeated <- if (by == "importance") repeated_rows(weights)
  if (!is.null(repeated)) {
    frame <- frame_rows(frame, repeated)
    outcome <- outcome[repeated]
    weights <- NULL
  }
  dense <- dense_columns_of(frame, names)
  sparse <- intersect(names, colnames(frame$sparse))
  if (by == "importance") return(forest_importance(frame, dense, sparse, outcome, weights)[names])
  judge <- if (by == "p_value") judge_by_p else judge_by_information
  whole <- by == "p_value" & vapply(dense, function(x) is.numeric(x) && !anyNA(x), NA)
  scores <- stats::setNames(numeric(length(dense)), names(dense))
  scores[whole] <- judge_numbers_by_p(dense[whole], outcome, weights)
  scores[!whole] <- vapply(dense[!whole], judge, numeric(1), outcome = outcome, weights = weights)
  if (length(sparse) > 0L) {
    scores <- c(scores, judge_sparse(frame$sparse[, sparse, drop = FALSE], outcome, by, weights))
  }
  scores[names]
}

# Numbers without gaps, all at once.
judge_numbers_by_p <- function(columns, outcome, weights = NULL) {
  n <- rows_of_weights(weights, length(outcome))
  if (length(columns) == 0L || n < 3) return(rep(0, length(columns)))
  x <- matrix(as.double(unlist(columns, use.names = FALSE)), length(outcome))
  minus_log_f(f_statistics(x, outcome, weights), n, outcome)
}

# Minus the logarithm of the p value, so that tiny ones are still told apart.
judge_by_p <- function(x, outcome, weights = NULL) {
  here <- !is.na(x)
  n <- rows_of_weights(weights[here], sum(here))
  if (n < 3) return(0)
  outcome <- outcome[here]
  weights <- weights[here]
  if (is.ordered(x)) x <- as.integer(x)
  x <- x[here]
  if (is.numeric(x)) {
    return(minus_log_f(f_statistics(matrix(as.double(x)), outcome, weights), n, outcome))
  }
  codes <- coarse_codes(x, weights = weights)
  if (is.factor(outcome)) return(minus_log_chi_squared(codes, coarse_codes(outcome), weights))
  if (max(codes) < 2L) return(0)
  minus_log_f(f_statistics(matrix(outcome), factor(codes), weights), n, factor(codes))
}

# `by` is what F compares the means of (a factor), or the outcome that it regresses.
minus_log_f <- function(f, n, by) {
  between <- if (is.factor(by)) nlevels(droplevels(by)) - 1 else 1
  within <- n - between - 1
  if (within < 1 || between < 1) return(rep(0, length(f)))
  -stats::pf(f, between, within, lower.tail = FALSE, log.p = TRUE)
}

minus_log_chi_squared <- function(a, b, weights) {
  freedom <- (max(a) - 1) * (max(b) - 1)
  if (freedom < 1) return(0)
  -stats::pchisq(
    chi_squared_statistic(a, b, weights), freedom,
    lower.tail = FALSE, log.p = TRUE
  )
}

judge_by_information <- function(x, outcome, weights = NULL) {
  a <- coarse_codes(x, weights = weights)
  b <- coarse_codes(outcome, weights = weights)
  n <- rows_of_weights(weights, length(a))
  mutual_information(a, b, weights) - chance_information(max(a), max(b), n)
}

chance_information <- function(rows, columns, n) (rows - 1) * (columns - 1) / (2 * n)

# Sparse columns are judged as they are (p value) or as zero or not (information).
judge_sparse <- function(x, outcome, by, weights = NULL) {
  n <- rows_of_weights(weights, nrow(x))
  w <- weights_as_rows(weights) %||% rep(1, nrow(x))
  codes <- coarse_codes(outcome, weights = weights)
  classes <- Matrix::sparseMatrix(
    i = seq_len(nrow(x)), j = codes, x = w, dims = c(nrow(x), max(codes))
  )
  counts <- Matrix::colSums(classes)
  if (by == "p_value") {
    if (!is.factor(outcome)) return(minus_log_f(sparse_regression_f(x, outcome, w), n, outcome))
    sums <- as.matrix(Matrix::crossprod(classes, x))
    between <- colSums(sums^2 / counts) - colSums(sums)^2 / n
    within <- as.vector(Matrix::crossprod(x^2, w)) - colSums(sums^2 / counts)
    f <- (between / (length(counts) - 1)) / (within / (n - length(counts)))
    return(minus_log_f(ifelse(is.nan(f), 0, f), n, outcome))
  }
  present <- as.matrix(Matrix::crossprod(classes, methods::as(x != 0, "dMatrix")))
  apply(present, 2L, function(yes) {
    table <- cbind(counts - yes, yes)
    expected <- outer(rowSums(table), colSums(table)) / n
    found <- sum((table / n * log(table / expected))[table > 0])
    found - chance_information(nrow(table), sum(colSums(table) > 0), n)
  })
}

# `weights` sum to the number of rows that they stand for.
sparse_regression_f <- function(x, outcome, weights) {
  n <- sum(weights)
  y <- outcome - sum(weights * outcome) / n
  covariance <- as.vector(Matrix::crossprod(x, weights * y))
  sums <- as.vector(Matrix::crossprod(x, weights))
  spread <- as.vector(Matrix::crossprod(x^2, weights)) - sums^2 / n
  r2 <- pmin(covariance^2 / (spread * sum(weights * y^2)), 1 - 1e-15)
  r2[!is.finite(r2)] <- 0
  stats::setNames(r2 / (1 - r2) * (n - 2), colnames(x))
}

forest_importance <- function(frame, dense, sparse, outcome, weights) {
  x <- matrix(
    as.double(unlist(lapply(dense, filled_codes), use.names = FALSE)),
    frame$n,
    length(dense),
    dimnames = list(NULL, names(dense))
  )
  if (length(sparse) > 0L) x <- cbind(x, as.matrix(frame$sparse[, sparse, drop = FALSE]))
  grown <- ranger::ranger(
    x = x,
    y = outcome,
    num.trees = 200,
    case.weights = weights,
    importance = "impurity_corrected",
    num.threads = 1L,
    seed = sample.int(1e6, 1L),
    oob.error = FALSE,
    write.forest = FALSE,
    verbose = FALSE
  )
  grown$variable.importance
}

filled_codes <- function(x) {
  x <- as.double(x)
  x[is.na(x)] <- if (all(is.na(x))) 0 else stats::median(x, na.rm = TRUE)
  x
}

# Numbers by their p value, or any columns by a forest's importance.
script_keep_top <- function(state, about) {
  columns <- about$settings$columns
  numbers <- all(about$kinds[columns] == "number")
  named <- drop_given("unlikely", state, about)
  if (about$weighted || length(columns) < 2L || about$frame$n < 3L) return(named)
  judged <- switch(about$settings$by,
    p_value = if (numbers && length(about$sparse) == 0L) {
      c("judge", if (is.factor(about$target$outcome)) {
        c(
          "  r2 <- sum(tapply(v, y[here], function(part) length(part) * (mean(part) - mean(v))^2),",
          "    na.rm = TRUE) / sum((v - mean(v))^2)",
          "  more <- nlevels(droplevels(y[here])) - 1"
        )
      } else {
        c("  r2 <- suppressWarnings(cor(v, y[here]))^2", "  more <- 1")
      })
    },
    importance = "forest"
  )
  if (is.null(judged)) return(named)
  keep <- if (about$settings$top < 1) {
    ceiling(about$settings$top * length(columns))
  } else {
    min(about$settings$top, length(columns))
  }
  learn <- if (judged[1] == "forest") {
    code_lines(r"(
<<seed>>
filled<<i>> <- sapply(x[compared<<i>>], function(v) {
  v <- as.numeric(v)
  ifelse(is.na(v), median(v, na.rm = TRUE), v)
})
merit<<i>> <- ranger::ranger(
  x = filled<<i>>, y = y, num.trees = 200, importance = "impurity_corrected",
  num.threads = 1, seed = sample.int(1e6, 1)
)$variable.importance
)", i = about$i, seed = r_seed(about$seed))
  } else {
    code_lines(r"(
# minus the logarithm of the p value of an F test
merit<<i>> <- vapply(x[compared<<i>>], function(v) {
  here <- !is.na(v)
  v <- v[here]
<<share>>
  rest <- length(v) - more - 1
  f <- r2 / more / ((1 - r2) / rest)
  if (is.na(f)) 0 else -pf(f, more, rest, lower.tail = FALSE, log.p = TRUE)
}, 0)
)", i = about$i, share = judged[-1])
  }
  drop_lines("unlikely", c(
    paste0("compared", about$i, " <- ", r_columns(columns, about$kinds)), learn,
    code_lines(
      "unlikely<<i>> <- compared<<i>>[order(-merit<<i>>)][-seq_len(<<keep>>)]",
      i = about$i, keep = r_text(as.double(keep))
    )
  ), about)
}
