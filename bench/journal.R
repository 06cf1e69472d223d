# What a journal costs: the same comparison with and without one, in turn, fifteen times.

source("bench/common.R")

job <- brief(demo_pots(), "cracked", event = "yes", id = "pot_id", group = "firing_id", ignore = c("grade", "shrinkage_pct"))
plan <- plan_comparison(job, candidates(
  tree = fam_tree(complexity = from_to(1e-4, 0.1, spacing = "log", points = 50), impurity = among("gini", "information")),
  penalised = fam_penalised(penalty = from_to(1e-4, 1, spacing = "log", points = 30), lasso_share = among(0, 0.5, 1)),
  forest = fam_forest(trees = 100, min_leaf = among(2, 5, 10))
), splits = split_kfold(10), seed = 1)

# processor seconds of this process, which other programs disturb least
run <- function(journal) {
  gc(FALSE)
  before <- proc.time()
  invisible(run_comparison(plan, quiet = TRUE, workers = 1, journal = journal))
  sum((proc.time() - before)[1:2])
}
with_journal <- function() {
  file <- tempfile(fileext = ".sqlite")
  on.exit(unlink(file))
  run(file)
}
invisible(c(run(NULL), with_journal()))
seconds <- vapply(1:15, function(i) if (i %% 2 == 0) c(run(NULL), with_journal()) else rev(c(with_journal(), run(NULL))), numeric(2))
more <- 100 * (min(seconds[2, ]) / min(seconds[1, ]) - 1)
cat(sprintf("journal: %.2f processor seconds without, %.2f with (least of fifteen); %+.1f %% (wanted: at most 3 %%)\n\n", min(seconds[1, ]), min(seconds[2, ]), more))
keep_row("journal on / off, 193 settings x 10 folds", "one process", sprintf("%+.1f %%", more), "<= 3 % slower", more <= 3)
