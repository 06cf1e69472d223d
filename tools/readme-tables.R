# Writes the tables of all kinds of parts into README.md, from the code.
# Usage: Rscript tools/readme-tables.R [--check]   (--check: only say if they are old)

library(kilnwright)

markdown <- function(table) {
  cells <- lapply(table, function(x) gsub("|", "\\|", as.character(x), fixed = TRUE))
  c(
    paste0("| ", paste(names(table), collapse = " | "), " |"),
    paste0("|", strrep("---|", length(table))),
    do.call(paste, c(list("|"), rbind(cells, "|")))
  )
}

families <- function() {
  table <- list_families()
  markdown(data.frame(
    family = paste0("`", table$family, "`"), predicts = table$predicts,
    "one fit serves all" = table$path,
    hyperparameters = table$hyperparameters, package = table$packages,
    check.names = FALSE
  ))
}

metrics <- function() {
  table <- list_metrics()
  markdown(data.frame(
    metric = paste0("`", table$metric, "`"), "for" = table$for_outcome,
    better = table$better, what = table$does, check.names = FALSE
  ))
}

parts <- function(...) {
  table <- list_parts(c(...))
  markdown(data.frame(
    part = paste0("`", table$part, "`"), what = table$does, arguments = table$arguments
  ))
}

fill <- function(lines, name, content) {
  start <- which(lines == paste0("<!-- ", name, " -->"))
  end <- which(lines == paste0("<!-- end of ", name, " -->"))
  stopifnot(length(start) == 1L, length(end) == 1L)
  c(lines[seq_len(start)], content, lines[end:length(lines)])
}

lines <- readLines("README.md")
content <- list(
  families = families(), metrics = metrics(), steps = parts("step"), splits = parts("split"),
  searches = parts("search"), screens = parts("screen"), rules = parts("rule"),
  findings = parts("finding")
)
new <- lines
for (name in names(content)) new <- fill(new, name, content[[name]])
if (identical(commandArgs(TRUE), "--check")) {
  if (!identical(new, lines)) stop("README.md is older than the code: run make docs", call. = FALSE)
} else {
  writeLines(new, "README.md")
}
