# How much of the code the tests run: by file, the least first, and in all. One process a test
# file, so many at a time as there are cores, each of which ends by itself, since what it counted is
# written at its end: a process that is killed, as a worker may be, leaves half a file. With parts
# of file names as arguments (Rscript tools/coverage.R searches space) only those tests run.

asked <- commandArgs(TRUE)
cores <- max(1L, parallel::detectCores(), na.rm = TRUE)
Sys.setenv(KILNWRIGHT_SOURCE = normalizePath("."))
files <- list.files("tests/testthat", "^test-.*[.]R$")
if (length(asked) > 0L) files <- grep(paste(asked, collapse = "|"), files, value = TRUE)
if (length(files) == 0L) stop("No test file is called so: ", paste(asked, collapse = ", "))

# One file in a process; the next one begins where one has ended.
script <- tempfile(fileext = ".R")
writeLines(c(
  "library(kilnwright)",
  "name <- sub(\"^test-(.*)[.]R$\", \"^\\\\1$\", commandArgs(TRUE))",
  sprintf(
    paste0(
      "testthat::test_dir(%s, package = \"kilnwright\", filter = name, reporter = \"summary\", ",
      "stop_on_failure = FALSE, load_package = \"installed\")"
    ),
    deparse(normalizePath("tests/testthat"))
  )
), script)
list_file <- tempfile()
# what takes longest comes first
writeLines(files[order(-file.size(file.path("tests/testthat", files)))], list_file)
queue <- sprintf(
  "xargs -P %d -I FILE sh -c '%s %s FILE > %s/FILE.log 2>&1' < %s", cores,
  file.path(R.home("bin"), "Rscript"), script, tempdir(), list_file
)
place <- tempfile("library")
# compiling what was made to count takes more than it saves
Sys.setenv(TESTTHAT_PARALLEL = "FALSE", R_ENABLE_JIT = "0")
found <- covr::package_coverage(
  type = "none", install_path = place,
  code = c(
    sprintf("system(%s)", deparse1(queue)),
    sprintf("for (file in list.files(%s, \"^covr_trace_\", full.names = TRUE)) {", deparse(place)),
    "  if (is.null(tryCatch(readRDS(file), error = function(e) NULL))) unlink(file)",
    "}"
  )
)
print(found, group = "filename")
