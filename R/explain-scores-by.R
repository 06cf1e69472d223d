#' Where candidates are weak: scores within the levels or ranges of a column
#'
#' Every candidate, at its best setting, is scored on the held-out rows of each part: the
#' levels of a category (the eleven largest, the rest together), or ranges of a number or a
#' date with as many rows in each, or its values where they are few. Parts come from the
#' working rows; missing values are a part of their own.
#'
#' A part's mean is over the splits on which its score is defined, each counting as its
#' held-out rows. The means of small parts move much by chance: `shrunk` draws them towards the
#' candidate's mean over all rows, the more the less certain they are (empirical Bayes; Efron &
#' Morris 1975, Journal of the American Statistical Association 70). Whether a part differs is
#' asked split by split, its score less that of all rows of the split, with the variance for
#' overlapping training rows of [shortlist()]; p values are adjusted for the number of parts
#' (Holm 1979, Scandinavian Journal of Statistics 6).
#'
#' @param cmp A comparison from [run_comparison()]. Without kept predictions, `keep =
#'   "all_predictions"`, the best settings are fitted once more.
#' @param column Name of a predictor, of the group or the time of the brief.
#' @param metric The metric; default the deciding one.
#' @param parts For numbers and dates: how many ranges.
#' @param level A part differs when its adjusted p value is at most 1 - `level`.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A tibble, one row a candidate and part: `candidate`, `setting`, `part`, `rows` (held out
#'   on any split, each once), `splits` (with a score), `metric`, `mean`, `sd` (over these splits),
#'   `shrunk`, `difference` (from all rows of the same splits), `p` (adjusted), and `answer`: is the
#'   candidate `"better"` or `"worse"` there than over all, or `"cannot tell"`; `NA` with fewer than
#'   five splits.
#' @section Errors:
#' `kw_error_argument` for a metric that was not scored or a column that cannot be divided,
#' `kw_error_brief` for a column that there is not, `kw_error_select` when nothing is ranked, or
#' when so few rows validate that predictions were scored together.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline(), tree = fam_tree()),
#'   splits = split_kfold(5), seed = 1, quiet = TRUE, keep = "all_predictions"
#' )
#' scores_by(cmp, "clay_body")
#' @export
scores_by <- function(cmp, column, metric = NULL, parts = 4, level = 0.95, ...) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  check_number(parts, "parts", min = 2, max = 50, whole = TRUE)
  check_number(level, "level", min = 0.5, max = 0.9999)
  metric <- cmp_metric(cmp, metric)
  part <- parts_of_column(brief_of(cmp), column, parts)
  best <- best_to_divide(cmp, metric)
  predictions <- lapply(best, setting_predictions, cmp = cmp)
  scores_in_parts(cmp, column, part, metric, level, best, predictions)
}

# Settings whose scores have parts: the best of each candidate.
best_to_divide <- function(cmp, metric) {
  if (has_pooled_scores(cmp)) {
    stop_kw("select", "So few rows validate on a split that their scores have no parts.",
      remedy = "Use larger validation parts, such as split_kfold(5)."
    )
  }
  best <- best_of_candidates(cmp, metric$name)
  if (length(best) == 0L) {
    stop_kw("select", "No setting is ranked, so none can be scored by parts.",
      remedy = "See failures(cmp)."
    )
  }
  best
}

scores_in_parts <- function(cmp, column, part, metric, level, best, predictions) {
  splits <- all_splits(cmp)[!is_apparent(all_splits(cmp))]
  ratio <- mean(vapply(splits, function(s) {
    length(s$validation) / length(unique(s$training))
  }, numeric(1)))
  tables <- Map(function(at, predicted) {
    scores <- part_scores(cmp, predicted, metric, part, splits)
    c(
      list(
        candidate = rep(candidate_names(cmp)[at], length(part$label)),
        setting = rep(cmp$results$row[at], length(part$label))
      ),
      part_verdicts(scores, part$label, metric, ratio, level, splitter_of(cmp)$paired)
    )
  }, best, predictions)
  found <- do.call(rbind, lapply(tables, as.data.frame))
  mark_table(tibble::as_tibble(found), "kw_scores_by",
    about = list(column = column, metric = metric, level = level)
  )
}

# Of the columns those by which some candidate's scores differ beyond chance: a list of what
# scores_by() gives, at most so many.
telling_parts <- function(cmp, columns, most = 3L) {
  metric <- cmp_metric(cmp)
  best <- best_to_divide(cmp, metric)
  predictions <- lapply(best, setting_predictions, cmp = cmp)
  found <- lapply(columns, function(column) {
    part <- tryCatch(parts_of_column(brief_of(cmp), column, 4), kw_error = function(e) NULL)
    if (!is.null(part)) scores_in_parts(cmp, column, part, metric, 0.95, best, predictions)
  })
  utils::head(Filter(function(one) any(one$answer %in% c("better", "worse")), found), most)
}

# Which part each working row is in: list(code, label).
parts_of_column <- function(brief, column, parts) {
  check_string(column, "column")
  possible <- c(names(brief$schema), unlist(brief$roles[c("group", "time")], use.names = FALSE))
  if (!column %in% possible) {
    stop_kw("brief", paste0("There is no column ", quoted(column), " to divide rows by."),
      remedy = did_you_mean(column, possible, "Columns"), column = column
    )
  }
  kind <- brief$schema[[column]]$kind
  if (identical(kind, "text")) {
    stop_kw("argument", paste0("The column ", quoted(column), " is text, which has no parts."),
      remedy = "Name a category, a number or a date.", argument = "column"
    )
  }
  parts_of_values(brief$table[[column]], parts)
}

# Scores of one setting: parts x splits, those of all rows of each split, and held-out rows.
part_scores <- function(cmp, predictions, metric, part, splits) {
  target <- brief_target(brief_of(cmp))
  score <- function(rows, prediction) {
    truth <- truth_of(target, rows)
    weights <- target$weights[rows]
    if (length(rows) == 0L || !is.null(metric$undefined(truth, weights))) return(NA_real_)
    suppressWarnings(as.double(score_predictions(metric, truth, prediction, weights)))
  }
  by_part <- vapply(seq_along(splits), function(i) {
    rows <- splits[[i]]$validation
    vapply(seq_along(part$label), function(p) {
      mine <- which(part$code[rows] == p)
      score(rows[mine], prediction_rows(predictions[[i]], mine))
    }, 1)
  }, numeric(length(part$label)))
  rows <- vapply(splits, function(split) {
    tabulate(part$code[split$validation], length(part$label))
  }, integer(length(part$label)))
  held_out <- unique(unlist(lapply(splits, `[[`, "validation")))
  list(
    by_part = matrix(by_part, length(part$label)), rows = matrix(rows, length(part$label)),
    distinct = as.double(tabulate(part$code[held_out], length(part$label))),
    whole = vapply(seq_along(splits), function(i) {
      score(splits[[i]]$validation, predictions[[i]])
    }, 1)
  )
}

part_verdicts <- function(scores, label, metric, ratio, level, paired) {
  known <- !is.na(scores$by_part)
  weight <- ifelse(known, scores$rows, 0)
  mean <- rowSums(weight * ifelse(known, scores$by_part, 0)) / rowSums(weight)
  splits <- rowSums(known)
  sd <- apply(scores$by_part, 1L, stats::sd, na.rm = TRUE)
  apart <- scores$by_part - rep(scores$whole, each = length(label))
  difference <- rowMeans(apart, na.rm = TRUE)
  error <- difference_error(apart, difference, splits, ratio)
  p <- 2 * stats::pt(-abs(difference / error), pmax(splits - 1, 1))
  # a part that is the whole of its splits has nothing to be compared with
  p[splits < fewest_splits | !is.finite(p) | !paired] <- NA
  p <- stats::p.adjust(p, "holm")
  good <- if (metric$direction == "higher") difference else -difference
  answer <- ifelse(p <= 1 - level, ifelse(good > 0, "better", "worse"), "cannot tell")
  list(
    part = label, rows = scores$distinct, splits = as.integer(splits),
    metric = rep(metric$name, length(label)), mean = ifelse(splits > 0L, mean, NA), sd = sd,
    shrunk = shrunk_means(mean, sd, splits, rowSums(weight)),
    difference = ifelse(splits > 0L, difference, NA), p = p, answer = answer
  )
}

# Means drawn towards that of all parts by how little is known of each.
shrunk_means <- function(mean, sd, splits, rows) {
  known <- is.finite(mean)
  usual <- sqrt(stats::weighted.mean(sd[known]^2, splits[known], na.rm = TRUE))
  # one part, or one split, says nothing of how far means move by chance
  if (sum(known) < 2L || !is.finite(usual)) return(ifelse(known, mean, NA))
  error <- ifelse(is.finite(sd), sd, usual)^2 / pmax(splits, 1)
  centre <- stats::weighted.mean(mean[known], rows[known])
  between <- max(0, stats::var(mean[known]) - mean(error[known]))
  share <- ifelse(between + error > 0, between / (between + error), 1)
  ifelse(known, centre + share * (mean - centre), NA)
}
