# One hyperparameter of a step or family: what it means, what it may be, and
# which values are sensible for a table of this size.

#' What a hyperparameter is
#'
#' For `defaults =` of [define_family()] and [define_step()]: more than a default value. What is
#' said here is checked when a value is given, read from plan files, shown by
#' [describe_family()], and used by [sensible()].
#'
#' @param type `"number"`, `"whole"` (a whole number), `"choice"`, `"flag"` (yes or no), `"any"`
#'   (not checked) or `"code"` (not checked, and not to be had from a plan file).
#' @param default A value, or `function(rows, columns, classes)` giving one.
#' @param sensible `function(rows, columns, classes)` giving [among()] or [from_to()]: values that
#'   are worth trying on a table of this size; `NULL` if there is no telling.
#' @param meaning One plain sentence.
#' @param rising What a higher value does; `NULL` where that makes no sense.
#' @param active_when `function(settings, kind)` giving one logical a setting, where the
#'   hyperparameter does not always matter; settings that differ only where it does not are one.
#' @param choices For `"choice"`: the values that there are.
#' @param min,max Lowest and highest number.
#' @param open_min Is `min` itself too low?
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A list for `define_family()` and `define_step()`.
#' @section Errors:
#' `kw_error_argument` for a type that there is not, or values that do not fit it.
#' @examples
#' hyperparameter("whole", 5,
#'   min = 1, meaning = "How many columns are used.",
#'   sensible = function(rows, columns, classes) from_to(1, columns),
#'   rising = "A closer fit: less bias, more variance."
#' )
#' @export
hyperparameter <- function(type, default, sensible = NULL, meaning, rising = NULL,
                           active_when = NULL, choices = NULL, min = -Inf, max = Inf,
                           open_min = FALSE, ...) {
  no_more(...)
  structure(
    list(
      type = type, default = default, sensible = sensible, meaning = meaning, rising = rising,
      active_when = active_when, choices = choices, min = min, max = max, open_min = open_min
    ),
    class = "kw_hyperparameter"
  )
}

hyperparameter_types <- c("number", "whole", "choice", "flag", "any", "code")

# What a user says of a hyperparameter: all of it, or its default alone.
declared_by_user <- function(default, type) {
  if (!inherits(default, "kw_hyperparameter")) {
    return(hyperparameter(type(default), default, meaning = "As its author says."))
  }
  check_choice(default$type, hyperparameter_types, "type")
  functions <- names(Filter(is.function, default[c("default", "sensible", "active_when")]))
  for (one in functions) default[[one]] <- portable_function(default[[one]], one)
  default
}

# Checks the value given for a hyperparameter, or every value that it may take.
check_setting <- function(value, declared, name, part) {
  if (inherits(value, "kw_sensible")) {
    if (is.null(declared$sensible)) {
      stop_kw("argument", paste0(part, ": there is no sensible range for `", name, "`."),
        remedy = "Give the values with among() or from_to()."
      )
    }
    return(invisible())
  }
  if (inherits(value, "kw_either")) {
    stop_kw("argument", paste0(part, ": `", name, "` is a value; either() is for steps."),
      remedy = "Use among() for alternative values."
    )
  }
  if (inherits(value, "kw_range")) {
    if (!declared$type %in% c("number", "whole")) {
      stop_kw("argument", paste0(part, ": `", name, "` is no number, so from_to() cannot vary it."),
        remedy = "Use among()."
      )
    }
    value <- c(value$from, value$to)
  } else if (inherits(value, "kw_among")) {
    value <- value$values
  } else if (is.null(value) && is.null(declared$default)) {
    return(invisible())
  } else {
    value <- list(value)
  }
  for (one in as.list(value)) check_one_value(one, declared, name, part)
}

check_one_value <- function(value, declared, name, part) {
  arg <- paste0(name, "` of `", part)
  switch(declared$type,
    number = check_number(value, arg, declared$min, declared$max, open_min = declared$open_min),
    whole = check_number(value, arg, declared$min, declared$max, whole = TRUE),
    choice = check_choice(value, declared$choices, arg),
    flag = check_flag(value, arg),
    any = NULL
  )
  invisible()
}

# Whole settings of a step or family: defaults where nothing was given.
complete_settings <- function(given, declared, part) {
  unknown <- setdiff(names(given), names(declared))
  if (length(unknown) > 0L) {
    stop_kw("argument", paste0(part, " has no hyperparameter `", unknown[1], "`."),
      remedy = did_you_mean(unknown[1], names(declared), "It has")
    )
  }
  settings <- lapply(declared, `[[`, "default")
  names(settings) <- names(declared)
  for (name in names(given)) {
    value <- given[[name]]
    check_setting(value, declared[[name]], name, part)
    settings[name] <- list(value)
  }
  settings
}

# The call without arguments left at NULL or at their own default, as given by
# the user: which names were set is needed by sensible() and by printing.
given_names <- function(settings, declared) {
  names(settings)[!vapply(names(settings), function(name) {
    identical(settings[[name]], declared[[name]]$default)
  }, logical(1))]
}
