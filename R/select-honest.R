#' What the chosen setting will be worth
#'
#' Its mean over the splits with a correction for having been picked, and an interval for the score
#' of the final model on new rows.
#'
#' The correction repeats the choice: splits (those of one repeat) are drawn again and again with
#' replacement, the rule picks by those drawn, and what it picked scores better on them than on the
#' splits that were not drawn by as much as being picked is worth (the bootstrap's estimate of
#' optimism, Efron 1983, Journal of the American Statistical Association 78, with splits in the
#' place of rows, so that no predictions are needed). It knows of what is in the comparison:
#' settings, rule, constraints. What a person did before, and settings that a search or a screen
#' left out, only [assess_selection()] can judge. It is never more than the interval's half width
#' about the mean: what scores alike on all splits, as the baseline's AUC, was not lucky.
#'
#' The interval is made of the scores' spread over splits, with the variance correction for
#' training rows in common (Nadeau & Bengio 2003, Machine Learning 52), which of draws counts twice,
#' since they have held-out rows in common, too, and the t quantile of one repeat's splits. At its
#' better end it starts from the mean as it is, at its worse end from the corrected one, since the
#' correction is itself an estimate.
#'
#' @section Known coverage:
#' In simulations of `docs/honesty.md` in the sources (noise, signal, imbalance, heavy tails,
#' groups; 100 and 400 rows; the best of 183 settings) an interval of 95 % held the score of the
#' final model on fresh rows in 93 to 100 % of the runs, whether with folds or with bootstrap draws,
#' but in 92 to 94 % where the outcome has heavy tails: a few rows decide the score there, and the
#' splits may hold none of them. Splits in time have none.
#'
#' @param choice A choice from [select_final()].
#' @param level Confidence level of the interval.
#' @param draws Number of draws of splits.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A tibble of one row: `metric`, `mean` (over the splits), `optimism` (how much of it is
#'   likely owed to being picked, in the metric's unit and never negative), `score` (the mean
#'   corrected), `low` and `high` (the interval; `NA` where there is none), `level`, `settings`
#'   (from which it was picked), `note`.
#' @section Errors:
#' `kw_error_argument` for anything but a choice, or a number out of range.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree(pruning = sensible())),
#'   splits = split_kfold(5), seed = 1, quiet = TRUE
#' )
#' honest_score(select_final(cmp))
#' @export
honest_score <- function(choice, level = 0.95, draws = 200, ...) {
  no_more(...)
  check_class(choice, "kw_choice", "choice", "Make one with select_final().")
  check_number(level, "level", min = 0.5, max = 0.9999)
  check_number(draws, "draws", min = 20, whole = TRUE)
  field <- selection_field(choice$cmp, choice$among, choice$metric)
  field$margin <- choice$margin
  metric <- field$metric
  found <- picked_worth(field, choice, level, draws)
  sign <- if (metric$direction == "higher") 1 else -1
  ends <- sort(sign * c(found$low, found$high), na.last = TRUE)
  range <- metric$range
  tibble::tibble(
    metric = metric$name, mean = choice$mean, optimism = found$optimism,
    score = choice$mean - sign * found$optimism,
    low = max(ends[1], range[1]), high = min(ends[2], range[2]), level = level,
    settings = sum(is.finite(field$goodness)), note = found$note
  )
}

# As goodness: list(optimism, low, high, note).
picked_worth <- function(field, choice, level, draws) {
  none <- list(optimism = NA_real_, low = NA_real_, high = NA_real_)
  paired <- field$paired
  if (is.null(paired)) {
    return(c(none, note = "these splits depend on one another"))
  }
  parts <- independent_parts(paired)
  n <- length(parts[[1]])
  if (n < 2L) return(c(none, note = "one split says nothing of the spread"))
  at <- choice$at
  rule <- repeatable_rule(choice$rule)
  optimism <- with_seed(
    derive_seed(seed_of(field$cmp), "honest score"),
    optimism_of_choice(field, rule %||% member_rule_best_mean(), at, parts, draws)
  )
  mine <- paired$good[at, !is.na(paired$good[at, ])]
  good <- paired$value[at] %||% mean(mine)
  # folds have training rows in common, draws held-out rows as well
  shared <- paired$ratio * if (is.null(paired$rep)) 2 else 1
  spread <- stats::sd(mine) * sqrt(1 / n + shared)
  reach <- stats::qt((1 + level) / 2, n - 1) * spread
  # what scores alike on all splits was not lucky, whatever else might have been picked
  optimism <- min(optimism, reach)
  list(
    optimism = optimism, low = good - optimism - reach, high = good + reach,
    note = honest_note(field, choice, rule)
  )
}

honest_note <- function(field, choice, rule) {
  moved <- !is.null(choice$threshold) && field$metric$by_class
  paste(c(
    if (moved) "without the threshold that was moved",
    if (is.null(rule)) "corrected as if the best mean had been picked",
    Filter(nzchar, note_on_part(field$cmp, sum(!is.na(field$mean))))
  ), collapse = "; ")
}

# Columns of paired scores that share no held-out rows: those of each repeat of folds; all draws.
# Only those on which all settings are scored.
independent_parts <- function(paired) {
  all <- which(paired$of_all)
  if (is.null(paired$rep)) list(all) else unname(split(all, paired$rep[all]))
}

# A rule that looks at scores alone, so that it can choose by some of the splits.
repeatable_rule <- function(name) {
  make <- known_members("rule")[[name]]
  if (is.null(make)) return(NULL)
  rule <- make()
  if (rule$by_scores) rule
}

# So many settings, the best ones, are looked at in every draw.
most_in_draws <- 1000L

rows_in_draws <- function(field, at) {
  rows <- which(is.finite(field$goodness))
  if (length(rows) <= most_in_draws) return(rows)
  best <- order(field$goodness[rows], decreasing = TRUE)[seq_len(most_in_draws)]
  union(at, rows[best])
}

# What each rule gives away: by how much what it picks by drawn splits is worse, on the splits that
# were not drawn, than what the best mean picks by them; a list by rule. NA where a rule looks at
# more than scores, or splits say nothing of one another.
costs_of_rules <- function(field, rules, draws = 50L) {
  costs <- stats::setNames(rep(NA_real_, length(rules)), names(rules))
  paired <- field$paired
  able <- names(Filter(function(rule) rule$by_scores, rules))
  rows <- rows_in_draws(field, integer())
  if (is.null(paired) || field$pooled || length(rows) < 2L) return(costs)
  parts <- independent_parts(paired)
  if (length(parts[[1]]) < 3L) return(costs)
  good <- paired$good[rows, , drop = FALSE]
  given_away <- with_seed(derive_seed(seed_of(field$cmp), "costs of rules"), {
    vapply(seq_len(draws), function(draw) {
      part <- parts[[(draw - 1L) %% length(parts) + 1L]]
      drawn <- part[sample.int(length(part), replace = TRUE)]
      unseen <- setdiff(part, drawn)
      if (length(unseen) == 0L || length(unique(drawn)) < 2L) return(rep(NA_real_, length(able)))
      seen <- drawn_field(field, good[, drawn, drop = FALSE], rows)
      worth <- rowMeans(good[, unseen, drop = FALSE])
      best <- worth[choose_best_mean(seen)$at]
      vapply(rules[able], function(rule) {
        seen$margin <- rule$used_margin
        picked <- tryCatch(rule$choose(seen)$at, kw_error_select = function(e) NA_integer_)
        best - worth[picked]
      }, 1)
    }, numeric(length(able)))
  })
  costs[able] <- rowMeans(matrix(given_away, length(able)), na.rm = TRUE)
  costs
}

# How much better, on the splits that were drawn than on the rest, is what the rule picks by those
# drawn; 0 where it is not.
optimism_of_choice <- function(field, rule, at, parts, draws) {
  rows <- rows_in_draws(field, at)
  if (length(rows) < 2L) return(0)
  good <- field$paired$good[rows, , drop = FALSE]
  chosen <- match(at, rows)
  better <- vapply(seq_len(draws), function(draw) {
    part <- parts[[(draw - 1L) %% length(parts) + 1L]]
    drawn <- part[sample.int(length(part), replace = TRUE)]
    unseen <- setdiff(part, drawn)
    if (length(unseen) == 0L) return(NA_real_)
    picked <- tryCatch(
      rule$choose(drawn_field(field, good[, drawn, drop = FALSE], rows))$at,
      kw_error_select = function(e) NA_integer_
    )
    if (is.na(picked)) return(NA_real_)
    # of the choice itself this is 0 on average, so that taking it off only steadies the mean
    both <- good[c(picked, chosen), , drop = FALSE]
    luck <- rowMeans(both[, drawn, drop = FALSE]) - rowMeans(both[, unseen, drop = FALSE])
    luck[1] - luck[2]
  }, numeric(1))
  if (all(is.na(better))) NA_real_ else max(0, mean(better, na.rm = TRUE))
}

# What a rule sees of some settings by some splits.
drawn_field <- function(field, good, rows) {
  n <- ncol(good)
  mean <- rowMeans(good)
  sd <- sqrt(rowSums((good - mean)^2) / (n - 1))
  paired <- field$paired
  # folds have a standard error of their own, see error_factor()
  ratio <- if (is.null(paired$rep)) paired$ratio else 0
  paired$good <- good
  paired$of_all <- rep(TRUE, n)
  paired["value"] <- list(NULL)
  list(
    goodness = mean, mean = mean, sd = sd,
    se = sd * sqrt(1 / n + ratio),
    paired = paired, pooled = FALSE, from_simple = field$from_simple[rows],
    metric = field$metric, margin = field$margin, name = function(at) "", drawn = TRUE
  )
}

# In words; of the leader's mean where `leader`.
honest_text <- function(choice, leader = FALSE) {
  found <- honest_score(choice)
  label <- metrics_of(choice$cmp)[[found$metric]]$label
  said <- paste0(if (leader) "What the best is worth: " else "What it is worth: ", label, " ")
  if (is.na(found$low)) {
    return(paste0(
      said, "has no known interval, since ", found$note, "; the mean is ",
      with_spread(found$mean, choice$se), "."
    ))
  }
  error <- (found$high - found$low) / 4
  paste0(
    said, round_to(found$score, error), ", on new rows ", round_to(found$low, error), " to ",
    round_to(found$high, error), " (", 100 * found$level, " % interval)",
    if (found$optimism > 0) paste0(
      "; the mean, ", round_to(found$mean, error), ", is likely ", signif(found$optimism, 2),
      " too good for having been picked ",
      if (leader) "as the best of " else paste0("by ", choice$rule, " from "),
      count_of(found$settings, "setting")
    ),
    if (nzchar(found$note)) paste0(" (", found$note, ")"), "."
  )
}

# The choice of the best mean; NULL where nothing can be chosen.
leading_choice <- function(cmp) {
  tryCatch(select_final(cmp, "best_mean", blend = FALSE), kw_error_select = function(e) NULL)
}
