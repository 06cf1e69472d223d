# Candidates as plain forms, from which R code and plan files are written: a form is what
# somebody would type.
#   part     list(kind = "pre" or "fam", name, called, arguments, sensible, free, columns,
#            shipped);
#            sensible: is all else that has a sensible range to have it?
#   choice   list(kind = "optional" or "either", called, alternatives = lists of forms)
# Arguments are as given: values, among(), from_to(), sensible(). `columns`: NULL, or an
# expression in which outside variables are replaced by their values.

pipeline_forms <- function(pipeline) {
  c(lapply(pipeline$steps, node_form), list(part_form(pipeline$family, "fam", "")))
}

node_form <- function(node) {
  part <- node$part
  if (!inherits(part, "kw_either")) return(part_form(part, "pre", node$name))
  optional <- identical(names(part$alternatives), c("no", "yes")) &&
    length(part$alternatives$no) == 0L
  list(
    kind = if (optional) "optional" else "either", called = node$name,
    alternatives = lapply(
      if (optional) part$alternatives["yes"] else part$alternatives, lapply, node_form
    )
  )
}

part_form <- function(part, kind, called) {
  varies <- names(Filter(is_varying, part$settings))
  shown <- intersect(names(part$settings), union(part$given, varies))
  # all that sensible(part) would make vary
  free <- names(Filter(function(h) !is.null(h$sensible), part$definition$arguments))
  by_range <- names(Filter(function(x) inherits(x, "kw_sensible"), part$settings))
  whole <- kind == "fam" && length(free) > 0L && setequal(free, by_range)
  list(
    kind = kind, name = part$definition$name, called = called,
    arguments = part$settings[if (whole) setdiff(shown, free) else shown], sensible = whole,
    free = part$settings[free],
    columns = selection_expr(part$columns), shipped = part$definition$shipped
  )
}

selection_expr <- function(selection) {
  if (is.null(selection)) return(NULL)
  expr <- selection$expr
  if (is_call_of(expr, "any_or_column")) return(as.symbol(expr[[2]]))
  # reason: puts values in place of names, runs nothing
  do.call(substitute, list(expr, selection$captured))
}

is_call_of <- function(expr, name) is.call(expr) && identical(expr[[1]], as.symbol(name))

# As R code -------------------------------------------------------------------------------

# candidates(...) as lines of R code.
candidates_code <- function(candidates) {
  each <- Map(candidate_code, candidates$pipelines, names(candidates$pipelines))
  last <- length(each)
  each[-last] <- lapply(each[-last], function(lines) {
    lines[length(lines)] <- paste0(lines[length(lines)], ",")
    lines
  })
  code <- c("candidates(", paste0("  ", unlist(each, use.names = FALSE)), ")")
  rules <- vapply(candidates$rules, function(rule) {
    of <- if (!is.null(rule$candidate)) paste0(", candidate = ", code_of_value(rule$candidate))
    paste0("rule_out(", rlang::expr_deparse(rule$expr, width = 500L), of, ")")
  }, "")
  if (length(rules) == 0L) return(code)
  code[length(code)] <- ") |>"
  c(code, paste0("  ", rules, c(rep(" |>", length(rules) - 1L), "")))
}

candidate_code <- function(pipeline, name) {
  forms <- pipeline_forms(pipeline)
  parts <- lapply(forms, form_code)
  name <- code_name(name)
  if (identical(parts[-length(parts)], list("pre_minimal()"))) {
    parts[[length(parts)]][1] <- paste(name, "=", parts[[length(parts)]][1])
    return(parts[[length(parts)]])
  }
  call_code(paste0(name, " = pipeline"), parts)
}

# Longer calls are broken over lines.
widest_code <- 76L

# A call with arguments that are lines of code each: on one line, or, where that is too long, with
# arguments on lines of their own.
call_code <- function(head, arguments) {
  if (length(arguments) == 0L) return(paste0(head, "()"))
  several <- lengths(arguments) > 1L
  if (!any(several)) {
    one <- paste0(head, "(", paste(unlist(arguments), collapse = ", "), ")")
    if (nchar(one) <= widest_code) return(one)
  }
  lines <- character()
  joined <- FALSE
  for (i in seq_along(arguments)) {
    code <- arguments[[i]]
    last <- length(code)
    if (i < length(arguments)) code[last] <- paste0(code[last], ",")
    at <- length(lines)
    if (joined && !several[i] && nchar(lines[at]) + nchar(code) < widest_code - 2L) {
      lines[at] <- paste(lines[at], code)
    } else {
      lines <- c(lines, code)
    }
    joined <- !several[i]
  }
  c(paste0(head, "("), paste0("  ", lines), ")")
}

form_code <- function(form) {
  called <- if (nzchar(form$called)) paste(code_name(form$called), "= ")
  if (form$kind %in% c("pre", "fam")) {
    made <- call_code(paste0(form$kind, "_", form$name), argument_code(form))
    if (form$sensible) made <- call_code("sensible", list(made))
  } else {
    alternatives <- lapply(form$alternatives, function(forms) {
      code <- lapply(forms, form_code)
      if (length(code) == 0L) return("as_is()")
      if (length(code) == 1L) code[[1]] else call_code("list", code)
    })
    if (form$kind == "either") {
      alternatives <- Map(function(code, name) {
        code[1] <- paste(code_name(name), "=", code[1])
        code
      }, alternatives, names(alternatives))
    }
    made <- call_code(form$kind, unname(alternatives))
  }
  made[1] <- paste0(called, made[1])
  made
}

argument_code <- function(form) {
  arguments <- Map(function(value, name) paste(code_name(name), "=", code_of_value(value)),
    form$arguments, names(form$arguments))
  columns <- if (!is.null(form$columns)) {
    list(paste("columns =", rlang::expr_deparse(form$columns, width = 500L)))
  }
  c(unname(arguments), columns)
}

code_name <- function(name) if (make.names(name) == name) name else paste0("`", name, "`")

code_of_value <- function(value) {
  if (inherits(value, "kw_sensible")) return("sensible()")
  if (inherits(value, "kw_range")) {
    return(paste0("from_to(", paste(c(
      number_text(value$from), number_text(value$to),
      if (value$spacing == "log") "spacing = \"log\"",
      if (!is.null(value$points)) paste("points =", value$points)
    ), collapse = ", "), ")"))
  }
  if (inherits(value, "kw_among")) {
    values <- value$values
    several <- vapply(values, code_of_value, "")
    return(paste0("among(", paste(several, collapse = ", "), ")"))
  }
  if (is.double(value) && !is.object(value) && length(value) == 1L) return(number_text(value))
  paste(trimws(deparse(value, width.cutoff = 500L)), collapse = " ")
}

# The shortest text that reads as the same number.
number_text <- function(x) {
  text <- sprintf("%.15g", x)
  other <- which(!is.na(x))[as.numeric(text[!is.na(x)]) != x[!is.na(x)]]
  text[other] <- sprintf("%.17g", x[other])
  text
}
