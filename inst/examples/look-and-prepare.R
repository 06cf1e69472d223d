# From a raw table to prepared rows: findings, remedies, pictures, steps.
# Run it with: Rscript inst/examples/look-and-prepare.R

library(kilnwright)

# The ledger as it comes: nothing declared but the outcome. The other two outcomes
# are known only after the firing, so they are left out.
job <- brief(demo_pots(), outcome = "cracked", event = "yes", ignore = c("shrinkage_pct", "grade"))

# What would bite, and what to do about it.
findings <- inspect_data(job)
print(findings)

# All remedies at once: id, group, twin column and missing codes go into the brief,
# the rest becomes a list of steps to begin a pipeline with.
mended <- apply_remedies(job, findings)
print(mended$brief)

# Seal the rows that nothing may touch, now that the group is declared, and see
# whether they look like the others.
job <- set_aside(mended$brief, share = 0.2, seed = 7)
print(head(compare_set_aside(job), 3))

# Pictures.
folder <- file.path(tempdir(), "pictures")
dir.create(folder, showWarnings = FALSE)
figures <- list(
  columns = draw_columns(job), missing = draw_missing(job),
  correlation = draw_correlation(job), outcome = draw_outcome(job)
)
for (name in names(figures)) {
  ggplot2::ggsave(
    file.path(folder, paste0(name, ".png")),
    figures[[name]],
    width = 11.6,
    height = 7.3,
    dpi = 110,
    bg = "white"
  )
}
cat("Pictures are in", folder, "\n")

# What each step does to the rows.
print(show_prepared(mended$steps, job))

# Preparation choices are searched like any hyperparameter.
rivals <- candidates(
  baseline = fam_baseline(),
  without_notes = pipeline(
    pre_missing(),
    pre_dates(),
    pre_rare_levels(20),
    pre_onehot(),
    pre_scale(),
    fam_penalised(penalty = from_to(0.001, 0.1, "log", 12), lasso_share = 1)
  ),
  with_notes = pipeline(
    pre_missing(), pre_dates(), pre_rare_levels(20),
    pre_text(
      phrases = among(list(1, 1:2)), in_at_least = 10, top = among(20, 80)
    ),
    optional(pre_derive(damp = humidity_pct / pmax(drying_days, 1))),
    pre_onehot(), pre_scale(),
    fam_penalised(penalty = from_to(0.001, 0.1, "log", 12), lasso_share = 1)
  )
)
cmp <- run_comparison(
  job, rivals,
  splits = split_kfold(5), metrics = c("auc", "log_loss"), seed = 41, quiet = TRUE
)
print(cmp)
