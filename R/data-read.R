#' Read a table
#'
#' The kind of file is told by its ending: delimited text (`.csv`, `.tsv`, `.txt`,
#' each also `.gz`; separator found out), Parquet (`.parquet`), Excel (`.xlsx`,
#' `.xls`), JSON Lines (`.jsonl`, `.ndjson`, also `.gz`), SQLite (`.sqlite`, `.db`,
#' with `query`); a folder holds one text file a row in subfolders named after their
#' class. An open DBI connection with `query` reads from any database.
#'
#' Types are guessed from all rows: numbers, dates in the form 2031-05-17,
#' TRUE/FALSE, text. Empty cells and `NA` are missing.
#'
#' @param file Path of the file or folder, `"-"` for delimited text on standard input, or a DBI
#'   connection.
#' @param query For databases: the SQL query. A SQLite file with a single table
#'   needs none.
#' @param sheet For Excel: name or number of the sheet.
#' @param quiet Say nothing? Otherwise files over 100 MB show a progress bar.
#' @return A tibble. Of a folder: `file`, `text`, `class`.
#' @section Errors:
#' `kw_error_file` when the file is absent, empty or damaged, when a row has too
#' many or too few fields (with its line), when text is not UTF-8 (with row and
#' column), or when a column name stands twice; `kw_error_package` when a reader's
#' package is not installed.
#' @examples
#' file <- system.file("extdata", "pots.csv", package = "kilnwright")
#' read_data(file)
#' @export
read_data <- function(file, query = NULL, sheet = 1, quiet = FALSE) {
  check_string(query, "query", null_ok = TRUE)
  check_flag(quiet, "quiet")
  if (inherits(file, "DBIConnection")) return(finish_reading(read_query(file, query), "the database"))
  check_string(file, "file")
  if (file != "-" && dir.exists(file)) return(read_text_folder(file))
  read <- if (file == "-") read_delimited else reader_for(file)
  table <- read(file, list(query = query, sheet = sheet, quiet = quiet))
  finish_reading(table, file)
}

reader_for <- function(file) {
  ending <- tolower(sub("\\.gz$", "", file, ignore.case = TRUE))
  if (grepl("\\.parquet$", ending)) return(read_parquet_file)
  if (grepl("\\.xlsx?$", ending)) return(read_excel_file)
  if (grepl("\\.(jsonl|ndjson)$", ending)) return(read_json_lines)
  if (grepl("\\.(sqlite3?|db)$", ending)) return(read_sqlite_file)
  read_delimited
}

# Checks that all readers share.
finish_reading <- function(table, file) {
  if (nrow(table) == 0L) {
    stop_kw("file", paste0("The file ", quoted(file), " has column names but no rows."))
  }
  check_table(table)
  table[] <- lapply(table, function(x) if (inherits(x, "IDate")) as.Date(x) else x)
  check_encoding(table, file)
  tibble::as_tibble(table)
}

read_delimited <- function(file, options) {
  path <- plain_file(file)
  if (path != file) on.exit(unlink(path), add = TRUE)
  if (is_blank_file(path)) {
    stop_kw("file", paste0("The file ", quoted(file), " is empty."),
            remedy = "It needs a line of column names and at least one row.")
  }
  separator <- if (grepl("\\.(tsv|tab)(\\.gz)?$", file, ignore.case = TRUE)) "\t" else "auto"
  large <- file.size(path) > 1e8
  read <- with_conditions(
    data.table::fread(path, sep = separator, header = TRUE, na.strings = c("", "NA"),
                      integer64 = "double", encoding = "UTF-8", showProgress = large && !options$quiet,
                      data.table = FALSE, check.names = FALSE)
  )
  if (!is.null(read$error)) {
    stop_kw("file", paste0("The file ", quoted(file), " could not be read."), where = read$error)
  }
  refuse_ragged(read$warnings, file)
  read$value
}

# A path to plain text: gzipped files and standard input go to a temporary file.
plain_file <- function(file) {
  if (file == "-") {
    copy <- tempfile(fileext = ".csv")
    input <- file("stdin", open = "rb")
    on.exit(close(input), add = TRUE)
    copy_connection(input, copy)
    return(copy)
  }
  check_file_exists(file)
  if (!grepl("\\.gz$", file, ignore.case = TRUE)) return(file)
  copy <- tempfile(fileext = ".csv")
  input <- gzfile(file, open = "rb")
  on.exit(close(input), add = TRUE)
  copied <- with_conditions(copy_connection(input, copy))
  trouble <- c(copied$error, copied$warnings)
  if (length(trouble) > 0L) {
    unlink(copy)
    stop_kw("file", paste0("The gzipped file ", quoted(file), " is damaged."), where = trouble[1])
  }
  copy
}

check_file_exists <- function(file) {
  if (file.exists(file)) return(invisible())
  folder <- dirname(file)
  stop_kw("file", paste0("There is no file ", quoted(file), "."),
          where = paste0("Looked in ", normalizePath(folder, mustWork = FALSE), "."),
          remedy = if (dir.exists(folder)) did_you_mean(basename(file), list.files(folder), "It has"))
}

copy_connection <- function(input, path) {
  output <- file(path, open = "wb")
  on.exit(close(output))
  while (length(chunk <- readBin(input, raw(), 1e6)) > 0L) writeBin(chunk, output)
}

is_blank_file <- function(path) {
  head <- readBin(path, raw(), 4096L)
  all(head %in% as.raw(c(9, 10, 13, 32)))
}

# The reader reports rows with too many or too few fields as warnings and stops
# early or discards them: lost rows are an error here.
refuse_ragged <- function(warnings, file) {
  ragged <- grep("Stopped early|Discarded|fields|Expected", warnings, value = TRUE)
  if (length(ragged) == 0L) return(invisible())
  line <- regmatches(ragged[1], regexpr("line [0-9]+", ragged[1]))
  stop_kw("file", paste0("The file ", quoted(file), " has rows of different lengths",
                         if (length(line) > 0L) paste0(", first at ", line), "."),
          where = plain_message(simpleCondition(ragged[1])),
          remedy = "Every row needs as many fields as there are column names; text with separators in it needs quotes.")
}

check_encoding <- function(table, file) {
  for (name in names(table)[vapply(table, is.character, logical(1))]) {
    bad <- which(!validUTF8(table[[name]]))
    if (length(bad) > 0L) {
      stop_kw("file", paste0("The file ", quoted(file), " is not UTF-8."),
              where = paste0("Column ", quoted(name), ", rows ", enumerate(bad, 5L)),
              remedy = "Save it as UTF-8 and read it again.")
    }
  }
}
