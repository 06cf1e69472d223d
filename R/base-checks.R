# Argument checks. Each names the argument and shows what was got.

check_argument <- function(ok, arg, expected, got, remedy = NULL) {
  if (isTRUE(ok)) return(invisible(TRUE))
  stop_kw("argument", paste0("`", arg, "` must be ", expected, "; got ", describe_value(got), "."),
    remedy = remedy, argument = arg, got = got
  )
}

check_number <- function(x, arg, min = -Inf, max = Inf, whole = FALSE, open_min = FALSE,
                         open_max = FALSE) {
  ok <- is.numeric(x) && length(x) == 1L && is.finite(x) &&
    (if (open_min) x > min else x >= min) && (if (open_max) x < max else x <= max) &&
    (!whole || x == round(x))
  bounds <- c(
    if (is.finite(min)) paste(if (open_min) "above" else "at least", written_out(min)),
    if (is.finite(max)) paste(if (open_max) "below" else "at most", written_out(max))
  )
  expected <- paste(c(
    if (whole) "one whole number" else "one number",
    paste(bounds, collapse = " and ")
  ), collapse = " ")
  check_argument(ok, arg, trimws(expected), x)
  invisible(x)
}

written_out <- function(x) format(x, big.mark = ",", scientific = FALSE)

check_flag <- function(x, arg) {
  check_argument(is.logical(x) && length(x) == 1L && !is.na(x), arg, "TRUE or FALSE", x)
  invisible(x)
}

# Beside its arguments a public function takes nothing: what is there is a misspelt name, or one
# value too many.
no_more <- function(...) {
  if (...length() == 0L) return(invisible())
  refuse_more(Filter(nzchar, ...names()), sys.call(-1L), sys.function(-1L))
}

# The same where arguments of these names are handed on.
no_more_but <- function(handed_on, ...) {
  strange <- setdiff(Filter(nzchar, ...names()), handed_on)
  if (length(strange) > 0L) refuse_more(strange, sys.call(-1L), sys.function(-1L), handed_on)
}

refuse_more <- function(strange, call, caller, handed_on = NULL) {
  called <- if (is.name(call[[1]]) || is.call(call[[1]])) rlang::call_name(call)
  called <- if (is.null(called)) "The function" else paste0(called, "()")
  known <- c(setdiff(names(formals(caller)), "..."), handed_on)
  if (length(strange) == 0L) {
    stop_kw("argument", paste0(
      called, " was given too much; it takes ", enumerate(known, 20L), "."
    ))
  }
  stop_kw("argument", paste0(called, " has no argument `", strange[1], "`."),
    remedy = did_you_mean(strange[1], known, "Arguments"), argument = strange[1]
  )
}

check_string <- function(x, arg, null_ok = FALSE) {
  ok <- (null_ok && is.null(x)) || (is.character(x) && length(x) == 1L && !is.na(x) && nzchar(x))
  check_argument(ok, arg, "one piece of text", x)
  invisible(x)
}

# One sentence, or nothing.
check_sentence <- function(x, arg) {
  check_argument(is.character(x) && length(x) == 1L && !is.na(x), arg, "one sentence, or \"\"", x)
  invisible(x)
}

# Names of parts stand in calls, plan files and tables.
check_word <- function(x, arg) {
  ok <- is.character(x) && length(x) == 1L && !is.na(x) && grepl("^[A-Za-z][A-Za-z0-9_.]*$", x)
  check_argument(ok, arg, "one word of letters, digits, _ and .", x)
  invisible(x)
}

check_choice <- function(x, choices, arg) {
  if (is.character(x) && length(x) == 1L && x %in% choices) return(invisible(x))
  remedy <- if (is.character(x) && length(x) == 1L && !is.na(x)) did_you_mean(x, choices, "Choices")
  check_argument(FALSE, arg, paste("one of", paste(quoted(choices), collapse = ", ")), x, remedy)
}

check_class <- function(x, class, arg, remedy = NULL) {
  check_argument(inherits(x, class), arg, paste("a", sub("^kw_", "", class)), x, remedy)
  if (class %in% names(record_fields)) check_record(x, class, arg)
  invisible(x)
}

# A named list or vector in which every name stands once.
check_named <- function(x, arg) {
  names <- names(x)
  ok <- length(x) == 0L || (!is.null(names) && all(nzchar(names)))
  check_argument(ok, arg, "named throughout", x)
  twice <- unique(names[duplicated(names)])
  if (length(twice) > 0L) {
    stop_kw("argument", paste0(
      "`", arg, "` names ", paste(quoted(twice), collapse = ", "),
      " more than once."
    ), remedy = "Give every entry its own name.", argument = arg)
  }
  invisible(x)
}

check_seed <- function(seed, arg = "seed") {
  if (is.null(seed)) return(invisible(NULL))
  check_number(seed, arg, min = 0, max = .Machine$integer.max, whole = TRUE)
}

# Optional packages: says what to install, and for what.
need <- function(package, what_for) {
  if (requireNamespace(package, quietly = TRUE)) return(invisible(TRUE))
  stop_kw(
    "package",
    paste0(what_for, " needs the package '", package, "', which is not installed."),
    remedy = paste0("install.packages(\"", package, "\")")
  )
}

check_writable_file <- function(file) {
  folder <- dirname(file)
  special <- file.exists(file) && !is_ordinary_file(path.expand(file))
  if (!dir.exists(folder) || file.access(folder, 2) != 0L || special) {
    stop_kw("file", paste0("The file ", quoted(file), " cannot be written."),
      where = if (!dir.exists(folder)) paste0("There is no folder ", quoted(folder), ".")
      else if (dir.exists(file)) {
        "It is a folder."
      } else if (special) {
        "It is no ordinary file: another one would be put in its place."
      } else {
        "The folder cannot be written to."
      },
      remedy = "Choose another path."
    )
  }
}
