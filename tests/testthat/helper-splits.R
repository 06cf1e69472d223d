# Who is where in a plan's splits.

places <- function(job, splitter, seed = 1) {
  rows_by_split(plan_comparison(
    job,
    candidates(b = fam_baseline()),
    splits = splitter,
    metrics = if (job$kind == "number") "mae" else "log_loss",
    seed = seed
  ))
}
