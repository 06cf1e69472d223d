#' Define something to look for in tables
#'
#' Once it is registered by [register_members()], [inspect_data()] looks for it, and
#' [apply_remedies()] does what it advises.
#'
#' @param code What it is called in findings, in snake_case, such as `"round_numbers"`.
#' @param look `function(columns, outcome)`: gets a data frame of the predictors' working rows (at
#'   most 20,000 of them) and the outcome of these rows. It gives `NULL`, or a character vector
#'   that says of each column by name what was found there.
#' @param severity `"serious"`, `"notable"` or `"minor"`.
#' @param step Name of the step that helps, shipped or registered, such as `"skew"`; `NULL` where
#'   no step does.
#' @param settings Named list: arguments of the step.
#' @param does One sentence, for [list_parts()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return The finding, for [register_members()].
#' @section Errors:
#' `kw_error_definition` when `look` uses something from outside itself.
#' @examples
#' finding_round <- define_finding("round_numbers",
#'   look = function(columns, outcome) {
#'     numbers <- columns[vapply(columns, is.numeric, NA)]
#'     round <- vapply(numbers, function(x) mean(x %% 10 == 0, na.rm = TRUE) > 0.9, NA)
#'     vapply(names(numbers)[round], function(name) "nearly all values end in 0", "")
#'   }
#' )
#' @export
define_finding <- function(code, look, severity = "notable", step = NULL, settings = list(),
                           does = "", ...) {
  no_more(...)
  check_word(code, "code")
  check_choice(severity, c("serious", "notable", "minor"), "severity")
  if (!is.null(step)) check_string(step, "step")
  check_named(settings, "settings")
  check_sentence(does, "does")
  check_argument(
    is.function(look) && length(formals(look)) == 2L, "look", "a function(columns, outcome)", look
  )
  check_self_contained(list(look = look), code)
  look <- portable_function(look, "`look`")
  make <- finding_definition(code, function(seen) {
    own_finding(seen, look, code, severity, step, settings)
  }, does)
  as_member(make(), "finding", code, make)
}

own_finding <- function(seen, look, code, severity, step, settings) {
  said <- look(seen$sample, seen$outcome[seen$some])
  strange <- setdiff(names(said), names(seen$sample))
  fine <- is.null(said) || (is.character(said) && length(names(said)) == length(said))
  if (!fine || length(strange) > 0L) {
    stop_kw("definition", paste0(
      "The finding ", quoted(code), " must give NULL or a text for each column by name; it gave ",
      if (fine) paste("one for", quoted(strange[1])) else describe_value(said), "."
    ))
  }
  lapply(names(said), function(name) {
    given <- paste0(names(settings), " = ", vapply(settings, deparse1, ""), recycle0 = TRUE)
    given <- paste(c(given, paste0("columns = ", in_quotes(name))), collapse = ", ")
    finding(
      code, severity, name, paste0(name, ": ", said[[name]]),
      if (is.null(step)) "" else paste0("pre_", step, "(", given, ")"),
      if (!is.null(step)) list(kind = "step", step = step, settings = settings, columns = name)
    )
  })
}
