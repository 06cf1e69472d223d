# Seconds that loading the package adds to an empty R process, median of 11 pairs.

rscript <- file.path(R.home("bin"), "Rscript")
once <- function(code) {
  system.time(system2(rscript, c("-e", shQuote(code)), stdout = FALSE))[["elapsed"]]
}
invisible(once("library(kilnwright)"))
pairs <- vapply(1:11, function(i) once("library(kilnwright)") - once("NULL"), numeric(1))
cat(sprintf("Loading the package adds %.2f s (wanted: at most 0.4)\n\n", median(pairs)))
