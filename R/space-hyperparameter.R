# One hyperparameter of a step or family: what it means, what it may be, and
# which values are sensible for a table of this size.

# type: "number", "whole", "choice", "flag", "any" (not checked) or "code" (not checked, and not to
# be had from a plan file).
# default: a value, or a function(rows, columns, classes).
# sensible: a function(rows, columns, classes) giving among() or from_to().
# meaning: one plain sentence. rising: what a higher value does.
# active_when: a function(settings, kind) -> logical, one value a setting, where
# the hyperparameter does not always matter.
hyperparameter <- function(type, default, sensible = NULL, meaning, rising = NULL,
                           active_when = NULL, choices = NULL, min = -Inf, max = Inf,
                           open_min = FALSE) {
  list(
    type = type, default = default, sensible = sensible, meaning = meaning, rising = rising,
    active_when = active_when, choices = choices, min = min, max = max, open_min = open_min
  )
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
