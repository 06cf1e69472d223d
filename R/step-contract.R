# What a step is, and how it is learned and used.
#
# A step definition has: name, arguments (its hyperparameters), columns (the kinds that it takes
# by default), changes_rows, cross_fitted, random, packages (whose version can change what it
# does), keeps_rows(settings) (is what it learns made of training rows?), script(state, about)
# (lines of plain R that do the same, see final-script.R), plain(state) (the state as lists of
# numbers and texts that docs/model-file.md describes for readers in other languages; NULL, or NULL
# from it: there is no such form), state_version (raised when the state is made otherwise than
# before, so that models saved earlier are refused), and two functions:
#
#   learn(frame, target, settings, seed) -> list(state, training)
#   use(state, frame) -> frame
#
# learn sees training rows only; settings$columns holds the names of the columns
# that were selected. training is NULL (the engine then calls use on the training
# frame) or list(frame, target): the training rows as the next step must see
# them. Only changes_rows steps may return another number of rows, and only
# there; only cross_fitted steps may give training rows other values than use
# would. use is row-wise, and its columns depend on the state alone.

#' Define a preprocessing step of your own
#'
#' Returns a constructor for a step: a function that takes the step's
#' hyperparameters and `columns`, to be used in [pipeline()] like any other step.
#' The functions must be self-contained: they travel with saved models.
#'
#' @param name One word.
#' @param learn `function(frame, target, settings, seed)` giving
#'   `list(state =, training =)`. `frame` has `columns` (a data frame), `sparse`
#'   (`NULL` or a sparse matrix) and `n`; `target` has `outcome`, `weights`,
#'   `group` and `source_row` (the table's row from which each training row
#'   came; repeated in a bootstrap, `NA` for made-up rows); `settings` has the
#'   hyperparameters and `columns`, the names of the selected columns.
#'   `training` is `NULL`, or `list(frame =, target =)` when the following step
#'   must see other training rows than `use()` gives.
#' @param use `function(state, frame)` giving a frame; each row of the result may
#'   depend on the same row of the input and on the state only.
#' @param defaults Named list: hyperparameters and their default values, or what
#'   [hyperparameter()] says of them.
#' @param columns Kinds of columns taken by default: some of `"number"`,
#'   `"category"`, `"ordered"`, `"text"`, `"date"`.
#' @param changes_rows May the step add or remove training rows?
#' @param cross_fitted May training rows get other values than `use()` gives?
#' @param random Does `learn` draw random numbers?
#' @param required Names of arguments that must be given: hyperparameters, or `"columns"`.
#' @param does One sentence, for [list_steps()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A function with the hyperparameters as arguments.
#' @section Errors:
#' `kw_error_argument` for an argument of the wrong kind, `kw_error_definition` when a function uses
#' something from outside itself.
#' @examples
#' pre_rank <- define_step("rank",
#'   learn = function(frame, target, settings, seed) {
#'     known <- lapply(frame$columns[settings$columns], function(x) sort(unique(x)))
#'     list(state = known, training = NULL)
#'   },
#'   use = function(state, frame) {
#'     for (name in names(state)) {
#'       frame$columns[[name]] <- findInterval(frame$columns[[name]], state[[name]])
#'     }
#'     frame
#'   },
#'   columns = "number"
#' )
#' pipeline(pre_missing(), pre_rank(), pre_onehot(), fam_linear())
#' @export
define_step <- function(name, learn, use, defaults = list(), columns = column_kinds,
                        changes_rows = FALSE, cross_fitted = FALSE, random = FALSE,
                        required = character(), does = "", ...) {
  no_more(...)
  check_word(name, "name")
  check_named(defaults, "defaults")
  check_sentence(does, "does")
  for (one in required) check_choice(one, c(names(defaults), "columns"), "required")
  check_argument(
    is.function(learn) && length(formals(learn)) == 4L, "learn",
    "a function(frame, target, settings, seed)", learn
  )
  check_argument(
    is.function(use) && length(formals(use)) == 2L, "use",
    "a function(state, frame)", use
  )
  check_argument(all(columns %in% column_kinds), "columns", "kinds of columns", columns)
  check_self_contained(list(learn = learn, use = use), name)
  learn <- portable_function(learn, "`learn`")
  use <- portable_function(use, "`use`")
  declared <- lapply(defaults, declared_by_user, type = function(default) "any")
  definition <- step_definition(name, learn, use, declared,
    columns = columns,
    changes_rows = changes_rows, cross_fitted = cross_fitted,
    random = random, does = does, shipped = FALSE, packages = packages_called(list(learn, use)),
    required = required
  )
  make <- function(..., columns = NULL) new_step(definition, list(...), rlang::enquo(columns))
  as_member(make, "step", name, function() definition)
}

step_definition <- function(name, learn, use, hyperparameters = list(), columns = column_kinds,
                            changes_rows = FALSE, cross_fitted = FALSE, random = FALSE,
                            expand = NULL, check = NULL, does = "", shipped = TRUE,
                            packages = character(), keeps_rows = keeps_no_rows,
                            required = character(), script = NULL, plain = NULL,
                            state_version = 1L) {
  member("step", name, does,
    arguments = hyperparameters,
    capabilities = list(
      columns = columns, changes_rows = changes_rows, cross_fitted = cross_fitted,
      random = random, packages = packages, required = required
    ),
    learn = learn, use = use, expand = expand, check = check, shipped = shipped,
    keeps_rows = keeps_rows, script = script, plain = plain, state_version = state_version,
    class = "kw_step_definition"
  )
}

# What a step learned, as values, for its script: for what has no short form, such as statistics
# of weighted rows. The names are those of the script's objects.
as_learned <- function(about, ...) {
  values <- list(...)
  c(
    paste0("# as it was learned", if (about$weighted) ", with the weights of the rows"),
    paste0(names(values), about$i, " <- ", vapply(values, r_values, ""))
  )
}

# What is plainly said of steps that do nothing to new rows, and of those that drop columns.
plain_nothing <- function(state) list()
plain_dropped <- function(state) list(columns = as.character(state))

matrix_rows <- function(x) lapply(seq_len(nrow(x)), function(i) unname(x[i, ]))

# Names of new columns in a script: `usual` is code for them within a loop over `name`; where a
# name was taken, the table had others, which are written out. list(code, lines).
new_column_names <- function(about, object, usual, plain, made, by) {
  if (identical(plain, made)) return(list(code = usual, lines = NULL))
  object <- paste0(object, about$i)
  list(
    code = paste0(object, "[[name]]"),
    lines = c(
      "# other columns had such names already",
      paste0(object, " <- ", r_values(split(made, factor(by, unique(by)))))
    )
  )
}

# For a cross-fitted step's script: every part of the training rows is treated with what the rows
# of the other parts teach. `piece`: code that gives a part's rows, of which `others` are not.
# NULL where all rows are one part.
script_cross_fitted <- function(about, parts, piece) {
  # the parts as they were dealt: groups whole, under this step's seed
  part <- with_seed(about$seed, inner_parts(about$target, parts, stratify = FALSE))
  if (length(unique(part)) < 2L) return(NULL)
  code_lines(r"(
# a training row is told by the rows of the other parts alone, so that it has no part in it
part<<i>> <- <<dealt>>
pieces<<i>> <- lapply(sort(unique(part<<i>>)), function(p) {
  others <- part<<i>> != p
<<piece>>
})
x <- do.call(rbind, pieces<<i>>)[order(order(part<<i>>)), , drop = FALSE]
)", i = about$i, dealt = r_parts(part), piece = paste0("  ", piece))
}

# A step as the user wrote it: definition, settings (some may vary), columns.
new_step <- function(definition, settings, columns = rlang::quo(NULL)) {
  part <- paste0("pre_", definition$name)
  whole <- complete_settings(settings, definition$arguments, part)
  if (!is.null(definition$check)) definition$check(whole)
  selection <- capture_selection(columns)
  for (name in definition$required) {
    given <- if (name == "columns") selection else whole[[name]]
    if (length(given) > 0L) next
    stop_kw("argument", paste0("`", name, "` of ", part, "() must be given."),
      remedy = if (nzchar(definition$does)) definition$does
    )
  }
  structure(
    list(
      definition = definition, settings = whole,
      given = given_names(settings, definition$arguments), columns = selection
    ),
    class = "kw_step"
  )
}

# A column selection: the expression, and the values of the outside variables in
# it, so that it means the same in another process. NULL = the step's default. Variables
# that are called like columns are dropped when the step meets the table: there the
# columns are meant (settle_selections()).
capture_selection <- function(quosure) {
  expr <- rlang::quo_get_expr(quosure)
  if (is.null(expr)) return(NULL)
  captured <- list()
  for (name in all.vars(expr)) {
    value <- own_value(name, rlang::quo_get_env(quosure))
    if (is.null(value)) next
    captured[[name]] <- portable_value(value, paste0(quoted(name), " in `columns`"))
  }
  expr <- portable_code(expr)
  if (is.symbol(expr) && is.character(captured[[as.character(expr)]])) {
    expr <- call("any_or_column", as.character(expr))
  }
  structure(list(expr = expr, captured = captured), class = "kw_selection")
}

#' Select columns by kind
#'
#' For the `columns` argument of steps.
#'
#' @param ... Some of `"number"`, `"category"`, `"ordered"`, `"text"`, `"date"`.
#' @return A selection; only meaningful inside `columns =`.
#' @section Errors:
#' `kw_error_argument` for a kind that there is not.
#' @examples
#' pre_missing(fill = "mean", columns = of_kind("number"))
#' @export
of_kind <- function(...) {
  kinds <- c(...)
  for (kind in kinds) check_choice(kind, column_kinds, "of_kind()")
  tidyselect::where(function(x) column_kind(x) %in% kinds)
}

# Names of the columns that a step works on, seen in this (training) frame.
select_columns <- function(step, frame) {
  if (is.null(step$columns)) return(columns_of_kinds(frame, step$definition$columns))
  selection <- step$columns
  check_selected_names(selection, frame, step$definition$name)
  helpers <- list(of_kind = of_kind, any_or_column = function(name) {
    if (name %in% frame_names(frame)) name else selection$captured[[name]]
  })
  home <- list2env(c(selection$captured, helpers), parent = baseenv())
  proxy <- c(as.list(frame$columns), sparse_prototypes(frame))
  tryCatch(
    names(tidyselect::eval_select(selection$expr, data = proxy, env = home, allow_rename = FALSE)),
    error = function(e) {
      why <- plain_message(e$parent %||% e)
      refuse_selection(selection, frame, step$definition$name, why)
    }
  )
}

# A bare name is a column or a value that came along, never a function that happens to be
# called so.
check_selected_names <- function(selection, frame, step) {
  strange <- setdiff(bare_names(selection$expr), c(frame_names(frame), names(selection$captured)))
  if (length(strange) > 0L) {
    refuse_selection(selection, frame, step, paste0("There is no column ", quoted(strange[1]), "."))
  }
}

# The names in a selection that are not inside where(), which takes a function.
bare_names <- function(expr) {
  if (is.symbol(expr)) return(as.character(expr))
  if (!is.call(expr)) return(character())
  head <- if (is.symbol(expr[[1]])) as.character(expr[[1]]) else ""
  if (head %in% c("where", "::")) return(character())
  if (head %in% c("$", "@")) return(bare_names(expr[[2]]))
  unique(unlist(lapply(call_parts(expr)[-1], bare_names)))
}

refuse_selection <- function(selection, frame, step, why) {
  stop_kw(
    "columns",
    paste0("pre_", step, ": `columns = ", selection_text(selection), "` cannot be resolved."),
    where = why,
    remedy = paste0("Columns at this point: ", enumerate(frame_names(frame), 20L), ".")
  )
}

columns_of_kinds <- function(frame, kinds) {
  kind <- vapply(frame$columns, column_kind, character(1))
  c(names(frame$columns)[kind %in% kinds], if ("number" %in% kinds) colnames(frame$sparse))
}

sparse_prototypes <- function(frame) {
  names <- colnames(frame$sparse)
  stats::setNames(rep(list(numeric()), length(names)), names)
}

selection_text <- function(selection) {
  if (is.null(selection)) return("")
  expr <- selection$expr
  if (is.call(expr) && identical(expr[[1]], as.symbol("any_or_column"))) return(expr[[2]])
  paste(deparse(expr, width.cutoff = 100L), collapse = " ")
}

# Learns a concrete step on training rows. Returns list(state, frame, target):
# what is needed to use it, and the training rows for whatever comes next.
learn_step <- function(step, frame, target, seed) {
  settings <- step$settings
  settings$columns <- select_columns(step, frame)
  learn_settled(step$definition, settings, frame, target, seed)
}

# The same with the columns selected.
learn_settled <- function(definition, settings, frame, target, seed) {
  learned <- if (definition$random) {
    with_seed(seed, definition$learn(frame, target, settings, seed))
  } else {
    definition$learn(frame, target, settings, seed)
  }
  state <- list(definition = definition, state = learned$state, settings = settings, seed = seed)
  if (is.null(learned$training)) {
    return(list(state = state, frame = use_step(state, frame), target = target))
  }
  check_training(learned$training, frame, definition)
  given <- learned$training$target
  # what holds for all rows is not a user's step's to change
  if (!definition$shipped) given[facts_of_target] <- unclass(target)[facts_of_target]
  list(state = state, frame = learned$training$frame, target = given)
}

facts_of_target <- c("scale", "kind", "quantiles")

use_step <- function(learned, frame) {
  out <- learned$definition$use(learned$state, frame)
  if (!inherits(out, "kw_frame")) out <- structure(out, class = "kw_frame")
  if (out$n != frame$n) {
    stop_kw("step", paste0(
      "pre_", learned$definition$name, " turned ", frame$n, " rows into ",
      out$n, " where it is used."
    ),
    remedy = "Only training rows may change in number, and only in learn()."
    )
  }
  out
}

check_training <- function(training, frame, definition) {
  part <- paste0("pre_", definition$name)
  if (training$frame$n != length(training$target$outcome)) {
    stop_kw("step", paste0(
      part, " returned ", training$frame$n, " training rows but ",
      length(training$target$outcome), " outcomes."
    ))
  }
  if (!definition$changes_rows && training$frame$n != frame$n) {
    stop_kw("step", paste0(part, " changed the number of training rows without saying so."),
      remedy = "Declare it with changes_rows = TRUE."
    )
  }
  if (!definition$changes_rows && !definition$cross_fitted) {
    stop_kw("step", paste0(part, " returned training rows of its own without saying so."),
      remedy = "Declare it with cross_fitted = TRUE."
    )
  }
}

# What identifies a concrete step in keys: a user's own by everything that can change what it
# does.
step_key <- function(step) {
  name <- step$definition$name
  if (!step$definition$shipped) {
    content <- c("learn", "use", "columns", "changes_rows", "cross_fitted", "random")
    name <- paste0(name, short_hash(canonical_text(unclass(step$definition)[content])))
  }
  selection <- if (!is.null(step$columns)) list(step$columns$expr, step$columns$captured)
  paste0(name, canonical_text(step$settings), canonical_text(selection))
}
