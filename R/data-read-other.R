# Readers of other kinds of files; each gives a data frame. Reached through
# read_data().

# Runs a reader; what goes wrong inside becomes one kind of error.
reading <- function(file, expr) {
  check_file_exists(file)
  read <- with_conditions(expr)
  if (is.null(read$error)) return(as.data.frame(read$value))
  stop_kw("file", paste0("The file ", quoted(file), " could not be read."),
    where = read$error,
    remedy = "Is it damaged, or of another kind than its ending says?"
  )
}

read_parquet_file <- function(file, options) {
  need("nanoparquet", "Reading Parquet files")
  reading(file, nanoparquet::read_parquet(file))
}

read_excel_file <- function(file, options) {
  need("readxl", "Reading Excel files")
  table <- reading(
    file, readxl::read_excel(file, sheet = options$sheet, guess_max = 1e5, na = c("", "NA"))
  )
  # midnight times are dates
  with_each(table, function(x) {
    midnight <- inherits(x, "POSIXct") && all(is.na(x) | as.double(x) %% 86400 == 0)
    if (midnight) as.Date(x) else x
  })
}

read_sqlite_file <- function(file, options) {
  check_file_exists(file)
  connection <- DBI::dbConnect(
    RSQLite::SQLite(), file,
    flags = RSQLite::SQLITE_RO, synchronous = NULL
  )
  on.exit(DBI::dbDisconnect(connection))
  tables <- tryCatch(DBI::dbListTables(connection), error = function(e) {
    stop_kw(
      "file", paste0("The file ", quoted(file), " could not be read."),
      where = plain_message(e)
    )
  })
  query <- options$query
  if (is.null(query)) {
    if (length(tables) != 1L) {
      stop_kw(
        "file",
        paste0(
          "The file ", quoted(file), " holds ", count_of(length(tables), "table"), ": ",
          enumerate(tables), "."
        ),
        remedy = "Say which: query = \"select * from ...\"."
      )
    }
    query <- paste("select * from", DBI::dbQuoteIdentifier(connection, tables))
  }
  read_query(connection, query, options$text)
}

read_query <- function(connection, query, stay_text = NULL) {
  if (is.null(query)) {
    stop_kw("file", "A database needs a `query`.", remedy = "E.g. query = \"select * from pots\".")
  }
  read <- with_conditions(DBI::dbGetQuery(connection, query))
  if (!is.null(read$error)) stop_kw("file", "The query failed.", where = read$error)
  # it has no dates but those written as text
  if (inherits(connection, "SQLiteConnection")) with_dates(read$value, stay_text) else read$value
}

# One JSON object a line; nested values are refused with their line.
read_json_lines <- function(file, options) {
  path <- plain_file(file)
  # reason: a temporary copy of ours
  if (path != file) on.exit(unlink(path), add = TRUE)
  refuse_zero_byte(path, file)
  lines <- readLines(path, encoding = "UTF-8", warn = FALSE)
  if (!all(validUTF8(lines))) {
    stop_kw("file", paste0("The file ", quoted(file), " is no UTF-8 text."),
      where = where_rows(!validUTF8(lines))
    )
  }
  lines <- lines[nzchar(trimws(lines))]
  if (length(lines) == 0L) stop_kw("file", paste0("The file ", quoted(file), " is empty."))
  sound <- vapply(
    lines,
    function(line) isTRUE(jsonlite::validate(line)) && startsWith(trimws(line), "{"),
    logical(1),
    USE.NAMES = FALSE
  )
  if (!all(sound)) {
    stop_kw(
      "file",
      paste0("The file ", quoted(file), " has lines that are no JSON objects."),
      where = where_rows(!sound)
    )
  }
  table <- jsonlite::fromJSON(
    paste0("[", paste(lines, collapse = ","), "]"),
    simplifyDataFrame = TRUE
  )
  nested <- names(table)[vapply(table, function(x) is.list(x), logical(1))]
  if (length(nested) > 0L) {
    stop_kw(
      "file",
      paste0("The file ", quoted(file), " has nested values in ", quoted(nested[1]), "."),
      remedy = "A table has one value a cell: flatten it first."
    )
  }
  table <- with_each(table, function(x) {
    if (is.character(x)) x[x %in% c("NA", "")] <- NA
    x
  })
  with_dates(table, options$text)
}

# folder/class/file.txt -> file, text, class
read_text_folder <- function(folder) {
  files <- list.files(folder, recursive = TRUE)
  inside <- files[grepl("^[^/]+/[^/]+$", files)]
  if (length(inside) == 0L) {
    stop_kw("file", paste0("The folder ", quoted(folder), " has no text files in subfolders."),
      remedy = "Put each text into a subfolder named after its class: folder/class/text.txt."
    )
  }
  text <- vapply(file.path(folder, inside), function(file) {
    paste(readLines(file, warn = FALSE, encoding = "UTF-8"), collapse = "\n")
  }, character(1), USE.NAMES = FALSE)
  bad <- !validUTF8(text)
  if (any(bad)) {
    stop_kw("file", paste0("The folder ", quoted(folder), " has texts that are not UTF-8."),
      where = enumerate(inside[bad], 5L), remedy = "Save them as UTF-8."
    )
  }
  tibble::tibble(file = inside, text = text, class = dirname(inside))
}
