# R code as text, for scripts: values, names, columns and lines from templates.

# Lines of code from a template (usually a raw string): every <<hole>> is replaced by the argument
# of that name, which is code already, and a line with nothing but an empty hole goes.
code_lines <- function(template, ...) {
  holes <- list(...)
  lines <- strsplit(sub("\n$", "", sub("^\n", "", template)), "\n", fixed = TRUE)[[1]]
  pattern <- "<<[a-z_]+>>"
  unlist(lapply(lines, function(line) {
    found <- regmatches(line, gregexpr(pattern, line))[[1]]
    if (length(found) == 0L) return(line)
    values <- lapply(gsub("[<>]", "", found), function(name) holes[[name]])
    if (grepl(paste0("^ *", pattern, "$"), line)) {
      return(paste0(rep(sub("<.*", "", line), length(values[[1]])), values[[1]]))
    }
    regmatches(line, gregexpr(pattern, line)) <- list(vapply(values, paste, "", collapse = "\n"))
    strsplit(line, "\n", fixed = TRUE)[[1]]
  }))
}

# code_lines() with some holes filled already.
code_filler <- function(...) {
  filled <- list(...)
  function(template, ...) do.call(code_lines, c(list(template), filled, list(...)))
}

# A column of `x`: x$name, or x[["name"]] where the name needs quotes.
r_column <- function(name, x = "x") {
  if (is_plain_name(name)) paste0(x, "$", name) else paste0(x, "[[", r_string(name), "]]")
}

is_plain_name <- function(x) make.names(x) == x & !grepl("[^ -~]", x)

# Texts or numbers as a vector of several lines, none longer than need be.
r_vector <- function(x, indent = 2L) {
  if (length(x) == 1L) return(r_text(x))
  parts <- if (is.character(x)) r_string(x) else vapply(x, deparsed, "")
  whole <- paste0("c(", paste(parts, collapse = ", "), ")")
  if (length(x) > 0L && nchar(whole) <= 70L) return(whole)
  if (length(x) == 0L) return(r_text(x))
  lines <- character()
  line <- parts[1]
  for (part in parts[-1]) {
    if (indent + nchar(line) + nchar(part) > 94L) {
      lines <- c(lines, line)
      line <- part
    } else {
      line <- paste0(line, ", ", part)
    }
  }
  lines <- c(lines, line)
  inner <- strrep(" ", indent)
  paste0(
    "c(\n", inner, paste(lines, collapse = paste0(",\n", inner)), "\n", strrep(" ", indent - 2L),
    ")"
  )
}

# A list with names, `values` being code: list(a = 1, "b c" = 2).
r_named_list <- function(values, names) {
  if (length(values) == 0L) return("list()")
  shown <- ifelse(is_plain_name(names), names, r_string(names))
  paste0("list(\n  ", paste(paste(shown, "=", values), collapse = ",\n  "), "\n)")
}

# Named values as code: c(a = 1, "b c" = 2), or a list of vectors.
r_values <- function(x) {
  values <- vapply(x, function(one) {
    if (is.list(one) || !is.null(names(one))) r_values(one) else r_vector(one, 4L)
  }, "")
  if (is.list(x)) return(r_named_list(values, names(x)))
  if (length(x) == 0L) return("c()")
  sub("^list\\(", "c(", r_named_list(values, names(x)))
}

# Quantiles of values that weigh, as weighted_quantile() has them.
script_weighted_quantile <- function() {
  code_lines(r"(
# quantiles of type 7 (Hyndman & Fan 1996) of values that count as often as they weigh
weighted_quantile <- function(v, shares, w) {
  n <- max(sum(w), sum(w > 0))
  last <- cumsum(w[order(v)]) * n / sum(w)
  at <- (n - 1) * shares + 1
  value_at <- function(place) {
    sort(v)[pmin(findInterval(place - 1e-9 * n, last, left.open = TRUE) + 1, length(v))]
  }
  below <- value_at(floor(at + 1e-9))
  below + (at - floor(at + 1e-9)) * (value_at(ceiling(at - 1e-9)) - below)
}
)")
}

# A function of values and a power: Box and Cox's, or Yeo and Johnson's.
script_bend <- function(name, by) {
  if (by == "box_cox") {
    return(paste0(
      name, " <- function(v, power) if (abs(power) < 1e-6) log(v) else (v^power - 1) / power"
    ))
  }
  code_lines(r"(
<<name>> <- function(v, power) {
  up <- !is.na(v) & v >= 0
  down <- !is.na(v) & v < 0
  other <- 2 - power
  v[up] <- if (abs(power) < 1e-6) log1p(v[up]) else ((v[up] + 1)^power - 1) / power
  v[down] <- if (abs(other) < 1e-6) -log1p(-v[down]) else -((1 - v[down])^other - 1) / other
  v
}
)", name = name)
}

# Sets the seed, of the generator that the script names at its head.
r_seed <- function(seed) paste0("set.seed(", seed, ")")

# Settings as a list.
r_settings <- function(settings) {
  values <- vapply(settings, function(value) {
    if (is.atomic(value) && is.null(attributes(value)) && !is.null(value)) {
      r_vector(value, 4L)
    } else {
      r_text(value)
    }
  }, "")
  r_named_list(values, names(settings))
}

# Row numbers with ranges: c(1:20, 25, 30:33).
r_rows <- function(rows) {
  run <- cumsum(c(TRUE, diff(rows) != 1L))
  parts <- vapply(split(rows, run), function(r) {
    if (length(r) > 2L) paste0(r[1], ":", r[length(r)]) else paste(r, collapse = ", ")
  }, "")
  whole <- paste(parts, collapse = ", ")
  if (length(parts) == 1L && length(rows) != 2L) return(whole)
  paste0("c(\n  ", paste(strwrap(whole, 96L), collapse = "\n  "), "\n)")
}

# Lines of their own, empty ones too.
split_lines <- function(text) {
  unlist(lapply(text, function(one) {
    if (nzchar(one)) strsplit(one, "\n", fixed = TRUE)[[1]] else ""
  }))
}

# Falling numbers, briefly where they are evenly spaced on a log scale.
r_spaced <- function(values, indent = 0L) {
  n <- length(values)
  if (n >= 6L && all(values > 0)) {
    ends <- log10(values[c(1L, n)])
    if (identical(values, signif(10^seq(ends[1], ends[2], length.out = n), 6))) {
      return(paste0(
        "signif(10^seq(", r_power_of_ten(values[1]), ", ", r_power_of_ten(values[n]),
        ", length.out = ", n, "), 6)"
      ))
    }
  }
  r_vector(values, indent)
}

r_power_of_ten <- function(x) {
  power <- log10(x)
  if (power == round(power)) r_text(power) else paste0("log10(", r_text(x), ")")
}

# Which columns of `x` (as they stand: `kinds`, by name) are meant, as briefly as it can be said.
r_columns <- function(names, kinds) {
  if (identical(names, base::names(kinds))) return("names(x)")
  numbers <- names(kinds)[kinds == "number"]
  categories <- names(kinds)[kinds %in% c("category", "ordered")]
  if (length(names) > 1L && identical(names, numbers)) return("names(Filter(is.numeric, x))")
  if (length(names) > 1L && identical(names, categories)) return("names(Filter(is.factor, x))")
  start <- common_start(names, base::names(kinds))
  if (!is.null(start)) return(paste0("names(x)[startsWith(names(x), ", r_string(start), ")]"))
  r_vector(names)
}

# What all of several names begin with, and no other does; NULL: nothing of use.
common_start <- function(names, all) {
  if (length(names) < 8L) return(NULL)
  length <- max(which(vapply(seq_len(min(nchar(names))), function(n) {
    length(unique(substr(names, 1L, n))) == 1L
  }, NA)), 0L)
  start <- substr(names[1], 1L, length)
  if (length > 0L && identical(all[startsWith(all, start)], names)) start
}

# Code that gives x, to the last digit: ASCII, every text quoted by r_string(). Attributes are
# written out, since deparse() does not mask quotes and backslashes in names.
r_text <- function(x) {
  if (is.function(x)) return(ascii_code(paste(source_text(x), collapse = "\n")))
  if (is.language(x)) return(paste0("quote(", ascii_code(deparsed(x)), ")"))
  if (is.null(x)) return("NULL")
  attributes <- attributes(x)
  bare <- x
  attributes(bare) <- NULL
  text <- if (is.list(x)) {
    paste0("list(", paste(vapply(bare, r_text, ""), collapse = ",\n"), ")")
  } else if (is.character(x)) {
    texts <- r_string(bare)
    if (length(x) == 1L) texts else paste0("c(", paste(texts, collapse = ", "), ")")
  } else {
    deparsed(bare)
  }
  if (is.character(x) && length(x) == 0L) text <- "character()"
  if (length(attributes) == 0L) return(text)
  # as structure() takes them
  written <- paste0(vapply(names(attributes), r_name, ""), " = ", vapply(attributes, r_text, ""))
  paste0("structure(", text, ", ", paste(written, collapse = ", "), ")")
}

deparsed <- function(x) {
  if (is.double(x) && length(x) == 1L && is.finite(x)) {
    # the shortest that is the same number: 0.1, not 0.10000000000000001
    short <- format(x, digits = 15L)
    if (as.double(short) == x) return(short)
  }
  paste(
    deparse(x, width.cutoff = 100L, control = c("keepNA", "keepInteger", "digits17")),
    collapse = "\n"
  )
}

# Texts as R code, in ASCII: nothing in them ends the text or is taken for anything else.
r_string <- function(x) {
  text <- gsub("([\\\\\"])", "\\\\\\1", enc2utf8(x))
  ifelse(is.na(x), "NA_character_", paste0("\"", ascii_code(text, all = TRUE), "\""))
}

r_name <- function(x) {
  if (is_plain_name(x)) return(x)
  paste0("`", ascii_code(gsub("([\\\\`])", "\\\\\\1", enc2utf8(x)), all = TRUE), "`")
}

# Signs beyond ASCII, and with `all` control characters, as \u and \U escapes.
ascii_code <- function(text, all = FALSE) {
  found <- gregexpr(if (all) "[^ -~]" else "[^ -~\t\n]", text, perl = TRUE)
  regmatches(text, found) <- lapply(regmatches(text, found), function(signs) {
    codes <- vapply(signs, utf8ToInt, 1L, USE.NAMES = FALSE)
    ifelse(codes > 65535L, sprintf("\\U%08x", codes), sprintf("\\u%04x", codes))
  })
  text
}

# Lines of a comment, whatever they hold.
r_comment <- function(text) {
  trimws(paste0("# ", ascii_code(gsub("[[:space:]]+", " ", text), all = TRUE)), "right")
}

source_text <- function(f) {
  written <- attr(f, "srcref")
  if (!is.null(written)) return(as.character(written))
  attributes(f) <- NULL
  deparse(
    f,
    width.cutoff = 100L,
    control = c("keepNA", "keepInteger", "niceNames", "showAttributes", "digits17")
  )
}

# An author's function under a name; it needs nothing from around it but values.
own_function <- function(name, f) {
  text <- function_text(f)
  c(paste0(name, " <- ", text[1]), text[-1])
}

# A function as text, with the values around it that it uses.
function_text <- function(f) {
  used <- unlist(codetools::findGlobals(f, merge = FALSE), use.names = FALSE)
  captured <- values_around(f, used)
  text <- source_text(f)
  if (length(captured) == 0L) return(text)
  around <- unlist(lapply(names(captured), function(name) {
    value <- captured[[name]]
    lines <- if (is.function(value)) function_text(value) else r_text(value)
    c(paste0("  ", r_name(name), " <- ", lines[1]), if (length(lines) > 1L) paste0("  ", lines[-1]))
  }))
  c("local({", around, paste0("  ", text), "})")
}

# Values by these names in the environments between a function and its package.
values_around <- function(f, names) {
  found <- list()
  place <- environment(f)
  while (!is.null(place) && !isNamespace(place) && !identical(place, globalenv()) &&
    !identical(place, emptyenv())) {
    found <- c(
      found,
      mget(setdiff(intersect(names, ls(place, all.names = TRUE)), names(found)), envir = place)
    )
    place <- parent.env(place)
  }
  found
}

# The packages that a user's functions call by `package::name`.
packages_called <- function(functions) {
  found <- character()
  walk <- function(expr) {
    if (!is.call(expr)) return(invisible())
    head <- if (is.symbol(expr[[1]])) as.character(expr[[1]]) else ""
    if (head %in% c("::", ":::")) found <<- c(found, as.character(expr[[2]]))
    for (part in call_parts(expr)) walk(part)
  }
  for (f in Filter(Negate(is.primitive), functions)) walk(body(f))
  setdiff(sort(unique(found)), c("base", "stats", "utils", "methods"))
}

# Small numbers of the parts that rows were dealt into, as code.
r_parts <- function(part) {
  if (max(part) > 9L) return(r_vector(part))
  paste0("utf8ToInt(paste0(\n  ", digit_lines(part), "\n)) - utf8ToInt(\"0\")")
}

# Weights in a script, so that they sum to the rows that they stand for.
script_weights <- "w * max(sum(w), sum(w > 0)) / sum(w)"

# Digits as lines of text in quotes.
digit_lines <- function(digits) {
  text <- paste(digits, collapse = "")
  starts <- seq(1L, nchar(text), by = 90L)
  lines <- paste0("\"", substring(text, starts, pmin(starts + 89L, nchar(text))), "\"")
  paste(lines, collapse = ",\n  ")
}

# Texts as R code.
in_quotes <- function(x) {
  text <- encodeString(x, quote = "\"")
  if (length(x) == 1L) text else paste0("c(", paste(text, collapse = ", "), ")")
}

# A name as R code, whatever it is.
name_text <- function(name) {
  if (make.names(name) == name) name else paste0("`", gsub("`", "\\\\`", name, fixed = TRUE), "`")
}
