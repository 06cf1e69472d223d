#' Naive Bayes for counts
#'
#' For counts, such as words (multinomial model, package naivebayes). Every counted
#' thing says by itself how likely each class is. Takes sparse columns; no column may
#' be below 0.
#'
#' @eval family_help("count_bayes")
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A family for [pipeline()] and [candidates()].
#' @references McCallum & Nigam (1998), A comparison of event models for naive Bayes
#'   text classification.
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have.
#' @examples
#' pipeline(
#'   pre_drop(columns = of_kind("number", "category", "date")), pre_text(),
#'   fam_count_bayes(add = among(0.1, 1))
#' )
#' @export
fam_count_bayes <- function(add = 1, ...) {
  no_more(...)
  new_family(member_fam_count_bayes(), list(add = add))
}

member_fam_count_bayes <- function() {
  family_definition("count_bayes", "Naive Bayes for counts", c("two_class", "many_class"),
    hyperparameters = list(
      add = hyperparameter("number", 1,
        min = 0, open_min = TRUE,
        sensible = function(rows, columns, classes) from_to(0.01, 10, spacing = "log", points = 7),
        meaning = "Added to every count.",
        rising = "Rare words say less: less variance, more bias."
      )
    ),
    complexity_rank = 14, simplicity = function(settings) list(-settings$add),
    accepts = list(sparse = TRUE), fit = fit_count_bayes, predict = predict_count_bayes,
    script = script_count_bayes,
    packages = "naivebayes",
    does = "Lets every counted thing, such as a word, vote on the class by itself."
  )
}

fit_count_bayes <- function(x, y, weights, settings, seed, threads) {
  check_counts(x)
  colnames(x) <- tree_names(ncol(x))
  fit <- suppressWarnings(naivebayes::multinomial_naive_bayes(x = x, y = y, laplace = settings$add))
  list(prior = as.double(fit$prior), log_share = log(unname(as.matrix(fit$params))))
}

check_counts <- function(x) {
  values <- if (is.matrix(x)) x else x@x
  if (any(values < 0)) {
    stop(
      "counts cannot be below 0, but some columns are; use fam_naive_bayes() for measurements",
      call. = FALSE
    )
  }
}

predict_count_bayes <- function(model, x) {
  eta <- as.matrix(x %*% model$log_share)
  softmax_rows(sweep(unname(eta), 2L, log(model$prior), `+`))
}

script_count_bayes <- function(settings, about) {
  list(
    fit = code_lines(r"(
model <- suppressWarnings(naivebayes::multinomial_naive_bayes(
  x = <<x>>, y = y, laplace = <<add>>
))
)", x = about$sparse, add = r_text(as.double(settings$add))),
    predict = code_lines(
      "suppressWarnings(predict(model, <<x>>, type = \"prob\"))", x = about$sparse
    )
  )
}
