#' Turn categories into 0/1 columns
#'
#' One column per level seen in training, named `<column>_<level>`. A level never
#' seen, and a missing value, become 0 in all of them. Where more than 100 columns
#' arise they are kept as a sparse matrix.
#'
#' @param drop_one Leave out the first level of every column, for families that
#'   cannot have columns that sum to one?
#' @param columns Which columns; default all categories and ordered categories.
#'   See [of_kind()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on.
#' @examples
#' pre_onehot(drop_one = TRUE)
#' @export
pre_onehot <- function(drop_one = FALSE, columns = NULL, ...) {
  no_more(...)
  new_step(member_step_onehot(), list(drop_one = drop_one), rlang::enquo(columns))
}

member_step_onehot <- function() {
  step_definition("onehot",
    learn = learn_onehot, use = use_onehot,
    does = "Turns each level of a category into a 0/1 column.",
    columns = c("category", "ordered"), script = script_onehot,
    plain = function(state) state[c("levels", "names")],
    hyperparameters = list(
      drop_one = hyperparameter("flag", FALSE,
        sensible = function(rows, columns, classes) among(FALSE, TRUE),
        meaning = "Whether the first level of every column goes without a 0/1 column."
      )
    )
  )
}

learn_onehot <- function(frame, target, settings, seed) {
  levels <- lapply(frame$columns[settings$columns], function(x) {
    if (!is.factor(x)) refuse_column_kind("onehot", "categories", x)
    seen <- levels(x)[tabulate(x, nlevels(x)) > 0L]
    if (settings$drop_one) seen[-1] else seen
  })
  kept <- setdiff(frame_names(frame), names(levels))
  names <- paste(rep(names(levels), lengths(levels)), unlist(levels, use.names = FALSE), sep = "_")
  list(
    state = list(levels = levels, names = fresh_names(names[seq_len(sum(lengths(levels)))], kept)),
    training = NULL
  )
}

use_onehot <- function(state, frame) {
  codes <- unname(each_known(frame, state$levels, codes_among))
  add_indicators(frame, names(state$levels), codes, lengths(state$levels), state$names)
}

# Puts 0/1 columns in the place of coded ones; many of them as a sparse matrix.
add_indicators <- function(frame, remove, codes, sizes, names) {
  if (length(names) > 100L) {
    return(frame_swap(frame, remove = remove, sparse = onehot_sparse(codes, sizes, frame$n, names)))
  }
  columns <- unlist(Map(function(code, n) {
    lapply(seq_len(n), function(level) as.double(!is.na(code) & code == level))
  }, codes, sizes), recursive = FALSE, use.names = FALSE)
  frame_swap(frame, remove = remove, columns = stats::setNames(as.list(columns), names))
}

onehot_sparse <- function(codes, sizes, n, names) {
  starts <- cumsum(c(0L, sizes))
  column <- unlist(Map(function(code, start) code + start, codes, starts[seq_along(codes)]))
  row <- rep(seq_len(n), length(codes))
  here <- !is.na(column)
  Matrix::sparseMatrix(
    i = row[here], j = column[here], x = 1, dims = c(n, length(names)),
    dimnames = list(NULL, names)
  )
}

script_onehot <- function(state, about) {
  by <- rep(names(state$levels), lengths(state$levels))
  made <- new_column_names(
    about, "level_names", "paste(name, levels, sep = \"_\")",
    paste(by, unlist(state$levels, use.names = FALSE), sep = "_", recycle0 = TRUE), state$names, by
  )
  list(does = paste0("one_hot", about$i), lines = code_lines(r"(
seen<<i>> <- lapply(x[<<columns>>], function(v) levels(droplevels(v))<<first>>)
<<names>>
one_hot<<i>> <- function(x) {
  for (name in names(seen<<i>>)) {
    levels <- seen<<i>>[[name]]
    v <- x[[name]]
    x[[name]] <- NULL
    <<none>>
    x[<<made>>] <- lapply(levels, function(level) as.numeric(v %in% level))
  }
  x
}
)",
    i = about$i, columns = r_columns(names(state$levels), about$kinds), names = made$lines,
    made = made$code, first = if (about$settings$drop_one) "[-1]" else "",
    none = if (any(lengths(state$levels) == 0L)) "if (length(levels) == 0) next"
  ))
}
