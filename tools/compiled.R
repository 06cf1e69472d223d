# Writes R/zzz-compiled.R: the functions that R finds worth compiling by itself in more than one of
# three runs, which are the demo's two and one of very many settings; and those of searches that it
# compiles in the guided demo and in two with other searches instead, which go through them for
# every setting; and what it compiles, before it goes on, where somebody compares twice, alone
# and with workers: a second in all. And what is too small for R to compile it, however often it
# is called, of the files that every fit goes through.
# Usage: Rscript tools/compiled.R

library <- tempfile("library")
folder <- tempfile("results")
dir.create(library)
source <- tempfile("source")
dir.create(source)
file.copy(c("DESCRIPTION", "NAMESPACE", "LICENSE", "NEWS.md", "R", "src", "inst", "exec"), source,
  recursive = TRUE
)
unlink(c(file.path(source, "R", "zzz-compiled.R"), Sys.glob(file.path(source, "src", "*.o"))))
utils::install.packages(source, library, repos = NULL, type = "source", quiet = TRUE)

hook <- tempfile(fileext = ".R")
writeLines(".Last <- function() {
  if (!'kilnwright' %in% loadedNamespaces()) return(invisible())
  home <- asNamespace('kilnwright')
  functions <- Filter(is.function, mget(ls(home, all.names = TRUE), home))
  compiled <- vapply(functions, function(f) typeof(.Internal(bodyCode(f))) == 'bytecode', NA)
  cat(names(functions)[compiled], sep = '\\n', file = Sys.getenv('COMPILED'), append = TRUE)
}", hook)

run <- function(found, ..., small = FALSE) {
  paths <- paste(c(library, .libPaths()), collapse = .Platform$path.sep)
  status <- system2(file.path(R.home("bin"), "Rscript"), c(...),
    env = c(
      paste0(c("R_PROFILE_USER=", "R_LIBS=", "COMPILED="), c(hook, paths, found)),
      # whatever is called twice
      if (small) "R_JIT_STRATEGY=2"
    ),
    stdout = FALSE
  )
  if (status != 0L) stop("the run ended with status ", status, ": ", paste(...), call. = FALSE)
}
found <- tempfile(fileext = ".txt")
found_searching <- tempfile(fileext = ".txt")
run(found, "exec/kilnwright", "demo", "--out", folder, "--replace")
run(found_searching, "exec/kilnwright", "demo", "--guided", "--out", folder, "--replace")
file.append(found, found_searching)
run(found, "bench/many-settings.R")
found_small <- tempfile(fileext = ".txt")
run(found_small, "bench/many-settings.R", small = TRUE)
run(found_small, "exec/kilnwright", "demo", "--out", folder, "--replace", small = TRUE)

file.copy(Sys.glob("inst/extdata/pots*"), folder)
plan <- file.path(folder, "pots-guided.yml")
lines <- readLines(plan)
for (search in c("evolve: {settings: 60}", "guided: {settings: 60, surrogate: forest}")) {
  changed <- sub("guided: [{]settings: [0-9]+[}]", search, lines)
  stopifnot(!identical(changed, lines))
  # what is looked at first is left to the search
  changed <- grep("^screen:", changed, invert = TRUE, value = TRUE)
  writeLines(changed, plan)
  run(found_searching, "exec/kilnwright", "run", plan, "--out", tempfile("searching"))
}

found_twice <- tempfile(fileext = ".txt")
plan <- file.path(folder, "pots-plan.yml")
writeLines(sub("kfold: {k: 10}", "kfold: {k: 2}", readLines(plan), fixed = TRUE), plan)
again <- tempfile(fileext = ".R")
writeLines(c(
  "library(kilnwright)",
  "for (workers in c(1, 1, 2, 2)) {",
  sprintf("  plan <- read_plan(%s)", encodeString(plan, quote = "\"")),
  "  cmp <- run_comparison(plan, workers = workers, journal = tempfile(), quiet = TRUE)",
  "  standings(cmp)",
  "}"
), again)
run(found_twice, again)

functions_in <- function(file) {
  unlist(lapply(parse(file, keep.source = FALSE), function(one) {
    if (is.call(one) && identical(one[[1]], quote(`<-`))) as.character(one[[2]])
  }))
}
of_searches <- unlist(lapply(
  c(Sys.glob("R/search-*.R"), "R/run-rounds.R", "R/space-cube.R"), functions_in
))
searching <- intersect(readLines(found_searching), of_searches)
of_fits <- unlist(lapply(
  c(
    Sys.glob("R/metric-*.R"), "R/fam-contract.R", "R/work-unit.R", "R/work-prepared.R",
    "R/outcome-prediction.R", "R/base-conditions.R", "R/base-seed.R", "R/RcppExports.R"
  ),
  functions_in
))
small <- intersect(readLines(found_small), of_fits)
times <- table(readLines(found))
# in the order of every locale
names <- sort(
  unique(c(names(times)[times > 1L], searching, readLines(found_twice), small)),
  method = "radix"
)
writeLines(c(
  "# What most runs go through, compiled as the package is installed; R compiles the rest by",
  "# itself where it pays. All of it compiled would take much more room and no less time.",
  "# Written by tools/compiled.R.",
  "for (compiled in scan(what = \"\", quiet = TRUE, text = \"",
  strwrap(paste(names, collapse = " "), 98, prefix = "  "),
  "\")) {",
  "  if (exists(compiled, inherits = FALSE)) assign(compiled, cmpfun(get(compiled)))",
  "}",
  "rm(compiled)"
), file.path("R", "zzz-compiled.R"))
