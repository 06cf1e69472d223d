# More metrics of what was fitted already. None of them decides.

with_more_metrics <- function(plan, metrics) {
  found <- find_metrics(metrics, plan$brief$kind)
  plan$metrics <- c(plan$metrics, found[setdiff(names(found), names(plan$metrics))])
  if (plan$pooled) check_poolable(plan$metrics, plan$brief, plan$splits)
  if (!is.null(plan$splitter$summary)) check_row_wise(plan$metrics, plan$splitter)
  plan$undefined <- undefined_splits(plan$metrics, plan$brief, plan$splits, plan$pooled)
  plan
}

# A comparison under a plan with more metrics: list(cmp, again). Predictions that were kept are
# scored once more; else `again` holds the pairs of fit and split that must be fitted again.
on_more_metrics <- function(cmp, plan) {
  work <- work_of(cmp)
  ledger <- cmp$ledger
  more <- setdiff(names(plan$metrics), names(metrics_of(cmp)))
  cmp$plan <- plan
  whole <- ledger$share == 1
  lacking <- vapply(seq_along(ledger$fit), function(at) is.null(ledger$predictions[[at]]), NA)
  scored_once <- is.null(ledger$training) && is.null(ledger$no_information)
  if (scored_once && !any(lacking & whole & is.na(ledger$message))) {
    cmp$ledger <- rescored(with_metric_columns(ledger, plan$metrics), more, work, plan)
    return(list(cmp = cmp, again = NULL))
  }
  gone <- which(whole & ledger$fit %in% lasting_fits(cmp$results, work))
  again <- data.frame(fit = ledger$fit[gone], split = ledger$split[gone])
  cmp$ledger <- with_metric_columns(without_entries(ledger, gone, work), plan$metrics)
  list(cmp = cmp, again = again)
}

with_metric_columns <- function(ledger, metrics) {
  for (part in c("validation", "training", "no_information")) {
    old <- ledger[[part]]
    if (is.null(old)) next
    ledger[[part]] <- blank_scores(nrow(old), metrics)
    ledger[[part]][, colnames(old)] <- old
  }
  ledger
}

# Scores by the metrics named `more`, from the predictions.
rescored <- function(ledger, more, work, plan) {
  count <- work$fits$count[ledger$fit]
  before <- cumsum(c(0L, count))
  metrics <- forgiving_metrics(plan)[more]
  data <- working_data(plan$brief)
  for (split in unique(ledger$split[ledger$share == 1])) {
    target <- target_rows(data$target, plan$splits[[split]]$validation)
    mine <- which(ledger$split == split & ledger$share == 1)
    for (metric in metrics) {
      if (!is.null(metric$undefined(truth_of(target), target$weights))) next
      for (at in mine[is.na(ledger$message[mine])]) {
        rows <- before[at] + seq_len(count[at])
        ledger$validation[rows, metric$name] <- score_predictions(
          metric, truth_of(target), ledger$predictions[[at]], target$weights
        )
      }
    }
    reasons <- reasons_for_na(take_entries(ledger, mine, work$fits$count), count[mine], list(
      data = data, splits = plan$splits, split = split, metrics = metrics
    ))
    ledger$why_na <- c(ledger$why_na, lapply(reasons, function(one) {
      one$at <- mine[one$at]
      one
    }))
  }
  ledger
}

# Fits on the splits where they were before.
fits_again <- function(again, plan, run, crew) {
  splits <- split(again$split, again$fit)
  key <- vapply(splits, function(s) paste(sort(s), collapse = " "), "")
  for (one in unique(key)) {
    same <- which(key == one)
    stage <- list(fits = as.integer(names(splits)[same]), splits = splits[[same[1]]], share = 1)
    stopped <- run_stage(plan, run, stage, crew)
    if (!is.null(stopped)) return(stopped)
  }
}
