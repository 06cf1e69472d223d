# How many threads a package predicts in: one, while other processes of ours work beside this one;
# as many as there are cores where it has the machine for itself. What it predicts is the same.
threads <- new.env(parent = emptyenv())
threads$number <- 1L

with_all_cores <- function(expr) {
  before <- threads$number
  on.exit(threads$number <- before)
  threads$number <- usual_cores()
  expr
}

prediction_threads <- function() threads$number

usual_cores <- function() {
  cores <- getOption("mc.cores") %||% parallel::detectCores()
  if (nzchar(Sys.getenv("_R_CHECK_LIMIT_CORES_"))) cores <- min(cores, 2L)
  as.integer(max(1L, cores, na.rm = TRUE))
}
