# Reads delimited text: the separator is the one that the first line has most of; codes keep their
# zeros; empty fields and NA are missing, "NA" in quotes is a text.
read_table <- function(file) {
  lines <- readLines(file, encoding = "UTF-8", warn = FALSE)
  lines[1] <- sub("^\ufeff", "", lines[1])
  # a field in quotes may go on in the next line
  open <- cumsum(lengths(regmatches(lines, gregexpr("\"", lines, fixed = TRUE)))) %% 2 == 1
  row <- cumsum(c(TRUE, !open[-length(open)]))
  lines <- vapply(split(lines, row), paste, "", collapse = "\n", USE.NAMES = FALSE)
  lines <- lines[cumsum(nzchar(trimws(lines))) > 0]
  first <- gsub("\"[^\"]*\"", "", lines[1])
  separators <- c(",", "\t", ";", "|")
  counts <- vapply(separators, function(one) sum(gregexpr(one, first, fixed = TRUE)[[1]] > 0), 1L)
  between <- separators[which.max(counts)]
  # in a single column a blank line is a gap
  if (max(counts) > 0L) lines <- lines[nzchar(trimws(lines))]
  field <- sprintf("[ ]*(\"([^\"]|\"\")*\"[ ]*|[^%s]*)(%s|$)", between, sprintf("[%s]", between))
  fields <- regmatches(lines, gregexpr(field, lines))
  n <- max(counts) + 1L
  cells <- vapply(fields, function(row) row[seq_len(n)], character(n))
  cells <- matrix(cells, n)
  cells[is.na(cells)] <- ""
  cells <- trimws(sub(sprintf("[%s]$", between), "", cells), whitespace = "[ \r]")
  quoted <- startsWith(cells, "\"")
  missing <- !quoted & cells %in% c("", "NA")
  cells[quoted] <- gsub("\"\"", "\"", substr(cells[quoted], 2L, nchar(cells[quoted]) - 1L))
  missing <- missing | !nzchar(cells)
  names <- cells[, 1]
  cells[missing] <- NA
  table <- lapply(seq_len(n), function(i) cells[i, -1])
  names(table) <- names
  texts <- names(schema)[vapply(schema, `[[`, "", "kind") != "number"]
  for (name in setdiff(names, texts)) {
    if (name == outcome && !is.null(levels)) next
    table[[name]] <- utils::type.convert(table[[name]], as.is = TRUE)
  }
  structure(table, class = "data.frame", row.names = seq_len(ncol(cells) - 1L))
}
