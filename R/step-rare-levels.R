#' Merge rare levels
#'
#' Levels of a category with too few training rows become the level "other"; so
#' does, later, every level never seen in training.
#'
#' @param at_least Levels with fewer training rows than this are merged: a
#'   number of rows, or below 1 a share of the training rows.
#' @param columns Which columns; default all categories. See [of_kind()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on.
#' @examples
#' pre_rare_levels(at_least = among(5, 20, 50))
#' @export
pre_rare_levels <- function(at_least = 20, columns = NULL, ...) {
  no_more(...)
  new_step(member_step_rare_levels(), list(at_least = at_least), rlang::enquo(columns))
}

member_step_rare_levels <- function() {
  step_definition("rare_levels",
    learn = learn_rare_levels, use = use_rare_levels, script = script_rare_levels,
    plain = function(state) list(levels = state),
    does = "Merges levels with few training rows, and later unseen ones, into 'other'.",
    columns = "category",
    hyperparameters = list(
      at_least = hyperparameter("number", 20,
        min = 0, open_min = TRUE,
        sensible = function(rows, columns, classes) {
          from_to(5, max(10, round(rows / 20)), spacing = "log", points = 4)
        },
        meaning = "Training rows (below 1: share of them) a level needs to stand on its own.",
        rising = "Fewer, broader levels: less variance, more bias, faster."
      )
    )
  )
}

learn_rare_levels <- function(frame, target, settings, seed) {
  weights <- weights_as_rows(target$weights)
  total <- if (is.null(weights)) frame$n else sum(weights)
  enough <- if (settings$at_least < 1) settings$at_least * total else settings$at_least
  kept <- lapply(frame$columns[settings$columns], function(x) {
    if (!is.factor(x)) refuse_column_kind("rare_levels", "categories", x)
    levels(x)[weighted_counts(x, nlevels(x), weights) >= enough]
  })
  list(state = kept, training = NULL)
}

use_rare_levels <- function(state, frame) {
  frame_replace(frame, each_known(frame, state, function(x, kept) {
    levels <- union(kept, "other")
    codes <- codes_among(x, levels, other = match("other", levels))
    structure(codes, levels = levels, class = "factor")
  }))
}

refuse_column_kind <- function(step, wanted, x) {
  stop_kw("columns", paste0(
    "pre_", step, " works on ", wanted, ", but got a column of kind ",
    quoted(column_kind(x)), "."
  ),
  remedy = "Narrow the selection with columns = of_kind(...)."
  )
}

script_rare_levels <- function(state, about) {
  least <- r_text(about$settings$at_least)
  common <- if (about$weighted) as_learned(about, common = state) else code_lines(r"(
common<<i>> <- lapply(x[<<columns>>], function(v) {
  levels(v)[tabulate(v, nlevels(v)) >= <<least>>]
})
)",
    i = about$i, columns = r_columns(names(state), about$kinds),
    least = if (about$settings$at_least < 1) paste(least, "* length(v)") else least
  )
  list(does = paste0("merge_rare", about$i), lines = code_lines(r"(
<<common>>
merge_rare<<i>> <- function(x) {
  for (name in names(common<<i>>)) {
    v <- as.character(x[[name]])
    v[!is.na(v) & !v %in% common<<i>>[[name]]] <- "other"
    x[[name]] <- factor(v, levels = union(common<<i>>[[name]], "other"))
  }
  x
}
)", i = about$i, common = common))
}
