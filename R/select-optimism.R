#' How optimistic the leader's score is
#'
#' The best of many means is better than it will prove to be: it was picked for being
#' best. Up to three estimates of what the choice of the best mean is really worth stand
#' beside the naive one:
#'
#' * `"fold_corrected"`: the naive mean less the mean, over folds, of how much worse the setting
#'   that is best over all folds does on one fold than the setting that is best on that fold
#'   (Tibshirani & Tibshirani 2009, Annals of Applied Statistics 3; per repeat, averaged).
#'   For k-fold splits.
#' * `"bootstrap"`: rows (whole groups, if the brief has any) of the held-out predictions are
#'   drawn again and again; the setting that is best on those drawn is scored on those that
#'   were not (Tsamardinos, Greasidou & Borboudakis 2018, Machine Learning 107). Needs
#'   `keep = "all_predictions"`. The leader is scored on the same rows, and what it is better
#'   by is taken off the naive score, so that with one setting nothing is taken off.
#' * `"nested"`: from [assess_selection()], if given: the whole procedure repeated without
#'   rows that then judge it.
#'
#' [honest_score()] has the correction that is shown with a choice, for any rule and any splits.
#'
#' @param cmp A comparison from [run_comparison()].
#' @param metric The metric; default the deciding one.
#' @param nested What [assess_selection()] gave, if it was run.
#' @param draws Number of bootstrap draws.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A tibble: `estimate`, `score`, `optimism` (how much the naive score is too good,
#'   positive in either direction of the metric), `low`, `high` (95 % over bootstrap draws
#'   or outer splits; see below), `note` (why there is
#'   none, or that it is made from settings with all their scores only: those that a screen dropped
#'   or a limit cut off, which could have been the best as well, are not in it).
#' @section Known coverage:
#' The interval of the nested score is that of nested cross-validation (Bates, Hastie & Tibshirani
#' 2023, Journal of the American Statistical Association 119) with the t quantile: in simulations
#' with 5 outer folds of 104 rows it held the truth in 91 to 100 % where it claims 95 % (each of
#' 200 runs; `docs/honesty.md` in the sources). The bootstrap's interval has the spread of the draws
#' about the corrected score; its coverage was not simulated.
#' @section Errors:
#' `kw_error_select` when nothing is ranked, `kw_error_argument` for a metric that was not scored.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree(pruning = sensible())),
#'   splits = split_kfold(5),
#'   seed = 1, quiet = TRUE
#' )
#' optimism(cmp)
#' @export
optimism <- function(cmp, metric = NULL, nested = NULL, draws = 500, ...) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  if (!is.null(nested)) {
    check_class(nested, "kw_assessment", "nested", "Make one with assess_selection().")
  }
  check_number(draws, "draws", min = 20, whole = TRUE)
  metric <- cmp_metric(cmp, metric)
  summary <- score_summary(cmp, metric$name)
  ranked <- which(!is.na(summary$mean))
  if (length(ranked) == 0L) {
    stop_kw("select", "No setting is ranked.", remedy = "See failures(cmp).")
  }
  leader <- ranked[which.max(goodness(summary$mean[ranked], metric))]
  naive <- summary$mean[leader]
  rows <- list(
    naive = list(score = naive),
    fold_corrected = fold_corrected_score(cmp, metric, summary, ranked, naive),
    bootstrap = bootstrap_score(cmp, metric, ranked, leader, draws)
  )
  if (!is.null(nested)) rows$nested <- nested_score(nested, metric)
  pick <- function(what) {
    vapply(rows, function(row) as.double(row[[what]] %||% NA_real_), numeric(1), USE.NAMES = FALSE)
  }
  score <- pick("score")
  table <- tibble::as_tibble(list(
    estimate = names(rows), metric = rep(metric$name, length(rows)),
    score = score,
    optimism = goodness(naive, metric) - goodness(score, metric),
    low = pick("low"), high = pick("high"),
    note = vapply(rows, function(row) row$note %||% "", "", USE.NAMES = FALSE)
  ))
  shown <- listing(table,
    title = paste0(
      "How much too good the leader's mean ", metric$label, " is, for having been picked from ",
      count_of(length(ranked), "setting")
    ),
    scores = c("score", "optimism"), certain = summary$se[leader], hide = "metric",
    interval = 0.95
  )
  mark_table(shown, NULL, about = c(choice = choice_name(cmp, leader), metric = metric$label))
}

fold_corrected_score <- function(cmp, metric, summary, ranked, naive) {
  if (splitter_of(cmp)$spread != "folds") return(list(note = "for k-fold splits only"))
  if (!is.null(cmp$results$pooled)) {
    return(list(note = "predictions were pooled: there are no scores of single folds"))
  }
  good <- goodness(summary$scores[ranked, , drop = FALSE], metric)
  rep <- vapply(all_splits(cmp)[summary$counted], `[[`, numeric(1), "rep")
  # those on which all of them are scored
  of_all <- which(summary$counted) %in% splits_of_all(cmp$plan)
  rep <- rep[of_all]
  good <- good[, of_all, drop = FALSE]
  bias <- vapply(unique(rep), function(r) {
    mine <- good[, rep == r, drop = FALSE]
    best <- which.max(rowMeans(mine))
    mean(column_maxima(mine) - mine[best, ])
  }, numeric(1))
  list(
    score = if (metric$direction == "higher") naive - mean(bias) else naive + mean(bias),
    note = note_on_part(cmp, length(ranked))
  )
}

# Corrections know of settings that were scored in full; those that a screen dropped or a limit cut
# off are not in them.
note_on_part <- function(cmp, n) {
  all <- length(cmp$results$candidate)
  if (n == all) return("")
  paste0("from the ", n, " of ", count_of(all, "setting"), " that are ranked")
}

column_maxima <- function(x) x[cbind(max.col(t(x), "first"), seq_len(ncol(x)))]

# Held-out predictions of the ranked settings of one repeat: rows (of the working table)
# and an array rows x settings, or rows x classes x settings; NULL if none were kept.
held_out_predictions <- function(cmp, settings, rep) {
  splits <- which(vapply(all_splits(cmp), function(s) s$rep == rep, logical(1)))
  rows <- unlist(lapply(all_splits(cmp)[splits], `[[`, "validation"))
  classes <- length(brief_of(cmp)$levels)
  offset <- cumsum(c(0L, vapply(all_splits(cmp)[splits], function(s) length(s$validation), 1L)))
  values <- array(NA_real_, c(length(rows), max(1L, classes), length(settings)))
  for (record in cmp$results$predictions) {
    piece <- match(record$split, splits)
    mine <- match(settings, record$settings)
    there <- which(!is.na(mine))
    if (is.na(piece) || length(there) == 0L) next
    at <- seq(offset[piece] + 1L, offset[piece + 1L])
    place <- record$place[mine[there]]
    values[at, , there] <- if (classes > 0L) record$values[, , place] else record$values[, place]
  }
  list(rows = rows, values = if (classes > 0L) values else matrix(values, length(rows)))
}

# So many settings x rows x classes are held at once; of more settings the best are taken.
most_prediction_cells <- 5e7

bootstrap_score <- function(cmp, metric, ranked, leader, draws) {
  # a blend has predictions of its own, also where those of its members were not kept
  known <- unlist(lapply(cmp$results$predictions, `[[`, "settings"))
  if (!all(ranked %in% known)) return(list(note = "needs keep = \"all_predictions\""))
  if (splitter_of(cmp)$spread == "draws") {
    return(list(note = "needs splits in which every row is held out once"))
  }
  brief <- brief_of(cmp)
  most <- max(
    2L, floor(most_prediction_cells / (nrow(brief$table) * max(1L, length(brief$levels))))
  )
  if (length(ranked) > most) {
    ranked <- rows_in_standings(cmp, standings_rows(cmp, metric = metric$name, top = most))
  }
  reps <- unique(vapply(all_splits(cmp)[!is_apparent(all_splits(cmp))], `[[`, numeric(1), "rep"))
  parts <- lapply(reps, function(rep) {
    part <- held_out_predictions(cmp, ranked, rep)
    target <- brief_target(brief, part$rows)
    c(part, list(target = target, draw = unit_drawer(target)))
  })
  leading <- match(leader, ranked)
  each <- with_seed(
    derive_seed(seed_of(cmp), "bootstrap bias correction"),
    vapply(seq_len(draws), function(draw) {
      drawn_bias(metric, parts[[(draw - 1L) %% length(parts) + 1L]], leading)
    }, numeric(2))
  )
  known <- each[, !is.na(each[2, ]), drop = FALSE]
  if (ncol(known) < 20L) return(list(note = "the metric is undefined on most draws"))
  naive <- score_summary(cmp, metric$name)$mean[leader]
  bias <- mean(known[2, ])
  score <- if (metric$direction == "higher") naive - bias else naive + bias
  reach <- stats::quantile(known[1, ], c(0.025, 0.975), names = FALSE)
  list(
    score = score, low = reach[1] + score - mean(known[1, ]),
    high = reach[2] + score - mean(known[1, ])
  )
}

# Of one draw, on the rows that were not drawn: the score of the setting that is best on the
# drawn ones, and how much better than that the leader's is. Both are of the same rows, so
# that with one setting there is no bias, whatever the metric.
drawn_bias <- function(metric, part, leading) {
  drawn <- part$draw()
  if (length(drawn$outside) == 0L) return(c(NA_real_, NA_real_))
  on_drawn <- score_rows(metric, part, drawn$inside)
  if (all(is.na(on_drawn))) return(c(NA_real_, NA_real_))
  picked <- which.max(goodness(on_drawn, metric))
  unseen <- score_rows(metric, part, drawn$outside, c(picked, leading))
  c(unseen[1], goodness(unseen[2], metric) - goodness(unseen[1], metric))
}

# A function that makes a bootstrap draw of rows, or of groups with all their rows: list(inside,
# outside), numbers of rows.
unit_drawer <- function(target) {
  n <- length(target$outcome)
  grouped <- !is.null(target$group)
  unit <- if (grouped) match(target$group, unique(target$group)) else seq_len(n)
  members <- if (grouped) split(seq_len(n), unit)
  units <- if (grouped) length(members) else n
  function() {
    taken <- sample.int(units, replace = TRUE)
    left <- rep(TRUE, units)
    left[taken] <- FALSE
    list(
      inside = if (grouped) unlist(members[taken], use.names = FALSE) else taken,
      outside = which(left[unit])
    )
  }
}

score_rows <- function(metric, part, at, settings = NULL) {
  truth <- truth_of(part$target, at)
  weights <- part$target$weights[at]
  dims <- length(dim(part$values))
  settings <- settings %||% seq_len(dim(part$values)[dims])
  if (!is.null(metric$undefined(truth, weights))) return(rep(NA_real_, length(settings)))
  prediction <- if (dims == 3L) {
    part$values[at, , settings, drop = FALSE]
  } else {
    part$values[at, settings, drop = FALSE]
  }
  metric$score(truth, prediction, weights)
}

nested_score <- function(nested, metric) {
  found <- nested$scores[nested$scores$metric == metric$name, ]
  if (nrow(found) == 0L) return(list(note = "was assessed by other metrics"))
  known <- found[!is.na(found$outer), ]
  score <- mean(known$outer)
  reach <- nested_reach(known, nested$folds)
  list(score = score, low = score - reach, high = score + reach)
}

# Half the width of the interval. Bates, Hastie & Tibshirani 2023, algorithm 1: how far inner scores
# are from outer ones, less what is owed to the few rows of an outer split, is how far a
# cross-validated score is from the truth; between the error of as many independent rows and that of
# one outer split. With the t quantile, there being few outer splits. `folds`: how many outer splits
# hold out every row once.
nested_reach <- function(known, folds) {
  n <- nrow(known)
  if (n < 2L) return(NA_real_)
  of_rows <- mean(known$outer_se^2)
  variance <- (1 - 1 / folds) * mean((known$inner - known$outer)^2 - known$outer_se^2)
  if (is.na(variance)) variance <- stats::var(known$outer) / n
  else variance <- min(max(variance, of_rows / folds), of_rows)
  stats::qt(0.975, max(1, min(n, round(folds)) - 1)) * sqrt(variance)
}
