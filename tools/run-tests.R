# Runs all tests, shows testthat's own summary, then a plain line with the
# counts; the exit status is not zero after any failure. In R CMD check the
# tests run through tests/testthat.R instead.

library(testthat)
library(kilnwright)

Sys.setenv(KILNWRIGHT_SOURCE = normalizePath("."))
# compiling what a test calls a few times takes more than it saves: a quarter of all
Sys.setenv(R_ENABLE_JIT = "0")
# files run on all cores, and one more, since some wait for workers; which of them first is said in
# DESCRIPTION
if (!nzchar(Sys.getenv("TESTTHAT_CPUS"))) {
  Sys.setenv(TESTTHAT_CPUS = 1L + max(1L, parallel::detectCores(), na.rm = TRUE))
}
results <- test_dir("tests/testthat",
  package = "kilnwright", reporter = "summary",
  stop_on_failure = FALSE, load_package = "installed"
)
table <- as.data.frame(results)
broken <- sum(table$failed) + sum(table$error)
skipped <- sum(table$skipped)
cat("\n", sum(table$passed), " expectations passed, ", sum(table$failed), " failed, ",
  sum(table$error), " errors, ", skipped, " skipped\n",
  sep = ""
)
cat(sum(table$failed == 0 & !table$error & !table$skipped), " passed, ",
  sum(table$failed > 0 | table$error), " failed\n",
  sep = ""
)
quit(status = if (broken > 0 || nrow(table) == 0L) 1L else 0L)
