# Scores of held-out predictions of a repeat taken together, for splits whose
# validation parts are too small to be scored one by one. The standard error is the
# jackknife's over rows, or over groups where there are any (Efron & Tibshirani 1993,
# chapter 11), in at most 100 blocks.

most_pooled_bytes <- 2e9
most_jackknife_blocks <- 100L

# A plan whose predictions could not be kept is refused before it runs.
check_pooled_size <- function(brief, splits, n_settings) {
  held_out <- sum(vapply(splits, function(split) length(split$validation), integer(1)))
  bytes <- held_out * max(1, length(brief$levels)) * n_settings * 8
  if (bytes > most_pooled_bytes) {
    stop_kw("plan", paste0(
      "Scoring held-out predictions together needs all of them at once: ",
      format(round(bytes / 1e9, 1)), " GB for ",
      count_of(n_settings, "setting"), "."
    ),
    remedy = "Try fewer settings, or larger validation parts."
    )
  }
}

pool_scores <- function(results, plan) {
  target <- brief_target(plan$brief)
  blocks <- jackknife_blocks(target)
  n <- length(results$candidate)
  reps <- sort(unique(vapply(plan$splits, `[[`, integer(1), "rep")))
  pooled <- lapply(plan$metrics, function(metric) {
    list(scores = matrix(NA_real_, n, length(reps)), se = rep(NA_real_, n))
  })
  for (settings in split(seq_len(n), (seq_len(n) - 1L) %/% 200L)) {
    predictions <- lapply(reps, function(rep) gather_predictions(results, plan, rep, settings))
    for (metric in plan$metrics) {
      found <- pooled_metric(metric, predictions, target, blocks)
      pooled[[metric$name]]$scores[settings, ] <- found$scores
      pooled[[metric$name]]$se[settings] <- found$se
    }
  }
  results$pooled <- pooled
  results
}

# Rows of the working table in blocks; rows of one group are in one block.
jackknife_blocks <- function(target) {
  unit <- inner_unit(target)
  number <- match(unit, unique(unit))
  count <- max(number)
  (number - 1L) %% min(count, most_jackknife_blocks) + 1L
}

# rows (held out in this repeat) and their predictions, rows x classes x settings
# (or rows x settings); settings with a missing part have NA there.
gather_predictions <- function(results, plan, rep, settings) {
  splits <- which(vapply(plan$splits, function(split) split$rep == rep, logical(1)))
  rows <- lapply(plan$splits[splits], `[[`, "validation")
  from <- cumsum(c(0L, lengths(rows)))
  classes <- length(plan$brief$levels)
  whole <- array(NA_real_, c(sum(lengths(rows)), if (classes > 0L) classes, length(settings)))
  for (record in results$predictions) {
    part <- match(record$split, splits)
    mine <- match(record$settings, settings)
    if (is.na(part) || all(is.na(mine))) next
    at <- from[part] + seq_along(rows[[part]])
    if (classes > 0L) {
      whole[at, , mine[!is.na(mine)]] <- record$values[, , record$place[!is.na(mine)], drop = FALSE]
    } else {
      whole[at, mine[!is.na(mine)]] <- record$values[, record$place[!is.na(mine)], drop = FALSE]
    }
  }
  list(rows = unlist(rows), values = whole)
}

# scores: settings x repeats; se: settings.
pooled_metric <- function(metric, predictions, target, blocks) {
  score <- function(prediction, keep) {
    rows <- prediction$rows[keep]
    weights <- target$weights[rows]
    if (!is.null(metric$undefined(target$outcome[rows], weights))) return(NULL)
    values <- prediction$values
    part <- if (length(dim(values)) == 3L) {
      values[keep, , , drop = FALSE]
    } else {
      values[keep, , drop = FALSE]
    }
    metric$score(target$outcome[rows], part, weights)
  }
  whole <- lapply(predictions, function(prediction) {
    score(prediction, rep(TRUE, length(prediction$rows)))
  })
  if (any(vapply(whole, is.null, logical(1)))) {
    stop_kw(
      "splits",
      paste0(
        "The metric ", quoted(metric$name),
        " is undefined on the held-out rows taken together."
      ),
      remedy = "Use another metric."
    )
  }
  without <- lapply(unique(blocks), function(block) {
    each <- lapply(predictions, function(prediction) {
      score(prediction, blocks[prediction$rows] != block)
    })
    if (any(vapply(each, is.null, logical(1)))) NULL else Reduce(`+`, each) / length(each)
  })
  without <- do.call(rbind, without)
  n <- nrow(without)
  enough <- !is.null(n) && n > 1L
  se <- if (enough) {
    sqrt((n - 1) / n * colSums(sweep(without, 2L, colMeans(without))^2))
  } else {
    rep(NA_real_, length(whole[[1]]))
  }
  list(scores = matrix(unlist(whole), ncol = length(whole)), se = se)
}
