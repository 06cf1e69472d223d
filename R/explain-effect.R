#' How predictions move with one or two columns
#'
#' Partial dependence (Friedman 2001, Annals of Statistics 29): the mean prediction over
#' some working rows with the column set to one value after another, and the curve of every
#' single row (Goldstein et al. 2015). Where columns move together in the data, some of the
#' rows so made are ones that never occur.
#'
#' @param model A model from [fit_final()].
#' @param columns One or two names of predictor columns.
#' @param rows At most so many working rows, drawn at random.
#' @param points At most so many values of a numeric column, between its 2nd and 98th
#'   percentiles.
#' @param class Which class's probability, for classes; default the event, or the last class.
#' @param seed Seed of the draw of rows.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A `kw_column_effect`: a list with `mean`, a tibble with one row a value (or a pair):
#'   the columns, `mean`, `sd` over rows; `rows`, for one column a tibble with `row`, the
#'   column and `prediction`; see [draw_dependence()].
#' @section Errors:
#' `kw_error_argument` for a column that the model does not use, `kw_error_select` for a
#' model that was opened from a file and so carries no rows.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1,
#'   quiet = TRUE
#' )
#' column_effect(fit_final(select_final(cmp)), "wall_mm")$mean
#' @export
column_effect <- function(model, columns, rows = 200, points = 25, class = NULL, seed = 1, ...) {
  no_more(...)
  check_class(model, "kw_model", "model", "Make one with fit_final().")
  check_argument(
    is.character(columns) && length(columns) %in% 1:2,
    "columns",
    "one or two names of columns",
    columns
  )
  check_columns_exist(columns, names(model$schema), "columns")
  check_number(rows, "rows", min = 1, whole = TRUE)
  check_number(points, "points", min = 2, whole = TRUE)
  if (is.null(model$brief)) {
    stop_kw("select", "A model opened from a file carries no rows to average over.",
      remedy = "Use the model from fit_final()."
    )
  }
  if (has_classes(model$kind)) {
    class <- class %||% model$event %||% model$levels[length(model$levels)]
    check_choice(class, model$levels, "class")
  }
  column <- if (has_classes(model$kind)) match(class, model$levels)
  table <- model$brief$table
  some <- with_seed(seed, sort(sample.int(nrow(table), min(rows, nrow(table)))))
  values <- lapply(stats::setNames(nm = columns), function(name) {
    values_to_try(table[[name]], points)
  })
  grid <- expand.grid(lapply(values, seq_along))
  frame <- frame_columns(frame_of_rows(table, some), model$schema)
  n <- length(some)
  per_block <- max(1L, block_rows %/% n)
  prediction <- unlist(
    lapply(split(seq_len(nrow(grid)), (seq_len(nrow(grid)) - 1L) %/% per_block), function(block) {
      stacked <- frame_rows(frame, rep(seq_len(n), length(block)))
      for (name in columns) {
        whole <- stacked$columns[[name]]
        whole[] <- frame_value(values[[name]], whole)[rep(grid[[name]][block], each = n)]
        stacked$columns[[name]] <- whole
      }
      found <- predict_frame(model, stacked)
      if (!is.null(column)) return(found[, column])
      if (is_wide(model$kind)) middle_prediction(found, model$quantiles) else found
    }),
    use.names = FALSE
  )
  each <- matrix(prediction, n)
  weights <- brief_target(model$brief, some)$weights
  mean <- lapply(stats::setNames(nm = columns), function(name) values[[name]][grid[[name]]])
  summary <- tibble::as_tibble(
    c(mean, list(
      mean = apply(each, 2L, weighted_mean, weights), sd = apply(each, 2L, weighted_sd, weights)
    )),
    .name_repair = "minimal"
  )
  curves <- if (length(columns) == 1L) {
    found <- list(
      row = rep(model$brief$rows[some], ncol(each)),
      value = values[[1]][rep(seq_along(values[[1]]), each = n)],
      prediction = as.vector(each)
    )
    tibble::as_tibble(
      stats::setNames(found, c("row", columns, "prediction")),
      .name_repair = "minimal"
    )
  }
  structure(
    list(
      mean = summary, rows = curves, columns = columns, class = class,
      outcome = if (is.null(model$quantiles)) {
        outcome_words(model)
      } else {
        paste(middle_words(model$quantiles), "of", model$outcome)
      },
      seen = unclass(table)[columns]
    ),
    class = "kw_column_effect"
  )
}

values_to_try <- function(x, points) {
  known <- x[!is.na(x)]
  if (is.numeric(x) || inherits(x, c("Date", "POSIXct"))) {
    distinct <- sort(unique(known))
    if (length(distinct) <= points) return(distinct)
    return(unique(stats::quantile(
      known, seq(0.02, 0.98, length.out = points),
      names = FALSE, type = 1
    )))
  }
  counts <- sort(table(as.character(known)), decreasing = TRUE)
  names(counts)[seq_len(min(length(counts), points))]
}

# Values in the form that the frame holds the column in.
frame_value <- function(values, like) {
  if (is.factor(like)) return(factor(values, levels = levels(like), ordered = is.ordered(like)))
  if (is.character(like)) return(as.character(values))
  values
}

#' Would more rows help?
#'
#' The chosen setting is fitted on growing shares of each split's training rows (whole
#' groups, if the brief has any) and scored on the same validation rows. From four shares on, an
#' inverse power of the number of rows is fitted to the curve (Cortes, Jackel, Solla, Vapnik &
#' Denker 1994; Figueroa, Zeng-Treitler, Kandula & Ngo 2012) and goes on beyond the rows that there
#' are: a prognosis, if the curve goes on as it has been bent so far. Its interval is that of the
#' gain, from the last point on, by the jackknife over splits.
#'
#' @param choice A choice from [select_final()].
#' @param shares Shares of the training rows, between 0 and 1.
#' @param metric The metric; default the deciding one.
#' @param most_splits Only the first so many splits are used (all of the first repeat, where
#'   predictions are scored together).
#' @param beyond How many times as many rows a prognosis is made for; `NULL`: none.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A `kw_learning_curve`: a tibble with `share`, `rows` (mean number of training
#'   rows), `metric`, `training`, `validation`, `sd`, `se` (over splits), `splits`;
#'   attributes `by_split`, `says`, a sentence, and `prognosis`, a tibble with `rows`, `score`,
#'   `low` and `high` (95 % interval), or `NULL`.
#' @references Cortes, Jackel, Solla, Vapnik & Denker (1994), Learning curves: asymptotic values and
#'   rate of convergence, NIPS 6. Figueroa, Zeng-Treitler, Kandula & Ngo (2012), Predicting sample
#'   size required for classification performance, BMC Medical Informatics 12.
#' @section Errors:
#' `kw_error_argument` for shares that are none, `kw_error_splits` when a share leaves too few rows.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1,
#'   quiet = TRUE
#' )
#' learning_curve(select_final(cmp), shares = c(0.5, 1))
#' @export
learning_curve <- function(
  choice, shares = c(0.1, 0.2, 0.4, 0.6, 0.8, 1), metric = NULL,
  most_splits = 10, beyond = c(1.5, 2), ...
) {
  no_more(...)
  check_class(choice, "kw_choice", "choice", "Make one with select_final().")
  check_argument(
    is.numeric(shares) && length(shares) > 1L && all(shares > 0 & shares <= 1),
    "shares",
    "at least two shares between 0 and 1",
    shares
  )
  check_number(most_splits, "most_splits", min = 1, whole = TRUE)
  check_argument(
    is.null(beyond) || is.numeric(beyond) && all(beyond > 1 & beyond <= 10), "beyond",
    "numbers above 1, up to 10", beyond
  )
  shares <- sort(unique(shares))
  cmp <- choice$cmp
  plan <- cmp$plan
  metric <- cmp_metric(cmp, metric)
  splits <- utils::head(
    which(!is_apparent(plan$splits) & counted_splits(cmp, metric$name)), most_splits
  )
  refit <- new_refit(cmp, choice$at)
  if (plan$pooled) splits <- scoring_units(plan)[[1]]
  each <- lapply(splits, function(j) {
    order <- growing_order(plan, plan$splits[[j]])
    lapply(shares, function(share) curve_point(order, share, plan$splits[[j]], refit))
  })
  by_split <- if (plan$pooled) {
    pooled_curve(each, splits, plan, shares, metric)
  } else {
    split_curve(each, splits, plan, metric, thresholds_of(choice))
  }
  factor <- if (plan$pooled) {
    1 / sqrt(length(unique(by_split$split)))
  } else {
    error_factor(cmp, seq_along(plan$splits) %in% splits)
  }
  points <- lapply(shares, function(share) {
    mine <- by_split[by_split$share == share, ]
    known <- mine$validation[!is.na(mine$validation)]
    sd <- if (length(known) > 1L) stats::sd(known) else NA_real_
    list(
      share = share, rows = mean(mine$rows), metric = metric$name,
      training = mean(mine$training, na.rm = TRUE), validation = mean(known),
      sd = sd, se = sd * factor, splits = length(known)
    )
  })
  table <- tibble::as_tibble(data.table::rbindlist(points))
  prognosis <- if (!is.null(beyond)) prognosis_of_curve(table, by_split, metric, factor, beyond)
  says <- paste0(
    says_of_curve(table, by_split, metric, factor), says_of_prognosis(prognosis, metric)
  )
  table <- listing(table,
    title = paste0("Learning curve of ", choice_name(cmp, choice$at), " by ", metric$label),
    scores = c("training", "validation", "sd", "se"), certain = middle(table$se),
    shares = "share", hide = "metric", foot = says
  )
  mark_table(table, "kw_learning_curve",
    by_split = tibble::as_tibble(by_split), metric = metric, prognosis = prognosis,
    says = says, about = choice_name(cmp, choice$at)
  )
}

# score = a - b rows^-c with b > 0, else there is no gain; c is the one that fits best. Rows weigh
# as many as they are, since a curve's beginning says little of its far end. The gain counts from
# the last point on; its error is the jackknife's over splits, with the correction for rows in
# common.
prognosis_of_curve <- function(table, by_split, metric, factor, beyond) {
  good <- matrix(goodness(by_split$validation, metric)[order(by_split$split, by_split$share)],
    ncol = nrow(table), byrow = TRUE
  )
  good <- good[rowSums(is.na(good)) == 0L, , drop = FALSE]
  k <- nrow(good)
  if (nrow(table) < 4L || k == 0L) return(NULL)
  n <- table$rows / max(table$rows)
  gain <- gain_beyond(n, colMeans(good), beyond)
  reach <- rep(NA_real_, length(beyond))
  if (k > 2L) {
    without <- vapply(seq_len(k), function(j) {
      gain_beyond(n, colMeans(good[-j, , drop = FALSE]), beyond)
    }, gain)
    pseudo <- k * gain - (k - 1) * matrix(without, length(beyond))
    reach <- stats::qt(0.975, k - 1) * apply(pseudo, 1L, stats::sd) * factor
  }
  sign <- if (metric$direction == "higher") 1 else -1
  last <- table$validation[nrow(table)]
  ends <- last + sign * cbind(gain - reach, gain + reach)
  within <- function(x) pmin(pmax(x, metric$range[1]), metric$range[2])
  tibble::tibble(
    rows = beyond * max(table$rows), score = within(last + sign * gain),
    low = within(pmin(ends[, 1], ends[, 2])), high = within(pmax(ends[, 1], ends[, 2]))
  )
}

# By how much the curve rises from its last point (n = 1) to each of `beyond`.
gain_beyond <- function(n, good, beyond) {
  fits <- lapply(seq(0.1, 2, by = 0.05), function(power) {
    fit <- stats::lm.wfit(cbind(1, -n^-power), good, n)
    list(
      error = sum(n * fit$residuals^2), rise = fit$coefficients[[2]],
      gain = fit$coefficients[[2]] * (1 - beyond^-power)
    )
  })
  best <- fits[[which.min(vapply(fits, `[[`, 1, "error"))]]
  if (isTRUE(best$rise > 0)) best$gain else numeric(length(beyond))
}

says_of_prognosis <- function(prognosis, metric) {
  if (is.null(prognosis)) return("")
  far <- prognosis[nrow(prognosis), ]
  error <- (far$high - far$low) / 4
  paste0(
    " If the curve goes on so, ", format(round(far$rows), big.mark = ","), " rows would give ",
    round_to(far$score, error),
    if (!is.na(error)) {
      paste0(" (", round_to(far$low, error), " to ", round_to(far$high, error), ")")
    }, "."
  )
}

# One row a split and share.
split_curve <- function(each, splits, plan, metric, thresholds) {
  number <- match(splits, which(!is_apparent(plan$splits)))
  rows <- Map(function(points, j, i) {
    lapply(points, function(point) {
      score <- function(part) {
        if (is.null(part$prediction)) return(NA_real_)
        target <- part$target
        prediction <- part$prediction
        score_with_threshold(
          list(metric), truth_of(target), prediction, target$weights, thresholds[i]
        )
      }
      list(
        share = point$share, rows = point$rows, training = score(point$training),
        validation = score(point$validation), split = j
      )
    })
  }, each, splits, number)
  data.table::rbindlist(unlist(rows, recursive = FALSE))
}

# One row a block of the jackknife and share; the blocks' pseudo-values have the pooled
# score's error as their own.
pooled_curve <- function(each, splits, plan, shares, metric) {
  target <- brief_target(plan$brief)
  blocks <- jackknife_blocks(target)
  rows <- lapply(plan$splits[splits], `[[`, "validation")
  by_share <- lapply(seq_along(shares), function(s) {
    points <- lapply(each, `[[`, s)
    if (any(vapply(points, function(point) is.null(point$validation), logical(1)))) return(NULL)
    predictions <- lapply(points, function(point) {
      as_path_prediction(truth_of(target), point$validation$prediction)
    })
    pooled <- pooled_metric(metric, list(list(
      rows = unlist(rows), part = rep(seq_along(rows), lengths(rows)),
      values = stack_rows(predictions)
    )), target, blocks)
    n <- nrow(pooled$without)
    pseudo <- n * pooled$scores[1] - (n - 1) * pooled$without[, 1]
    list(
      share = rep(shares[s], n), rows = rep(mean(vapply(points, `[[`, 1, "rows")), n),
      training = rep(NA_real_, n),
      validation = pseudo - mean(pseudo) + pooled$scores[1], split = seq_len(n)
    )
  })
  data.table::rbindlist(by_share)
}

# Training rows of a split in a random order, group after group.
growing_order <- function(plan, split) {
  rows <- split$training
  group <- brief_target(plan$brief, rows)$group
  with_seed(derive_seed(plan$seed, paste("learning curve", split$key)), {
    if (is.null(group)) {
      rows[sample.int(length(rows))]
    } else {
      rows[order(match(group, sample(unique(group))))]
    }
  })
}

# Predictions of the training and validation rows; a fit that fails leaves its point without.
curve_point <- function(order, share, split, refit) {
  rows <- if (share == 1) {
    split$training
  } else {
    sort(order[seq_len(max(1L, round(share * length(order))))])
  }
  done <- with_conditions(without_rng_trace({
    refitted <- refit$fit(rows, paste(c(split$key, if (share < 1) share), collapse = " "))
    validation <- data_rows(refit$data, split$validation)
    own <- predict_family(refitted$fitted, refitted$input, refitted$value)
    list(
      training = list(target = refitted$target, prediction = own),
      validation = list(target = validation$target, prediction = refitted$predict(validation$frame))
    )
  }))
  c(list(share = share, rows = length(rows)), done$value)
}

# Does the score still rise from about 60 % of the rows to all of them? Split by split.
says_of_curve <- function(table, by_split, metric, factor) {
  last <- max(table$share)
  before <- table$share[which.min(abs(table$share - 0.6 * last))]
  if (before == last) before <- sort(table$share, decreasing = TRUE)[2]
  at <- function(share) goodness(by_split$validation[by_split$share == share], metric)
  rise <- at(last) - at(before)
  rise <- rise[!is.na(rise)]
  if (length(rise) == 0L) {
    return(paste0(
      "No split has ", metric$label, " on both fewer and more training rows: nothing can be said ",
      "of what more rows would bring."
    ))
  }
  rows <- function(share) {
    format(round(table$rows[table$share == share]), big.mark = ",", trim = TRUE)
  }
  step <- paste0(
    "From ", rows(before), " to ", rows(last), " training rows the mean ",
    metric$label, " got ",
    if (mean(rise) >= 0) "better" else "worse", " by ", signif(abs(mean(rise)), 2)
  )
  if (length(rise) < 2L) {
    return(paste0(step, "; with one split it cannot be said whether that is much."))
  }
  se <- stats::sd(rise) * factor
  paste0(
    step, " (se ", signif(se, 2), "): ",
    if (mean(rise) > 2 * se) {
      "it is still improving, so more rows would likely help."
    } else if (mean(rise) > se) {
      "perhaps it is still improving."
    } else {
      "it has levelled off, so more rows would likely help little."
    }
  )
}
