#' Read a table
#'
#' The kind of file is told by its ending: delimited text (`.csv`, `.tsv`, `.txt`,
#' each also `.gz`; separator found out), Parquet (`.parquet`), Excel (`.xlsx`,
#' `.xls`), JSON Lines (`.jsonl`, `.ndjson`, also `.gz`), SQLite (`.sqlite`, `.db`,
#' with `query`); a folder holds one text file a row in subfolders named after their
#' class. An open DBI connection with `query` reads from any database.
#'
#' Types are guessed from all rows: numbers, dates in the form 2031-05-17 (or in another, where
#' day and month cannot change places; with English names of months too), points in time such as
#' 2031-05-17 14:30:00, 17.05.2031 14:30 or 5/17/2031 2:30 PM (taken as UTC) or
#' 2031-05-17T14:30+02:00 (which becomes UTC), TRUE/FALSE, text. Empty cells and `NA` are missing.
#'
#' @param file Path of the file or folder, `"-"` for delimited text on standard input, or a DBI
#'   connection.
#' @param query For databases: the SQL query. A SQLite file with a single table
#'   needs none.
#' @param sheet For Excel: name or number of the sheet.
#' @param quiet Say nothing? Otherwise files over 100 MB show a progress bar.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A tibble. Of a folder: `file`, `text`, `class`.
#' @section Errors:
#' `kw_error_file` when the file is absent, empty or damaged, when a row has too
#' many or too few fields (with its line), or when text is not UTF-8 (with row and
#' column); `kw_error_table` when a column name stands twice or is missing;
#' `kw_error_package` when a reader's package is not installed.
#' @examples
#' file <- system.file("extdata", "pots.csv.gz", package = "kilnwright")
#' read_data(file)
#' @export
read_data <- function(file, query = NULL, sheet = 1, quiet = FALSE, ...) {
  no_more(...)
  check_string(query, "query", null_ok = TRUE)
  check_flag(quiet, "quiet")
  if (inherits(file, "DBIConnection")) {
    return(finish_reading(read_query(file, query), "the database"))
  }
  check_string(file, "file")
  if (file != "-" && dir.exists(file)) return(read_text_folder(file))
  read <- if (file == "-") read_delimited else reader_for(file)
  table <- read(file, list(query = query, sheet = sheet, quiet = quiet))
  finish_reading(table, file)
}

# New rows for a model, read by its schema: what is no number there stays as it is written.
read_for_schema <- function(file, schema, id = NULL) {
  text <- c(names(schema)[schema_kinds(schema) != "number"], id)
  if (file != "-" && dir.exists(file)) return(read_text_folder(file))
  read <- if (file == "-") read_delimited else reader_for(file)
  options <- list(sheet = 1, quiet = TRUE, text = text)
  finish_reading(read(file, options), file, may_be_empty = TRUE)
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
finish_reading <- function(table, file, may_be_empty = FALSE) {
  if (nrow(table) == 0L && !may_be_empty) {
    stop_kw("file", paste0("The file ", quoted(file), " has column names but no rows."))
  }
  if (nrow(table) > 0L) check_table(table)
  table <- with_each(table, function(x) if (inherits(x, "IDate")) as.Date(x) else x)
  check_encoding(table, file)
  tibble::as_tibble(table, .name_repair = "minimal")
}

# `options$text`: names of columns that are to stay text whatever they look like.
read_delimited <- function(file, options) {
  path <- plain_file(file)
  # reason: a temporary copy of ours
  if (path != file) on.exit(unlink(path), add = TRUE)
  if (is_blank_file(path)) {
    stop_kw("file", paste0("The file ", quoted(file), " is empty."),
      remedy = "It needs a line of column names and at least one row."
    )
  }
  recoded <- as_utf8_file(path, file)
  # reason: a temporary copy of ours
  if (recoded != path) on.exit(unlink(recoded), add = TRUE)
  path <- recoded
  first <- first_line(path)
  single <- validUTF8(first) && all(fields_by(first) == 1L)
  read <- function(...) {
    data.table::fread(path,
      sep = separator_of(file, single), dec = ".", header = TRUE, na.strings = c("", "NA"),
      integer64 = "character", keepLeadingZeros = TRUE, encoding = "UTF-8",
      showProgress = file.size(path) > 1e8 && !options$quiet, data.table = FALSE,
      # in a single column a blank line is a gap
      check.names = FALSE, blank.lines.skip = !single, ...
    )
  }
  done <- with_conditions(read(colClasses = as_text(read, options$text)))
  if (!is.null(done$error)) {
    stop_kw("file", paste0("The file ", quoted(file), " could not be read."), where = done$error)
  }
  refuse_ragged(done$warnings, file)
  check_encoding(done$value, file)
  check_first_line(names(done$value), first, file)
  table <- plain_fields(with_codes_as_text(done$value, read, path))
  with_dates(with_each(table, text_to_numbers, options$text), options$text)
}

# A column of numbers with commas, which remembers what they stand before; any other column as it
# is.
text_to_numbers <- function(x) {
  if (!is.character(x)) return(x)
  # texts are long, so that a look at some spares the look at all
  some <- utils::head(x[!is.na(x)], 100L)
  if (!all(grepl("^[ 0-9.,+-]+$", some)) || !any(grepl(",", x, fixed = TRUE))) return(x)
  use <- comma_use(trimws(x))
  number <- comma_numbers(trimws(x), use)
  if (anyNA(number[!is.na(x)])) x else structure(number, commas = use)
}

# Which columns to read as text, in the reader's words.
as_text <- function(read, names) {
  if (is.null(names)) return(NULL)
  known <- undoubled(names(read(nrows = 0L)))
  at <- which(known %in% names)
  if (length(at) > 0L) list(character = at)
}

# Numbers that are no plain numbers are codes: with a leading + (leading zeros the reader
# knows itself), with more digits than a number holds, or long and all of one length, like
# account numbers. They are read again, as text.
with_codes_as_text <- function(table, read, path) {
  numeric <- which(vapply(table, is.numeric, logical(1)))
  signed <- has_byte(path, "+")
  doubtful <- numeric[vapply(table[numeric], function(x) signed || long_digits(x), logical(1))]
  if (length(doubtful) == 0L) return(table)
  written <- read(select = unname(doubtful), colClasses = "character")
  for (i in seq_along(doubtful)) {
    at <- doubtful[i]
    if (long_digits(table[[at]]) || any(startsWith(written[[i]], "+"), na.rm = TRUE)) {
      table[[at]] <- written[[i]]
    }
  }
  table
}

long_digits <- function(x) {
  x <- x[!is.na(x)]
  if (length(x) == 0L || any(x != round(x))) return(FALSE)
  size <- abs(x)
  if (any(size >= 1e15)) return(TRUE)
  all(x >= 1e10) && diff(range(floor(log10(size)))) == 0
}

has_byte <- function(path, character) {
  input <- file(path, open = "rb")
  on.exit(close(input))
  wanted <- charToRaw(character)
  while (length(chunk <- readBin(input, raw(), 1e6)) > 0L) {
    if (any(chunk == wanted)) return(TRUE)
  }
  FALSE
}

# Quotes that are doubled inside quotes stand for one, also in names; a quoted empty field
# is as empty as any other.
plain_fields <- function(table) {
  names(table) <- undoubled(names(table))
  for (at in which(vapply(table, is.character, logical(1)))) {
    x <- undoubled(table[[at]])
    x[!nzchar(x)] <- NA
    table[[at]] <- x
  }
  table
}

undoubled <- function(x) {
  # texts in another encoding are refused later, with their place
  hit <- grepl("\"\"", x, fixed = TRUE, useBytes = TRUE) & validUTF8(x)
  x[hit] <- gsub("\"\"", "\"", x[hit], fixed = TRUE)
  x
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
  unpacked <- with_conditions({
    unpack(file, copy)
    if (is_cut_off(file, copy)) stop("it was cut off")
  })
  trouble <- c(unpacked$error, unpacked$warnings)
  if (length(trouble) > 0L) {
    # reason: a temporary copy of ours
    unlink(copy)
    stop_kw("file", paste0("The gzipped file ", quoted(file), " is damaged."), where = trouble[1])
  }
  copy
}

unpack <- function(file, copy) {
  input <- gzfile(file, open = "rb")
  on.exit(close(input))
  copy_connection(input, copy)
}

# Was a gzipped file, of which `copy` holds what could be read, cut off? It ends with the number of
# bytes that its last member holds (RFC 1952); reading it stops at a cut without a word.
is_cut_off <- function(file, copy) {
  # text that is only called gzipped is read as it is
  if (!identical(readBin(file, raw(), 2L), as.raw(c(0x1f, 0x8b)))) return(FALSE)
  bytes <- readBin(file, raw(), file.size(file))
  # what a member of nothing takes
  if (length(bytes) < 18L) return(TRUE)
  promised <- sum(as.integer(utils::tail(bytes, 4L)) * 256^(0:3))
  if (promised == file.size(copy) %% 256^4) return(FALSE)
  # several members, one behind the other, as of files that were joined
  last <- max(gzip_members(bytes), 0L)
  if (last <= 1L) return(TRUE)
  member <- tempfile(fileext = c(".gz", ".csv"))
  # reason: temporary files of ours
  on.exit(unlink(member))
  writeBin(utils::tail(bytes, -(last - 1L)), member[1])
  unpack(member[1], member[2])
  promised != file.size(member[2]) %% 256^4
}

# Where members of a gzipped file begin, by bytes of their headers that data hardly ever has.
gzip_members <- function(bytes) {
  at <- which(bytes == as.raw(0x1f))
  at <- at[at + 9L <= length(bytes)]
  value <- function(place, i) as.integer(bytes[place + i])
  at <- at[value(at, 1L) == 0x8b & value(at, 2L) == 8L]
  at[value(at, 3L) < 32L & value(at, 8L) %in% c(0L, 2L, 4L) & value(at, 9L) %in% c(0:13, 255L)]
}

check_file_exists <- function(file) {
  if (file.exists(file)) return(invisible())
  folder <- dirname(file)
  stop_kw("file", paste0("There is no file ", quoted(file), "."),
    where = paste0("Looked in ", normalizePath(folder, mustWork = FALSE), "."),
    remedy = if (dir.exists(folder)) {
      did_you_mean(basename(file), list.files(folder), "It has")
    }
  )
}

copy_connection <- function(input, path) {
  output <- file(path, open = "wb")
  on.exit(close(output))
  while (length(chunk <- readBin(input, raw(), 1e6)) > 0L) writeBin(chunk, output)
}

# UTF-16, with its mark or without, is recoded; another zero byte has no place in a table.
as_utf8_file <- function(path, file) {
  head <- readBin(path, raw(), 65536L)
  mark <- utils::head(head, 2L)
  zero <- head == as.raw(0)
  odd <- seq_along(zero) %% 2L == 1L
  encoding <- if (identical(mark, as.raw(c(0xff, 0xfe))) || mean(zero[!odd]) > 0.4) {
    "UTF-16LE"
  } else if (identical(mark, as.raw(c(0xfe, 0xff))) || mean(zero[odd]) > 0.4) {
    "UTF-16BE"
  }
  if (is.null(encoding)) {
    refuse_zero_byte(path, file)
    return(path)
  }
  bytes <- readBin(path, raw(), file.size(path))
  text <- iconv(list(bytes), encoding, "UTF-8", toRaw = TRUE)[[1]]
  if (is.null(text)) {
    stop_kw("file", paste0("The file ", quoted(file), " is damaged ", encoding, " text."),
      remedy = "Save it as UTF-8 and read it again."
    )
  }
  if (identical(utils::head(text, 3L), as.raw(c(0xef, 0xbb, 0xbf)))) text <- text[-(1:3)]
  recoded <- tempfile(fileext = ".csv")
  write_whole(recoded, text, private = TRUE)
}

refuse_zero_byte <- function(path, file) {
  input <- file(path, open = "rb")
  on.exit(close(input))
  line <- 1
  while (length(chunk <- readBin(input, raw(), 1e6)) > 0L) {
    at <- which(chunk == as.raw(0))[1]
    if (!is.na(at)) {
      line <- line + sum(chunk[seq_len(at)] == as.raw(10))
      stop_kw("file", paste0("The file ", quoted(file), " is no text: it holds a zero byte."),
        where = paste0("In line ", format(line, big.mark = ","), "."),
        remedy = "Is it a spreadsheet or another kind of file, or was it cut off by a crash?"
      )
    }
    line <- line + sum(chunk == as.raw(10))
  }
}

# The line of names, which goes on where a quoted name has a line break.
first_line <- function(path) {
  lines <- readLines(path, n = 1000L, encoding = "UTF-8", warn = FALSE)
  lines <- lines[cumsum(grepl("[^ \t]", lines, useBytes = TRUE)) > 0L]
  open <- cumsum(lengths(gregexpr("\"", lines, fixed = TRUE, useBytes = TRUE)) *
    grepl("\"", lines, fixed = TRUE, useBytes = TRUE)) %% 2L == 1L
  first <- paste(lines[seq_len(match(FALSE, open, nomatch = length(lines)))], collapse = "\n")
  if (validUTF8(first)) sub("^\ufeff", "", first) else first
}

# How many fields a line has by every separator, blanks last; what is in quotes does not count.
fields_by <- function(line) {
  bare <- gsub("\"[^\"]*\"", "\"", line)
  marks <- vapply(c(",", "\t", ";", "|", ":"), function(one) {
    sum(gregexpr(one, bare, fixed = TRUE)[[1]] > 0L) + 1L
  }, 1L)
  c(marks, " " = lengths(regmatches(bare, gregexpr(" +", trimws(bare)))) + 1L)
}

# The reader finds it out, but would take blanks within the texts of a single column for one.
separator_of <- function(file, single) {
  if (grepl("\\.(tsv|tab)(\\.gz)?$", file, ignore.case = TRUE)) return("\t")
  if (single) "," else "auto"
}

# The reader skips lines that have fewer fields than the following ones: the names, or the
# first row, would be lost without a word.
check_first_line <- function(names, first, file) {
  fields <- fields_by(first)
  named <- names[!grepl("^V[0-9]+$", names)]
  # looked for one by one, thousands take seconds
  rest <- setdiff(named, gsub("^\"|\"$", "", strsplit(first, "[,;\t|]")[[1]]))
  there <- vapply(rest, grepl, NA, x = first, fixed = TRUE)
  if (all(there) && (length(names) == 1L || length(names) %in% fields)) {
    return(invisible())
  }
  stop_kw(
    "file",
    paste0(
      "The file ", quoted(file), " has rows of another length than its first line, which must ",
      "name the columns."
    ),
    where = paste0(
      "The first line is ", quoted(clean_line(first)), " (",
      count_of(max(utils::head(fields, -1L)), "field"),
      "); a line soon after it has another number of fields."
    ),
    remedy = "Give every column a name, and every row as many fields."
  )
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
  stop_kw("file", paste0(
    "The file ", quoted(file), " has rows of different lengths",
    if (length(line) > 0L) paste0(", first at ", line), "."
  ),
  where = plain_message(simpleCondition(ragged[1])),
  remedy = paste(
    "Every row needs as many fields as there are column names; text with separators",
    "in it needs quotes."
  )
  )
}

check_encoding <- function(table, file) {
  strange <- which(!validUTF8(names(table)))
  if (length(strange) > 0L) {
    stop_kw("file", paste0("The file ", quoted(file), " is not UTF-8."),
      where = paste0("In the names of columns ", enumerate(strange, 5L), "."),
      remedy = "Save it as UTF-8 and read it again."
    )
  }
  # by place: a name may stand twice, which is refused later
  for (at in which(vapply(table, is.character, logical(1)))) {
    bad <- which(!validUTF8(table[[at]]))
    if (length(bad) > 0L) {
      stop_kw("file", paste0("The file ", quoted(file), " is not UTF-8."),
        where = paste0("Column ", quoted(names(table)[at]), ", rows ", enumerate(bad, 5L)),
        remedy = "Save it as UTF-8 and read it again."
      )
    }
  }
}
