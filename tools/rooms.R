# Which room calls which, read off the code, and written into ARCHITECTURE.md between its marks:
#   Rscript tools/rooms.R
# A room is a file's prefix. Calls are counted by function and name called, each pair once.

files <- list.files("R", "[.]R$", full.names = TRUE)
files <- files[!basename(files) %in% c("RcppExports.R", "kilnwright-package.R")]
room_of <- function(file) sub("-.*", "", basename(file))

functions <- do.call(rbind, lapply(files, function(file) {
  found <- lapply(parse(file), function(expr) {
    assigned <- is.call(expr) && identical(expr[[1]], as.symbol("<-")) && is.symbol(expr[[2]])
    if (!assigned) return(NULL)
    made <- function() NULL
    body(made) <- expr[[3]]
    data.frame(
      name = as.character(expr[[2]]), room = room_of(file),
      calls = I(list(codetools::findGlobals(made, merge = TRUE)))
    )
  })
  do.call(rbind, found)
}))

home <- stats::setNames(functions$room, functions$name)
pairs <- do.call(rbind, Map(function(room, calls) {
  to <- unname(home[intersect(calls, names(home))])
  if (length(to) > 0L) data.frame(from = room, to = to)
}, functions$room, functions$calls))
pairs <- pairs[pairs$from != pairs$to, ]
counts <- table(pairs$from, pairs$to)

# The rooms in their order, of the test that holds the files to it.
test <- parse("tests/testthat/test-layers.R")
is_order <- vapply(test, function(expr) identical(expr[[2]], as.symbol("rooms")), NA)
rooms <- eval(test[is_order][[1]][[3]])
stopifnot(setequal(rooms, home))

rows <- vapply(rooms, function(room) {
  called <- if (room %in% rownames(counts)) counts[room, ] else numeric()
  called <- sort(called[called > 0], decreasing = TRUE)
  paste0(
    "| `", room, "-` | ", sum(home == room), " | ",
    paste(names(called), called, collapse = ", "), " |"
  )
}, "")

# The same as a picture: who calls (rows) whom (columns); what stood on the right of the dots
# would call a later room.
cell <- function(from, to) {
  if (from == to) return(".")
  known <- from %in% rownames(counts) && to %in% colnames(counts)
  if (known && counts[from, to] > 0) format(counts[from, to]) else ""
}
picture <- vapply(rooms, function(from) {
  cells <- vapply(rooms, cell, "", from = from)
  paste0(formatC(from, width = -10), paste(formatC(cells, width = 4), collapse = ""))
}, "")
heads <- paste0(strrep(" ", 10), paste(formatC(substr(rooms, 1, 3), width = 4), collapse = ""))
later <- sum(vapply(seq_along(rooms), function(i) {
  sum(pairs$from == rooms[i] & match(pairs$to, rooms) > i)
}, 1))
lines <- c(
  "| room | functions | calls |", "|---|---|---|", unname(rows), "",
  "```", heads, sub(" +$", "", unname(picture)), "```", "",
  paste0("Calls of a later room: ", if (later == 0) "none" else later, ".")
)
writeLines(lines)

text <- readLines("ARCHITECTURE.md")
marks <- match(c("<!-- rooms -->", "<!-- end of rooms -->"), text)
text <- c(text[seq_len(marks[1])], lines, text[seq(marks[2], length(text))])
writeLines(text, "ARCHITECTURE.md")
