#' Read a table from a file
#'
#' Reads comma-, tab- or semicolon-separated text, plain or gzipped, with
#' data.table's reader. Types are guessed from all rows: numbers, dates in the
#' form 2031-05-17, TRUE/FALSE, text. Empty cells and `NA` are missing.
#'
#' @param file Path of the file (`.csv`, `.tsv`, `.txt`, each also with `.gz`),
#'   or `"-"` for standard input.
#' @return A tibble.
#' @section Errors:
#' `kw_error_file` when the file is absent, empty or damaged, when a row has too
#' many or too few fields (with its line), when text is not UTF-8 (with row and
#' column), or when a column name stands twice.
#' @examples
#' file <- system.file("extdata", "pots.csv", package = "kilnwright")
#' read_data(file)
#' @export
read_data <- function(file) {
  check_string(file, "file")
  path <- plain_file(file)
  if (path != file) on.exit(unlink(path), add = TRUE)
  if (is_blank_file(path)) {
    stop_kw("file", paste0("The file ", quoted(file), " is empty."),
            remedy = "It needs a line of column names and at least one row.")
  }
  separator <- if (grepl("\\.(tsv|tab)(\\.gz)?$", file, ignore.case = TRUE)) "\t" else "auto"
  read <- with_conditions(
    data.table::fread(path, sep = separator, header = TRUE, na.strings = c("", "NA"),
                      integer64 = "double", encoding = "UTF-8", showProgress = FALSE,
                      data.table = FALSE, check.names = FALSE)
  )
  if (!is.null(read$error)) {
    stop_kw("file", paste0("The file ", quoted(file), " could not be read."), where = read$error)
  }
  refuse_ragged(read$warnings, file)
  table <- read$value
  if (nrow(table) == 0L) {
    stop_kw("file", paste0("The file ", quoted(file), " has column names but no rows."))
  }
  check_table(table)
  table[] <- lapply(table, function(x) if (inherits(x, "IDate")) as.Date(x) else x)
  check_encoding(table, file)
  tibble::as_tibble(table)
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
  if (!file.exists(file)) {
    folder <- dirname(file)
    stop_kw("file", paste0("There is no file ", quoted(file), "."),
            where = paste0("Looked in ", normalizePath(folder, mustWork = FALSE), "."),
            remedy = if (dir.exists(folder)) did_you_mean(basename(file), list.files(folder), "It has"))
  }
  if (dir.exists(file)) stop_kw("file", paste0(quoted(file), " is a folder, not a file."))
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
