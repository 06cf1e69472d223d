#' Keep the columns that go best with the outcome
#'
#' A filter: every selected column is judged by itself on the training rows (or,
#' under `"importance"`, by a random forest) and the best are kept.
#'
#' @param top How many columns to keep; below 1 the share of them.
#' @param by `"f"`: F statistic of analysis of variance (or of the regression on
#'   the column, for a numeric outcome); `"chi_squared"`: Pearson's, divided by its
#'   degrees of freedom, numbers cut into quantile bins; `"information"`: mutual information, numbers cut likewise;
#'   `"importance"`: a forest's impurity importance, corrected for bias
#'   (Nembrini, Koenig & Wright 2018, Bioinformatics 34).
#' @param columns Which columns compete; default all numbers and categories. Others
#'   stay. Under `"f"` and `"importance"` a category is judged by its levels' codes.
#' @return A step for [pipeline()].
#' @examples
#' pre_keep_top(top = among(5, 10, 20), by = "information")
#' @export
pre_keep_top <- function(top = 20, by = "f", columns = NULL) {
  new_step(member_step_keep_top(), list(top = top, by = by), rlang::enquo(columns))
}

member_step_keep_top <- function() {
  step_definition("keep_top",
    learn = learn_keep_top, use = drop_named,
    does = "Keeps the columns that go best with the outcome.",
    columns = c("number", "category", "ordered"), random = TRUE,
    hyperparameters = list(
      top = hyperparameter("number", 20,
        min = 0, open_min = TRUE,
        sensible = function(rows, columns, classes) among(0.25, 0.5, 0.75),
        meaning = "How many columns (below 1: which share of them) are kept.",
        rising = "Less bias, more variance, slower."
      ),
      by = hyperparameter(
        "choice",
        "f",
        choices = c("f", "chi_squared", "information", "importance"),
        sensible = function(rows, columns, classes) among("f", "information"),
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
  scores <- judge_columns(frame, names, target$outcome, settings$by)
  best <- names[order(-scores)][seq_len(kept)]
  list(state = setdiff(names, best), training = NULL)
}

judge_columns <- function(frame, names, outcome, by) {
  dense <- dense_columns_of(frame, names)
  sparse <- intersect(names, colnames(frame$sparse))
  if (by == "importance") return(forest_importance(frame, dense, sparse, outcome)[names])
  scores <- c(
    stats::setNames(
      vapply(dense, judge_dense, numeric(1), outcome = outcome, by = by),
      names(dense)
    ),
    if (length(sparse) > 0L) judge_sparse(frame$sparse[, sparse, drop = FALSE], outcome, by)
  )
  scores[names]
}

judge_dense <- function(x, outcome, by) {
  if (by == "f") {
    x <- as.double(x)
    here <- !is.na(x)
    return(if (sum(here) < 3L) 0 else f_statistics(matrix(x[here]), outcome[here]))
  }
  a <- coarse_codes(x)
  b <- coarse_codes(outcome)
  if (by == "information") return(mutual_information(a, b))
  chi_squared_statistic(a, b) / max(1, (max(a) - 1) * (max(b) - 1))
}

# Sparse columns are judged as they are (F) or as zero or not (the others).
judge_sparse <- function(x, outcome, by) {
  n <- nrow(x)
  codes <- coarse_codes(outcome)
  classes <- Matrix::sparseMatrix(i = seq_len(n), j = codes, x = 1, dims = c(n, max(codes)))
  counts <- tabulate(codes)
  if (by == "f") {
    if (!is.factor(outcome)) return(sparse_regression_f(x, outcome))
    sums <- as.matrix(Matrix::crossprod(classes, x))
    between <- colSums(sums^2 / counts) - Matrix::colSums(x)^2 / n
    within <- Matrix::colSums(x^2) - colSums(sums^2 / counts)
    f <- (between / (length(counts) - 1)) / (within / (n - length(counts)))
    return(ifelse(is.nan(f), 0, f))
  }
  present <- as.matrix(Matrix::crossprod(classes, methods::as(x != 0, "dMatrix")))
  apply(present, 2L, function(yes) {
    table <- cbind(counts - yes, yes)
    expected <- outer(rowSums(table), colSums(table)) / n
    if (by == "chi_squared") {
      return(sum(((table - expected)^2 / expected)[expected > 0]) / max(1, length(counts) - 1))
    }
    sum((table / n * log(table / expected))[table > 0])
  })
}

sparse_regression_f <- function(x, outcome) {
  n <- nrow(x)
  y <- outcome - mean(outcome)
  covariance <- as.vector(Matrix::crossprod(x, y))
  spread <- Matrix::colSums(x^2) - n * Matrix::colMeans(x)^2
  r2 <- pmin(covariance^2 / (spread * sum(y^2)), 1 - 1e-15)
  r2[!is.finite(r2)] <- 0
  stats::setNames(r2 / (1 - r2) * (n - 2), colnames(x))
}

forest_importance <- function(frame, dense, sparse, outcome) {
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
