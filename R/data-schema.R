# The schema: what each predictor is (number, category, ordered, text, date) and
# which levels the working rows have. The same code turns working rows, set-aside
# rows and new rows into the columns that steps see.

column_kinds <- c("number", "category", "ordered", "text", "date")

column_kind <- function(x) {
  if (is.numeric(x)) return("number")
  if (is.ordered(x)) return("ordered")
  if (is.factor(x)) return("category")
  if (is.character(x)) return("text")
  if (inherits(x, c("Date", "POSIXct"))) return("date")
  NA_character_
}

# Missing codes become NA, storage is made uniform, infinite values are refused.
# Text is left as text: whether it is a category is the schema's business.
clean_table <- function(table, roles, missing_codes, ordered, read_as = NULL) {
  ignored <- unlist(roles[c("id", "ignore")])
  clean <- function(x, name, codes, reading, order, ignored) {
    if (is.null(reading)) check_codes(x, codes, name)
    x <- recode_missing(x, codes)
    if (ignored) return(x)
    x <- plain_column(x, name)
    if (!is.null(reading)) x <- recode_missing(read_column_as(x, reading, name), codes)
    if (!is.null(order)) x <- as_declared_order(x, order, name)
    x
  }
  names <- names(table)
  columns <- Map(
    clean, unclass(table)[names], names, said_of(names, missing_codes), said_of(names, read_as),
    said_of(names, ordered), names %in% ignored
  )
  plain_frame(columns, nrow(table))
}

# What was said of each of these names, NULL for most. To look up one name after the other takes a
# second where there are thousands.
said_of <- function(names, said) as.list(said)[match(names, names(said))]

# A data frame without row names or checks; fast.
plain_frame <- function(columns, n) {
  # three times as fast as structure(): searches make tables of one row by the thousand
  attr(columns, "row.names") <- .set_row_names(n) # nolint: object_name_linter.
  class(columns) <- "data.frame"
  columns
}

check_codes <- function(x, codes, name) {
  wrong <- is.numeric(x) && anyNA(suppressWarnings(as.numeric(codes)))
  check_argument(!wrong, paste0("missing_codes$", name), "numbers, as the column is", codes)
}

# Codes for missing values as they were written: numbers, but for such as 007.
as_codes <- function(text) {
  numbers <- suppressWarnings(as.numeric(text))
  if (!anyNA(numbers) && identical(canonical_number(numbers), text)) numbers else text
}

# Words among the codes of a column that holds numbers only are not in it.
recode_missing <- function(x, codes) {
  if (is.null(codes)) return(x)
  numbers <- stats::na.omit(suppressWarnings(as.numeric(codes)))
  hit <- if (is.numeric(x)) x %in% numbers else as.character(x) %in% as.character(codes)
  x[hit] <- NA
  if (is.factor(x)) x <- droplevels(x)
  x
}

plain_column <- function(x, name) {
  # as scale() and table() leave them
  if (is.atomic(x) && length(dim(x)) > 0L && prod(dim(x)[-1]) == 1) x <- as.vector(x)
  if (is.logical(x)) return(factor(x, levels = c(FALSE, TRUE)))
  if (inherits(x, "difftime")) refuse_difference(x, name)
  if (inherits(x, "integer64")) need("bit64", paste0("The 64-bit integer column ", quoted(name)))
  if (inherits(x, "POSIXlt")) x <- as.POSIXct(x)
  if (is.factor(x)) {
    return(if (anyNA(levels(x))) factor(x, exclude = NA, ordered = is.ordered(x)) else x)
  }
  if (inherits(x, "Date")) return(structure(as.double(x), class = "Date"))
  if (inherits(x, "POSIXct")) return(structure(x, written_as = NULL))
  if (inherits(x, "haven_labelled")) refuse_labels(x, name)
  if (is.null(dim(x)) && !is.list(x)) {
    if (is.numeric(x)) return(finite_numbers(as.double(x), name))
    if (is.character(x)) return(enc2utf8(as.character(x)))
  }
  refuse_column(x, name)
}

refuse_column <- function(x, name) {
  several <- length(dim(x)) > 1L
  stop_kw("table", paste0(
    "The column ", quoted(name), " is ",
    if (is.data.frame(x)) {
      paste("a data frame of", count_of(ncol(x), "column"))
    } else if (several) {
      paste("a matrix of", count_of(prod(dim(x)[-1]), "column"))
    } else if (is.list(x)) {
      "a list"
    } else {
      describe_value(x)
    },
    ", which cannot be used."
  ),
  remedy = if (several) {
    paste(
      "Give each of its columns a place of its own, as",
      "do.call(data.frame, c(table, check.names = FALSE)) does."
    )
  } else {
    "Columns may be numbers, text, factors, TRUE/FALSE, dates; name others in `ignore`."
  },
  column = name
  )
}

# Codes with labels may be numbers or levels, and which is not written on them.
refuse_labels <- function(x, name) {
  at <- name_text(name)
  stop_kw(
    "table",
    paste0(
      "The column ", quoted(name), " has codes with labels: ",
      enumerate(quoted(names(attr(x, "labels"))), 3L), "."
    ),
    remedy = paste0(
      "Say what it holds: haven::as_factor(table$", at, ") for categories, ",
      "haven::zap_labels(table$", at, ") for numbers."
    ),
    column = name
  )
}

# A difference of times may come in other units with the next table.
refuse_difference <- function(x, name) {
  stop_kw(
    "table",
    paste0("The column ", quoted(name), " is a difference of times, now in ", units(x), "."),
    remedy = paste0(
      "Say in which unit it is meant: as.numeric(table$", name_text(name), ", units = \"", units(x),
      "\")."
    )
  )
}

finite_numbers <- function(x, name) {
  infinite <- is.infinite(x)
  if (any(infinite)) {
    stop_kw("table", paste0("The column ", quoted(name), " has infinite values."),
      where = where_rows(infinite), column = name,
      remedy = paste0(
        "Set them to NA, or say missing_codes = list(", name_text(name),
        " = c(Inf, -Inf))."
      )
    )
  }
  x[is.nan(x)] <- NA_real_
  x
}

# A column as what it is said to be: "number", "category", or the format of dates, or of the days of
# points in time.
read_column_as <- function(x, what, name) {
  if (what == "category") return(as_category(x))
  text <- trimws(as.character(x))
  found <- if (what == "number") {
    as_numbers(x, number_form(text))
  } else if (inherits(x, c("Date", "POSIXct"))) {
    x
  } else if (any(grepl(":", text, fixed = TRUE))) {
    moments_of_text(text, what)
  } else {
    dates_of_text(text, what)
  }
  bad <- is.na(found) & !is.na(x)
  if (any(bad)) {
    stop_kw("brief", paste0(
      "The column ", quoted(name), " cannot be read as ",
      if (what == "number") "numbers" else paste0("dates of the form ", what), ": ",
      enumerate(quoted(unique(text[bad])), 3L), "."
    ),
    where = where_rows(bad), column = name,
    remedy = paste0(
      "Correct them, or say that they stand for missing values: missing_codes = list(",
      name_text(name), " = ", in_quotes(unique(text[bad])[1]), ")."
    ))
  }
  found
}

# Levels of numbers in their order, of texts by the alphabet.
as_category <- function(x) {
  if (is.factor(x)) return(factor(x, ordered = FALSE))
  levels <- sort(unique(x), method = "radix")
  labels <- if (is.numeric(levels)) canonical_number(levels) else as.character(levels)
  factor(labels[match(x, levels)], levels = labels)
}

as_declared_order <- function(x, levels, name) {
  unknown <- setdiff(unique(as.character(x)), c(levels, NA))
  if (length(unknown) > 0L) {
    stop_kw("brief", paste0(
      "`ordered` gives the levels of ", quoted(name), ", but not ",
      enumerate(quoted(unknown)), ", which the column has."
    ),
    remedy = "List every level, from lowest to highest."
    )
  }
  factor(as.character(x), levels = levels, ordered = TRUE)
}

# Free text: remarks of several words, most of them different.
looks_like_text <- function(x) {
  x <- x[!is.na(x)]
  if (length(x) < 20L) return(FALSE)
  distinct <- unique(x)
  if (length(distinct) < max(20, 0.2 * length(x))) return(FALSE)
  some <- distinct[seq_len(min(1000L, length(distinct)))]
  words <- lengths(regmatches(some, gregexpr("[^[:space:]]+", some)))
  mean(words) >= 3
}

learn_schema <- function(table, declared) {
  entry_of <- function(x, is_text, format, number) {
    kind <- column_kind(x)
    if (is_text) {
      kind <- "text"
    } else if (is.character(x) && !looks_like_text(x)) {
      kind <- "category"
    }
    entry <- list(
      kind = kind, levels = if (kind %in% c("category", "ordered")) schema_levels(x),
      format = if (kind == "date") format %||% usual_date_format,
      moment = if (kind == "date") inherits(x, "POSIXct")
    )
    c(entry, if (kind == "number") number)
  }
  names <- names(table)
  Map(
    entry_of, unclass(table)[names], names %in% declared$text, said_of(names, declared$formats),
    said_of(names, declared$numbers)
  )
}

schema_levels <- function(x) {
  if (is.ordered(x)) return(levels(x))
  if (is.factor(x)) return(levels(x)[levels(x) %in% unique(as.character(x))])
  sort(unique(x[!is.na(x)]), method = "radix")
}

schema_kinds <- function(schema) vapply(schema, `[[`, character(1), "kind")

# Columns of `table` as the schema says; `table` has been cleaned.
frame_columns <- function(table, schema) {
  columns <- Map(as_schema_column, unclass(table)[names(schema)], schema)
  new_frame(plain_frame(columns, nrow(table)))
}

as_schema_column <- function(x, entry) {
  switch(entry$kind,
    category = level_codes(as.character(x), entry$levels),
    ordered = factor(as.character(x), levels = entry$levels, ordered = TRUE),
    text = as.character(x),
    x
  )
}

# A factor with the known levels first; levels never seen are kept behind them,
# so that every step can decide what they mean.
level_codes <- function(x, levels) {
  codes <- match(x, levels)
  strange <- is.na(codes) & !is.na(x)
  if (any(strange)) {
    levels <- c(levels, sort(unique(x[strange]), method = "radix"))
    codes <- match(x, levels)
  }
  structure(codes, levels = levels, class = "factor")
}

# Where each value stands among `levels`; NA for others. Through a factor's own
# levels, so that text is compared once a level.
codes_among <- function(x, levels, other = NA_integer_) {
  if (is.factor(x)) {
    codes <- match(levels(x), levels, nomatch = other)[unclass(x)]
    return(codes)
  }
  codes <- match(as.character(x), levels, nomatch = other)
  codes[is.na(x)] <- NA
  codes
}

# New rows: checked against the schema, cleaned like the brief's table.
frame_from_new <- function(new, schema, missing_codes) {
  if (!is.data.frame(new)) {
    stop_kw("new_data", paste0("New rows must be a data frame; got ", describe_value(new), "."))
  }
  absent <- setdiff(names(schema), names(new))
  if (length(absent) > 0L) {
    stop_kw(
      "new_data",
      paste0(
        "The new rows lack ", if (length(absent) == 1L) "the column " else "the columns ",
        enumerate(quoted(absent)), "."
      ),
      remedy = did_you_mean(absent[1], names(new), "They have"), column = absent
    )
  }
  mend <- function(x, name, entry, codes) {
    x <- mend_kind(plain_column(recode_missing(x, codes), name), entry, name)
    # codes of numbers that are written with more than digits
    if (entry$kind == "number") recode_missing(x, codes) else x
  }
  names <- names(schema)
  columns <- Map(mend, unclass(new)[names], names, schema, said_of(names, missing_codes))
  frame_columns(plain_frame(columns, nrow(new)), schema)
}

# Types that can be read in one way only are mended; others are errors.
mend_kind <- function(x, entry, name) {
  if (all(is.na(x))) return(all_missing(entry, length(x)))
  switch(entry$kind,
    number = mend_number(x, name, entry),
    date = mend_date(x, entry, name),
    category = ,
    ordered = mend_level(x, entry, name),
    text = if (is.numeric(x)) canonical_number(x) else x
  )
}

all_missing <- function(entry, n) {
  switch(entry$kind,
    number = rep(NA_real_, n),
    date = structure(
      rep(NA_real_, n),
      class = if (isTRUE(entry$moment)) c("POSIXct", "POSIXt") else "Date"
    ),
    rep(NA_character_, n)
  )
}

mend_number <- function(x, name, form = NULL) {
  number <- as_numbers(x, form)
  bad <- is.na(number) & !is.na(x)
  if (any(bad)) wrong_kind(name, "a number", x, bad)
  number
}

mend_date <- function(x, entry, name) {
  if (inherits(x, "POSIXct")) return(if (isTRUE(entry$moment)) x else as.Date(x))
  if (inherits(x, "Date")) return(if (isTRUE(entry$moment)) as.POSIXct(x) else x)
  read <- if (isTRUE(entry$moment)) moments_of_text else dates_of_text
  date <- read(as.character(x), entry$format %||% usual_date_format)
  bad <- is.na(date) & !is.na(x)
  if (any(bad)) wrong_kind(name, expected_of(entry), x, bad)
  date
}

# Levels that came as numbers (codes that lost their zeros, 0 and 1 for FALSE and TRUE) or as
# TRUE and FALSE are found again where that can be done in one way.
mend_level <- function(x, entry, name) {
  is_flag <- identical(entry$levels, c("FALSE", "TRUE"))
  came_as_flag <- is.factor(x) && identical(levels(x), c("FALSE", "TRUE"))
  if (is_flag && !came_as_flag) return(mend_flag(x, name))
  if (came_as_flag && !is_flag) {
    if (!setequal(intersect(entry$levels, c("0", "1")), entry$levels)) {
      wrong_kind(name, paste("one of", enumerate(quoted(entry$levels), 4L)), x, !is.na(x))
    }
    return(as.character(as.integer(x) - 1L))
  }
  if (is.numeric(x)) mend_code(x, entry$levels, name) else x
}

mend_flag <- function(x, name) {
  text <- tolower(trimws(if (is.numeric(x)) canonical_number(x) else as.character(x)))
  found <- c(
    "0" = "FALSE", "f" = "FALSE", "false" = "FALSE", "1" = "TRUE", "t" = "TRUE",
    "true" = "TRUE"
  )[text]
  bad <- is.na(found) & !is.na(x)
  if (any(bad)) wrong_kind(name, "TRUE or FALSE", x, bad)
  unname(found)
}

mend_code <- function(x, levels, name) {
  text <- canonical_number(x)
  text[is.na(x)] <- NA
  number <- suppressWarnings(as.numeric(levels))
  same <- levels[match(x, number)]
  several <- x %in% number[duplicated(number) & !is.na(number)] & !text %in% levels
  if (any(several)) wrong_kind(name, "text: more than one level is that number", text, several)
  ifelse(text %in% levels | is.na(same), text, same)
}

# What a column's values are to be, in words.
expected_of <- function(entry) {
  switch(entry$kind,
    number = "a number", text = "a text",
    date = {
      day <- format(as.Date("2031-05-17"), entry$format %||% usual_date_format)
      if (isTRUE(entry$moment)) paste0("a point in time (like ", day, " 14:30:00)") else
        paste0("a date (like ", day, ")")
    },
    if (identical(entry$levels, c("FALSE", "TRUE"))) "TRUE or FALSE" else
      paste("a level, such as", enumerate(quoted(entry$levels), 3L))
  )
}

wrong_kind <- function(name, expected, x, bad) {
  stop_kw("new_data", paste0(
    "The column ", quoted(name), " must be ", expected, "; found ",
    enumerate(quoted(unique(as.character(x[bad]))), 3L), "."
  ),
  where = where_rows(bad), column = name, expected = expected
  )
}
