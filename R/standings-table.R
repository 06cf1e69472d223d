#' The standings of a comparison
#'
#' One row a setting, best first by the deciding metric.
#'
#' The standard error is `sd / sqrt(k)` for k-fold, however many repeats: scores
#' of different repeats are not independent. For bootstrap and repeated holdout
#' it is `sd * sqrt(1/J + n_validation/n_training)` over J draws (Nadeau & Bengio
#' 2003, Inference for the generalization error, Machine Learning 52), counting
#' distinct training rows.
#'
#' @param cmp A comparison from [run_comparison()].
#' @param by The metric to rank by; default the deciding one.
#' @param top Only the first so many rows.
#' @return A tibble: `place` (`NA` for settings that cannot be ranked since a split
#'   failed), `candidate`, `setting` (number within the candidate), one column for
#'   every hyperparameter that varied, `metric`, `mean`, `sd`, `se`, `lowest`,
#'   `highest`, `splits` (that counted), `training` and `gap` (mean training score
#'   and its distance from the mean, if kept), `seconds` (the setting's share of all
#'   work), `failed` (splits).
#' @examples
#' job <- brief(demo_pots(), outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'              ignore = c("cracked", "grade", "notes"))
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline(), tree = fam_tree()),
#'                       splits = split_kfold(3), seed = 1, quiet = TRUE)
#' standings(cmp)
#' @export
standings <- function(cmp, by = NULL, top = NULL) {
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  metric <- cmp_metric(cmp, by)
  if (!is.null(top)) check_number(top, "top", min = 1, whole = TRUE)
  results <- cmp$results
  counted <- counted_splits(cmp, metric$name)
  scores <- results$scores[[metric$name]][, counted, drop = FALSE]
  spread <- spread_of(scores)
  order <- order_settings(cmp, spread$mean, metric)
  training <- if (!is.null(results$training)) {
    rowMeans(results$training[[metric$name]][, counted, drop = FALSE])
  } else {
    rep(NA_real_, nrow(scores))
  }
  table <- c(
    list(place = ranks_in_order(spread$mean[order]),
         candidate = candidate_names(cmp)[order], setting = results$row[order]),
    lapply(varied_columns(cmp), function(column) column[order]),
    list(metric = rep(metric$name, length(order))),
    lapply(spread[c("mean", "sd")], `[`, order),
    list(se = (spread$sd * error_factor(cmp, counted))[order]),
    lapply(spread[c("lowest", "highest")], `[`, order),
    list(splits = rowSums(!is.na(scores))[order], training = training[order],
         gap = abs(training - spread$mean)[order],
         seconds = rowSums(results$seconds, na.rm = TRUE)[order],
         failed = failed_splits(cmp)[order])
  )
  table <- tibble::as_tibble(table)
  if (is.null(top)) table else utils::head(table, top)
}

cmp_metric <- function(cmp, by = NULL) {
  metrics <- cmp$plan$metrics
  by <- by %||% cmp$plan$decide
  check_choice(by, names(metrics), "by")
  metrics[[by]]
}

# Splits on which the truth allows a score.
counted_splits <- function(cmp, metric) is.na(cmp$plan$undefined[[metric]])

spread_of <- function(scores) {
  n <- ncol(scores)
  mean <- rowMeans(scores)
  sd <- if (n < 2L) rep(NA_real_, nrow(scores)) else sqrt(rowSums((scores - mean)^2) / (n - 1))
  columns <- lapply(seq_len(n), function(j) scores[, j])
  list(mean = mean, sd = sd, lowest = do.call(pmin, columns), highest = do.call(pmax, columns))
}

# se = sd * this
error_factor <- function(cmp, counted) {
  splits <- cmp$plan$splits[counted]
  n <- length(splits)
  if (cmp$plan$splitter$spread == "folds") {
    repeats <- length(unique(vapply(splits, `[[`, numeric(1), "rep")))
    return(1 / sqrt(n / repeats))
  }
  if (cmp$plan$splitter$spread == "draws") {
    ratio <- mean(vapply(splits, function(s) length(s$validation) / length(unique(s$training)), numeric(1)))
    return(sqrt(1 / n + ratio))
  }
  1 / sqrt(n)
}

candidate_names <- function(cmp) names(cmp$plan$spaces)[cmp$results$candidate]

failed_splits <- function(cmp) {
  failed <- integer(length(cmp$results$candidate))
  for (failure in cmp$results$failures) failed[failure$settings] <- failed[failure$settings] + 1L
  failed
}

# Best mean first; of equal ones the simplest. Settings without a mean come last.
order_settings <- function(cmp, mean, metric) {
  do.call(order, c(list(-goodness(mean, metric)), simplicity_keys(cmp), list(na.last = TRUE)))
}

ranks_in_order <- function(mean) {
  place <- seq_along(mean)
  place[is.na(mean)] <- NA_integer_
  place
}

# Keys by which settings are ordered from simple to complex: the family's rank,
# then what the family says, then number of steps, candidate, setting.
simplicity_keys <- function(cmp) {
  results <- cmp$results
  spaces <- cmp$plan$spaces
  rank <- vapply(spaces, function(s) s$pipeline$family$definition$complexity_rank, numeric(1))
  own <- lapply(seq_along(spaces), function(i) {
    settings <- results$tables[[i]]
    definition <- spaces[[i]]$pipeline$family$definition
    definition$simplicity(family_columns(spaces[[i]], settings))
  })
  width <- max(0L, lengths(own))
  columns <- lapply(seq_len(width), function(k) {
    key <- numeric(length(results$candidate))
    for (i in seq_along(spaces)) {
      mine <- results$candidate == i
      if (k <= length(own[[i]]) && is.numeric(own[[i]][[k]])) key[mine] <- own[[i]][[k]][results$row[mine]]
    }
    key[is.na(key)] <- 0
    key
  })
  c(list(rank[results$candidate]), columns,
    list(step_counts(cmp), candidate_names(cmp), results$row))
}

step_counts <- function(cmp) {
  unlist(Map(function(space, settings) {
    if (nrow(settings) == 0L) return(integer())
    in_steps <- vapply(space$dimensions, function(d) d$kind == "alternative", logical(1))
    chain <- group_rows(settings[names(which(in_steps))], nrow(settings))
    rows <- match(seq_len(max(chain)), chain)
    counts <- vapply(rows, function(row) {
      length(fill_pipeline(space$pipeline, space$dimensions, setting_values(settings, row))$steps)
    }, integer(1))
    counts[chain]
  }, cmp$plan$spaces, cmp$results$tables)[unique(cmp$results$candidate)], use.names = FALSE)[
    order(order(cmp$results$candidate, cmp$results$row))]
}

# Hyperparameters that took more than one value in some candidate, one column
# each for all settings.
varied_columns <- function(cmp) {
  results <- cmp$results
  several <- lapply(results$tables, function(settings) {
    names(settings)[vapply(settings, function(column) length(unique(column)) > 1L, logical(1))]
  })
  names <- unique(unlist(several))
  columns <- lapply(names, function(name) {
    parts <- lapply(results$tables, `[[`, name)
    as_text <- any(vapply(parts, is.character, logical(1)))
    values <- lapply(seq_along(parts), function(i) {
      column <- parts[[i]] %||% rep(NA, nrow(results$tables[[i]]))
      (if (as_text) as.character(column) else column)
    })
    whole <- rep(values[[1]][NA_integer_][1], length(results$candidate))
    for (i in seq_along(values)) {
      mine <- results$candidate == i
      whole[mine] <- values[[i]][results$row[mine]]
    }
    whole
  })
  stats::setNames(columns, names)
}

# "complexity = 0.01, impurity = gini" for one setting of a candidate.
setting_label <- function(cmp, at, all = TRUE) {
  candidate <- cmp$results$candidate[at]
  settings <- cmp$results$tables[[candidate]]
  if (!all) settings <- settings[vapply(settings, function(x) length(unique(x)) > 1L, logical(1))]
  values <- setting_values(settings, cmp$results$row[at])
  values <- values[!is.na(values)]
  if (length(values) == 0L) return("")
  paste(names(values), vapply(values, format_value, character(1)), sep = " = ", collapse = ", ")
}

format_value <- function(x) if (is.numeric(x)) format(signif(x, 6), digits = 4) else as.character(x)
