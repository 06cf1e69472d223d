# Rows that came over HTTP: as a table, or refused with what is wrong in which row.

# So many problems are told of.
most_problems <- 100L

rows_of_csv <- function(model, bytes) {
  text_of_bytes(bytes)
  file <- tempfile("kilnwright-served-", fileext = ".csv")
  # reason: a temporary file of ours
  on.exit(unlink(file))
  writeBin(bytes, file)
  tryCatch(read_for_schema(file, model$schema, model$id), kw_error = function(e) {
    refuse_request(400L, paste("The table cannot be read:", plain_message(e)))
  })
}

text_of_bytes <- function(bytes) {
  text <- if (!any(bytes == as.raw(0L))) rawToChar(bytes)
  if (is.null(text) || !validUTF8(text)) refuse_request(400L, "The content is no UTF-8 text.")
  Encoding(text) <- "UTF-8"
  text
}

rows_of_json <- function(model, bytes) {
  text <- text_of_bytes(bytes)
  found <- tryCatch(jsonlite::parse_json(text), error = function(e) {
    refuse_request(400L, paste0(
      "The content is no JSON: ", clean_line(trimws(sub("\n.*", "", conditionMessage(e)))))
    )
  })
  if (is.list(found) && !is.null(names(found)) && "rows" %in% names(found)) found <- found$rows
  rows <- is.list(found) && is.null(names(found)) && length(found) > 0L &&
    all(vapply(found, function(row) is.list(row) && !is.null(names(row)), NA))
  if (!rows) {
    refuse_request(400L, paste(
      "Send an array of at least one row, each an object with a value for every column, or an",
      "object with such an array as \"rows\"."
    ))
  }
  table_of_rows(model, found)
}

# A list of lists as a table: the model's columns, its ids, and empty columns for what else the
# first row has, which are remarked on.
table_of_rows <- function(model, rows) {
  held <- vapply(rows, function(row) paste(names(row), collapse = "\r"), "")
  problems <- list()
  for (one in unique(held)) {
    names <- names(rows[[match(one, held)]])
    here <- which(held == one)
    for (twice in unique(names[duplicated(names)])) {
      problems <- c(problems, list(row_problems(here, twice, "one value", "two")))
    }
    for (lacking in setdiff(names(model$schema), names)) {
      problems <- c(problems, list(row_problems(
        here, lacking, paste0(expected_of(model$schema[[lacking]]), ", or null"), "nothing"
      )))
    }
  }
  refuse_problems(problems, length(rows))
  wanted <- c(names(model$schema), intersect(model$id, names(rows[[1]])))
  alike <- length(unique(held)) == 1L
  flat <- if (alike) unname(do.call(c, rows))
  width <- length(rows[[1]])
  columns <- lapply(stats::setNames(nm = wanted), function(name) {
    if (!alike) return(lapply(rows, function(row) row[[name]]))
    flat[seq.int(match(name, names(rows[[1]])), length(flat), by = width)]
  })
  for (name in wanted) {
    lists <- vapply(columns[[name]], is.list, NA)
    several <- which(lists | lengths(columns[[name]]) > 1L)
    problems <- c(problems, list(row_problems(
      several, name, if (name %in% names(model$schema)) expected_of(model$schema[[name]]) else
        "one value", "several values"
    )))
  }
  refuse_problems(problems, length(rows))
  table <- Map(function(name, values) {
    column_of_values(values, model$schema[[name]]$levels, name)
  }, wanted, columns)
  others <- setdiff(names(rows[[1]]), wanted)
  table[others] <- rep(list(rep(NA, length(rows))), length(others))
  plain_frame(table, length(rows))
}

# Values of JSON as one column: numbers, TRUE and FALSE, or texts, of which numbers are written
# as in a table. A number among texts is the level that it would be alone.
column_of_values <- function(values, levels, name) {
  none <- lengths(values) == 0L
  values[none] <- list(NA)
  alike <- unlist(values)
  # of one type as they are: what differs was made a text
  if (!is.character(alike) && !mixes_flags(values[!none], alike)) return(alike)
  if (all(vapply(values[!none], is.character, NA))) return(alike)
  numbers <- vapply(values, is.numeric, NA)
  text <- rep(NA_character_, length(values))
  text[!numbers & !none] <- vapply(values[!numbers & !none], as.character, "")
  if (any(numbers)) {
    x <- vapply(values[numbers], as.double, 0)
    text[numbers] <- if (is.null(levels)) canonical_number(x) else mend_code(x, levels, name)
  }
  text
}

# Rows as the model takes them, or refused.
served_frame <- function(model, new) {
  frame <- tryCatch(
    frame_from_new(new, model$schema, model$missing_codes), kw_error = function(e) NULL
  )
  endless <- function(x) is.numeric(x) && any(is.infinite(x))
  if (is.null(frame) || any(vapply(frame$columns, endless, NA))) refuse_bad_rows(model, new)
  frame
}

# TRUE and FALSE among numbers would count as 1 and 0.
mixes_flags <- function(values, alike) {
  is.numeric(alike) && any(vapply(values, is.logical, NA))
}

# Every column by itself, so that all that is wrong is told at once.
refuse_bad_rows <- function(model, new) {
  problems <- lapply(names(model$schema), function(name) {
    if (!name %in% names(new)) {
      return(row_problems(seq_len(nrow(new)), name, expected_of(model$schema[[name]]), "nothing"))
    }
    column_problems(model, new[[name]], name)
  })
  refuse_problems(problems, nrow(new))
}

column_problems <- function(model, x, name) {
  entry <- model$schema[[name]]
  endless <- if (is.numeric(x)) which(is.infinite(x)) else integer()
  if (length(endless) > 0L) return(row_problems(endless, name, "a finite number", x[endless]))
  tryCatch(
    {
      frame_from_new(plain_frame(stats::setNames(list(x), name), length(x)),
        model$schema[name], model$missing_codes
      )
      NULL
    },
    kw_error = function(e) {
      rows <- e$row %||% seq_along(x)
      row_problems(rows, name, e$expected %||% expected_of(entry), x[rows])
    }
  )
}

row_problems <- function(rows, column, expected, got) {
  if (length(rows) == 0L) return(NULL)
  list(
    row = rows, column = rep(column, length(rows)), expected = rep(expected, length(rows)),
    got = rep_len(substr(visible(as.character(got)), 1L, 60L), length(rows))
  )
}

refuse_problems <- function(problems, n) {
  problems <- data.table::rbindlist(problems)
  if (nrow(problems) == 0L) return(invisible())
  data.table::setorderv(problems, "row")
  bad <- length(unique(problems$row))
  refuse_request(422L,
    paste0(count_of(bad, "row"), " of ", n, " cannot be read; nothing was predicted."),
    list(
      problems = as.data.frame(utils::head(problems, most_problems)),
      problems_in_all = nrow(problems)
    )
  )
}
