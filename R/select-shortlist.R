#' Which settings are as good as the leader, and of which it cannot be said
#'
#' Each setting has one of three answers. The leader is *better* when the difference goes beyond the
#' margin for sure; the two are practically *the same* when it lies within the margin for sure;
#' else the splits *cannot tell*, and more of them might. For each of the three there is a
#' probability too.
#'
#' Every setting's scores are compared with the leader's split by split. Since the training
#' sets of the splits overlap, the variance of the mean difference is taken as
#' `(1 / J + validation rows / training rows) * s^2` with J - 1 degrees of freedom, J being
#' the splits in common (Nadeau & Bengio 2003, Machine Learning 52). `compare_pairs()` does
#' the same for every pair of candidates, each at its best setting. Where predictions were
#' scored together, the variance of the difference is the jackknife's, over rows or groups
#' (Efron & Tibshirani 1993, chapter 11).
#'
#' The probabilities are those of the correlated Bayesian t-test (Corani & Benavoli 2015, Machine
#' Learning 100; Benavoli, Corani, Demsar & Zaffalon 2017, J. Machine Learning Research 18): given
#' the scores, the mean difference follows a t distribution with the same centre, error and degrees
#' of freedom as the interval.
#'
#' Stratified folds are alike in the outcome. What only the outcome's own mean decides, such as the
#' difference between two baselines, seems surer on them than it is; where that matters, use
#' `split_kfold(stratify = FALSE)`.
#'
#' This is a screen, not a test of a question asked beforehand: the leader was picked for
#' having the best mean, so that differences from it look larger than they are.
#'
#' @param cmp A comparison from [run_comparison()].
#' @param metric The metric; default the deciding one.
#' @param level Confidence level of the intervals.
#' @param margin A difference up to this, in the metric's unit, does not matter in
#'   practice. Default: the plan's for its deciding metric, if it has one; else 0.01 for metrics
#'   that end at 1 or lie between 0 and 1, such as shares, AUC and R squared; for all others a
#'   hundredth of the leader's mean. The print says it.
#' @param adjust `"none"`, or `"step_down"`: p values adjusted for how many settings are
#'   compared, by the step-down of Westfall & Young (1993), which respects that settings
#'   score alike: the signs of all differences on a split are turned together, 2,000 times.
#'   The intervals are not adjusted.
#' @param all All settings instead of those on the shortlist only?
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return `shortlist()`: a tibble, best first: `place`, `candidate`, `setting`, the
#'   hyperparameters that varied, `metric`, `mean`, `difference` (how much worse than the
#'   leader), `low`, `high` (its interval), `p` (of a difference no larger than the margin),
#'   `splits` (in common), `p_better`, `p_same`, `p_worse` (probabilities that the leader is better
#'   than this setting, practically the same, worse), and `answer`: `"better"` (`p` is at most
#'   1 - `level`; `"worse"`, where it is so the other way round on the splits in common),
#'   `"the same"` (`p_same` is at least `level`) or `"cannot tell"`; `NA` where fewer than five
#'   splits are in common. Settings that the leader is better than are left out.
#'   `compare_pairs()`: `first` and `second` (candidates, the first having the better mean),
#'   `setting_first`, `setting_second`, `metric`, and the same of the first against the second.
#' @section Errors:
#' `kw_error_select` for splits in time, whose scores depend on one another in another way,
#' and when no setting is ranked.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline(),
#'   tree = fam_tree(pruning = sensible())),
#'   splits = split_kfold(5), seed = 1, quiet = TRUE
#' )
#' shortlist(cmp)
#' compare_pairs(cmp)
#' @export
shortlist <- function(
  cmp, metric = NULL, level = 0.95, margin = NULL, adjust = "none", all = FALSE, ...
) {
  no_more(...)
  field <- paired_field(cmp, metric, level, margin, adjust)
  table <- standings_rows(cmp, metric = field$metric$name)
  check_flag(all, "all")
  order <- rows_in_standings(cmp, table)
  found <- paired_differences(field, rep(order[1], length(order)), order)
  found[c("p_better", "p_worse")] <- lapply(found[c("p_better", "p_worse")], replace, 1L, 0)
  found$p_same[1] <- 1
  found$answer[1] <- "the same"
  columns <- c("place", "candidate", "setting", names(varied_columns(cmp)), "metric", "mean")
  kept <- tibble::as_tibble(c(as.list(table[columns]), found))
  kept <- kept[!is.na(table$mean), ]
  counts <- table(factor(kept$answer[-1], c("better", "the same", "cannot tell")))
  about <- list(
    of = sum(!is.na(table$place)), level = level, adjust = adjust, counts = counts,
    margin = field$margin %||% default_margin(field, order[1])
  )
  if (!all) kept <- kept[!kept$answer %in% "better", ]
  mark_table(kept, "kw_shortlist", about = about)
}

#' @rdname shortlist
#' @export
compare_pairs <- function(cmp, metric = NULL, level = 0.95, margin = NULL, adjust = "none", ...) {
  no_more(...)
  field <- paired_field(cmp, metric, level, margin, adjust)
  best <- best_of_candidates(cmp, field$metric$name)
  if (length(best) < 2L) {
    stop_kw("select", "Pairs need at least two candidates with a ranked setting.")
  }
  pairs <- utils::combn(length(best), 2L)
  first <- best[pairs[1, ]]
  second <- best[pairs[2, ]]
  found <- paired_differences(field, first, second)
  found$answer <- as.character(found$answer)
  name <- candidate_names(cmp)
  number <- cmp$results$row
  about <- list(
    first = name[first], second = name[second], setting_first = number[first],
    setting_second = number[second], metric = rep(field$metric$name, length(first))
  )
  margin <- field$margin %||% default_margin(field, best[1])
  table <- listing(tibble::as_tibble(c(about, found)),
    title = paste0(
      "Candidates' best settings in pairs, by ", field$metric$label, ": by how much the first is ",
      "better; practically the same within ", format(signif(margin, 3))
    ),
    scores = "difference", certain = middle((found$high - found$low) / 4), interval = level,
    shares = c("p_better", "p_same", "p_worse"),
    called = c(difference = "by", p_better = "P(better)", p_same = "P(same)", p_worse = "P(worse)"),
    hide = c("setting_first", "setting_second", "metric", "p", "p_worse", "splits"),
    foot = if (anyNA(found$answer)) {
      paste0("Of a difference on fewer than ", fewest_splits, " splits nothing can be said.")
    }
  )
  mark_table(table, NULL, margin = margin)
}

# What settings are compared by: `good`, goodness on every split (settings x splits) whose
# variance is taken with the correction `ratio`; `value`, each setting's goodness; `of_all`, is a
# split one on which all settings are scored? Where predictions were scored together, the splits
# are the jackknife's blocks and their goodness is the pseudo-value, so that its variance is the
# jackknife's.
paired_field <- function(cmp, metric, level, margin, adjust) {
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  check_number(level, "level", min = 0.5, max = 0.9999)
  if (!is.null(margin)) check_number(margin, "margin", min = 0)
  check_choice(adjust, c("none", "step_down"), "adjust")
  metric <- cmp_metric(cmp, metric)
  if (!splitter_of(cmp)$paired) {
    stop_kw(
      "select",
      paste0(
        "These splits (", splitter_of(cmp)$label,
        ") depend on one another, so that paired intervals would not hold."
      ),
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
  field <- list(
    metric = metric, margin = margin %||% planned_margin(cmp, metric), level = level,
    adjust = adjust, seed = seed_of(cmp)
  )
  pooled <- cmp$results$pooled[[metric$name]]
  if (!is.null(pooled)) {
    n <- nrow(pooled$without)
    pseudo <- n * rep(summary$mean, each = n) - (n - 1) * pooled$without
    return(c(field, list(
      good = goodness(t(pseudo), metric), value = goodness(summary$mean, metric), ratio = 0,
      of_all = rep(TRUE, n)
    )))
  }
  splits <- all_splits(cmp)[summary$counted]
  ratio <- mean(vapply(
    splits, function(s) length(s$validation) / length(unique(s$training)), numeric(1)
  ))
  repeats <- if (splitter_of(cmp)$spread == "folds") vapply(splits, `[[`, numeric(1), "rep")
  c(field, list(
    good = goodness(summary$scores, metric), value = NULL, ratio = ratio, rep = repeats,
    of_all = which(summary$counted) %in% splits_of_all(cmp$plan)
  ))
}

fewest_splits <- 5L

# How much worse `second` settings are than `first` ones, over the splits in common:
# difference, low, high, p, splits, the probabilities of the three answers, and the answer.
paired_differences <- function(field, first, second) {
  found <- differences_apart(field, first, second)
  apart <- found$apart
  n <- found$n
  difference <- found$difference
  se <- found$se
  reach <- ifelse(n > 1L, stats::qt((1 + field$level) / 2, pmax(n - 1, 1)), NA) * se
  margin <- field$margin %||% default_margin(field, first[1])
  beyond <- pmax(abs(difference) - margin, 0)
  statistic <- ifelse(beyond == 0, 0, beyond / se)
  p <- 2 * stats::pt(-statistic, pmax(n - 1, 1))
  if (field$adjust == "step_down") p <- pmax(p, step_down(statistic, apart, field))
  probability <- three_answers(difference, se, pmax(n - 1, 1), margin)
  probability[n < fewest_splits, ] <- NA
  answer <- ifelse(p <= 1 - field$level, ifelse(difference > 0, "better", "worse"),
    ifelse(probability$p_same >= field$level, "the same", "cannot tell")
  )
  answer[n < fewest_splits] <- NA
  c(
    list(
      difference = ifelse(n > 0L, difference, NA), low = difference - reach,
      high = difference + reach, p = p, splits = n
    ),
    as.list(probability), list(answer = answer)
  )
}

# Probabilities that a difference lies above the margin, within it on both sides, below it, when
# it follows a t distribution around what was found.
three_answers <- function(difference, se, df, margin) {
  up_to <- function(x) {
    ifelse(se > 0, stats::pt((x - difference) / se, df), as.double(difference <= x))
  }
  below <- up_to(-margin)
  within <- up_to(margin)
  data.frame(p_better = 1 - within, p_same = within - below, p_worse = below)
}

# What is known of them: list(apart, on each split; n, splits in common; difference, se).
differences_apart <- function(field, first, second) {
  apart <- field$good[first, , drop = FALSE] - field$good[second, , drop = FALSE]
  n <- rowSums(!is.na(apart))
  mean <- rowMeans(apart, na.rm = TRUE)
  list(
    apart = apart, n = n,
    difference = if (is.null(field$value)) mean else field$value[first] - field$value[second],
    se = difference_error(apart, mean, n, field$ratio)
  )
}

difference_error <- function(apart, mean, n, ratio) {
  variance <- rowSums((apart - mean)^2, na.rm = TRUE) / pmax(n - 1, 1)
  ifelse(n > 1L, sqrt((1 / pmax(n, 1) + ratio) * variance), NA)
}

# What the plan says does not matter, of its deciding metric.
planned_margin <- function(cmp, metric) {
  if (metric$name == deciding_metric(cmp)) cmp$plan$margin
}

# What does not matter in practice, where nobody says: a hundredth, of the scale where the metric
# has one, else of the leader's mean.
default_margin <- function(field, leader) {
  if (field$metric$range[2] == 1) return(0.01)
  mean <- field$value[leader] %||% mean(field$good[leader, ], na.rm = TRUE)
  if (is.finite(mean)) abs(mean) / 100 else 0
}

# Step-down adjusted p values (Westfall & Young 1993, algorithm 2.8). The null distribution of
# the largest statistic is had by turning the signs of the centred differences, those of all
# settings on a split together.
step_down <- function(statistic, apart, field, turns = 2000L) {
  apart <- apart[, field$of_all, drop = FALSE]
  known <- which(!is.na(statistic) & rowSums(is.na(apart)) == 0L & statistic > 0)
  p <- ifelse(is.na(statistic), NA_real_, 1)
  if (length(known) == 0L) return(p)
  order <- known[order(-statistic[known])]
  centred <- apart[order, , drop = FALSE] - rowMeans(apart[order, , drop = FALSE])
  n <- ncol(centred)
  turns <- max(200L, min(turns, as.integer(2e7 / length(order))))
  squares <- rowSums(centred^2)
  signs <- with_seed(derive_seed(field$seed, "step-down"), {
    matrix(sample(c(-1, 1), n * turns, replace = TRUE), n)
  })
  means <- centred %*% signs / n
  variance <- pmax(squares - n * means^2, 0) / (n - 1)
  null <- abs(means) / sqrt((1 / n + field$ratio) * variance)
  null[!is.finite(null)] <- 0
  # the largest among those that come at this place or later
  largest <- apply(null[rev(seq_along(order)), , drop = FALSE], 2L, cummax)
  largest <- matrix(largest, length(order))[rev(seq_along(order)), , drop = FALSE]
  exceeded <- (rowSums(largest >= statistic[order]) + 1) / (turns + 1)
  p[order] <- cummax(exceeded)
  p
}

# Numbers of the settings in the order of a table of standings.
rows_in_standings <- function(cmp, table) {
  match(paste(table$candidate, table$setting), paste(candidate_names(cmp), cmp$results$row))
}

# The best ranked setting of every candidate, best first.
best_of_candidates <- function(cmp, metric = NULL) {
  table <- standings_rows(cmp, metric = metric)
  table <- table[!is.na(table$place), ]
  rows_in_standings(cmp, table[!duplicated(table$candidate), ])
}

# "of 31 other settings 3 are practically the same as the leader (within 0.01), ..."
shortlist_counts <- function(about) {
  n <- about$counts
  if (sum(n) == 0L) return("there is no other setting")
  are <- function(n) if (n == 0) "none is" else paste(n, if (n == 1) "is" else "are")
  paste0(
    "of ", count_of(sum(n), "other setting"), " ", are(n[["the same"]]),
    " practically the same as the leader (within ", format(signif(about$margin, 2)), ")",
    if (n[["cannot tell"]] > 0L) {
      paste0(", ", n[["cannot tell"]], " cannot be told apart from it")
    },
    if (n[["better"]] > 0L) paste0(", ", are(n[["better"]]), " worse for sure")
  )
}
