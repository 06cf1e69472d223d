# Candidates in a plan file: steps, families and the values that vary.

plan_candidates <- function(x, shared) {
  if (!is_map(x) || length(x) == 0L) {
    plan_error("Candidates are expected here, each with its name.", "candidates")
  }
  shared <- if (is.null(shared)) list() else plan_shared(shared)
  made <- Map(function(value, name) {
    parts <- plan_parts(value, shared, paste0("candidates > ", name), families = TRUE)
    if (length(parts) == 1L && inherits(parts[[1]], "kw_family")) {
      parts[[1]]
    } else {
      do.call(pipeline, parts)
    }
  }, x, names(x))
  do.call(candidates, made)
}

plan_shared <- function(x) {
  if (!is_map(x)) plan_error("Names with lists of steps are expected here.", "shared")
  made <- list()
  for (name in names(x)) {
    made[[name]] <- plan_parts(x[[name]], made, paste0("shared > ", name), families = FALSE)
  }
  made
}

# A list of parts from a scalar, a map of one entry, or a list of those.
plan_parts <- function(x, shared, at, families) {
  if (is_scalar(x) || is_map(x)) x <- list(x)
  if (is.null(x)) plan_error("A step or family is expected here.", at)
  parts <- list()
  for (i in seq_along(x)) {
    here <- if (length(x) > 1L) paste0(at, "[", i, "]") else at
    parts <- c(parts, plan_part(x[[i]], shared, here, families))
  }
  parts
}

plan_part <- function(x, shared, at, families) {
  if (!is_scalar(x) && !(is_map(x) && length(x) == 1L)) {
    plan_error("A name, or one name with its arguments, is expected here.", at)
  }
  name <- if (is_scalar(x)) x$text else names(x)
  arguments <- if (is_scalar(x)) NULL else x[[1]]
  if (name %in% names(shared) && is.null(arguments)) return(shared[[name]])
  if (name == "as_is") {
    if (!is.null(arguments)) plan_error("as_is takes nothing.", at, "Write it by itself.")
    return(list(as_is()))
  }
  if (name == "optional") {
    return(list(optional(plan_parts(arguments, shared, paste0(at, " > optional"), FALSE))))
  }
  if (name == "either") return(list(plan_either(arguments, shared, paste0(at, " > either"))))
  steps <- known_members("step")
  if (name %in% names(steps)) return(plan_step(steps[[name]](), arguments, paste0(at, " > ", name)))
  known_families <- if (families) known_members("fam")
  if (name %in% names(known_families)) {
    return(list(plan_family(known_families[[name]](), arguments, paste0(at, " > ", name))))
  }
  known <- c(names(shared), names(steps), names(known_families), "either", "optional", "as_is")
  plan_error(
    paste0("There is no step", if (families) " or family", " ", quoted(name), "."), at,
    did_you_mean(name, known)
  )
}

plan_either <- function(x, shared, at) {
  if (!is_map(x)) plan_error("Alternatives are expected here, each with its name.", at)
  alternatives <- Map(
    function(value, name) plan_parts(value, shared, paste0(at, " > ", name), FALSE), x, names(x)
  )
  do.call(either, alternatives)
}

plan_step <- function(definition, x, at) {
  known <- names(definition$arguments)
  types <- vapply(definition$arguments, `[[`, "", "type")
  if (any(types[intersect(definition$required, known)] == "code")) {
    plan_error(paste0("The step ", quoted(definition$name), " is made of code."), at,
      paste0("Make the plan in R, with pre_", definition$name, "().")
    )
  }
  x <- plan_keys(x, c(known, keys_at("a step")), at, required = definition$required)
  settings <- plan_settings(x[setdiff(names(x), c("columns", "called"))], definition, at)
  columns <- plan_columns(x$columns, paste0(at, " > columns"))
  step <- new_step(definition, settings, rlang::new_quosure(columns, baseenv()))
  called <- plan_text(x$called, paste0(at, " > called"))
  if (is.null(called)) list(step) else stats::setNames(list(step), called)
}

plan_family <- function(definition, x, at) {
  if (is_scalar(x) && x$text == "sensible") return(sensible(new_family(definition, list())))
  x <- plan_keys(x, names(definition$arguments), at)
  new_family(definition, plan_settings(x, definition, at))
}

plan_settings <- function(x, definition, at) {
  Map(function(value, name) {
    plan_value(value, definition$arguments[[name]], paste0(at, " > ", name))
  }, x, names(x))
}

# A value as its hyperparameter's type says: one, a list of several to try, or a
# range.
plan_value <- function(x, declared, at) {
  read <- switch(declared$type,
    number = ,
    whole = plan_number,
    flag = plan_flag,
    choice = plan_text,
    plan_any
  )
  if (is_scalar(x)) {
    if (x$text == "sensible" && !x$text %in% declared$choices) return(sensible())
    return(read(x, at))
  }
  if (is_map(x) && declared$type == "any") return(plan_any(x, at))
  if (is_map(x)) {
    x <- plan_keys(x, keys_at("a value"), at, keys_needed_at("a value"))
    return(from_to(
      plan_number(x$from, paste0(at, " > from")),
      plan_number(x$to, paste0(at, " > to")),
      plan_text(x$spacing, paste0(at, " > spacing")) %||% "even",
      plan_number(x$points, paste0(at, " > points"))
    ))
  }
  values <- lapply(seq_along(x), function(i) read(x[[i]], paste0(at, "[", i, "]")))
  do.call(among, values)
}

# A selection of columns as a call that this function builds: names, {kind: ...},
# {except: ...}.
plan_columns <- function(x, at) {
  if (is.null(x)) return(NULL)
  if (!is_map(x)) return(call("all_of", plan_texts(x, at)))
  x <- plan_keys(x, keys_at("columns"), at)
  if (!is.null(x$kind)) {
    kinds <- plan_texts(x$kind, paste0(at, " > kind"))
    for (kind in kinds) check_choice(kind, column_kinds, paste0(at, " > kind"))
    chosen <- as.call(c(as.symbol("of_kind"), as.list(kinds)))
  } else {
    chosen <- quote(everything())
  }
  if (is.null(x$except)) {
    chosen
  } else {
    call("&", chosen, call("!", call("all_of", plan_texts(x$except, paste0(at, " > except")))))
  }
}

# A rule: text, or {rule: text, candidate: name}. The text is a small grammar of
# comparisons that is read and worked out here; it is never evaluated as code.
plan_rule <- function(candidates, x, at) {
  candidate <- NULL
  if (is_map(x)) {
    x <- plan_keys(x, keys_at("rule_out"), at, keys_needed_at("rule_out"))
    candidate <- plan_texts(x$candidate, paste0(at, " > candidate"))
    x <- x$rule
  }
  text <- plan_text(x, at)
  # reason: read, not run; check_grammar() looks at every part of it
  expr <- tryCatch(str2lang(text), error = function(e) NULL)
  if (is.null(expr)) plan_error(paste0("The rule ", quoted(text), " cannot be read."), at)
  check_grammar(expr, text, at)
  for (name in candidate) {
    check_choice(name, names(candidates$pipelines), paste0(at, " > candidate"))
  }
  rule <- new_rule(expr, candidates, candidate, values = NULL)
  candidates$rules <- c(candidates$rules, list(rule))
  candidates
}

check_grammar <- function(expr, text, at) {
  if (is.symbol(expr) || (is.atomic(expr) && length(expr) == 1L)) return(invisible())
  operator <- if (is.call(expr) && is.symbol(expr[[1]])) as.character(expr[[1]]) else ""
  fits <- operator %in% names(grammar) && length(expr) - 1L == length(formals(grammar[[operator]]))
  if (!fits) {
    plan_error(
      paste0("The rule ", quoted(text), " uses more than comparisons."), at,
      "Allowed are names, numbers, texts in quotes, ==, !=, <, <=, >, >=, &, |, ! and brackets."
    )
  }
  for (part in as.list(expr)[-1]) check_grammar(part, text, at)
}
