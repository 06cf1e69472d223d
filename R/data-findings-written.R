# Findings about how values are written: gaps, numbers and dates that look like something else.

member_finding_disguised <- finding_definition("disguised", function(look) {
  words <- lapply(columns_of(look, "category", "ordered"), function(name) {
    levels <- look$brief$schema[[name]]$levels
    hit <- levels[means_missing(levels) | !nzchar(trimws(levels))]
    if (length(hit) == 0L) return(NULL)
    disguised(
      name,
      hit,
      sum(look$column_of[[name]] %in% hit),
      paste0("levels that mean missing: ", enumerate(quoted(hit))),
      in_quotes(hit)
    )
  })
  numbers <- lapply(names(look$sentinels), function(name) {
    value <- look$sentinel_of[[name]]
    if (length(value) == 0L) return(NULL)
    disguised(
      name,
      value,
      sum(look$column_of[[name]] %in% value),
      paste0("the value ", value, " stands off from all others"),
      format(value)
    )
  })
  c(words, numbers)
}, "Missing values written as something else.")

disguised <- function(name, codes, rows, what, code_text) {
  finding(
    "disguised_missing",
    "serious",
    name,
    paste0(name, ": ", what, " (", count_of(rows, "row"), ")."),
    paste0("brief(..., missing_codes = list(", name_text(name), " = ", code_text, "))"),
    list(kind = "missing_code", codes = codes)
  )
}

member_finding_alike <- finding_definition("alike", function(look) {
  of_outcome <- if (is.factor(look$outcome)) look$brief$outcome
  lapply(c(columns_of(look, "category", "ordered"), of_outcome), function(name) {
    levels <- look$brief$schema[[name]]$levels %||% levels(look$outcome)
    bare <- tolower(gsub("[[:space:]]+", " ", trimws(levels)))
    twice <- unique(bare[duplicated(bare)])
    if (length(twice) == 0L) return(NULL)
    cell <- paste0("table[[", in_quotes(name), "]]")
    finding(
      "alike_levels", "notable", name,
      paste0(
        name, ": levels that differ only in capitals or blanks, such as ",
        enumerate(quoted(levels[bare == twice[1]]), 4L), "."
      ),
      paste0(cell, " <- tolower(trimws(", cell, ")), before brief()"),
      list(kind = "table", words = "Write such levels alike in the table.")
    )
  })
}, "Levels that are one in several writings.")

# The lowest or highest value, if it is repeated, looks like a code, and lies far
# from all others, of which there must be several.
find_sentinel <- function(x) {
  filled <- sum(!is.na(x))
  if (filled < 30L) return(numeric())
  for (value in range(x, na.rm = TRUE)) {
    times <- if (value == round(value)) sum(x == value, na.rm = TRUE) else 0L
    if (times < 3L || times > 0.9 * filled) next
    rest <- x[!is.na(x) & x != value]
    if (length(unique(rest)) < 5L) next
    code <- grepl("^-?9{2,}$|^-1$|^-9$|^-?8{2,}$", format(value, scientific = FALSE, trim = TRUE))
    gap <- min(abs(range(rest) - value))
    width <- max(diff(range(rest)), 1e-12)
    if ((code && gap > width) || gap > 20 * width) return(value)
  }
  numeric()
}

# Zeros among measurements that otherwise never come near zero: not measured, or truly none?
member_finding_zeros <- finding_definition("zeros", function(look) {
  lapply(columns_of(look, "number"), function(name) {
    x <- honest_values(look, name)
    times <- sum(x == 0, na.rm = TRUE)
    if (!zeros_stand_apart(x, times)) return(NULL)
    finding(
      "zeros_apart", "notable", name,
      paste0(
        name, ": ", share_words(times / length(x), look$n), " are 0, while all others are ",
        "at least ", format(min(x[x > 0], na.rm = TRUE)), ": not measured, or truly none?"
      ),
      paste0("brief(..., missing_codes = list(", name_text(name), " = 0))"),
      list(kind = "missing_code", codes = 0)
    )
  })
}, "Zeros that may stand for missing values.")

zeros_stand_apart <- function(x, times) {
  x <- x[!is.na(x)]
  if (times < 3L || times > 0.6 * length(x) || any(x < 0)) return(FALSE)
  rest <- x[x > 0]
  values <- sort(unique(rest))
  if (length(values) < 10L) return(FALSE)
  step <- stats::median(diff(utils::head(values, 10L)))
  values[1] > 3 * step && values[1] > 0.08 * stats::median(rest)
}

# What a column of levels holds but for words that stand for missing values: list(to, others), to
# be read as a number or as one of some forms of dates, and what it holds besides; NULL: neither.
stored_as_text <- function(look, name) {
  # a factor was made on purpose
  if (is.factor(look$brief$table[[name]])) return(NULL)
  levels <- look$brief$schema[[name]]$levels
  texts <- trimws(levels[!means_missing(levels)])
  if (length(texts) < 8L) return(NULL)
  numbers <- mostly_numbers(texts)
  if (!is.null(numbers)) {
    others <- levels[!trimws(levels) %in% texts[numbers$are_numbers]]
    return(list(to = "number", others = others, unit = numbers$form$unit))
  }
  days <- possible_date_formats(texts)
  moments <- if (length(days) == 0L) possible_moment_formats(texts)
  if (length(c(days, moments)) == 0L) return(NULL)
  list(
    to = c(days, moments), others = levels[means_missing(levels)], moments = length(moments) > 0L
  )
}

member_finding_stored_as_text <- finding_definition("stored_as_text", function(look) {
  lapply(columns_of(look, "category"), function(name) {
    stored <- stored_as_text(look, name)
    if (is.null(stored)) return(NULL)
    if (length(stored$to) > 1L) return(ambiguous_date(look, name, stored$to))
    number <- stored$to == "number"
    what <- if (number) "numbers" else if (stored$moments) "points in time" else "dates"
    besides <- stored$others[!means_missing(stored$others)]
    finding(
      if (number) "number_as_text" else "date_as_text", "serious", name,
      paste0(
        name, ": ", what, " stored as text",
        if (!is.null(stored$unit)) paste0(", with ", unit_words(stored$unit), " them"),
        if (length(besides) > 0L) {
          paste0("; ", count_of(length(besides), "other text"), ", such as ", quoted(besides[1]))
        }, "."
      ),
      paste0(
        "brief(..., read_as = list(", name_text(name), " = ", in_quotes(stored$to), ")",
        if (length(stored$others) > 0L) {
          paste0(", missing_codes = list(", name_text(name), " = ", in_quotes(stored$others), ")")
        }, ")"
      ),
      list(kind = "convert", to = stored$to, codes = stored$others)
    )
  })
}, "Numbers and dates stored as text.")

ambiguous_date <- function(look, name, formats) {
  first <- look$brief$schema[[name]]$levels[1]
  finding(
    "ambiguous_date", "serious", name,
    paste0(
      name, ": dates in which day and month could change places, such as ", quoted(first), "."
    ),
    paste0(
      "brief(..., read_as = list(", name_text(name), " = \"", formats, "\"))",
      collapse = "   # or "
    ),
    list(kind = "convert_either", to = formats)
  )
}
