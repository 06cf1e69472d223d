# What a journal costs: the same comparison with and without one, in turn, fifteen times, and
# what its own functions take, which other programs on the machine disturb less.

source("bench/common.R")

job <- brief(
  demo_pots(),
  "cracked",
  event = "yes",
  id = "pot_id",
  group = "firing_id",
  ignore = c("grade", "shrinkage_pct")
)
plan <- plan_comparison(job, candidates(
  tree = fam_tree(
    pruning = from_to(1e-4, 0.1, spacing = "log", points = 50),
    impurity = among("gini", "information")
  ),
  penalised = fam_penalised(
    penalty = from_to(1e-4, 1, spacing = "log", points = 30), lasso_share = among(0, 0.5, 1)
  ),
  forest = fam_forest(trees = 100, min_node = among(2, 5, 10))
), splits = split_kfold(10), seed = 1)

# A journal whose functions are timed: seconds() tells what they took so far.
timed_journal <- function(file) {
  spent <- 0
  timed <- function(work) {
    force(work)
    function(...) {
      started <- proc.time()[["elapsed"]]
      on.exit(spent <<- spent + proc.time()[["elapsed"]] - started)
      work(...)
    }
  }
  journal <- timed(kilnwright:::open_journal)(file, plan)
  for (name in names(Filter(is.function, journal))) journal[[name]] <- timed(journal[[name]])
  c(journal, seconds = function() spent)
}

run <- function(journal = NULL) {
  seconds_of({
    kilnwright:::execute_plan(plan, journal = journal)
    if (!is.null(journal)) journal$close()
  })$seconds
}
one_pair <- function(i) {
  file <- tempfile(fileext = ".sqlite")
  on.exit(unlink(file))
  without <- if (i %% 2 == 0) run()
  journal <- timed_journal(file)
  with <- run(journal)
  if (is.null(without)) without <- run()
  c(without = without, with = with, journal = journal$seconds())
}
invisible(run())
seconds <- vapply(1:15, one_pair, numeric(3))
more <- 100 * (median(seconds["with", ] / seconds["without", ]) - 1)
own <- 100 * median(seconds["journal", ] / (seconds["with", ] - seconds["journal", ]))
cat(sprintf(
  paste(
    "journal: %.2f s without, %.2f s with: %+.1f %% (medians of fifteen); its own functions",
    "take %.2f s, %.1f %% of the rest (wanted: at most 3 %%)\n\n"
  ),
  median(seconds["without", ]),
  median(seconds["with", ]),
  more,
  median(seconds["journal", ]),
  own
))
keep_row(
  "journal on / off, 193 settings x 10 folds", "one process",
  sprintf(
    "%.1f %% of the run are the journal's own functions (runs with and without: %+.1f %%)",
    own,
    more
  ), "<= 3 % slower", own <= 3
)
