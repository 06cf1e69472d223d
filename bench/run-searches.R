# Runs the benchmarks of searches, screens and budgets in fresh R processes, from the package's
# root, and writes what they said into docs/searches.md, a section each. With names as arguments
# (Rscript bench/run-searches.R budget rows) only those are run. All together take about three
# hours: fields of thousands of settings are scored once, and kept in build/fields.

all <- c("searches", "own-cost", "screens", "rows", "budget", "by-itself")
asked <- commandArgs(TRUE)
if (length(asked) == 0L) asked <- all
stopifnot(asked %in% all)
page <- "docs/searches.md"

# Lines by section, as the page has them.
read_sections <- function(lines) {
  heads <- grep("^## ", lines)
  ends <- c(heads[-1] - 1L, length(lines))
  stats::setNames(
    Map(function(from, to) lines[from:to], heads, ends), sub("^## ", "", lines[heads])
  )
}

# What a script says of itself, and what it said.
new_section <- function(name, said) {
  script <- readLines(file.path("bench", paste0(name, ".R")))
  about <- script[seq_len(which(!startsWith(script, "#"))[1] - 1L)]
  c(paste("##", name), "", sub("^# ?", "", about), "", "```", said, "```", "")
}

sections <- if (file.exists(page)) read_sections(readLines(page)) else list()
for (name in asked) {
  script <- file.path("bench", paste0(name, ".R"))
  said <- system2(file.path(R.home("bin"), "Rscript"), script, stdout = TRUE)
  if (!is.null(attr(said, "status"))) stop(script, " failed", call. = FALSE)
  sections[[name]] <- new_section(name, said)
  writeLines(c(
    "# Searches, screens and budgets", "",
    "Made by `Rscript bench/run-searches.R`. All tables are made up (`bench/fields.R`).", "",
    unlist(sections[intersect(all, names(sections))])
  ), page)
}
