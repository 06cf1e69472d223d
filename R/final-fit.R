#' Refit the chosen setting on all working rows
#'
#' Learns the steps and fits the family once more, now on every working row. A
#' path is fitted with the same values as in the comparison.
#'
#' @param choice A choice from [select_final()].
#' @param intervals Should the model also give intervals of single predictions, or sets of classes,
#'   as `predict(type = "interval")`? It then keeps a fit of every fold (of the comparison's first
#'   repeat, if they are no more than twenty, else of ten folds): so many fits more, and a file so
#'   many times as large.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A `kw_model` for [predict()][predict.kw_model], [score_set_aside()] and
#'   [save_model()].
#' @section Errors:
#' `kw_error_fit` when a fit fails, with its message (a `kw_warning_fit` where steps or family
#' warn); `kw_error_argument` where there are no intervals: rows in time, rates with an exposure,
#' quantiles.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline(), tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1, quiet = TRUE
#' )
#' model <- fit_final(select_final(cmp))
#' predict(model, demo_pots()[1:3, ])
#' @export
fit_final <- function(choice, intervals = FALSE, ...) {
  no_more(...)
  check_class(choice, "kw_choice", "choice", "Make one with select_final().")
  check_flag(intervals, "intervals")
  if (intervals) refuse_intervals(brief_of(choice$cmp))
  plan <- choice$cmp$plan
  brief <- plan$brief
  work <- work_of(choice$cmp)
  data <- working_data(brief)
  made <- with_conditions(without_rng_trace(with_all_cores(refit_setting(
    work, choice$at, data, plan$seed, paste(brief$fingerprint, "all working rows")
  ))))
  if (!is.null(made$error)) stop_kw("fit", "The final fit failed.", where = made$error)
  for (text in unique(made$warnings)) {
    warn_kw("fit", paste0("The final fit was made, with a warning: ", plain_text(text)))
  }
  refitted <- made$value
  frozen <- frozen_fit(refitted)
  training <- with_threshold(refitted, choice$threshold$value, plan$metrics)
  # what the model comes from; not saved with it
  origin <- new.env(parent = emptyenv())
  origin$choice <- choice
  new_record("kw_model",
    brief = brief, schema = brief$schema, missing_codes = brief$missing_codes,
    outcome = brief$outcome, outcome_form = brief$declared$numbers[[brief$outcome]],
    id = brief$roles$id,
    kind = brief$kind, levels = brief$levels, event = brief$event,
    exposure = brief$roles$exposure, quantiles = brief$quantiles, costs = brief$costs,
    steps = frozen$steps, family = frozen$family, value = frozen$value,
    folds = if (intervals) folds_for_intervals(choice), metrics = plan$metrics,
    threshold = choice$threshold$value,
    scores = final_scores(choice, training), facts = model_facts(choice),
    reference = reference_of(choice, brief$schema), origin = origin
  )
}

# Training scores of a refitted setting; metrics of classes see the threshold.
with_threshold <- function(refitted, threshold, metrics) {
  prediction <- predict_family(refitted$fitted, refitted$input, refitted$value)
  score_with_threshold(
    metrics, truth_of(refitted$target), prediction, refitted$target$weights, threshold
  )
}

# Training scores of the final model beside the comparison's validation scores.
final_scores <- function(choice, training) {
  cmp <- choice$cmp
  metrics <- names(metrics_of(cmp))
  found <- do.call(rbind, lapply(metrics, function(metric) {
    moved <- choice$threshold$scores
    if (metric %in% rownames(moved)) return(moved[metric, ])
    summary <- score_summary(cmp, metric)
    c(mean = summary$mean[choice$at], sd = summary$sd[choice$at], se = summary$se[choice$at])
  }))
  tibble::tibble(
    metric = metrics, training = unname(training[metrics]),
    validation = unname(found[, 1]),
    validation_sd = unname(found[, 2]), validation_se = unname(found[, 3])
  )
}

# Number of settings that were looked at, whatever was blended of them.
settings_fitted <- function(cmp) {
  fitted <- !vapply(spaces_of(cmp), is_blend, NA)[cmp$results$candidate]
  sum(looked_at(cmp, fitted)[c("full", "part")])
}

# What the model's file and print say about where it comes from; plain values.
model_facts <- function(choice) {
  cmp <- choice$cmp
  plan <- cmp$plan
  c(record_of_plan(plan_without_blends(plan)), list(
    candidate = candidate_names(cmp)[choice$at], setting = setting_label(cmp, choice$at),
    family = plan$spaces[[cmp$results$candidate[choice$at]]]$pipeline$family$definition$name,
    rule = choice$rule, margin = choice$margin, among = choice$among, reason = choice$reason,
    worth = honest_text(choice),
    deciding_metric = choice$metric,
    settings_compared = settings_fitted(cmp), stopped = cmp$stopped,
    splits = plan$splitter$label,
    seed = plan$seed, working_rows = nrow(plan$brief$table),
    set_aside_rows = if (is.null(plan$brief$sealed)) 0L else plan$brief$sealed$n,
    rows_without_outcome = plan$brief$n_without_outcome,
    other_columns = unique(unlist(plan$brief$roles, use.names = FALSE)),
    data_fingerprint = plan$brief$fingerprint,
    seal_fingerprint = plan$brief$sealed$fingerprint, versions = cmp$versions
  ))
}
