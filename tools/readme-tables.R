# Writes the tables of families, metrics and splits into README.md, from the code.
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

splits <- function() {
  splitters <- grep("^split_", getNamespaceExports("kilnwright"), value = TRUE)
  arguments <- vapply(
    sort(splitters),
    function(name) paste(names(formals(getExportedValue("kilnwright", name))), collapse = ", "),
    ""
  )
  page <- function(name) {
    for (file in list.files("man", full.names = TRUE)) {
      lines <- readLines(file)
      if (any(grepl(paste0("\\alias{", name, "}"), lines, fixed = TRUE))) {
        return(gsub("\\\\title\\{|\\}", "", grep("^\\\\title\\{", lines, value = TRUE)))
      }
    }
    ""
  }
  markdown(data.frame(
    splits = paste0("`", sort(splitters), "`"),
    what = vapply(sort(splitters), page, ""), arguments = arguments
  ))
}

fill <- function(lines, name, content) {
  start <- which(lines == paste0("<!-- ", name, " -->"))
  end <- which(lines == paste0("<!-- end of ", name, " -->"))
  stopifnot(length(start) == 1L, length(end) == 1L)
  c(lines[seq_len(start)], content, lines[end:length(lines)])
}

lines <- readLines("README.md")
new <- fill(fill(fill(lines, "families", families()), "metrics", metrics()), "splits", splits())
if (identical(commandArgs(TRUE), "--check")) {
  if (!identical(new, lines)) stop("README.md is older than the code: run make docs", call. = FALSE)
} else {
  writeLines(new, "README.md")
}
