#' Which settings cannot be told apart from the leader
#'
#' Every setting's scores are compared with the leader's split by split. Since the training
#' sets of the splits overlap, the variance of the mean difference is taken as
#' `(1 / J + validation rows / training rows) * s^2` with J - 1 degrees of freedom, J being
#' the splits in common (Nadeau & Bengio 2003, Machine Learning 52). `compare_pairs()` does
#' the same for every pair of candidates, each at its best setting.
#'
#' This is a screen, not a test of a question asked beforehand: the leader was picked for
#' having the best mean, so that differences from it look larger than they are.
#'
#' @param cmp A comparison from [run_comparison()].
#' @param metric The metric; default the deciding one.
#' @param level Confidence level of the intervals.
#' @param margin A difference up to this, in the metric's unit, does not matter in
#'   practice. Default 0.001 of the leader's standard deviation over splits.
#' @param adjust `"none"`, or `"holm"`: p values adjusted for the number of settings
#'   (Holm 1979). The intervals are not adjusted.
#' @param all All settings with a verdict instead of those on the shortlist only?
#' @return `shortlist()`: a tibble, best first: `place`, `candidate`, `setting`, the
#'   hyperparameters that varied, `metric`, `mean`, `difference` (how much worse than the
#'   leader), `low`, `high` (its interval), `p`, `splits` (in common), `tied` (`NA` where
#'   fewer than five splits are in common: it cannot be said). `compare_pairs()`:
#'   `first` and `second` (candidates, the first being the better), `setting_first`,
#'   `setting_second`, `metric`, `difference`, `low`, `high`, `p`, `splits`, `tied`.
#' @section Errors:
#' `kw_error_select` for splits in time, whose scores depend on one another in another way,
#' and when no setting is ranked.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline(), tree = fam_tree(pruning = sensible())),
#'   splits = split_kfold(5), seed = 1, quiet = TRUE
#' )
#' shortlist(cmp)
#' compare_pairs(cmp)
#' @export
shortlist <- function(
  cmp, metric = NULL, level = 0.95, margin = NULL, adjust = "none",
  all = FALSE
) {
  field <- paired_field(cmp, metric, level, margin, adjust)
  table <- standings(cmp, metric = field$metric$name)
  check_flag(all, "all")
  order <- rows_in_standings(cmp, table)
  leader <- order[1]
  found <- paired_differences(
    field$good[leader, ], field$good[order, , drop = FALSE], field$ratio, level
  )
  found <- judge_differences(found, field$margin %||% default_margin(field, leader), level, adjust)
  found$tied[1] <- TRUE
  columns <- c("place", "candidate", "setting", names(varied_columns(cmp)), "metric", "mean")
  kept <- tibble::as_tibble(c(as.list(table[columns]), found))
  kept <- kept[!is.na(table$mean), ]
  if (!all) kept <- kept[is.na(kept$tied) | kept$tied, ]
  mark_table(
    kept,
    "kw_shortlist",
    about = list(of = sum(!is.na(table$place)), level = level, adjust = adjust)
  )
}

#' @rdname shortlist
#' @export
compare_pairs <- function(cmp, metric = NULL, level = 0.95, margin = NULL, adjust = "none") {
  field <- paired_field(cmp, metric, level, margin, adjust)
  best <- best_of_candidates(cmp, field$metric$name)
  if (length(best) < 2L) {
    stop_kw("select", "Pairs need at least two candidates with a ranked setting.")
  }
  pairs <- utils::combn(length(best), 2L)
  each <- lapply(seq_len(ncol(pairs)), function(i) {
    paired_differences(
      field$good[best[pairs[1, i]], ],
      field$good[best[pairs[2, i]], , drop = FALSE],
      field$ratio,
      level
    )
  })
  found <- lapply(stats::setNames(nm = names(each[[1]])), function(name) {
    unlist(lapply(each, `[[`, name))
  })
  found <- judge_differences(found, field$margin %||% default_margin(field, best[1]), level, adjust)
  first <- best[pairs[1, ]]
  second <- best[pairs[2, ]]
  name <- candidate_names(cmp)
  number <- cmp$results$row
  tibble::as_tibble(c(
    list(
      first = name[first], second = name[second], setting_first = number[first],
      setting_second = number[second],
      metric = rep(field$metric$name, length(first))
    ), found
  ))
}

# Scores as goodness (settings x splits), and what is needed to compare them in pairs.
paired_field <- function(cmp, metric, level, margin, adjust) {
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  check_number(level, "level", min = 0.5, max = 0.9999)
  if (!is.null(margin)) check_number(margin, "margin", min = 0)
  check_choice(adjust, c("none", "holm"), "adjust")
  metric <- cmp_metric(cmp, metric)
  if (identical(cmp$plan$splitter$name, "time")) {
    stop_kw(
      "select",
      "Splits in time depend on one another, so that paired intervals would not hold.",
      remedy = "Compare the scores by eye: scores_by_split(), draw_split_scores()."
    )
  }
  summary <- score_summary(cmp, metric$name)
  if (all(is.na(summary$mean))) {
    stop_kw(
      "select", "No setting is ranked, so none can be compared.",
      remedy = "See failures(cmp)."
    )
  }
  splits <- cmp$plan$splits[summary$counted]
  ratio <- mean(vapply(
    splits, function(s) length(s$validation) / length(unique(s$training)), numeric(1)
  ))
  list(good = goodness(summary$scores, metric), ratio = ratio, metric = metric, margin = margin)
}

default_margin <- function(field, leader) {
  spread <- stats::sd(field$good[leader, ], na.rm = TRUE)
  if (is.na(spread)) 0 else 1e-3 * spread
}

fewest_splits <- 5L

# How much worse each row of `others` is than `leader`, over the splits in common.
paired_differences <- function(leader, others, ratio, level) {
  difference <- rep(leader, each = nrow(others)) - others
  dim(difference) <- dim(others)
  n <- rowSums(!is.na(difference))
  mean <- rowMeans(difference, na.rm = TRUE)
  variance <- rowSums((difference - mean)^2, na.rm = TRUE) / pmax(n - 1, 1)
  se <- ifelse(n > 1L, sqrt((1 / n + ratio) * variance), NA)
  reach <- ifelse(n > 1L, stats::qt((1 + level) / 2, pmax(n - 1, 1)), NA) * se
  list(
    difference = ifelse(n > 0L, mean, NA), low = mean - reach, high = mean + reach, se = se,
    splits = n
  )
}

# Adds p and tied: tied where the difference does not reach beyond the margin for sure.
judge_differences <- function(found, margin, level, adjust) {
  beyond <- pmax(abs(found$difference) - margin, 0)
  statistic <- ifelse(beyond == 0, 0, beyond / found$se)
  p <- 2 * stats::pt(-statistic, pmax(found$splits - 1, 1))
  adjusted <- if (adjust == "holm") stats::p.adjust(p, "holm") else p
  tied <- adjusted > 1 - level
  tied[found$splits < fewest_splits] <- NA
  list(
    difference = found$difference, low = found$low, high = found$high, p = adjusted,
    splits = found$splits, tied = tied
  )
}

# Numbers of the settings in the order of a table of standings.
rows_in_standings <- function(cmp, table) {
  match(paste(table$candidate, table$setting), paste(candidate_names(cmp), cmp$results$row))
}

# The best ranked setting of every candidate, best first.
best_of_candidates <- function(cmp, metric = NULL) {
  table <- standings(cmp, metric = metric)
  table <- table[!is.na(table$place), ]
  rows_in_standings(cmp, table[!duplicated(table$candidate), ])
}
