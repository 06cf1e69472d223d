# How much of the code the tests run: by file, the least first, and in all. As many processes as
# there are cores take one test file after the other, the largest first. What counts is the package
# as they load it, which takes half a minute; workers and commands that tests start have the package
# as it is, which takes none, and do not count. With parts of file names as arguments
# (Rscript tools/coverage.R searches space) only those tests run.

asked <- commandArgs(TRUE)
cores <- max(1L, parallel::detectCores(), na.rm = TRUE)
Sys.setenv(KILNWRIGHT_SOURCE = normalizePath("."))
tests <- normalizePath("tests/testthat")
files <- list.files(tests, "^test-.*[.]R$")
if (length(asked) > 0L) files <- grep(paste(asked, collapse = "|"), files, value = TRUE)
if (length(files) == 0L) stop("No test file is called so: ", paste(asked, collapse = ", "))

folder <- tempfile("coverage")
dir.create(folder)
plain <- file.path(folder, "plain")
dir.create(plain)
log <- file.path(folder, "install.log")
installed <- system2(file.path(R.home("bin"), "R"), c(
  "CMD", "INSTALL", "--no-docs", "--no-test-load", "--preclean", "--clean",
  paste0("--library=", shQuote(plain)), "."
), stdout = log, stderr = log)
if (installed != 0L) stop(paste(c("", readLines(log)), collapse = "\n"))

# A file is taken by the process that can give it another name.
ordered <- files[order(-file.size(file.path(tests, files)))]
todo <- file.path(folder, sprintf("%03d %s", seq_along(ordered), ordered))
invisible(file.create(todo))
one <- bquote({
  library(kilnwright)
  libraries <- c(.(plain), setdiff(.libPaths(), dirname(system.file(package = "kilnwright"))))
  .libPaths(libraries)
  paths <- paste(libraries, collapse = .Platform$path.sep)
  Sys.setenv(R_LIBS = paths, R_LIBS_USER = paths, R_LIBS_SITE = paths)
  repeat {
    left <- list.files(.(folder), "^[0-9]+ .*[.]R$", full.names = TRUE)
    if (length(left) == 0L) break
    taken <- paste0(left[1], ".taken")
    if (!suppressWarnings(file.rename(left[1], taken))) next
    name <- sub("^[0-9]+ test-(.*)[.]R$", "\\1", basename(left[1]))
    found <- as.data.frame(testthat::test_dir(.(tests),
      package = "kilnwright", filter = paste0("^", name, "$"), reporter = "silent",
      stop_on_failure = FALSE, load_package = "installed"
    ))
    bad <- found$test[found$failed > 0 | found$error]
    writeLines(c(
      paste(format(Sys.time(), "%H:%M:%S"), name), if (length(bad) > 0L) paste0("failed: ", bad)
    ))
  }
})
script <- file.path(folder, "one.R")
writeLines(deparse(one), script)
each <- sprintf(
  "%s %s > %s/process-%d.log 2>&1", file.path(R.home("bin"), "Rscript"), script, folder,
  seq_len(cores)
)
# compiling what was made to count takes more than it saves
Sys.setenv(TESTTHAT_PARALLEL = "FALSE", R_ENABLE_JIT = "0")
found <- covr::package_coverage(
  type = "none", install_path = file.path(folder, "counting"),
  code = sprintf("system(%s)", deparse1(paste(c(each, "wait"), collapse = " & ")))
)
said <- unlist(lapply(list.files(folder, "^process-.*[.]log$", full.names = TRUE), readLines))
print(found, group = "filename")
failed <- grep("^failed: ", said, value = TRUE)
if (length(failed) > 0L) cat("Tests failed while they were counted:", failed, sep = "\n")
