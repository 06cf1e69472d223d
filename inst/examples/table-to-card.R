# From the firing ledger to a model that can be handed over: compare, read, refine, choose,
# judge, explain, keep. Runs in about a minute; writes into a temporary folder.

library(kilnwright)

folder <- file.path(tempdir(), "cracked-pots")
dir.create(folder, showWarnings = FALSE)

job <- brief(demo_pots(),
  outcome = "cracked", event = "yes", id = "pot_id", group = "firing_id",
  ignore = c("shrinkage_pct", "grade", "notes", "fired_on"),
  missing_codes = list(glaze = "n/r", drying_days = -999)
) |>
  set_aside(share = 0.2, seed = 7)

ready <- list(pre_missing(), pre_rare_levels(at_least = 20), pre_onehot())
rivals <- candidates(
  baseline = fam_baseline(),
  penalised = pipeline(
    ready,
    pre_scale(),
    fam_penalised(penalty = from_to(1e-4, 1, "log", 15), lasso_share = among(0, 1))
  ),
  tree = pipeline(
    pre_missing(), fam_tree(pruning = from_to(1e-4, 0.1, "log", 15), min_leaf = among(5, 20))
  )
)
plan <- plan_comparison(
  job, rivals,
  splits = split_kfold(10), metrics = c("auc", "log_loss"), seed = 41
)
preview(plan)
cmp <- run_comparison(plan, keep = c("training_scores", "all_predictions"), quiet = TRUE)

# who leads, who is as good, what is odd
print(cmp)
summary(cmp)
shortlist(cmp)
compare_pairs(cmp)
diagnose(cmp)

# another candidate on the same splits, then more finely around the best
cmp <- extend_comparison(
  cmp,
  candidates(forest = pipeline(ready, fam_forest(trees = 100, min_node = among(2, 10)))),
  quiet = TRUE
)
cmp <- extend_comparison(cmp, refine_ranges(cmp, "penalised"), quiet = TRUE)
standings(cmp, level = "candidates")

# the choice, its reason, and what the best of many is really worth
choice <- select_final(cmp, rule = "one_se")
print(choice)
explain_choice(choice)
nested <- assess_selection(plan, outer = split_kfold(3), quiet = TRUE)
optimism(cmp, nested = nested)

# refit, open the set-aside rows once, explain
model <- fit_final(choice)
score_set_aside(model)
column_importance(choice, times = 3, most_splits = 5)
learning_curve(choice, shares = c(0.3, 0.6, 1), most_splits = 5)
largest_errors(choice, top = 5)

# keep and hand over
save_model(model, file.path(folder, "cracked.kilnwright"))
write_predictions(model, demo_pots()[1:20, ], file.path(folder, "predicted.csv"))
write_script(model, file.path(folder, "final.R"), data = "pots.csv")
write_report(model, file.path(folder, "report.html"))
write_card(model, file.path(folder, "card.md"))
writeLines(readLines(file.path(folder, "card.md"), n = 12))
cat("\nEverything is in", folder, "\n")
