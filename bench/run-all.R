# Runs benchmarks in fresh R processes, from the package's root, and writes what was reached
# into docs/benchmarks.md. With names as arguments (Rscript bench/run-all.R journal memory)
# only those are run, and their rows take the place of earlier ones.

asked <- commandArgs(TRUE)
files <- setdiff(
  sort(list.files("bench", "[.]R$", full.names = TRUE)),
  file.path("bench", paste0(c(
    "common", "fields", "run-all", "run-searches", "searches", "screens", "rows", "budget",
    "by-itself", "honesty", "own-cost", "serve", "before", "seconds-only"
  ), ".R"))
)
if (length(asked) > 0L) files <- file.path("bench", paste0(asked, ".R"))
rows <- tempfile()
file.create(rows)
Sys.setenv(
  KILNWRIGHT_BENCH_ROWS = rows,
  OMP_NUM_THREADS = 1,
  OPENBLAS_NUM_THREADS = 1,
  MKL_NUM_THREADS = 1,
  R_DATATABLE_NUM_THREADS = 1
)
for (file in files) {
  status <- system2(file.path(R.home("bin"), "Rscript"), file)
  if (status != 0L) stop(file, " failed", call. = FALSE)
}

table <- "docs/benchmarks.md"
made <- readLines(rows)
earlier <- if (length(asked) > 0L && file.exists(table)) {
  grep("^[|] [^w-]|^[|] [^|]* [|] (one|two) ", readLines(table), value = TRUE)
}
name <- function(lines) sub("^([|][^|]*[|][^|]*[|]).*", "\\1", lines)
earlier <- earlier[!grepl("^[|] work ", earlier)]
both <- ifelse(name(earlier) %in% name(made), made[match(name(earlier), name(made))], earlier)
both <- c(both, made[!name(made) %in% name(earlier)])

memory <- readLines("/proc/meminfo", n = 1L)
gigabytes <- round(as.numeric(gsub("[^0-9]", "", memory)) / 2^20)
writeLines(c(
  "# Benchmarks", "",
  paste(
    "Made by `make bench`. Every row was had in one run: a loop written by hand, the package",
    "in one process, the package"
  ),
  paste(
    "with two workers that were already up, and the floor, which is the bare seconds of the",
    "fits that are really needed;"
  ),
  paste(
    "for two workers, half of what two processes take that do all of them each. Scores of",
    "loop and package must agree, or"
  ),
  paste(
    "the benchmark fails. \"Reached\" gives the loop's seconds over the package's (medians of",
    "up to five turns), and the"
  ),
  "median of the package's seconds over the floor's in each turn.", "",
  paste0(
    "Machine: ", parallel::detectCores(), " cores, ", gigabytes, " GB of memory, R ",
    getRversion(), "."
  ), "",
  "| work | how | reached | wanted | met |", "|---|---|---|---|---|", both, "",
  readLines("bench/remarks.md")
), table)
