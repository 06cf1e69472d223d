#' Choose the final setting
#'
#' Applies a rule to the standings and says why it chose what it chose.
#'
#' * `"best_mean"`: the best mean over splits.
#' * `"one_se"`: the simplest setting whose mean lies within one standard error of
#'   the best mean (Breiman, Friedman, Olshen & Stone 1984, Classification and
#'   Regression Trees). Simplicity is ordered by the family (baseline first, then
#'   linear ones, tree, forest), within a family by its hyperparameters, then by
#'   the number of steps; measured time plays no part.
#'
#' @param cmp A comparison from [run_comparison()].
#' @param rule `"one_se"` or `"best_mean"`.
#' @param candidate Choose among these candidates only.
#' @param metric Choose by this metric; default the deciding one.
#' @return A `kw_choice` for [fit_final()]. Printing it gives setting and reason.
#' @section Errors:
#' `kw_error_select` when nothing is ranked, or when the rule needs a spread and
#' there is one split only.
#' @examples
#' job <- brief(demo_pots(), outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'              ignore = c("cracked", "grade", "notes"))
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline(), tree = fam_tree()),
#'                       splits = split_kfold(3), seed = 1, quiet = TRUE)
#' select_final(cmp, rule = "one_se")
#' @export
select_final <- function(cmp, rule = "one_se", candidate = NULL, metric = NULL) {
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  rules <- shipped_members("rule")
  check_choice(rule, names(rules), "rule")
  for (name in candidate) check_choice(name, names(cmp$plan$spaces), "candidate")
  metric <- cmp_metric(cmp, metric)
  spread <- score_summary(cmp, metric$name)
  scored <- !is.na(spread$mean) & (is.null(candidate) | candidate_names(cmp) %in% candidate)
  if (!any(scored)) {
    stop_kw("select", "No setting has a score on every split, so none can be chosen.",
            remedy = "See failures(cmp).")
  }
  eligible <- scored & meets_constraints(cmp)
  if (!any(eligible)) refuse_unmet(cmp, scored)
  se <- spread$se
  picked <- rules[[rule]]()(list(
    goodness = ifelse(eligible, goodness(spread$mean, metric), -Inf), mean = spread$mean, se = se,
    from_simple = order(do.call(order, simplicity_keys(cmp))), metric = metric,
    unit = outcome_unit(cmp, metric), name = function(at) choice_name(cmp, at)
  ))
  structure(list(cmp = cmp, at = picked$at, rule = rule, reason = picked$reason, metric = metric$name,
                 mean = spread$mean[picked$at], sd = spread$sd[picked$at], se = se[picked$at]),
            class = "kw_choice")
}

# No setting meets the constraints: says how near the best comes to each.
refuse_unmet <- function(cmp, scored) {
  near <- vapply(cmp$plan$provided, function(constraint) {
    means <- score_summary(cmp, constraint$metric)$mean[scored]
    best <- if (constraint$comparison %in% c(">", ">=")) max(means, na.rm = TRUE) else min(means, na.rm = TRUE)
    paste0(constraint$text, " (best mean: ", format(signif(best, 4)), ")")
  }, character(1))
  stop_kw("select", paste0("No setting meets the constraints: ", paste(near, collapse = "; "), "."),
          remedy = "Loosen `provided`, try other settings, or move the decision threshold with set_threshold().")
}

member_rule_best_mean <- function() {
  function(field) {
    best <- which(field$goodness == max(field$goodness))
    at <- best[which.min(field$from_simple[best])]
    list(at = at, reason = paste0(
      field$name(at), " has the best mean ", field$metric$label, ", ",
      with_spread(field$mean[at], field$se[at]), if (length(best) > 1L) {
        paste0("; of ", length(best), " settings with that mean it is the simplest")
      }, "."))
  }
}

member_rule_one_se <- function() {
  function(field) {
    leader <- member_rule_best_mean()(field)$at
    se <- field$se[leader]
    if (is.na(se)) {
      stop_kw("select", "The one-standard-error rule needs at least two splits.",
              remedy = "Use rule = \"best_mean\", or run more splits.")
    }
    near <- which(field$goodness >= field$goodness[leader] - se)
    at <- near[which.min(field$from_simple[near])]
    list(at = at, reason = one_se_reason(field, leader, at, near))
  }
}

one_se_reason <- function(field, leader, at, near) {
  best <- with_spread(field$mean[leader], field$se[leader])
  if (at == leader) {
    return(paste0(field$name(at), " has the best mean ", field$metric$label, ", ", best,
                  ", and no simpler setting is within one standard error of it."))
  }
  paste0(field$name(at), " is the simplest of ", count_of(length(near), "setting"),
         " within one standard error of the best mean ", field$metric$label, " (", best, ", ",
         field$name(leader), "); its own mean is ", round_to(field$mean[at], field$se[leader]), ".")
}

# "0.812 (se 0.011)": rounded to two digits of the error.
with_spread <- function(mean, se, word = "se") {
  if (is.na(se)) return(format(signif(mean, 4)))
  paste0(round_to(mean, se), " (", word, " ", round_to(se, se), ")")
}

# Text of x, rounded to two significant digits of its uncertainty.
round_to <- function(x, uncertainty) {
  if (is.na(x)) return("NA")
  if (is.na(uncertainty) || uncertainty <= 0) return(format(signif(x, 4)))
  digits <- max(0, 1 - floor(log10(uncertainty)))
  formatC(round(x, digits), format = "f", digits = min(digits, 10))
}

choice_name <- function(cmp, at) {
  label <- setting_label(cmp, at)
  name <- candidate_names(cmp)[at]
  if (nzchar(label)) paste0(name, " (", label, ")") else name
}

outcome_unit <- function(cmp, metric) if (metric$unit == "outcome") paste("in units of", cmp$plan$job$outcome)
