# What screen_rows() costs and what it chooses: 200 settings, 10 folds x 3, with and without it.
# Wanted: at most 20 % of the model seconds (fits and predictions), and a chosen setting whose
# score, as the full run knows it, is within one standard error of the best one's.

source("bench/fields.R")

given <- commandArgs(TRUE)
chosen <- if (length(given) > 0L) given else c("additive", "thresholds", "noise", "levels")
model_seconds <- function(cmp) sum(cmp$results$spent[c("fits", "predictions")])

for (name in chosen) {
  plan <- function(screen) {
    field_plan(name, 10, 3, search = search_random(50), screen = screen)
  }
  full <- run_comparison(plan(NULL), quiet = TRUE, workers = 1)
  part <- run_comparison(plan(screen_rows()), quiet = TRUE, workers = 1)
  known <- standings(full)
  best <- known[1, ]
  mine <- standings(part)[1, ]
  same <- known[known$candidate == mine$candidate & known$setting == mine$setting, ]
  cat(sprintf(
    "%-11s %.0f %% of the model seconds; the chosen setting is number %d of %d, %.2f se behind\n",
    name, 100 * model_seconds(part) / model_seconds(full), same$place, nrow(known),
    abs(best$mean - same$mean) / best$se
  ))
}
