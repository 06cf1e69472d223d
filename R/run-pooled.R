# Scores of held-out predictions of a repeat taken together, for splits whose
# validation parts are too small to be scored one by one. The standard error is the
# jackknife's over rows, or over groups where there are any (Efron & Tibshirani 1993,
# chapter 11), in at most 100 blocks; what every setting scores without each block is kept,
# so that differences of settings can be judged by the jackknife as well.

most_pooled_bytes <- 2e9
most_jackknife_blocks <- 100L

# A plan whose predictions could not be kept is refused before it runs.
check_pooled_size <- function(brief, splits, n_settings) {
  held_out <- sum(vapply(splits, function(split) length(split$validation), integer(1)))
  bytes <- held_out * max(1, length(brief$levels)) * n_settings * 8
  if (bytes > most_pooled_bytes) {
    stop_kw(
      "plan",
      paste0(
        "Scoring held-out predictions together needs all of them at once: ",
        format(round(bytes / 1e9, 1)), " GB for ", count_of(n_settings, "setting"), "."
      ),
      remedy = "Try fewer settings, or larger validation parts."
    )
  }
}

# A metric that compares rows with one another would compare predictions of different
# models: under leave-one-out a baseline gets an AUC of 0 that way. It needs pairs of rows
# of one part, or is refused.
check_poolable <- function(metrics, brief, splits) {
  for (metric in metrics) {
    why <- why_not_poolable(metric, brief, splits)
    if (is.null(why)) next
    stop_kw(
      "splits", paste0(metric$label, " cannot be had here: ", why, "."),
      where = paste(
        "The validation parts are so small that predictions of different models are scored",
        "together, and those do not rank one another's rows."
      ),
      remedy = paste(
        "Use larger parts, e.g. split_kfold(5), or a metric of single rows such as",
        "\"log_loss\"."
      )
    )
  }
}

why_not_poolable <- function(metric, brief, splits) {
  if (!metric$compares_rows) return(NULL)
  if (is.null(metric$score_in_parts)) return("it compares all rows with one another")
  outcome <- brief$table[[brief$outcome]]
  rep <- vapply(splits, `[[`, integer(1), "rep")
  pairs <- vapply(
    splits, function(split) length(unique(outcome[split$validation])) > 1L, logical(1)
  )
  if (all(tapply(pairs, rep, any))) NULL else "no part holds rows of two classes"
}

# The usual metrics of an outcome kind, less those that these splits do not allow.
usual_metrics <- function(brief, splits, pooled) {
  names <- outcome_kind(brief$kind)$metrics
  if (!pooled) return(names)
  fine <- vapply(find_metrics(names, brief$kind), function(metric) {
    is.null(why_not_poolable(metric, brief, splits))
  }, logical(1))
  if (all(fine)) names else union(names[fine], "brier")
}

# `judged = FALSE`, while a run goes on: what ranks alone, without its error.
pool_scores <- function(results, plan, judged = TRUE) {
  metrics <- forgiving_metrics(plan)
  if (!judged) metrics <- metrics[plan$decide]
  target <- brief_target(plan$brief)
  blocks <- if (judged) jackknife_blocks(target)
  n <- length(results$candidate)
  reps <- sort(unique(vapply(plan$splits, `[[`, integer(1), "rep")))
  chunks <- split(seq_len(n), (seq_len(n) - 1L) %/% 200L)
  found <- lapply(chunks, function(settings) {
    predictions <- lapply(reps, function(rep) gather_predictions(results, plan, rep, settings))
    lapply(metrics, pooled_metric, predictions = predictions, target = target, blocks = blocks)
  })
  results$pooled <- lapply(stats::setNames(nm = names(metrics)), function(metric) {
    Reduce(join_pooled_scores, lapply(found, `[[`, metric))
  })
  results
}

# Scores of some settings and of others.
join_pooled_scores <- function(a, b) {
  list(
    scores = rbind(a$scores, b$scores), se = c(a$se, b$se),
    without = cbind(a$without, b$without)
  )
}

# Rows of the working table in blocks; rows of one group are in one block.
jackknife_blocks <- function(target) {
  unit <- inner_unit(target)
  number <- match(unit, unique(unit))
  count <- max(number)
  (number - 1L) %% min(count, most_jackknife_blocks) + 1L
}

# rows (held out in this repeat), the part that each was held out in, their predictions, rows x
# classes x settings (or rows x settings), and which settings have them of all parts.
gather_predictions <- function(results, plan, rep, settings) {
  splits <- which(vapply(plan$splits, function(split) split$rep == rep, logical(1)))
  rows <- lapply(plan$splits[splits], `[[`, "validation")
  from <- cumsum(c(0L, lengths(rows)))
  classes <- length(plan$brief$levels)
  whole <- array(NA_real_, c(sum(lengths(rows)), if (classes > 0L) classes, length(settings)))
  parts <- integer(length(settings))
  for (record in results$predictions) {
    part <- match(record$split, splits)
    mine <- match(record$settings, settings)
    if (is.na(part) || all(is.na(mine))) next
    at <- from[part] + seq_along(rows[[part]])
    there <- mine[!is.na(mine)]
    parts[there] <- parts[there] + 1L
    if (classes > 0L) {
      whole[at, , there] <- record$values[, , record$place[!is.na(mine)], drop = FALSE]
    } else {
      whole[at, there] <- record$values[, record$place[!is.na(mine)], drop = FALSE]
    }
  }
  list(
    rows = unlist(rows), part = rep(seq_along(rows), lengths(rows)), values = whole,
    complete = parts == length(splits)
  )
}

# One score a setting of held-out predictions taken together, NA where a part of them is missing,
# which no metric is shown; NULL where the truth leaves the metric undefined. Metrics that compare
# rows do so within the parts.
score_together <- function(metric, prediction, target, keep = rep(TRUE, length(prediction$rows))) {
  rows <- prediction$rows[keep]
  truth <- truth_of(target, rows)
  weights <- target$weights[rows]
  if (!is.null(metric$undefined(truth, weights))) return(NULL)
  values <- prediction$values
  scores <- rep(NA_real_, dim(values)[length(dim(values))])
  settings <- settings_in(prediction, scores)
  if (length(settings) == 0L) return(scores)
  values <- if (length(dim(values)) == 3L) {
    values[keep, , settings, drop = FALSE]
  } else {
    values[keep, settings, drop = FALSE]
  }
  scores[settings] <- if (is.null(metric$score_in_parts)) {
    metric$score(truth, values, weights)
  } else {
    metric$score_in_parts(truth, values, weights, prediction$part[keep])
  }
  scores
}

# Those whose predictions are all there; all of them where it is not said.
settings_in <- function(prediction, scores) {
  if (is.null(prediction$complete)) seq_along(scores) else which(prediction$complete)
}

# scores: settings x repeats; without: blocks x settings, mean over repeats of the scores
# without each block; se: settings. Without `blocks` the scores only.
pooled_metric <- function(metric, predictions, target, blocks = NULL) {
  whole <- lapply(predictions, score_together, metric = metric, target = target)
  if (any(vapply(whole, is.null, logical(1)))) {
    stop_kw(
      "splits",
      paste0(
        "The metric ", quoted(metric$name), " is undefined on the held-out rows taken together."
      ),
      remedy = "Use another metric."
    )
  }
  scores <- matrix(unlist(whole), ncol = length(whole))
  if (is.null(blocks)) return(list(scores = scores, without = NULL, se = NULL))
  leave_out <- Map(leaving_out, predictions, whole, list(metric), list(target))
  without <- lapply(unique(blocks), function(block) {
    each <- Map(function(prediction, score) {
      score(blocks[prediction$rows] == block)
    }, predictions, leave_out)
    if (any(vapply(each, is.null, logical(1)))) NULL else Reduce(`+`, each) / length(each)
  })
  without <- do.call(rbind, without) %||% matrix(NA_real_, 0L, nrow(scores))
  list(scores = scores, without = without, se = jackknife_error(without))
}

# Scores without some rows, as a function of which; `all`: the scores with them. A metric that is a
# sum over rows, or over pairs within the parts, does not look at all the others again.
leaving_out <- function(prediction, all, metric, target) {
  if (is_sum_of_rows(metric, all)) return(leaving_out_of_sum(prediction, all, metric, target))
  if (!is.null(metric$pairs_in_parts)) {
    return(leaving_out_of_pairs(prediction, all, metric, target))
  }
  function(inside) score_together(metric, prediction, target, !inside)
}

# Of metrics of the user's nobody knows whether they heed weights.
is_sum_of_rows <- function(metric, scores) {
  metric$row_wise && identical(metric$undefined, never_undefined) &&
    !is.null(named_member(metric)) && !any(is.infinite(scores))
}

leaving_out_of_sum <- function(prediction, all, metric, target) {
  weights <- target$weights[prediction$rows] %||% rep(1, length(prediction$rows))
  function(inside) {
    if (sum(weights[inside]) == 0) return(all)
    of_block <- score_together(metric, prediction, target, inside)
    (sum(weights) * all - sum(weights[inside]) * of_block) / sum(weights[!inside])
  }
}

leaving_out_of_pairs <- function(prediction, all, metric, target) {
  settings <- settings_in(prediction, all)
  if (length(settings) == 0L) return(function(inside) all)
  truth <- truth_of(target, prediction$rows)
  weights <- target$weights[prediction$rows]
  part <- prediction$part
  pairs_of <- function(rows) {
    values <- prediction$values[rows, , settings, drop = FALSE]
    metric$pairs_in_parts(truth[rows], values, weights[rows], part[rows])
  }
  whole <- pairs_of(rep(TRUE, length(part)))
  function(inside) {
    if (!is.null(metric$undefined(truth[!inside], weights[!inside]))) return(NULL)
    parts <- unique(part[inside])
    left <- pairs_of(part %in% parts & !inside)
    all[settings] <- metric$score_of_pairs(Map(replaced_parts, whole, left, list(parts)))
    all
  }
}

# What is counted in parts, with some counted anew; those that no row is left of have no pairs.
replaced_parts <- function(whole, anew, parts) {
  parts <- as.character(parts)
  whole$pairs[parts] <- 0
  whole$right[, parts] <- 0
  whole$pairs[names(anew$pairs)] <- anew$pairs
  whole$right[, names(anew$pairs)] <- anew$right
  whole
}

# Standard errors of the columns of a matrix of leave-one-block-out values.
jackknife_error <- function(without) {
  n <- nrow(without)
  if (n < 2L) return(rep(NA_real_, ncol(without)))
  sqrt((n - 1) / n * colSums(sweep(without, 2L, colMeans(without))^2))
}
