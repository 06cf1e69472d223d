# Writes R/zzz-compiled.R: the functions that R finds worth compiling by itself in more than one of
# three runs, which are the demo's two and one of very many settings.
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
found <- tempfile(fileext = ".txt")
writeLines(sprintf(".Last <- function() {
  if (!'kilnwright' %%in%% loadedNamespaces()) return(invisible())
  home <- asNamespace('kilnwright')
  functions <- Filter(is.function, mget(ls(home, all.names = TRUE), home))
  compiled <- vapply(functions, function(f) typeof(.Internal(bodyCode(f))) == 'bytecode', NA)
  cat(names(functions)[compiled], sep = '\\n', file = '%s', append = TRUE)
}", found), hook)

run <- function(...) {
  paths <- paste(c(library, .libPaths()), collapse = .Platform$path.sep)
  status <- system2(file.path(R.home("bin"), "Rscript"), c(...),
    env = c(paste0("R_PROFILE_USER=", hook), paste0("R_LIBS=", paths)), stdout = FALSE
  )
  if (status != 0L) stop("the run ended with status ", status, ": ", paste(...), call. = FALSE)
}
run("exec/kilnwright", "demo", "--out", folder, "--replace")
run("exec/kilnwright", "demo", "--guided", "--out", folder, "--replace")
run("bench/many-settings.R")

# in the order of every locale
times <- table(readLines(found))
names <- sort(names(times)[times > 1L], method = "radix")
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
