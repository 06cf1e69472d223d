# Errors and warnings. Every error says what is wrong, where, and what to do.

`%||%` <- function(x, y) if (is.null(x)) y else x

# Stops with a classed error. `class` is the part after "kw_error_"; the text is
# taken literally, so that column names with braces or percent signs are safe. `...`: what a
# program may want to know, as fields of the condition: argument, column, got. Its rows and
# choices are noted by where_rows() and did_you_mean().
stop_kw <- function(class, problem, where = NULL, remedy = NULL, call = NULL, ...) {
  bullets <- visible(c(problem, x = where, i = remedy))
  known <- list(row = attr(where, "rows"), choices = attr(remedy, "choices"), ...)
  known <- known[!duplicated(names(known), fromLast = TRUE)]
  rlang::abort(bullets,
    class = c(paste0("kw_error_", class), "kw_error"), call = call,
    use_cli_format = FALSE, !!!Filter(Negate(is.null), known)
  )
}

warn_kw <- function(class, problem, remedy = NULL) {
  bullets <- visible(c(problem, i = remedy))
  rlang::warn(bullets, class = c(paste0("kw_warning_", class), "kw_warning"))
}

# Text of a table's that goes to a terminal: control characters, which could move the cursor or
# change what is shown, are written out.
visible <- function(text) {
  found <- gregexpr("[\u0001-\u0008\u000b-\u001f\u007f-\u009f]", text)
  if (all(vapply(found, `[`, 1L, 1L) %in% c(-1L, NA))) return(text)
  regmatches(text, found) <- lapply(regmatches(text, found), function(signs) {
    vapply(signs, function(sign) sprintf("\\x%02x", utf8ToInt(sign)), "", USE.NAMES = FALSE)
  })
  text
}

# Foreign text in a message: one short line of ordinary characters.
clean_line <- function(text) substr(gsub("[^[:print:]]", "?", text), 1L, 60L)

# The known names closest to a misspelt one, or character(0).
nearest_names <- function(name, known, most = 1L) {
  if (length(known) == 0L || is.na(name)) return(character())
  same <- synonym_of(name, known)
  if (length(same) > 0L) return(utils::head(same, most))
  distance <- utils::adist(tolower(name), tolower(known), partial = FALSE)[1, ]
  contains <- startsWith(tolower(known), tolower(name)) | endsWith(tolower(known), tolower(name))
  near <- (distance <= max(2, nchar(name) %/% 2)) | contains
  known[near][utils::head(order(!contains[near], distance[near]), most)]
}

# "Did you mean 'x'?" or, with nothing near, the list of what there is.
did_you_mean <- function(name, known, what = "Known") {
  near <- nearest_names(name, known)
  says <- if (length(near) > 0L) {
    paste0("Did you mean ", quoted(near), "?")
  } else {
    paste0(what, ": ", enumerate(known, most = 20L), ".")
  }
  structure(says, choices = known)
}

quoted <- function(x) paste0("'", x, "'")

# "small validation part" for a code in snake_case.
words_of_code <- function(code) gsub("_", " ", code, fixed = TRUE)

percent <- function(share) paste0(format(round(100 * share, 1), trim = TRUE), " %")

# "a, b, c and 4 more"
enumerate <- function(x, most = 6L) {
  # one more takes no longer than saying so
  shown <- if (length(x) == most + 1L && most > 1L) x else utils::head(x, most)
  rest <- length(x) - length(shown)
  text <- paste(shown, collapse = ", ")
  if (rest > 0L) paste0(text, " and ", rest, " more") else text
}

count_of <- function(n, noun, plural = paste0(noun, "s")) {
  paste(format(n, big.mark = ",", trim = TRUE), if (n == 1) noun else plural)
}

# What was got, for error messages: short, one line.
describe_value <- function(x) {
  if (is.null(x)) return("NULL")
  if (is.function(x)) return("a function")
  if (is.atomic(x) && length(x) == 1L) {
    return(if (is.character(x) && !is.na(x)) quoted(x) else format(x, digits = 6))
  }
  if (is.atomic(x)) {
    first <- x[seq_len(min(3L, length(x)))]
    texts <- is.character(x) || is.factor(x)
    first <- c(if (texts) quoted(first) else format(first, trim = TRUE),
      if (length(x) > 3L) "...")
    return(paste0(
      class(x)[1], " of length ", length(x),
      if (length(x) > 0L) paste0(" (", paste(first, collapse = ", "), ")")
    ))
  }
  paste0("an object of class ", class(x)[1])
}

# Runs `expr`; returns list(value, error, warnings): errors and warnings as text.
with_conditions <- function(expr) {
  warnings <- character()
  value <- NULL
  error <- catch_failure(value <- expr, function(text) warnings[[length(warnings) + 1L]] <<- text)
  list(value = value, error = error, warnings = warnings)
}

# Runs `expr`; returns NULL, or the message of the error that ended it. `warned` is told
# the text of every warning.
catch_failure <- function(expr, warned) {
  tryCatch(
    {
      withCallingHandlers(expr, warning = function(w) {
        warned(conditionMessage(w))
        invokeRestart("muffleWarning")
      })
      NULL
    },
    error = plain_message
  )
}

# The message of a condition on one line, without ANSI colour.
plain_message <- function(condition) plain_text(conditionMessage(condition))

plain_text <- function(x) {
  trimws(gsub("[[:space:]]+", " ", cli::ansi_strip(paste(as.character(x), collapse = " "))))
}

# "rows 3, 8 and 4 more"; `rows`: the numbers of all that were asked.
where_rows <- function(bad, rows = seq_along(bad)) {
  rows <- rows[which(bad)]
  structure(
    paste0(if (length(rows) == 1L) "row " else "rows ", enumerate(rows, 5L)),
    rows = rows
  )
}
