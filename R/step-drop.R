#' Drop columns
#'
#' `pre_drop()` drops the columns named. `pre_drop_constant()` drops those that
#' (nearly) always have the same value in training. `pre_drop_correlated()` goes
#' through the numbers in order and drops each that is correlated with one kept
#' before it.
#'
#' @param share Columns whose commonest value has at least this share of the
#'   training rows are dropped.
#' @param above Absolute correlation above which the later column is dropped.
#' @param columns Which columns; for `pre_drop()` required, else default all that
#'   the step makes sense for. See [of_kind()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on.
#' @examples
#' pre_drop(columns = c(peak_f, cone_batch))
#' pre_drop_constant()
#' pre_drop_correlated(above = among(0.9, 0.99))
#' @export
pre_drop <- function(columns = NULL, ...) {
  no_more(...)
  new_step(member_step_drop(), list(), rlang::enquo(columns))
}

member_step_drop <- function() {
  step_definition("drop",
    does = "Drops the columns named.", columns = character(), required = "columns",
    learn = function(frame, target, settings, seed) list(state = settings$columns, training = NULL),
    use = drop_named, script = script_drop, plain = plain_dropped
  )
}

drop_named <- function(state, frame) frame_swap(frame, remove = state)

#' @rdname pre_drop
#' @export
pre_drop_constant <- function(share = 1, columns = NULL, ...) {
  no_more(...)
  new_step(member_step_drop_constant(), list(share = share), rlang::enquo(columns))
}

member_step_drop_constant <- function() {
  step_definition("drop_constant",
    learn = learn_drop_constant, use = drop_named, script = script_drop_constant,
    plain = plain_dropped,
    does = "Drops columns that (nearly) always have the same value.",
    hyperparameters = list(
      share = hyperparameter("number", 1,
        min = 0.5, max = 1,
        sensible = function(rows, columns, classes) among(0.95, 0.99, 1),
        meaning = "Share of the training rows that the commonest value needs.",
        rising = "Fewer columns are dropped."
      )
    )
  )
}

learn_drop_constant <- function(frame, target, settings, seed) {
  dense <- dense_columns_of(frame, settings$columns)
  weights <- target$weights
  constant <- vapply(dense, function(x) commonest_share(x, weights) >= settings$share, NA)
  sparse <- intersect(settings$columns, colnames(frame$sparse))
  empty <- if (length(sparse) > 0L) {
    filled <- frame$sparse[, sparse, drop = FALSE]
    zeros <- 1 - if (is.null(weights)) {
      diff(filled@p) / frame$n
    } else {
      as.vector(Matrix::crossprod(filled != 0, weights)) / sum(weights)
    }
    sparse[zeros >= settings$share]
  }
  list(state = c(names(dense)[constant], empty), training = NULL)
}

# Share of the rows with the commonest value; missing counts as a value.
commonest_share <- function(x, weights = NULL) {
  if (length(x) == 0L) return(1)
  if (!is.null(weights)) {
    codes <- match(x, unique(x))
    return(max(weighted_counts(codes, max(codes), weights)) / sum(weights))
  }
  if (is.factor(x)) return(max(tabulate(x, nlevels(x)), sum(is.na(x))) / length(x))
  # a sample of different values settles most columns at once
  if (length(unique(x[seq_len(min(1000L, length(x)))])) > 900L && length(x) <= 2000L) {
    return(1 / length(x))
  }
  codes <- match(x, unique(x))
  max(tabulate(codes)) / length(x)
}

#' @rdname pre_drop
#' @export
pre_drop_correlated <- function(above = 0.95, columns = NULL, ...) {
  no_more(...)
  new_step(member_step_drop_correlated(), list(above = above), rlang::enquo(columns))
}

member_step_drop_correlated <- function() {
  step_definition(
    "drop_correlated",
    learn = learn_drop_correlated,
    use = drop_named,
    script = script_drop_correlated, plain = plain_dropped,
    columns = "number",
    does = "Drops numbers that repeat an earlier one.",
    hyperparameters = list(
      above = hyperparameter("number", 0.95,
        min = 0, max = 1,
        sensible = function(rows, columns, classes) among(0.8, 0.9, 0.99),
        meaning = "Absolute correlation above which the later column goes.",
        rising = "Fewer columns are dropped."
      )
    )
  )
}

learn_drop_correlated <- function(frame, target, settings, seed) {
  dense <- dense_columns_of(frame, settings$columns)
  numbers <- dense[vapply(dense, is.numeric, logical(1))]
  if (length(numbers) < 2L) return(list(state = character(), training = NULL))
  x <- matrix(unlist(numbers, use.names = FALSE), frame$n)
  r <- abs(weighted_correlations(x, target$weights))
  kept <- integer()
  for (j in seq_along(numbers)) {
    if (!any(r[j, kept] > settings$above)) kept <- c(kept, j)
  }
  list(state = names(numbers)[-kept], training = NULL)
}

script_drop <- function(state, about) drop_given("named", state, about)

# Columns that are dropped by their names.
drop_given <- function(which, columns, about) {
  if (length(columns) == 0L) return(list(lines = NULL))
  drop_lines(which, paste0(which, about$i, " <- ", r_columns(columns, about$kinds)), about)
}

# What drops the columns that `learn` puts into an object called `which`.
drop_lines <- function(which, learn, about) {
  does <- paste0("drop_", which, about$i)
  list(does = does, lines = c(learn, paste0(
    does, " <- function(x) x[setdiff(names(x), ", which, about$i, ")]"
  )))
}

script_drop_constant <- function(state, about) {
  if (about$weighted) return(drop_given("constant", state, about))
  columns <- about$settings$columns
  sparse <- intersect(columns, about$sparse)
  learn <- code_lines(r"(
looked_at<<i>> <- <<columns>>
commonest_share<<i>> <- vapply(x[looked_at<<i>>], function(v) {
  max(tabulate(match(v, unique(v)))) / length(v)
}, 0)
<<zeros>>
constant<<i>> <- looked_at<<i>>[commonest_share<<i>> >= <<share>>]
)",
    i = about$i, columns = r_columns(columns, about$kinds), share = r_text(about$settings$share),
    zeros = if (length(sparse) > 0L) code_lines(r"(
zero_but_few<<i>> <- <<sparse>>
commonest_share<<i>>[zero_but_few<<i>>] <- colMeans(x[zero_but_few<<i>>] == 0)
)", i = about$i, sparse = r_columns(sparse, about$kinds))
  )
  drop_lines("constant", learn, about)
}

script_drop_correlated <- function(state, about) {
  if (about$weighted) return(drop_given("correlated", state, about))
  numbers <- setdiff(about$settings$columns, about$sparse)
  numbers <- numbers[about$kinds[numbers] == "number"]
  if (length(numbers) < 2L) return(list(lines = NULL))
  drop_lines("correlated", code_lines(r"(
judged<<i>> <- <<columns>>
correlation<<i>> <- abs(suppressWarnings(cor(x[judged<<i>>], use = "pairwise.complete.obs")))
correlation<<i>>[is.na(correlation<<i>>)] <- 0
unlike<<i>> <- character()
for (name in judged<<i>>) {
  repeats <- any(correlation<<i>>[name, unlike<<i>>] > <<above>>)
  if (!repeats) unlike<<i>> <- c(unlike<<i>>, name)
}
correlated<<i>> <- setdiff(judged<<i>>, unlike<<i>>)
)",
    i = about$i, columns = r_columns(numbers, about$kinds), above = r_text(about$settings$above)
  ), about)
}
