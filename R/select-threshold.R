#' Move the decision threshold of a choice
#'
#' By default the event is called where its probability is above 0.5. This finds the
#' threshold with the best score, or the lowest expected cost. So that the score is not had
#' on the rows that the threshold was chosen on, the score of each split uses a threshold
#' chosen on the held-out predictions of the other splits of its repeat (of all other draws,
#' for draws), without the rows and groups that this split holds out itself; the threshold
#' that the final model gets uses all of them.
#'
#' @param choice A choice from [select_final()], of a two-class outcome.
#' @param best Name of the metric to be best, e.g. `"f1"`; one that looks at the called
#'   class. `"case_cost"` goes by the costs of each row that [brief()] names.
#' @param costs `c(missed = , false_alarm = )`: the costs of the two mistakes.
#' @param provided Constraints such as `"recall >= 0.8"`, met by the threshold on the
#'   predictions that it is chosen on.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return The choice with its threshold, for [fit_final()]. Printing it says the
#'   threshold and its score.
#' @section Errors:
#' `kw_error_select` when the outcome has not two classes, the metric does not depend on
#' the threshold, or no threshold meets the constraints.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "cracked", event = "yes", id = "pot_id", group = "firing_id",
#'   ignore = c("shrinkage_pct", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1,
#'   quiet = TRUE
#' )
#' set_threshold(select_final(cmp), costs = c(missed = 10, false_alarm = 1))
#' @export
set_threshold <- function(choice, best = NULL, costs = NULL, provided = NULL, ...) {
  no_more(...)
  check_class(choice, "kw_choice", "choice", "Make one with select_final().")
  plan <- choice$cmp$plan
  if (!has_event(plan$brief$kind)) {
    stop_kw("select", "A decision threshold is for two classes.")
  }
  metric <- threshold_metric(best, costs)
  provided <- lapply(provided, read_constraint)
  limits <- lapply(provided, function(constraint) find_metric(constraint$metric, "two_class"))
  parts <- held_out_parts_of(choice)
  nested <- lapply(seq_along(parts), function(j) {
    others <- parts_for_threshold(parts, j)
    if (length(others) == 0L) return(NA_real_)
    best_threshold(bind_parts(others), metric, provided, limits)$threshold
  })
  chosen <- best_threshold(bind_parts(parts), metric, provided, limits)
  metrics <- c(
    stats::setNames(list(metric), metric$name),
    Filter(function(m) m$by_class, plan$metrics)
  )
  scores <- nested_scores(choice, parts, unlist(nested), metrics[!duplicated(names(metrics))])
  choice$threshold <- list(
    value = chosen$threshold, metric = metric$name, label = metric$label,
    unit = metric$unit, scores = scores,
    by_split = unlist(nested),
    curve = chosen$curve,
    reason = threshold_reason(
      chosen, metric, scores, provided, plan$brief$event
    )
  )
  choice
}

threshold_metric <- function(best, costs) {
  if (is.null(best) == is.null(costs)) {
    stop_kw(
      "argument",
      "Give either `best`, a metric, or `costs`.",
      remedy = "For instance best = \"f1\"."
    )
  }
  if (!is.null(costs)) {
    fine <- is.numeric(costs) && setequal(names(costs), c("missed", "false_alarm"))
    check_argument(fine, "costs", "c(missed = , false_alarm = )", costs)
    return(metric_cost(costs[["missed"]], costs[["false_alarm"]]))
  }
  metric <- if (inherits(best, "kw_metric")) best else find_metric(best, "two_class")
  if (!metric$by_class) {
    stop_kw(
      "select",
      paste0("The metric ", quoted(metric$name), " does not depend on a threshold."),
      remedy = paste(
        "Use one that looks at the called class, e.g. \"f1\", \"balanced_accuracy\"",
        "or costs."
      )
    )
  }
  metric
}

# Held-out predictions of the choice, one element a split; `unit` is the row, or the group.
held_out_parts_of <- function(choice) {
  plan <- choice$cmp$plan
  predictions <- setting_predictions(choice$cmp, choice$at)
  unit <- inner_unit(brief_target(plan$brief))
  Map(function(split, prediction) {
    target <- brief_target(plan$brief, split$validation)
    list(
      rep = split$rep, truth = truth_of(target), weights = target$weights,
      event = prediction[, 2], unit = unit[split$validation]
    )
  }, plan$splits[!is_apparent(plan$splits)], predictions)
}

# The held-out predictions that the threshold of part j may be chosen on: those of the
# other parts of its repeat (of all other draws, where a repeat has one part), without the
# rows and groups that part j itself holds out.
parts_for_threshold <- function(parts, j) {
  kept <- lapply(parts[parts_beside(parts, j)], function(part) {
    rows_of_part(part, !part$unit %in% parts[[j]]$unit)
  })
  Filter(function(part) length(part$event) > 0L, kept)
}

parts_beside <- function(parts, j) {
  others <- vapply(parts, function(part) part$rep == parts[[j]]$rep, logical(1))
  if (sum(others) < 2L) others[] <- TRUE
  others[j] <- FALSE
  others
}

rows_of_part <- function(part, keep) {
  list(
    rep = part$rep, truth = part$truth[keep], weights = part$weights[keep],
    event = part$event[keep], unit = part$unit[keep]
  )
}

bind_parts <- function(parts) {
  truth <- factor(
    unlist(lapply(parts, function(part) as.character(part$truth))),
    levels = levels(parts[[1]]$truth)
  )
  costs <- do.call(rbind, lapply(parts, function(part) attr(part$truth, "costs")))
  list(
    truth = truth_of(new_target(truth, costs = costs)),
    weights = unlist(lapply(parts, `[[`, "weights")),
    event = unlist(lapply(parts, `[[`, "event"))
  )
}

# Thresholds tried lie midway between neighbouring probabilities, at most 400 of them;
# of several equally good ones in a row the middle one is taken.
best_threshold <- function(part, metric, provided, limits) {
  known <- sort(unique(part$event))
  if (length(known) > 400L) {
    known <- unique(stats::quantile(known, seq(0, 1, length.out = 400L), names = FALSE, type = 1))
  }
  between <- if (length(known) > 1L) (known[-1] + known[-length(known)]) / 2
  thresholds <- c(known[1] / 2, between, (known[length(known)] + 1) / 2)
  calls <- calls_at_many(part$event, thresholds)
  scores <- metric$score(part$truth, calls, part$weights)
  allowed <- !is.na(scores)
  for (i in seq_along(provided)) {
    found <- limits[[i]]$score(part$truth, calls, part$weights)
    met <- keeps_to(provided[[i]], found)
    allowed <- allowed & !is.na(met) & met
  }
  if (!any(allowed)) {
    stop_kw(
      "select",
      if (length(provided) > 0L) {
        "No threshold meets the constraints."
      } else {
        "The metric is undefined at every threshold."
      },
      remedy = "Loosen `provided`, or choose another setting."
    )
  }
  good <- ifelse(allowed, goodness(scores, metric), -Inf)
  best <- which(good >= max(good) - 1e-12)
  list(
    threshold = thresholds[best[(length(best) + 1L) %/% 2L]],
    curve = tibble::tibble(threshold = thresholds, score = scores, allowed = allowed)
  )
}

# metrics x (mean, sd, se), each split scored with its own threshold.
nested_scores <- function(choice, parts, thresholds, metrics) {
  if (has_pooled_scores(choice$cmp)) {
    return(nested_pooled_scores(choice, parts, thresholds, metrics))
  }
  each <- vapply(seq_along(parts), function(j) {
    part <- parts[[j]]
    if (is.na(thresholds[j])) return(rep(NA_real_, length(metrics)))
    prediction <- cbind(1 - part$event, part$event)
    score_with_threshold(metrics, part$truth, prediction, part$weights, thresholds[j])
  }, numeric(length(metrics)))
  each <- matrix(each, length(metrics), dimnames = list(names(metrics), NULL))
  counted <- !is_apparent(all_splits(choice$cmp))
  t(apply(each, 1L, function(scores) {
    defined <- !is.na(scores)
    here <- counted
    here[counted] <- defined
    sd <- if (sum(defined) > 1L) stats::sd(scores[defined]) else NA_real_
    c(
      mean = if (any(defined)) mean(scores[defined]) else NA_real_, sd = sd,
      se = if (any(here)) sd * error_factor(choice$cmp, here) else NA_real_
    )
  }))
}

# The same where the parts are too small to be scored one by one: every row is called by its
# part's threshold, the calls of a repeat are scored together, the error is the jackknife's.
nested_pooled_scores <- function(choice, parts, thresholds, metrics) {
  splits <- all_splits(choice$cmp)[!is_apparent(all_splits(choice$cmp))]
  target <- brief_target(brief_of(choice$cmp))
  rep <- vapply(parts, `[[`, numeric(1), "rep")
  predictions <- lapply(unique(rep), function(r) {
    mine <- which(rep == r & !is.na(thresholds))
    called <- unlist(lapply(mine, function(j) parts[[j]]$event >= thresholds[j])) * 1
    rows <- lapply(splits[mine], `[[`, "validation")
    list(
      rows = unlist(rows), part = rep(seq_along(rows), lengths(rows)),
      values = array(c(1 - called, called), c(length(called), 2L, 1L))
    )
  })
  blocks <- jackknife_blocks(target)
  t(vapply(metrics, function(metric) {
    found <- pooled_metric(metric, predictions, target, blocks)
    sd <- if (ncol(found$scores) > 1L) stats::sd(found$scores) else NA_real_
    c(mean = mean(found$scores), sd = sd, se = found$se)
  }, numeric(3)))
}

threshold_reason <- function(chosen, metric, scores, provided, event) {
  found <- scores[metric$name, ]
  paste0(
    "Threshold: ", event, " is called from a probability of ",
    format(signif(chosen$threshold, 3)), " on, which has the ",
    if (metric$direction == "higher") "highest " else "lowest ", metric$label,
    " on the held-out predictions",
    if (length(provided) > 0L) {
      paste0(" provided ", enumerate(vapply(provided, `[[`, "", "text")))
    },
    ". With thresholds chosen on the other splits it scores ",
    with_spread(found[["mean"]], found[["se"]]), "."
  )
}
