#' Derive columns by formulas
#'
#' @param ... Named formulas in the columns, e.g. `ratio = height_mm / foot_mm`.
#'   They are worked out row by row: arithmetic, comparisons, `log`, `exp`, `sqrt`,
#'   `abs`, `round`, `pmin`, `pmax`, `ifelse`, `is.na`, `nchar`, `as.numeric` and
#'   the like. What gives an infinite value, or none, becomes missing. Other
#'   variables are looked up where you call it, at once.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` when a formula has no name or uses a function that is not
#' row-wise; `kw_error_columns` when a column is absent.
#' @examples
#' pre_derive(slenderness = height_mm / foot_mm, damp = humidity_pct / pmax(drying_days, 1))
#' @export
pre_derive <- function(...) {
  formulas <- rlang::enquos(...)
  check_named(formulas, "pre_derive(...)")
  captured <- Map(capture_formula, formulas, names(formulas))
  new_step(member_step_derive(), list(formulas = captured))
}

member_step_derive <- function() {
  step_definition("derive",
    learn = learn_derive, use = use_derive, script = script_derive,
    does = "Adds columns worked out from others by formulas.", required = "formulas",
    hyperparameters = list(formulas = hyperparameter("code", list(), meaning = "The formulas."))
  )
}

row_wise <- c(
  "+", "-", "*", "/", "^", "%%", "%/%", "(", "==", "!=", "<", "<=", ">", ">=", "&", "|",
  "!",
  "log", "log2", "log10", "log1p", "exp", "expm1", "sqrt", "abs", "sign", "floor",
  "ceiling",
  "round", "signif", "trunc", "sin", "cos", "tan", "atan2", "pmin", "pmax", "ifelse",
  "is.na",
  "nchar", "as.numeric", "as.character", "as.integer", "%in%", "c"
)

capture_formula <- function(quosure, name) {
  expr <- rlang::quo_get_expr(quosure)
  used <- setdiff(all.names(expr, unique = TRUE), all.vars(expr))
  foreign <- setdiff(used, row_wise)
  if (length(foreign) > 0L) {
    stop_kw("argument", paste0(
      "pre_derive: the formula of ", quoted(name), " uses ", foreign[1],
      "(), which is not worked out row by row."
    ),
    remedy = "Use arithmetic and comparisons, or write a step with define_step()."
    )
  }
  captured <- list()
  for (variable in all.vars(expr)) {
    value <- rlang::env_get(rlang::quo_get_env(quosure), variable, default = NULL, inherit = TRUE)
    if (is.atomic(value) && length(value) == 1L) captured[[variable]] <- value
  }
  structure(list(expr = portable_code(expr), captured = captured), class = "kw_formula")
}

learn_derive <- function(frame, target, settings, seed) {
  for (name in names(settings$formulas)) {
    formula <- settings$formulas[[name]]
    absent <- setdiff(all.vars(formula$expr), c(names(frame$columns), names(formula$captured)))
    if (length(absent) > 0L) {
      stop_kw(
        "columns",
        paste0(
          "pre_derive: the formula of ", quoted(name), " needs ", quoted(absent[1]),
          ", which is no column at this point."
        ),
        remedy = did_you_mean(absent[1], names(frame$columns), "Columns")
      )
    }
  }
  list(state = settings$formulas, training = NULL)
}

use_derive <- function(state, frame) {
  for (name in names(state)) {
    # columns come before captured values of the same name
    values <- c(unclass(frame$columns), state[[name]]$captured)
    # reason: row-wise functions only, by capture_formula(), or by read_code() from a journal
    made <- suppressWarnings(eval(state[[name]]$expr, values, baseenv()))
    made <- rep_len(as.double(made), frame$n)
    made[!is.finite(made)] <- NA_real_
    frame <- frame_swap(
      frame,
      remove = intersect(name, frame_names(frame)),
      columns = stats::setNames(list(made), name)
    )
  }
  frame
}

script_derive <- function(state, about) {
  if (length(state) == 0L) return(list(lines = NULL))
  lines <- unlist(lapply(names(state), function(name) {
    values <- state[[name]]$captured
    known <- if (length(values) == 0L) "x" else paste0(
      "c(x, list(",
      paste(vapply(names(values), r_name, ""), "=", vapply(values, r_text, ""), collapse = ", "),
      "))"
    )
    code_lines(r"(
  made <- suppressWarnings(with(<<known>>, <<formula>>))
  made <- rep_len(as.numeric(made), nrow(x))
  made[!is.finite(made)] <- NA
  <<column>> <- made
)",
      known = known, formula = ascii_code(deparsed(state[[name]]$expr)), column = r_column(name)
    )
  }))
  list(
    does = paste0("derive_columns", about$i),
    lines = c(paste0("derive_columns", about$i, " <- function(x) {"), lines, "  x", "}")
  )
}
