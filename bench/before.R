# Is what is committed here as fast as an earlier version? Installs both side by side and lets them
# do the work of some benchmarks in turn, in fresh R processes, by one process and with two workers.
# Gives the median seconds of both, and of the turns the median, least and most of this version's
# seconds over the earlier one's.
# Usage, from the package's root: Rscript bench/before.R COMMIT [BENCHMARK ...]

asked <- commandArgs(TRUE)
if (length(asked) == 0L) stop("name a commit to compare with", call. = FALSE)
turns <- 3L
benchmarks <- asked[-1]
if (length(benchmarks) == 0L) {
  timed <- vapply(Sys.glob("bench/*.R"), function(file) {
    any(grepl("time_package(plan", readLines(file), fixed = TRUE))
  }, NA)
  benchmarks <- setdiff(sub("[.]R$", "", basename(names(which(timed)))), "before")
}

run <- function(command, ...) {
  if (system2(command, c(...), stdout = FALSE) != 0L) {
    stop("failed: ", paste(command, ...), call. = FALSE)
  }
}

# A version with its own benchmarks, since arguments may have other names: list(source, library).
installed <- function(commit) {
  source <- tempfile("source")
  library <- tempfile("library")
  for (folder in c(source, library)) dir.create(folder)
  archive <- tempfile(fileext = ".tar")
  run("git", "archive", "-o", archive, commit)
  utils::untar(archive, exdir = source)
  utils::install.packages(source, library, repos = NULL, type = "source", quiet = TRUE)
  # else another version that is installed would be timed
  there <- dir.exists(file.path(library, "kilnwright"))
  if (!there) stop(commit, " was not installed", call. = FALSE)
  file.append(file.path(source, "bench", "common.R"), file.path("bench", "seconds-only.R"))
  list(source = source, library = library)
}

# Seconds of one turn, a row for each work that the benchmark times.
seconds_with <- function(version, benchmark) {
  file <- tempfile()
  paths <- paste(c(version$library, .libPaths()), collapse = .Platform$path.sep)
  withr::with_dir(version$source, withr::with_envvar(c(R_LIBS = paths, BENCH_SECONDS = file), {
    run(file.path(R.home("bin"), "Rscript"), file.path("bench", paste0(benchmark, ".R")))
  }))
  names <- c("one process", "two workers")
  as.matrix(utils::read.table(file, col.names = names, check.names = FALSE))
}

versions <- list(before = installed(asked[1]), now = installed("HEAD"))
for (benchmark in benchmarks) {
  seconds <- lapply(seq_len(turns), function(turn) {
    order <- if (turn %% 2L) c("before", "now") else c("now", "before")
    lapply(versions[order], seconds_with, benchmark = benchmark)
  })
  before <- simplify2array(lapply(seconds, `[[`, "before"))
  now <- simplify2array(lapply(seconds, `[[`, "now"))
  ratio <- now / before
  for (work in seq_len(nrow(ratio))) for (how in colnames(ratio)) {
    cat(sprintf(
      "%-16s %d, %-11s  before %6.2f s, now %6.2f s: %.2f of it (%.2f to %.2f in %d turns)\n",
      benchmark, work, how, median(before[work, how, ]), median(now[work, how, ]),
      median(ratio[work, how, ]), min(ratio[work, how, ]), max(ratio[work, how, ]), turns
    ))
  }
}
