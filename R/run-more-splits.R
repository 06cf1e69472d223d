# More repeats of a plan's splits, of which the first ones are those that there are.

# list(plan, at): the plan with them, and which of its splits each of the earlier ones is. All
# settings are to be scored on them unless `everywhere` says that only the earlier splits are.
with_more_splits <- function(plan, more, earlier_only = FALSE) {
  by <- plan$splitter$more_by
  refuse <- function(problem, remedy) stop_kw("splits", problem, remedy = remedy)
  if (is.null(by)) {
    refuse(
      paste0("These splits (", plan$splitter$label, ") cannot be repeated."),
      "Use split_kfold(), split_holdout() or split_bootstrap()."
    )
  }
  if (plan$pooled) {
    refuse(
      "Here predictions of all splits are scored together, so that more repeats say nothing more.",
      "Use larger validation parts."
    )
  }
  arguments <- plan$splitter$arguments
  arguments[[by]] <- arguments[[by]] + more
  splitter <- do.call(known_makers("split_", shipped_members)[[plan$splitter$name]], arguments)
  splits <- make_splits(splitter, plan$brief, plan$seed)
  if (repeats_alike(splits)) {
    refuse(
      "Every repeat holds out the same parts here, so that more of them say nothing more.",
      "Use fewer folds, so that there are several ways to deal rows or groups into them."
    )
  }
  # the bootstrap's apparent split stays the last one
  apparent <- is_apparent(plan$splits)
  at <- ifelse(apparent, length(splits), seq_along(plan$splits))
  keys <- function(splits) vapply(splits, `[[`, "", "key")
  stopifnot("more repeats changed the first splits" = keys(splits)[at] == keys(plan$splits))
  known <- at[splits_of_all(plan)]
  plan$splitter <- splitter
  plan$splits <- splits
  plan$undefined <- undefined_splits(plan$metrics, plan$brief, splits, FALSE)
  plan["everywhere"] <- list(if (earlier_only) sort(known))
  list(plan = plan, at = at)
}

# A comparison as one of a plan with more splits.
on_more_splits <- function(cmp, wider) {
  cmp$ledger <- renumbered_splits(cmp$ledger, wider$at)
  cmp$plan <- wider$plan
  cmp
}

# What was kept of every fit, as run_comparison(keep = ) names it.
kept_of <- function(cmp) {
  keep <- c(
    if (!is.null(cmp$results$training)) "training_scores",
    if (length(cmp$results$predictions) > 0L && !has_pooled_scores(cmp)) "all_predictions"
  )
  keep %||% "none"
}

# Fits of settings that neither a screen nor a search has dropped.
lasting_fits <- function(results, work) {
  setdiff(seq_along(work$fits$node), work$settings$fit[results$dropped$at])
}
