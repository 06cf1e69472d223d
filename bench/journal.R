# What a journal costs: the same comparison with and without one, in turn, five times.

source("bench/common.R")

job <- brief(demo_pots(), "cracked", event = "yes", id = "pot_id", group = "firing_id", ignore = c("grade", "shrinkage_pct"))
plan <- plan_comparison(job, candidates(
  tree = fam_tree(complexity = from_to(1e-4, 0.1, spacing = "log", points = 50), impurity = among("gini", "information")),
  penalised = fam_penalised(penalty = from_to(1e-4, 1, spacing = "log", points = 30), lasso_share = among(0, 0.5, 1)),
  forest = fam_forest(trees = 100, min_leaf = among(2, 5, 10))
), splits = split_kfold(10), seed = 1)

run <- function(journal) seconds_of(run_comparison(plan, quiet = TRUE, workers = 1, journal = journal))$seconds
invisible(run(NULL))
seconds <- vapply(1:5, function(i) {
  file <- tempfile(fileext = ".sqlite")
  on.exit(unlink(file))
  c(without = run(NULL), with = run(file))
}, numeric(2))
more <- 100 * (stats::median(seconds["with", ] / seconds["without", ]) - 1)
cat(sprintf("journal: %.2f s without, %.2f s with (medians of five); %+.1f %% (wanted: at most 3 %%)\n\n", stats::median(seconds["without", ]),
            stats::median(seconds["with", ]), more))
keep_row("journal on / off, 193 settings x 10 folds", "one process", sprintf("%+.1f %%", more), "<= 3 % slower", more <= 3)
