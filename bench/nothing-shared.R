# 40 fits with nothing to share: what two workers that are already up gain over one
# process.

source("bench/common.R")

table <- made_up_table(2000, 12)[c(paste0("x", 1:12), "number")]
job <- brief(table, "number")
one <- function(name, family) {
  plan <- plan_comparison(
    job,
    candidates(a = pipeline(pre_scale(), family)),
    splits = split_kfold(5),
    metrics = "rmse",
    seed = 1
  )
  package <- time_package(plan, function() run_comparison(plan, quiet = TRUE, workers = 1))
  gain <- package$one / package$two
  strangers <- 2 * package$floor / package$floor_of_two
  cat(sprintf(
    paste(
      "40 fits with nothing to share, %s: one process %.2f s, two workers %.2f s: %.2f times",
      "as fast (wanted: 1.85); two processes that know nothing of one another: %.2f times\n\n"
    ),
    name,
    package$one,
    package$two,
    gain,
    strangers
  ))
  keep_row(
    paste("40 fits with nothing to share,", name), "two workers",
    sprintf(
      "%.2f x one process (two processes with no common work: %.2f x), %.2f of the floor",
      gain,
      strangers,
      package$over[2]
    ),
    ">= 1.85 x one process, floor 1.15", gain >= 1.85, package$over[2] <= 1.15
  )
}

one("support vectors", fam_support_vectors(cost = among(0.25, 0.5, 1, 2, 4, 8, 16, 32)))
if (requireNamespace("ANN2", quietly = TRUE)) {
  one("neural nets", fam_neural(epochs = among(30, 31, 32, 33, 34, 35, 36, 37)))
}
