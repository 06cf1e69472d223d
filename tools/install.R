# Installs the package from this folder into the first library that can be
# written to, making a personal one if there is none.

writable <- .libPaths()[file.access(.libPaths(), 2) == 0L]
if (length(writable) == 0L) {
  personal <- path.expand(strsplit(Sys.getenv("R_LIBS_USER"), .Platform$path.sep)[[1]][1])
  dir.create(personal, recursive = TRUE, showWarnings = FALSE)
  writable <- personal
}
# files of compiled code beside one another
cores <- max(1L, parallel::detectCores(), na.rm = TRUE)
if (!nzchar(Sys.getenv("MAKEFLAGS"))) Sys.setenv(MAKEFLAGS = paste0("-j", cores))
log <- tempfile()
status <- system2(file.path(R.home("bin"), "R"),
  c(
    "CMD", "INSTALL", "--strip", "--no-test-load", "--preclean", "--clean",
    paste0("--library=", shQuote(writable[1])), "."
  ),
  stdout = log, stderr = log
)
if (status != 0L) {
  writeLines(readLines(log))
  stop("the package could not be installed; the lines above say why", call. = FALSE)
}
message("kilnwright is installed in ", writable[1])
