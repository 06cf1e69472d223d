# 1,000,000 x 30 rows, penalised, 5 folds: peak memory of the process beside that of a bare
# call of the model package on one fold. Linux only: peaks are read from /proc.

source("bench/common.R")

peak_of <- function(code) {
  file <- tempfile()
  script <- tempfile(fileext = ".R")
  writeLines(c(
    "suppressPackageStartupMessages(library(kilnwright))", "set.seed(1)", "rows <- 1e6",
    paste(
      "table <- as.data.frame(lapply(stats::setNames(nm = paste0('x', 1:30)), function(name)",
      "rnorm(rows)))"
    ),
    "table$y <- table$x1 + rnorm(rows)",
    "penalties <- signif(exp(seq(0, log(1e-4), length.out = 30)), 6)", code,
    "status <- readLines('/proc/self/status')",
    paste0("writeLines(gsub('[^0-9]', '', grep('VmHWM', status, value = TRUE)), '", file, "')")
  ), script)
  seconds <- seconds_of(stopifnot(system2(file.path(R.home("bin"), "Rscript"),
    script) == 0L))$seconds
  list(megabytes = as.numeric(readLines(file)) / 1024, seconds = seconds)
}

bare <- peak_of(c(
  "training <- 1:800000", "x <- as.matrix(table[training, 1:30])",
  "fit <- glmnet::glmnet(x, table$y[training], lambda = penalties, standardize = FALSE)"
))
package <- peak_of(c(
  "job <- brief(table, 'y')",
  paste(
    "cmp <- run_comparison(job, candidates(p = pipeline(fam_penalised(penalty =",
    "among(penalties)))), splits = split_kfold(5), metrics = 'rmse',"
  ),
  "                      seed = 1, quiet = TRUE, workers = 1)"
))
matrix_size <- 800000 * 30 * 8 / 2^20
more <- (package$megabytes - bare$megabytes) / matrix_size
cat(sprintf(
  paste(
    "1,000,000 x 30, penalised, 5 folds: peak %.0f MB, a bare call on one fold %.0f MB: %.1f",
    "training matrices more (wanted: at most 1)\n\n"
  ),
  package$megabytes,
  bare$megabytes,
  more
))
keep_row(
  "1,000,000 x 30, penalised, 5 folds: peak memory beyond a bare call on one fold",
  "one process",
  sprintf("%.1f training matrices", more),
  "<= 1",
  more <= 1
)
