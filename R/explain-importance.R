#' Which columns matter to the chosen setting
#'
#' Permutation importance on rows that were held out: on every split the setting is fitted
#' on the training rows, a column of the validation rows is shuffled, and the score compared
#' with the one before. How much worse it gets is the column's importance there (Breiman
#' 2001, Machine Learning 45; Fisher, Rudin & Dominici 2019). Columns are the brief's, before
#' any step; columns that say the same share their importance, and a column may matter little
#' only because another one stands in for it.
#'
#' @param choice A choice from [select_final()].
#' @param metric The metric; default the deciding one.
#' @param times Shuffles of every column on every split.
#' @param columns Names of predictor columns; default all.
#' @param most_splits Only the first so many splits are used.
#' @param seed Seed of the shuffles; default the comparison's.
#' @return A `kw_importance`: a tibble, most important first: `column`, `metric`,
#'   `importance` (mean over splits, in the metric's unit, positive = the column helps),
#'   `sd`, `lowest`, `highest` (over splits), `splits`; attribute `by_split`.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()), splits = split_kfold(3), seed = 1, quiet = TRUE)
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
  splits <- utils::head(cmp$plan$splits[!is_apparent(cmp$plan$splits)], most_splits)
  refit <- new_refit(cmp, choice$at)
  each <- without_rng_trace(lapply(splits, function(split) {
    fitted <- fit_on_split(refit, split)
    with_seed(
      derive_seed(seed, paste("importance", split$key)),
      split_importance(fitted, metric, columns, times)
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

# A setting fitted on the training rows of one split: predict(frame) of untouched rows, and
# the validation rows as frame and target.
fit_on_split <- function(refit, split) {
  refitted <- suppressWarnings(refit$fit(split$training, split$key))
  c(list(predict = refitted$predict), data_rows(refit$data, split$validation))
}

# So many rows are predicted in one go.
block_rows <- 200000L

# Columns x times shuffled copies of the validation rows, predicted in blocks.
split_importance <- function(fitted, metric, columns, times) {
  truth <- fitted$target$outcome
  weights <- fitted$target$weights
  if (!is.null(metric$undefined(truth, weights))) return(rep(NA_real_, length(columns)))
  n <- fitted$frame$n
  before <- goodness(
    score_predictions(metric, truth, fitted$predict(fitted$frame), weights), metric
  )
  jobs <- data.frame(column = rep(columns, each = times))
  blocks <- split(seq_len(nrow(jobs)), (seq_len(nrow(jobs)) - 1L) %/% max(1L, block_rows %/% n))
  after <- unlist(lapply(blocks, function(block) {
    stacked <- frame_rows(fitted$frame, rep(seq_len(n), length(block)))
    for (i in seq_along(block)) {
      at <- (i - 1L) * n + seq_len(n)
      column <- jobs$column[block[i]]
      stacked$columns[[column]][at] <- stacked$columns[[column]][at][sample.int(n)]
    }
    prediction <- fitted$predict(stacked)
    stacked_scores(metric, truth, prediction, weights, length(block))
  }), use.names = FALSE)
  before - colMeans(matrix(goodness(after, metric), times))
}

# Scores of several predictions of the same rows that lie below one another.
stacked_scores <- function(metric, truth, prediction, weights, copies) {
  n <- length(truth)
  if (is.null(dim(prediction))) return(metric$score(truth, matrix(prediction, n, copies), weights))
  classes <- ncol(prediction)
  metric$score(truth, aperm(array(prediction, c(n, copies, classes)), c(1L, 3L, 2L)), weights)
}

#' The rows that the chosen setting gets most wrong
#'
#' @param choice A choice from [select_final()].
#' @param top How many rows.
#' @return A tibble, worst first: `row` (of the table given to [brief()]), the brief's id
#'   columns, `truth`, `predicted` (value, or probability of the true class), `error`
#'   (distance from the truth, or 1 less that probability), all on held-out rows (means over
#'   repeats), then the predictor columns.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()), splits = split_kfold(3), seed = 1, quiet = TRUE)
#' largest_errors(select_final(cmp), top = 5)
#' @export
largest_errors <- function(choice, top = 20) {
  check_class(choice, "kw_choice", "choice", "Make one with select_final().")
  check_number(top, "top", min = 1, whole = TRUE)
  brief <- choice$cmp$plan$brief
  held <- held_out_of_choice(choice)
  code <- if (brief$kind != "number") as.integer(held$truth)
  given <- if (is.null(code)) held$prediction else held$prediction[cbind(seq_along(code), code)]
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
    row = all, split = rep(splits, lengths(rows)), truth = target$outcome,
    weights = target$weights,
    prediction = if (plan$brief$kind == "number") {
      unlist(predictions)
    } else {
      do.call(rbind, predictions)
    }
  )
}
