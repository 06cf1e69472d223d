#' Which columns matter to the chosen setting
#'
#' Permutation importance on rows that were held out: on every split the setting is fitted
#' on the training rows, a column of the validation rows is shuffled, and the score compared
#' with the one before. How much worse it gets is the column's importance there (Breiman
#' 2001, Machine Learning 45; Fisher, Rudin & Dominici 2019). Columns are the brief's, before
#' any step; columns that say the same share their importance, and a column may matter little
#' only because another one stands in for it. Where predictions are scored together, as
#' under leave-one-out, a column is shuffled among all held-out rows of the first repeat and
#' they are scored together, too; `sd`, `lowest` and `highest` are then over the shuffles.
#' Metrics of the called class use the threshold of [set_threshold()], if there is one.
#'
#' @param choice A choice from [select_final()].
#' @param metric The metric; default the deciding one.
#' @param times Shuffles of every column on every split.
#' @param columns Names of predictor columns; default all.
#' @param most_splits Only the first so many splits are used (all of the first repeat, where
#'   predictions are scored together).
#' @param seed Seed of the shuffles; default the comparison's.
#' @return A `kw_importance`: a tibble, most important first: `column`, `metric`,
#'   `importance` (mean over splits, in the metric's unit, positive = the column helps),
#'   `sd`, `lowest`, `highest` (over splits), `splits`; attribute `by_split`.
#' @section Errors:
#' `kw_error_select` for a model that was opened from a file, `kw_error_brief` for columns that
#' there are not.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1,
#'   quiet = TRUE
#' )
#' column_importance(select_final(cmp), times = 2)
#' @export
column_importance <- function(
  choice, metric = NULL, times = 5, columns = NULL, most_splits = 10,
  seed = NULL
) {
  check_class(choice, "kw_choice", "choice", "Make one with select_final().")
  check_number(times, "times", min = 1, whole = TRUE)
  check_number(most_splits, "most_splits", min = 1, whole = TRUE)
  cmp <- choice$cmp
  brief <- cmp$plan$brief
  metric <- cmp_metric(cmp, metric)
  columns <- columns %||% names(brief$schema)
  check_columns_exist(columns, names(brief$schema), "columns")
  seed <- seed %||% cmp$plan$seed
  refit <- new_refit(cmp, choice$at)
  each <- without_rng_trace(lapply(scoring_units(cmp$plan, most_splits), function(splits) {
    with_seed(
      derive_seed(seed, paste("importance", cmp$plan$splits[[splits[1]]]$key)),
      unit_importance(refit, splits, choice, metric, columns, times)
    )
  }))
  by_split <- do.call(rbind, each)
  dimnames(by_split) <- list(NULL, columns)
  known <- by_split[!is.na(by_split[, 1]), , drop = FALSE]
  if (nrow(known) == 0L) {
    stop_kw("select", paste0("The metric ", quoted(metric$name), " is undefined on every split."))
  }
  mean <- colMeans(known)
  sd <- if (nrow(known) > 1L) apply(known, 2L, stats::sd) else rep(NA_real_, ncol(known))
  table <- tibble::tibble(
    column = columns, metric = metric$name, importance = unname(mean),
    sd = unname(sd),
    lowest = unname(apply(known, 2L, min)),
    highest = unname(apply(known, 2L, max)), splits = nrow(known)
  )
  order <- order(-table$importance)
  mark_table(
    table[order, ],
    "kw_importance",
    by_split = known[, order, drop = FALSE],
    about = choice_name(cmp, choice$at),
    label = metric$label
  )
}

# Numbers of the splits that are scored together: each by itself, or all of the first repeat.
scoring_units <- function(plan, most = Inf) {
  splits <- which(!is_apparent(plan$splits))
  if (!plan$pooled) return(as.list(utils::head(splits, most)))
  rep <- vapply(plan$splits[splits], `[[`, integer(1), "rep")
  list(splits[rep == rep[1]])
}

# So many rows are predicted in one go.
block_rows <- 200000L

# The decision threshold of a choice on each of its splits that count, or NULL.
thresholds_of <- function(choice) {
  threshold <- choice$threshold
  if (is.null(threshold)) return(NULL)
  ifelse(is.na(threshold$by_split), threshold$value, threshold$by_split)
}

# How much worse each column makes the score if it is shuffled among the rows that these
# splits hold out: one row (times rows if there are several splits) by columns.
unit_importance <- function(refit, splits, choice, metric, columns, times) {
  plan <- choice$cmp$plan
  held <- lapply(plan$splits[splits], `[[`, "validation")
  rows <- unlist(held)
  all <- data_rows(refit$data, rows)
  none <- matrix(NA_real_, 1L, length(columns))
  if (!is.null(metric$undefined(all$target$outcome, all$target$weights))) return(none)
  copies <- c("", rep(columns, each = times))
  weights <- all$target$weights
  if (!is.null(weights) && sum(weights) <= 0) return(none)
  # where rows count differently, so do those that values come from
  orders <- lapply(copies, function(column) {
    if (nzchar(column)) sample.int(length(rows), replace = !is.null(weights), prob = weights)
  })
  number <- match(splits, which(!is_apparent(plan$splits)))
  threshold <- if (metric$by_class) thresholds_of(choice)[number]
  from <- cumsum(lengths(held)) - lengths(held)
  predicted <- lapply(seq_along(splits), function(i) {
    at <- from[i] + seq_along(held[[i]])
    shuffled_predictions(
      refit, plan$splits[[splits[i]]], all$frame, at, copies, orders, threshold[i]
    )
  })
  values <- stack_rows(predicted)
  part <- rep(seq_along(held), lengths(held))
  scores <- if (length(splits) > 1L && !is.null(metric$score_in_parts)) {
    metric$score_in_parts(all$target$outcome, values, all$target$weights, part)
  } else {
    metric$score(truth_of(all$target), values, all$target$weights)
  }
  good <- goodness(scores, metric)
  lost <- matrix(good[1] - good[-1], times)
  if (length(splits) > 1L) lost else matrix(colMeans(lost), 1L)
}

# Predictions of some of the held-out rows, fitted on a split's training rows, for every copy
# of them: rows x copies, or rows x classes x copies.
shuffled_predictions <- function(refit, split, frame, at, copies, orders, threshold) {
  fitted <- suppressWarnings(refit$fit(split$training, split$key))
  n <- length(at)
  blocks <- split(seq_along(copies), (seq_along(copies) - 1L) %/% max(1L, block_rows %/% n))
  found <- lapply(blocks, function(block) {
    stacked <- frame_rows(frame, rep(at, length(block)))
    for (i in seq_along(block)) {
      column <- copies[block[i]]
      if (!nzchar(column)) next
      place <- (i - 1L) * n + seq_len(n)
      stacked$columns[[column]][place] <- frame$columns[[column]][orders[[block[i]]][at]]
    }
    prediction <- fitted$predict(stacked)
    if (!is.null(threshold)) prediction <- calls_at(prediction, threshold)
    if (is.null(dim(prediction))) return(matrix(prediction, n))
    aperm(array(prediction, c(n, length(block), ncol(prediction))), c(1L, 3L, 2L))
  })
  several <- length(dim(found[[1]])) == 3L
  if (!several) return(do.call(cbind, found))
  array(unlist(found), c(dim(found[[1]])[1:2], length(copies)))
}

# Arrays of the same copies, one below the other.
stack_rows <- function(parts) {
  if (length(parts) == 1L) return(parts[[1]])
  if (length(dim(parts[[1]])) == 2L) return(do.call(rbind, parts))
  n <- vapply(parts, nrow, 1L)
  whole <- array(0, c(sum(n), dim(parts[[1]])[-1]))
  from <- cumsum(n) - n
  for (i in seq_along(parts)) whole[from[i] + seq_len(n[i]), , ] <- parts[[i]]
  whole
}

#' The rows that the chosen setting gets most wrong
#'
#' @param choice A choice from [select_final()].
#' @param top How many rows.
#' @return A tibble, worst first: `row` (of the table given to [brief()]), the brief's id
#'   columns, `truth`, `predicted` (value, or probability of the true class), `error`
#'   (distance from the truth, or 1 less that probability), all on held-out rows (means over
#'   repeats), then the predictor columns.
#' @section Errors:
#' `kw_error_argument` for an argument of the wrong kind or out of range, naming it.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1,
#'   quiet = TRUE
#' )
#' largest_errors(select_final(cmp), top = 5)
#' @export
largest_errors <- function(choice, top = 20) {
  check_class(choice, "kw_choice", "choice", "Make one with select_final().")
  check_number(top, "top", min = 1, whole = TRUE)
  brief <- choice$cmp$plan$brief
  held <- held_out_of_choice(choice)
  code <- if (has_classes(brief$kind)) as.integer(held$truth)
  given <- if (!is.null(code)) {
    held$prediction[cbind(seq_along(code), code)]
  } else if (is_wide(brief$kind)) {
    middle_prediction(held$prediction, brief$quantiles)
  } else {
    held$prediction
  }
  mean <- tapply(given, held$row, mean)
  row <- as.integer(names(mean))
  truth <- brief$table[[brief$outcome]][row]
  predicted <- as.vector(mean)
  error <- if (is.null(code)) abs(predicted - truth) else 1 - predicted
  shown <- utils::head(order(-error), top)
  of_rows <- function(names) lapply(unclass(brief$table)[names], function(x) x[row[shown]])
  found <- list(truth = truth[shown], predicted = predicted[shown], error = error[shown])
  tibble::as_tibble(
    c(
      list(row = brief$rows[row[shown]]), of_rows(brief$roles$id), found,
      of_rows(names(brief$schema))
    ),
    .name_repair = "unique_quiet"
  )
}

# Held-out predictions of the choice, all splits below one another: row (of the working
# table), split, truth, weights, prediction.
held_out_of_choice <- function(choice) {
  plan <- choice$cmp$plan
  splits <- which(!is_apparent(plan$splits))
  predictions <- setting_predictions(choice$cmp, choice$at)
  rows <- lapply(plan$splits[splits], `[[`, "validation")
  all <- unlist(rows)
  target <- brief_target(plan$brief, all)
  list(
    row = all, split = rep(splits, lengths(rows)), truth = truth_of(target),
    weights = target$weights,
    prediction = bind_predictions(predictions, plan$brief$kind)
  )
}
