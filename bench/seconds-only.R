# What before.R appends to bench/common.R: of every work the package's seconds alone are taken, one
# line for each, in one process and with two workers.
time_package <- function(plan, floor = NULL, enough = 60) {
  mirai::daemons(2, .compute = "kilnwright")
  on.exit(mirai::daemons(0, .compute = "kilnwright"))
  works <- list(
    one = function() run_comparison(plan, quiet = TRUE, workers = 1),
    two = function() run_comparison(plan, quiet = TRUE)
  )
  for (work in works) work()
  took <- apply(seconds_in_turn(works, enough / 4), 2L, median)
  cat(took, "\n", file = Sys.getenv("BENCH_SECONDS"), append = TRUE)
  as.list(took)
}
time_loop <- function(...) NULL
report <- function(...) NULL
