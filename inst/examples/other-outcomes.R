# Outcomes beyond yes or no: classes in an order, a number on a log scale, counts with an exposure,
# the limits of a number, rows that weigh more than others.
# Run it with: Rscript inst/examples/other-outcomes.R

library(kilnwright)

pots <- demo_pots()
codes <- list(glaze = "n/r", drying_days = -999)

# 1. Grades: first is better than second, and second better than waste. Being off by two is worse
# than being off by one, and that is what decides.
graded <- brief(pots,
  outcome = "grade", ordered = list(grade = c("waste", "second", "first")),
  id = "pot_id", group = "firing_id", ignore = c("cracked", "shrinkage_pct", "notes"),
  missing_codes = codes
)
print(graded)
ready <- list(pre_missing(), pre_dates(), pre_rare_levels(20), pre_onehot(drop_one = TRUE))
grades <- run_comparison(graded,
  candidates(
    baseline = fam_baseline(),
    cumulative = pipeline(ready, pre_drop_correlated(), fam_cumulative()),
    penalised = pipeline(ready, pre_scale(), fam_penalised(penalty = sensible())),
    forest = pipeline(pre_missing(), pre_dates(), fam_forest(trees = 100))
  ),
  splits = split_kfold(5), seed = 3, quiet = TRUE
)
print(grades)

# 2. Shrinkage in percent, learned as it is or as its logarithm; scored in percent either way.
shrunk <- brief(pots,
  outcome = "shrinkage_pct", outcome_scale = c("none", "log"), id = "pot_id",
  group = "firing_id", ignore = c("cracked", "grade", "notes"), missing_codes = codes
)
scales <- run_comparison(shrunk,
  candidates(penalised = pipeline(ready, pre_scale(), fam_penalised(penalty = sensible()))),
  splits = split_kfold(5), metrics = c("rmse", "mae"), seed = 3, quiet = TRUE
)
print(head(standings(scales, level = "candidates")))

# 3. How many pots of a firing crack: a row a firing, and as exposure the pots in it.
of_firing <- split(pots, pots$firing_id)
firings <- data.frame(
  kiln = vapply(of_firing, function(x) x$kiln[1], ""),
  peak_c = vapply(of_firing, function(x) mean(x$peak_c), 1),
  ramp_c_per_h = vapply(of_firing, function(x) mean(x$ramp_c_per_h), 1),
  wall_mm = vapply(of_firing, function(x) mean(x$wall_mm), 1),
  pots = vapply(of_firing, nrow, 1L),
  cracked = vapply(of_firing, function(x) sum(x$cracked == "yes"), 1L)
)
counted <- brief(firings, outcome = "cracked", outcome_kind = "count", exposure = "pots")
print(counted)
counts <- run_comparison(counted,
  candidates(
    baseline = fam_baseline(), linear = fam_linear(),
    penalised = fam_penalised(penalty = sensible()), tree = fam_tree(pruning = sensible())
  ),
  splits = split_kfold(5, repeats = 4), seed = 3, quiet = TRUE
)
print(counts)
model <- fit_final(select_final(counts))
# cracked pots in a hundred
print(100 * predict(model, firings[1:3, ])$value)

# 4. Within which limits will the shrinkage lie, nine times in ten?
ranged <- brief(pots,
  outcome = "shrinkage_pct", quantiles = c(0.05, 0.5, 0.95), id = "pot_id", group = "firing_id",
  ignore = c("cracked", "grade", "notes"), missing_codes = codes
)
ranges <- run_comparison(ranged,
  candidates(
    baseline = fam_baseline(),
    forest = pipeline(pre_missing(), pre_dates(), fam_forest(trees = 100, min_node = 20))
  ),
  splits = split_kfold(5), metrics = c("mean_pinball", "coverage_gap", "interval_width"), seed = 3,
  quiet = TRUE
)
print(ranges)
print(predict(fit_final(select_final(ranges)), pots[1:3, ]))

# 5. The newest firings say more of the next one: their rows weigh twice.
pots$weight <- ifelse(pots$fired_on > stats::median(pots$fired_on), 2, 1)
weighed <- brief(pots,
  outcome = "cracked", event = "yes", weight = "weight", id = "pot_id", group = "firing_id",
  ignore = c("shrinkage_pct", "grade", "notes"), missing_codes = codes
)
print(run_comparison(weighed,
  candidates(
    baseline = fam_baseline(),
    penalised = pipeline(ready, pre_scale(), fam_penalised(penalty = sensible()))
  ),
  splits = split_kfold(5), seed = 3, quiet = TRUE
))
