# Everything as it is written, so that codes keep their zeros; the separator is the one that the
# first line has most of.
read_table <- function(file) {
  lines <- sub("^\ufeff", "", readLines(file, encoding = "UTF-8", warn = FALSE))
  between <- c(",", ";", "\t", "|")
  found <- vapply(between, function(one) sum(gregexpr(one, lines[1], fixed = TRUE)[[1]] > 0), 0)
  read.table(
    text = lines, sep = between[which.max(found)], header = TRUE, colClasses = "character",
    quote = "\"", na.strings = c("", "NA"), strip.white = TRUE, comment.char = "",
    check.names = FALSE, fill = TRUE, blank.lines.skip = max(found) > 0, encoding = "UTF-8"
  )
}
