# Words in help pages, vignettes, README, NEWS and ARCHITECTURE that are in no dictionary (British
# English) and not in inst/WORDLIST: prints them and ends with status 1 if there are any.

files <- c(
  "README.md", "NEWS.md", "ARCHITECTURE.md", "docs/tour.md", "docs/model-file.md",
  list.files("vignettes", "[.]Rmd$", full.names = TRUE)
)
known <- readLines("inst/WORDLIST")
found <- list(
  spelling::spell_check_files(list.files("man", "[.]Rd$", full.names = TRUE), known, "en_GB"),
  spelling::spell_check_files(files, known, "en_GB")
)
words <- do.call(rbind, found)
if (nrow(words) > 0L) {
  print(words)
  quit(status = 1L)
}
message("spelling: nothing found")
