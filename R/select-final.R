#' Choose the final setting
#'
#' Applies a rule to the standings and says why it chose what it chose.
#'
#' * `"best_mean"`: the best mean over splits.
#' * `"one_se"`: the simplest setting that is worse than the best one by no more than one
#'   standard error of the *difference* between the two, over the splits, corrected for shared
#'   training rows as in [shortlist()]. Splits that are hard for all settings alike do not widen
#'   it. Simplicity is ordered by the family (baseline first, then
#'   linear ones, tree, forest), within a family by its hyperparameters, then by
#'   the number of steps; measured time plays no part. Where differences of splits say nothing,
#'   as in time, it is `"one_se_1984"`.
#' * `"one_se_1984"`: the simplest setting whose mean lies within one standard error of
#'   the best mean (Breiman, Friedman, Olshen & Stone 1984, Classification and
#'   Regression Trees), which also counts how much splits differ in difficulty.
#' * `"no_worse"`: the simplest setting that is not worse than the best one by more than `margin`
#'   (default as in [shortlist()]) with a probability of at least 0.9.
#' * `"within"`: the simplest setting whose mean lies within `margin` of the best one.
#' * `"steady"`: the best mean less `margin` (default 1) standard deviations over splits.
#' * a rule of your own, see [define_rule()], or a function of the ranked rows of
#'   [standings()] (best first), which returns the number of the row that it chooses, or
#'   `list(row = , reason = )`.
#'
#' @param cmp A comparison from [run_comparison()].
#' @param rule One of the rules above, a rule of [define_rule()], or a function. Default the rule of
#'   the plan file, if there is one that names a rule, else `"one_se"`.
#' @param margin For `"within"` and `"no_worse"`: a difference in the metric's unit that does not
#'   matter; default the plan's, where it has one.
#'   For `"steady"`: how many standard deviations are taken off. For rules of your own: as they
#'   say.
#' @param candidate Choose among these candidates only.
#' @param metric Choose by this metric; default the deciding one.
#' @param blend `TRUE`: the best of all candidates are blended first, see [blend()], or of those
#'   that are named, and the rule chooses among all settings and the blend; not where `cmp` has a
#'   blend already, or `candidate` names others. Default what the plan file says, or
#'   [plan_by_itself()], else `FALSE`. Where the plan says so, its run holds the
#'   predictions of the best settings; what must be fitted again all the same may take about a
#'   twentieth of the plan's minutes. Where nothing can be blended, the reason tells why.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A `kw_choice` for [fit_final()]. Printing it gives setting and reason. See
#'   [explain_choice()] for what other rules would choose.
#' @section Errors:
#' `kw_error_select` when nothing is ranked, or when the rule needs a spread and
#' there is one split only; those of [blend()] where it was asked for here.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline(), tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1, quiet = TRUE
#' )
#' select_final(cmp, rule = "one_se")
#' @export
select_final <- function(
  cmp, rule = NULL, margin = NULL, candidate = NULL, metric = NULL, blend = NULL, ...
) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  planned <- planned_rule(cmp$plan)
  if (is.null(rule) || identical(rule, planned$name)) margin <- margin %||% planned$margin
  rule <- find_rule(rule %||% planned$name)
  mixed <- if (is.null(blend)) {
    blended_as_planned(cmp, candidate)
  } else {
    check_blended(blend, names(spaces_of(cmp)), "blend")
    list(cmp = with_wanted_blend(cmp, blend, candidate))
  }
  field <- with_margin(selection_field(mixed$cmp, candidate, metric), rule, margin)
  picked <- rule$choose(field)
  picked$reason <- paste0(picked$reason, mixed$why)
  new_choice(mixed$cmp, field, picked, rule$name)
}

# `wanted`: TRUE, FALSE or names of candidates. Not where it has a blend already, or others than a
# blend are to be chosen from.
with_wanted_blend <- function(cmp, wanted, candidate, minutes = NULL) {
  others <- !is.null(candidate) && !"blend" %in% candidate
  if (isFALSE(wanted) || others || has_blends(cmp)) return(cmp)
  blend(cmp, if (is.character(wanted)) wanted, minutes = minutes)
}

# list(cmp, why): with the blend that the plan asks for; or why there is none.
blended_as_planned <- function(cmp, candidate = NULL) {
  none <- function(e) list(cmp = cmp, why = paste(" Nothing was blended:", rlang::cnd_header(e)))
  minutes <- if (!is.null(cmp$plan$minutes)) cmp$plan$minutes * blend_share / (1 - blend_share)
  tryCatch(
    list(cmp = with_wanted_blend(cmp, planned_rule(cmp$plan)$blend, candidate, minutes)),
    kw_error_argument = none, kw_error_splits = none, kw_error_package = none
  )
}

# What the rules look at: one entry a setting; goodness is -Inf where it is not eligible.
selection_field <- function(cmp, candidate = NULL, metric = NULL) {
  for (name in candidate) check_choice(name, names(spaces_of(cmp)), "candidate")
  metric <- cmp_metric(cmp, metric)
  spread <- score_summary(cmp, metric$name)
  scored <- !is.na(spread$mean) & (is.null(candidate) | candidate_names(cmp) %in% candidate)
  if (!any(scored)) {
    stop_kw("select", "No setting has a score on every split, so none can be chosen.",
      remedy = "See failures(cmp)."
    )
  }
  eligible <- scored & meets_constraints(cmp)
  if (!any(eligible)) refuse_unmet(cmp, scored)
  list(
    cmp = cmp, goodness = ifelse(eligible, goodness(spread$mean, metric), -Inf), mean = spread$mean,
    sd = spread$sd, se = spread$se, pooled = has_pooled_scores(cmp),
    among = candidate,
    from_simple = order(do.call(order, simplicity_keys(spaces_of(cmp), cmp$results))),
    metric = metric,
    paired = if (splitter_of(cmp)$paired) paired_field(cmp, metric$name, 0.95, NULL, "none"),
    unit = outcome_unit(cmp, metric), name = function(at) choice_name(cmp, at)
  )
}

new_choice <- function(cmp, field, picked, rule) {
  at <- picked$at
  new_record("kw_choice",
    cmp = cmp, at = at, rule = rule, reason = picked$reason, metric = field$metric$name,
    mean = field$mean[at], sd = field$sd[at], se = field$se[at], margin = field$margin,
    among = field$among
  )
}

# No setting meets the constraints: says how near the best comes to each.
refuse_unmet <- function(cmp, scored) {
  near <- vapply(constraints_of(cmp), function(constraint) {
    means <- score_summary(cmp, constraint$metric)$mean[scored]
    means <- means[!is.na(means)]
    if (length(means) == 0L) return(paste0(constraint$text, " (undefined for every setting)"))
    best <- if (constraint$comparison %in% c(">", ">=")) {
      max(means)
    } else {
      min(means)
    }
    paste0(constraint$text, " (best mean: ", format(signif(best, 4)), ")")
  }, character(1))
  stop_kw("select", paste0("No setting meets the constraints: ", paste(near, collapse = "; "), "."),
    remedy = paste(
      "Loosen `provided`, try other settings, or move the decision threshold with",
      "set_threshold()."
    )
  )
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

outcome_unit <- function(cmp, metric) {
  if (metric$unit == "outcome") paste("in units of", brief_of(cmp)$outcome)
}

#' What each rule would choose, and why
#'
#' @param choice A choice from [select_final()].
#' @param margin For rules that need one, such as `"within"`; default the choice's own, else a
#'   quarter of the leader's standard deviation over splits.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A tibble, one row a rule (choosing among the same candidates as the choice): `rule`,
#'   `candidate`, `setting` (number within the
#'   candidate), `values`, `mean`, `sd`, `cost`, `reason`, `picked` (is it the setting that was
#'   chosen?). `cost`: with splits drawn again, how much worse what the rule picks is on the splits
#'   that were not drawn than what the best mean picks, in the metric's unit; below 0 it is better.
#'   A rule that cannot be used has the reason only.
#' @section Errors:
#' `kw_error_argument` for a metric or rule that there is not, `kw_error_select` when nothing is
#' ranked.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(
#'   baseline = fam_baseline(),
#'   tree = fam_tree(pruning = sensible())
#' ),
#' splits = split_kfold(5), seed = 1, quiet = TRUE
#' )
#' explain_choice(select_final(cmp))
#' @export
explain_choice <- function(choice, margin = NULL, ...) {
  no_more(...)
  check_class(choice, "kw_choice", "choice", "Make one with select_final().")
  cmp <- choice$cmp
  field <- selection_field(cmp, choice$among, choice$metric)
  leader <- choose_best_mean(field)$at
  quarter <- if (is.na(field$sd[leader])) 0 else signif(field$sd[leader] / 4, 2)
  rules <- lapply(known_members("rule"), function(make) make())
  rows <- lapply(unname(rules), function(rule) {
    # the choice's own margin, else the default
    field$margin <- if (choice$rule == rule$name) choice$margin
    if (identical(rule$margin, "needed")) {
      field$margin <- margin %||% field$margin %||% quarter
    } else {
      field$margin <- field$margin %||% usual_margin(rule)
    }
    picked <- tryCatch(rule$choose(field), kw_error_select = function(e) {
      list(at = NA_integer_, reason = plain_message(e))
    })
    rule["used_margin"] <- list(field$margin)
    list(rule = rule$name, at = picked$at, reason = picked$reason, used = rule)
  })
  costs <- costs_of_rules(field, stats::setNames(lapply(rows, `[[`, "used"), names(rules)))
  if (!choice$rule %in% names(rules)) {
    rows <- c(rows, list(list(rule = choice$rule, at = choice$at, reason = choice$reason)))
  }
  at <- vapply(rows, `[[`, 1L, "at")
  label <- function(i) if (is.na(i)) NA_character_ else setting_label(cmp, i)
  chosen <- choice$at
  table <- tibble::tibble(
    rule = vapply(rows, `[[`, "", "rule"), candidate = candidate_names(cmp)[at],
    setting = cmp$results$row[at],
    values = vapply(at, label, ""), mean = field$mean[at], sd = field$sd[at],
    cost = unname(costs[vapply(rows, `[[`, "", "rule")]),
    reason = vapply(rows, `[[`, "", "reason"),
    picked = !is.na(at) & at == chosen
  )
  listing(table,
    title = paste0(
      "What each rule chooses by ", cmp_metric(cmp, choice$metric)$label, "; cost: how much worse ",
      "than the best mean on splits that were not drawn"
    ),
    scores = c("mean", "sd", "cost"), certain = field$sd[leader] / 3, hide = "setting",
    last = "values", called = c(values = "setting"), texts = "reason"
  )
}
