# Writes docs/reference.md from the code: all calls by job, and all parts.
# Usage: Rscript tools/write-reference.R [--check]   (--check: only say if it is old)

library(kilnwright)
source("tools/reference.R")

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

stray <- stray_topics()
if (length(stray) > 0L) {
  stop("pkgdown/_pkgdown.yml lacks these help pages, or has them for nothing: ",
    paste(stray, collapse = ", "), call. = FALSE)
}
new <- unname(c(
  "# Reference", "",
  paste(
    "Made by `make docs` from the code: all calls by job, then all parts. In R, `?kilnwright` has",
    "the"
  ),
  "calls, `list_parts()` the parts; on the command line `kilnwright parts`.",
  reference_markdown(),
  "", "# Parts",
  "", "## Steps", "", parts("step"),
  "", "Around them `either()`, `optional()`, `as_is()`.",
  "", "## Families", "",
  paste(
    "Families for numbers take counts and positive amounts too, families for many classes ordered",
    "ones."
  ),
  "", families(),
  "", "## Metrics", "",
  "Give several, one decides: `metrics = c(\"auc\", \"log_loss\"), decide = \"auc\"`; add",
  "constraints with `provided = \"recall >= 0.8\"`.",
  "", metrics(),
  "", "## Splits", "", parts("split"),
  "", "## Searches and screens", "", parts("search", "screen"),
  "", "## Rules", "", "`select_final(cmp, rule = \"one_se\")` goes by one.", "", parts("rule"),
  "", "## Findings", "", "`inspect_data(job)` looks for them.", "", parts("finding")
))
file <- "docs/reference.md"
if (identical(commandArgs(TRUE), "--check")) {
  same <- file.exists(file) && identical(new, readLines(file))
  if (!same) stop(file, " is older than the code: run make docs", call. = FALSE)
} else {
  writeLines(new, file)
}
