# How many threads a package has: one in a run, since other processes of ours may work beside this
# one; as many as there are cores where it has the machine for itself. Only packages that fit and
# predict the same in any number of threads ask for it.
threads <- new.env(parent = emptyenv())
threads$number <- 1L

with_all_cores <- function(expr) {
  before <- threads$number
  on.exit(threads$number <- before)
  threads$number <- usual_cores()
  expr
}

threads_here <- function() threads$number

usual_cores <- function() {
  cores <- getOption("mc.cores") %||% parallel::detectCores()
  if (nzchar(Sys.getenv("_R_CHECK_LIMIT_CORES_"))) cores <- min(cores, 2L)
  as.integer(max(1L, cores, na.rm = TRUE))
}
