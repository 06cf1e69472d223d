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

rows <- vapply(sort(unique(home)), function(room) {
  called <- if (room %in% rownames(counts)) counts[room, ] else numeric()
  called <- sort(called[called > 0], decreasing = TRUE)
  paste0(
    "| `", room, "-` | ", sum(home == room), " | ",
    paste(names(called), called, collapse = ", "), " |"
  )
}, "")
circles <- unlist(lapply(rownames(counts), function(a) {
  back <- intersect(colnames(counts)[counts[a, ] > 0], rownames(counts))
  back <- Filter(function(b) a < b && a %in% colnames(counts) && counts[b, a] > 0, back)
  vapply(back, function(b) paste0(a, " and ", b, " (", counts[a, b], " / ", counts[b, a], ")"), "")
}))
lines <- c(
  "| room | functions | calls |", "|---|---|---|", unname(rows), "",
  paste0(
    "Rooms that call each other: ",
    if (length(circles) == 0L) "none" else paste(circles, collapse = "; "), "."
  )
)
writeLines(lines)

text <- readLines("ARCHITECTURE.md")
marks <- match(c("<!-- rooms -->", "<!-- end of rooms -->"), text)
text <- c(text[seq_len(marks[1])], lines, text[seq(marks[2], length(text))])
writeLines(text, "ARCHITECTURE.md")
