# How much of the code the tests run: by file, the least first, and in all. One process a core,
# each of which ends by itself, since what it counted is written at its end: a process that is
# killed, as a worker may be, leaves half a file. With parts of file names as arguments
# (Rscript tools/coverage.R searches space) only those tests run.

asked <- commandArgs(TRUE)
cores <- max(1L, parallel::detectCores(), na.rm = TRUE)
Sys.setenv(KILNWRIGHT_SOURCE = normalizePath("."))
files <- list.files("tests/testthat", "^test-.*[.]R$")
if (length(asked) > 0L) files <- grep(paste(asked, collapse = "|"), files, value = TRUE)
if (length(files) == 0L) stop("No test file is called so: ", paste(asked, collapse = ", "))

one_process <- function(files) {
  script <- tempfile(fileext = ".R")
  names <- paste0("^", sub("^test-(.*)[.]R$", "\\1", files), "$")
  writeLines(c(
    "library(kilnwright)",
    sprintf(
      paste0(
        "testthat::test_dir(%s, package = \"kilnwright\", filter = %s, reporter = \"summary\", ",
        "stop_on_failure = FALSE, load_package = \"installed\")"
      ),
      deparse(normalizePath("tests/testthat")), deparse1(paste(names, collapse = "|"))
    )
  ), script)
  sprintf("%s %s > %s.log 2>&1", file.path(R.home("bin"), "Rscript"), script, script)
}

place <- tempfile("library")
processes <- vapply(split(files, seq_along(files) %% cores), one_process, "")
Sys.setenv(TESTTHAT_PARALLEL = "FALSE")
found <- covr::package_coverage(
  type = "none", install_path = place,
  code = c(
    sprintf("system(%s)", deparse1(paste(c(paste(processes, "&"), "wait"), collapse = "\n"))),
    sprintf("for (file in list.files(%s, \"^covr_trace_\", full.names = TRUE)) {", deparse(place)),
    "  if (is.null(tryCatch(readRDS(file), error = function(e) NULL))) unlink(file)",
    "}"
  )
)
print(found, group = "filename")
