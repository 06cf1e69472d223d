#' Naive Bayes
#'
#' Every column says by itself how likely each class is, as if columns had nothing
#' to do with one another (package naivebayes). Categories are taken as they are,
#' missing values are passed over.
#'
#' Numbers are described by a normal curve or a smooth density, categories by their
#' shares. For counts, such as words, see [fam_count_bayes()].
#'
#' @eval family_help("naive_bayes")
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A family for [pipeline()] and [candidates()].
#' @references Hastie, Tibshirani & Friedman (2009), The Elements of Statistical
#'   Learning, 6.6.3.
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have.
#' @examples
#' fam_naive_bayes(density = among("normal", "kernel"))
#' @export
fam_naive_bayes <- function(density = "normal", add = 1, ...) {
  no_more(...)
  new_family(member_fam_naive_bayes(), list(density = density, add = add))
}

member_fam_naive_bayes <- function() {
  family_definition("naive_bayes", "Naive Bayes", c("two_class", "many_class"),
    hyperparameters = list(
      density = hyperparameter("choice", "normal",
        choices = c("normal", "kernel"),
        sensible = function(rows, columns, classes) among("normal", "kernel"),
        meaning = paste(
          "How numbers of one class are taken to be spread: a normal curve, or",
          "smoothed as they are."
        )
      ),
      add = hyperparameter("number", 1,
        min = 0,
        sensible = function(rows, columns, classes) among(0.1, 1, 10),
        meaning = "Added to every count of a level.",
        rising = "Rare levels say less: less variance, more bias."
      )
    ),
    complexity_rank = 15,
    simplicity = function(settings) list(settings$density == "kernel", -settings$add),
    accepts = list(factors = TRUE, missing = TRUE),
    fit = fit_naive_bayes, predict = predict_naive_bayes, script = script_naive_bayes,
    packages = "naivebayes",
    does = paste(
      "Lets every column vote on the class by itself, as if columns had nothing to do",
      "with one another."
    )
  )
}

# Columns without spread within the classes say nothing and would divide by zero.
fit_naive_bayes <- function(x, y, weights, settings, seed, threads) {
  names(x) <- tree_names(length(x))
  usable <- vapply(
    x, function(column) is.factor(column) || enough_for_density(column, y), logical(1)
  )
  if (!any(usable)) stop("no column varies within every class", call. = FALSE)
  fit <- suppressWarnings(naivebayes::naive_bayes(
    x = plain_frame(x[usable], nrow(x)),
    y = y,
    laplace = settings$add,
    usekernel = settings$density == "kernel"
  ))
  list(tables = density_tables(fit), prior = as.double(fit$prior), usable = unname(usable))
}

enough_for_density <- function(column, y) {
  all(vapply(split(column, y), function(part) length(unique(part[!is.na(part)])) > 1L, logical(1)))
}

# Each column's log likelihood table in a plain form.
density_tables <- function(fit) {
  lapply(unname(fit$tables), function(table) {
    if (is.list(table)) {
      return(list(
        kind = "kernel",
        curves = lapply(unname(unclass(table)), function(d) list(x = d$x, y = d$y))
      ))
    }
    table <- unclass(table)
    if (identical(rownames(table), c("mean", "sd"))) {
      return(list(kind = "normal", mean = unname(table["mean", ]), sd = unname(table["sd", ])))
    }
    list(
      kind = "shares", levels = rownames(table),
      log_share = unname(log(matrix(table, nrow(table))))
    )
  })
}

predict_naive_bayes <- function(model, x) {
  eta <- matrix(log(model$prior), nrow(x), length(model$prior), byrow = TRUE)
  usable <- which(model$usable)
  for (i in seq_along(usable)) eta <- eta + column_likelihood(x[[usable[i]]], model$tables[[i]])
  softmax_rows(eta)
}

# Rows x classes; 0 where the value is missing or was never seen. A likelihood of
# nothing counts as 0.001, as in the package.
column_likelihood <- function(column, table) {
  out <- switch(table$kind,
    shares = table$log_share[match(as.character(column), table$levels), , drop = FALSE],
    normal = vapply(seq_along(table$mean), function(k) {
      stats::dnorm(column, table$mean[k], table$sd[k], log = TRUE)
    }, numeric(length(column))),
    kernel = vapply(table$curves, function(curve) {
      log(stats::approx(curve$x, curve$y, column, rule = 2)$y)
    }, numeric(length(column)))
  )
  out <- matrix(out, length(column))
  out[is.na(out)] <- 0
  out[is.infinite(out)] <- log(0.001)
  out
}

script_naive_bayes <- function(settings, about) {
  usable <- about$model$usable
  x <- if (all(usable)) about$frame else "voting(x)"
  list(
    fit = code_lines(r"(
<<voting>>
model <- suppressWarnings(naivebayes::naive_bayes(
  x = <<x>>, y = y, laplace = <<add>>, usekernel = <<kernel>>
))
)",
      x = x, voting = if (!all(usable)) c(
        "# without the columns that are constant within a class",
        paste0("voting <- function(x) ", about$frame, "[", r_rows(which(usable)), "]")
      ), add = r_text(as.double(settings$add)), kernel = settings$density == "kernel"
    ),
    predict = code_lines(
      "suppressWarnings(predict(model, <<x>>, type = \"prob\"))", x = x
    )
  )
}
