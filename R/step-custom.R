#' A small step of one's own, in place
#'
#' For one-off preparations that no step covers; [define_step()] makes a step with
#' hyperparameters.
#'
#' @param use `function(columns, state)`: gets a data frame of the selected columns
#'   and must return one with as many rows, which takes their place. Each row of the
#'   result may depend on the same row and on `state` only.
#' @param learn `function(columns, outcome)` giving the `state`, from training rows
#'   only; `NULL` when nothing is learned.
#' @param columns Which columns; default all. See [of_kind()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_definition` when a function uses something from outside itself.
#' @examples
#' pre_custom(use = function(columns, state) {
#'   columns$wall_mm <- columns$wall_mm / state
#'   columns
#' }, learn = function(columns, outcome) max(columns$wall_mm), columns = wall_mm)
#' @export
pre_custom <- function(use, learn = NULL, columns = NULL, ...) {
  no_more(...)
  if (missing(use)) use <- NULL
  check_argument(
    is.function(use) && length(formals(use)) == 2L, "use", "a function(columns, state)", use
  )
  check_argument(
    is.null(learn) || (is.function(learn) && length(formals(learn)) == 2L), "learn",
    "a function(columns, outcome)", learn
  )
  check_self_contained(Filter(Negate(is.null), list(use = use, learn = learn)), "custom")
  use <- portable_function(use, "`use`")
  if (!is.null(learn)) learn <- portable_function(learn, "`learn`")
  new_step(member_step_custom(), list(use = use, learn = learn), rlang::enquo(columns))
}

member_step_custom <- function() {
  step_definition("custom",
    learn = learn_custom, use = use_custom, script = script_custom,
    does = "What its author's functions do.", required = "use",
    hyperparameters = list(
      use = hyperparameter("code", NULL, meaning = "How rows are changed."),
      learn = hyperparameter(
        "code", NULL,
        meaning = "What is learned from training rows."
      )
    )
  )
}

learn_custom <- function(frame, target, settings, seed) {
  columns <- dense_columns_of(frame, settings$columns)
  columns <- plain_frame(unclass(columns), frame$n)
  learned <- if (!is.null(settings$learn)) settings$learn(columns, target$outcome)
  list(
    state = list(columns = names(columns), use = settings$use, learned = learned),
    training = NULL
  )
}

use_custom <- function(state, frame) {
  if (is.null(state$use)) return(frame)
  made <- state$use(plain_frame(unclass(frame$columns)[state$columns], frame$n), state$learned)
  if (!is.data.frame(made) || nrow(made) != frame$n) {
    stop_kw("step", paste0(
      "pre_custom: `use` must return a data frame of ", frame$n, " rows; got ",
      describe_value(made), "."
    ))
  }
  frame_swap(frame, remove = state$columns, columns = as.list(made))
}

# The author's functions as they are.
script_custom <- function(state, about) {
  if (is.null(state$use)) return(list(lines = NULL))
  list(does = paste0("own_columns", about$i), lines = c(
    if (!is.null(about$settings$learn)) {
      own_function(paste0("learn_own", about$i), about$settings$learn)
    },
    own_function(paste0("use_own", about$i), state$use),
    code_lines(r"(
own<<i>> <- <<columns>>
<<learn>>
own_columns<<i>> <- function(x) {
  made <- use_own<<i>>(x[own<<i>>], <<learned>>)
  x <- x[setdiff(names(x), own<<i>>)]
  x[names(made)] <- made
  x
}
)",
      i = about$i, columns = r_columns(state$columns, about$kinds),
      learned = if (is.null(about$settings$learn)) "NULL" else paste0("learned", about$i),
      learn = if (!is.null(about$settings$learn)) {
        paste0("learned", about$i, " <- learn_own", about$i, "(x[own", about$i, "], y)")
      }
    )
  ))
}
