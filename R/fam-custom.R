#' Define a model family of your own
#'
#' Returns a constructor for a family: a function that takes the family's
#' hyperparameters, to be used in [pipeline()] and [candidates()] like any other.
#' The functions must be self-contained: they travel to workers and with saved models.
#' [try_out()] checks the result.
#'
#' @param name One word.
#' @param kinds Outcome kinds that it can predict: some of `"number"`, `"two_class"`,
#'   `"many_class"`, `"count"`, `"positive"`, `"ordered"`, `"quantiles"`. Counts and positive
#'   amounts are given to families for numbers as numbers, ordered classes to families for many
#'   classes as classes.
#' @param fit `function(x, y, weights, settings, seed, threads)` giving any plain R
#'   object. `x` is a numeric matrix, or a data frame with `factors = TRUE`; `y` a
#'   numeric vector or a factor of the classes present; `weights` `NULL` or one
#'   number a row; `settings` the named list of hyperparameters. It may have more arguments:
#'   `kind`, as which of its `kinds` the outcome is to be learned; `exposure`, `NULL` or what each
#'   row's rate is per unit of (`weights` hold it already); `quantiles`, which ones a family of kind
#'   `"quantiles"` is to predict, one column each; `unit`, numbers that rows have in common which
#'   belong together.
#' @param predict `function(model, x)` giving a numeric vector, or a matrix of
#'   probabilities, rows x levels of `y`. A family with a path has
#'   `function(model, x, values)` giving one more dimension, one entry a value.
#' @param defaults Named list: hyperparameters and their default values, or what
#'   [hyperparameter()] says of them.
#' @param path Name of the hyperparameter of which one fit serves all values (a
#'   path): `settings` then holds all values there, as a vector.
#' @param complexity_rank 0 (simplest) to 100; among settings that tie the simpler is
#'   preferred. Baseline 0, linear 20, tree 40, forest 70.
#' @param factors,sparse,missing,weights May the input hold categories, a sparse
#'   matrix, missing values; is `weights` used?
#' @param wants_scaling Does the fit depend on the columns' scales?
#' @param random Does `fit` draw random numbers? It is then run under its own seed.
#' @param packages Packages that `fit` and `predict` call by `package::name`.
#' @param simplicity `function(settings)` giving a list of numeric vectors, one value a setting,
#'   lower is simpler, the most important first; `settings` holds a vector for each
#'   hyperparameter.
#' @param impossible A list of [cannot_work()]: combinations that are left out before running.
#' @param does One sentence for [describe_family()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A function with the hyperparameters as arguments.
#' @section Errors:
#' `kw_error_definition` when a function uses something from outside itself,
#' `kw_error_argument` for anything else that does not fit.
#' @examples
#' fam_median <- define_family("median",
#'   kinds = "number",
#'   fit = function(x, y, weights, settings, seed, threads) stats::median(y) * settings$shrink,
#'   predict = function(model, x) rep(model, nrow(x)),
#'   defaults = list(shrink = 1)
#' )
#' candidates(mean = fam_baseline(), median = fam_median(shrink = among(0.9, 1)))
#' @export
define_family <- function(
  name, kinds, fit, predict, defaults = list(), path = NULL,
  complexity_rank = 50,
  factors = FALSE, sparse = FALSE, missing = FALSE, weights = FALSE,
  wants_scaling = FALSE, random = FALSE, packages = character(), simplicity = NULL,
  impossible = list(), does = "A family defined by the user.", ...
) {
  no_more(...)
  check_word(name, "name")
  check_kinds(kinds)
  check_named(defaults, "defaults")
  check_argument(
    is.function(fit) && length(formals(fit)) >= 6L &&
      all(names(formals(fit))[-(1:6)] %in% target_extras), "fit",
    "a function(x, y, weights, settings, seed, threads)", fit
  )
  wanted <- if (is.null(path)) "a function(model, x)" else "a function(model, x, values)"
  check_argument(
    is.function(predict) && length(formals(predict)) == 2L + !is.null(path),
    "predict",
    wanted,
    predict
  )
  if (!is.null(path)) check_choice(path, names(defaults), "path")
  check_number(complexity_rank, "complexity_rank", 0, 100)
  check_self_contained(list(fit = fit, predict = predict), name)
  fit <- portable_function(fit, "`fit`")
  predict <- portable_function(predict, "`predict`")
  declared <- lapply(defaults, declared_by_user, type = function(default) {
    if (is.numeric(default) && length(default) == 1L) "number" else "any"
  })
  check_impossible(impossible, name)
  check_self_contained(Filter(Negate(is.null), list(simplicity = simplicity)), name)
  simplicity <- if (is.null(simplicity)) {
    no_simplicity
  } else {
    portable_function(simplicity, "`simplicity`")
  }
  definition <- family_definition(
    name, name, kinds, declared, complexity_rank,
    simplicity = simplicity,
    impossible = lapply(impossible, function(one) {
      one$test <- portable_function(one$test, "`test`")
      one
    }),
    accepts = list(
      factors = factors, sparse = sparse, missing = missing, weights = weights,
      wants_scaling = wants_scaling
    ),
    random = random, fit = fit, predict = if (is.null(path)) predict,
    path = if (!is.null(path)) list(along = path, set_matters = FALSE, predict = predict),
    packages = union(packages, packages_called(list(fit, predict))),
    does = does
  )
  definition$shipped <- FALSE
  as_member(
    function(...) new_family(definition, list(...)), "fam", name, function() definition
  )
}
