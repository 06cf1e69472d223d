# Values as text that nothing can hide in, and back: lists for JSON, in which every value is
# written with its type. Functions, and code that does more than work out values, are not
# written: they are collected apart, and what is read has their number and their text, which is
# enough for keys.

# A form is a list whose first name is the type: s, n, i, l for texts, numbers, whole numbers and
# flags, r for a range of whole numbers, code, list, o for a list of which every part has a name of
# its own, apart, ours; k are names, a attributes. One text or flag without any is its own form.
# `special(x)` may give list(ours = ...) for values that are known elsewhere; `apart(x)` keeps a
# value that cannot be written as text and gives its number.
write_plain <- function(x, apart, special = function(x) NULL) {
  plain_form(
    x, special, function(code) write_code(code, apart), function(other) apart_form(other, apart)
  )
}

write_code <- function(x, apart) {
  text <- paste(deparse(x, width.cutoff = 500L, control = "digits17"), collapse = "\n")
  # reason: only compared with what it was made of
  again <- tryCatch(str2lang(text), error = function(e) NULL)
  if (is_harmless_code(x) && identical(again, x)) return(list(code = text))
  apart_form(x, apart)
}

apart_form <- function(x, apart) {
  text <- tryCatch(canonical_text(x), kw_error_hash = function(e) class(x)[1])
  list(apart = apart(x), text = text)
}

# What stands for something that was not read: it has the same key, and cannot be used.
unread <- function(text) {
  structure(
    function(...) {
      stop_kw(
        "trust",
        "This needs a function of its author's own, which was not read from the journal.",
        remedy = paste(
          "If you trust where the journal comes from, open it with",
          "open_comparison(file, trust = TRUE)."
        )
      )
    },
    class = "kw_unread", text = text
  )
}

# Code that can do nothing but work out values: known operators and functions of vectors, and
# the ways to name columns.
is_harmless_code <- function(x) {
  if (is.symbol(x) || (is.atomic(x) && is.null(attributes(x)))) return(TRUE)
  if (!is.call(x) || !is.symbol(x[[1]])) return(FALSE)
  name <- as.character(x[[1]])
  if (name == "where") {
    return(length(x) == 2L && is.symbol(x[[2]]) && as.character(x[[2]]) %in% harmless_predicates)
  }
  name %in% harmless_calls && all(vapply(call_parts(x)[-1], is_harmless_code, logical(1)))
}

harmless_predicates <- c(
  "is.numeric", "is.factor", "is.character", "is.logical", "is.ordered", "is.integer", "is.double"
)

harmless_calls <- c(
  "+", "-", "*", "/", "^", "%%", "%/%", "(", "==", "!=", "<", "<=", ">", ">=", "&", "|", "!",
  "&&", "||", ":", "%in%", "c", "is.na", "log", "log2", "log10", "log1p", "exp", "expm1", "sqrt",
  "abs", "sign", "floor", "ceiling", "round", "signif", "trunc", "sin", "cos", "tan", "atan2",
  "min", "max", "pmin", "pmax", "ifelse", "nchar", "as.numeric", "as.character", "as.integer",
  "of_kind", "any_or_column", "all_of", "any_of", "everything", "starts_with", "ends_with",
  "contains", "matches", "num_range", "last_col"
)

# `ours(v)` gives what special() had named, `apart(v)` what was kept apart, or NULL.
read_plain <- function(form, ours, apart) {
  inner <- function(part) read_plain(part, ours, apart)
  if (!is.list(form)) return(form)
  type <- names(form)[1]
  content <- form[[1]]
  value <- switch(type %||% "",
    ours = return(ours(content)),
    apart = return(apart(content) %||% unread(form$text)),
    code = return(read_code(content)),
    list = ,
    o = lapply(content, inner),
    s = read_texts(content),
    n = as.double(plain_words(content)),
    i = as.integer(plain_words(content)),
    r = read_range(as.integer(plain_words(content))),
    l = as.logical(plain_words(content)),
    stop_kw("plain", paste0("A value of the unknown type ", describe_value(type), "."))
  )
  names <- if (type == "o") names(content) else if (!is.null(form$k)) read_texts(form$k)
  attributes(value) <- c(if (!is.null(names)) list(names = names), lapply(form$a, inner))
  value
}

read_texts <- function(texts) {
  vapply(texts, function(one) if (is.null(one)) NA_character_ else as.character(one), "")
}

read_range <- function(ends) ends[1]:ends[2]

plain_words <- function(text) {
  words <- strsplit(text, " ", fixed = TRUE)[[1]]
  ifelse(words == "NA", NA_character_, words)
}

read_code <- function(text) {
  # reason: read, not run; what is not harmless is refused next
  code <- str2lang(text)
  if (!is_harmless_code(code)) {
    stop_kw("plain", paste0("Code that is not only values: ", substr(text, 1L, 60L), "."))
  }
  code
}

# A form as JSON, and back. A form has hundreds of lists in one another, of which each alone would
# take its time: its parts are written as columns.
json_of <- function(form) {
  as.character(jsonlite::toJSON(flat_form(form), na = "null"))
}

of_json <- function(text) {
  read <- jsonlite::parse_json(text, simplifyVector = FALSE)
  # earlier versions wrote lists in one another
  if (identical(names(read), flat_columns)) nested_form(read) else read
}

flat_columns <- c("up", "name", "kind", "text")

nested_form <- function(flat) {
  up <- vapply(flat$up, function(one) if (is.numeric(one)) as.integer(one) else NA_integer_, 1L)
  name <- read_texts(flat$name)
  kind <- read_texts(flat$kind)
  text <- read_texts(flat$text)
  places <- seq_along(up)
  fine <- length(up) > 0L && length(unique(lengths(flat))) == 1L && !anyNA(up) && !anyNA(kind)
  if (!fine || !all(up >= 0L & up < places)) {
    stop_kw("plain", "A part that stands nowhere.")
  }
  parts <- vector("list", length(up))
  parts[kind == "text"] <- as.list(text[kind == "text"])
  parts[kind == "flag"] <- as.list(as.logical(text[kind == "flag"]))
  parts[kind == "number"] <- as.list(as.numeric(text[kind == "number"]))
  inner <- split(places, factor(up, places))
  for (at in rev(which(kind %in% c("named", "list")))) {
    held <- parts[inner[[at]]]
    if (kind[at] == "named") names(held) <- name[inner[[at]]]
    parts[[at]] <- held
  }
  parts[[1]]
}

seen_levels <- function(x) levels(x)[tabulate(x, nlevels(x)) > 0L]
