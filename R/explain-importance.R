#' Which columns matter to the chosen setting
#'
#' Permutation importance on rows that were held out: on every split the setting is fitted
#' on the training rows, a column of the validation rows is shuffled, and the score compared
#' with the one before. How much worse it gets is the column's importance there (Breiman
#' 2001, Machine Learning 45; Fisher, Rudin & Dominici 2019). Columns are the brief's, before
#' any step; columns that say the same share their importance, and a column may matter little
#' only because another one stands in for it: `together` shuffles such columns as one, `within`
#' asks what a column adds to them. Where predictions are scored together, as
#' under leave-one-out, a column is shuffled among all held-out rows of the first repeat and
#' they are scored together, too; `sd`, `lowest` and `highest` are then over the shuffles.
#' `again` leaves a column out, fits once more and asks what the others cannot make up for.
#' Metrics of the called class use the threshold of [set_threshold()], if there is one.
#'
#' @param choice A choice from [select_final()].
#' @param metric The metric; default the deciding one.
#' @param times Shuffles of every column on every split.
#' @param columns Names of predictor columns, or a list of such names in which those that stand
#'   together are shuffled together, such as `list(size = c("height_mm", "weight_g"), "kiln")`;
#'   default all.
#' @param together Columns that are associated at least so much (0 to 1, average linkage of the
#'   associations of [draw_correlation()]) are shuffled together. `NULL`: each by itself.
#' @param within Should a column be shuffled only among rows that are alike in the columns
#'   associated with it? That is what it adds to them (conditional importance; Strobl, Boulesteix,
#'   Kneib, Augustin & Zeileis 2008, BMC Bioinformatics 9), and no made-up row is unlike all real
#'   ones. Rows are alike in the leaf of a tree that predicts the column from the others. Texts,
#'   and categories of nearly as many levels as rows, are shuffled plainly.
#' @param again Instead of shuffling: should the setting be fitted again without each column (Lei,
#'   G'Sell, Rinaldo, Tibshirani & Wasserman 2018, JASA 113)? One fit a column and split more. The
#'   column is there, so that steps find it, but has one value throughout.
#' @param chance Number of fits, 5 or more, to an outcome that is shuffled itself, each on one split
#'   (where predictions are scored together, on all of them), which show what importance a useless
#'   column has by chance. Outcomes of a group stay together. 0: none.
#' @param most_splits Only the first so many splits are used (all of the first repeat, where
#'   predictions are scored together).
#' @param seed Seed of the shuffles; default the comparison's.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A `kw_importance`: a tibble, most important first: `column`, `metric`,
#'   `importance` (mean over splits, in the metric's unit, positive = the column helps),
#'   `sd`, `lowest`, `highest` (over splits), `splits`; with `chance` also `by_chance`: the
#'   importance that a column without any would exceed in one of twenty comparisons; attribute
#'   `by_split`.
#' @section Errors:
#' `kw_error_select` for a model that was opened from a file, `kw_error_brief` for columns that
#' there are not, `kw_error_argument` for `within` columns that are shuffled together, or `within`
#' with `again`.
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
  seed = NULL, together = NULL, within = FALSE, chance = 0, again = FALSE, ...
) {
  no_more(...)
  check_class(choice, "kw_choice", "choice", "Make one with select_final().")
  check_number(times, "times", min = 1, whole = TRUE)
  check_number(most_splits, "most_splits", min = 1, whole = TRUE)
  cmp <- choice$cmp
  brief <- brief_of(cmp)
  metric <- cmp_metric(cmp, metric)
  check_flag(within, "within")
  check_flag(again, "again")
  if (again && within) {
    stop_kw("argument", "`within` shuffles, `again` fits without the column.",
      remedy = "Leave one of them out."
    )
  }
  check_number(chance, "chance", min = 0, whole = TRUE)
  check_argument(chance == 0 || chance >= 5, "chance", "0, or at least 5 fits", chance)
  sets <- column_sets(brief, columns, together)
  near <- if (within) neighbourhoods(brief, sets)
  seed <- seed %||% seed_of(cmp)
  way <- list(metric = metric, sets = sets, times = times, near = near, again = again)
  refit <- new_refit(cmp, choice$at)
  each <- without_rng_trace(lapply(scoring_units(cmp$plan, most_splits), function(splits) {
    with_seed(
      derive_seed(seed, paste("importance", all_splits(cmp)[[splits[1]]]$key)),
      unit_importance(refit, splits, choice, way)
    )
  }))
  by_split <- do.call(rbind, each)
  dimnames(by_split) <- list(NULL, names(sets))
  known <- by_split[!is.na(by_split[, 1]), , drop = FALSE]
  if (nrow(known) == 0L) {
    stop_kw("select", paste0("The metric ", quoted(metric$name), " is undefined on every split."))
  }
  mean <- colMeans(known)
  sd <- if (nrow(known) > 1L) apply(known, 2L, stats::sd) else rep(NA_real_, ncol(known))
  table <- tibble::tibble(
    column = names(sets), metric = metric$name, importance = unname(mean),
    sd = unname(sd),
    lowest = unname(apply(known, 2L, min)),
    highest = unname(apply(known, 2L, max)), splits = nrow(known)
  )
  if (chance > 0) {
    table$by_chance <- chance_of_importance(
      choice, way, chance, nrow(known), derive_seed(seed, "chance")
    )
  }
  order <- order(-table$importance)
  shown <- listing(table[order, ],
    title = paste0(
      "What columns are worth to ", choice_name(cmp, choice$at), ": how much worse ",
      metric$label, if (again) " gets without them" else " gets when they are shuffled"
    ),
    scores = c("importance", "sd", "lowest", "highest", "by_chance"),
    certain = middle(sd) / sqrt(nrow(known)), hide = c("metric", "splits"),
    called = c(by_chance = "by chance")
  )
  mark_table(
    shown,
    "kw_importance",
    by_split = known[, order, drop = FALSE],
    about = choice_name(cmp, choice$at),
    label = metric$label
  )
}

# What is shuffled as one: a named list of names of columns.
column_sets <- function(brief, columns, together) {
  known <- names(brief$schema)
  if (is.list(columns)) {
    check_argument(
      length(columns) > 0L && all(lengths(columns) > 0L) && is.null(together) &&
        all(vapply(columns, is.character, NA)),
      "columns", "names, or, without `together`, a list of such names", columns
    )
    check_columns_exist(unlist(columns), known, "columns")
    sets <- columns
  } else {
    columns <- columns %||% known
    check_columns_exist(columns, known, "columns")
    sets <- as.list(columns)
    if (!is.null(together)) {
      check_number(together, "together", min = 0, max = 1)
      sets <- associated_sets(brief, columns, together)
    }
  }
  label <- vapply(sets, paste, "", collapse = " + ")
  given <- names(sets) %||% rep("", length(sets))
  stats::setNames(sets, ifelse(nzchar(given), given, label))
}

associated_sets <- function(brief, columns, together) {
  usable <- associable_columns(brief, columns)
  if (length(usable) < 2L) return(as.list(columns))
  strength <- association_matrix(plain_columns(brief, usable))
  tree <- stats::hclust(stats::as.dist(1 - strength), "average")
  # no more than this apart, rounding aside
  set <- stats::cutree(tree, h = 1 - together + 1e-9)
  c(unname(split(usable, set)), as.list(setdiff(columns, usable)))
}

# By set: which rows are alike in what is associated with the column, as codes of all working rows;
# NULL where nothing is.
neighbourhoods <- function(brief, sets) {
  if (any(lengths(sets) > 1L)) {
    stop_kw("argument", "`within` is for single columns, but some are shuffled together.",
      remedy = "Leave `together` out, or ask with within = FALSE."
    )
  }
  usable <- associable_columns(brief, names(brief$schema))
  columns <- plain_columns(brief, usable, Inf)
  lapply(sets, function(name) {
    if (!name %in% usable) return(NULL)
    others <- setdiff(usable, name)
    strength <- vapply(others, function(other) association(columns[[name]], columns[[other]]), 1)
    few <- vapply(columns[others], function(x) is.numeric(x) || length(unique(x)) <= 30L, NA)
    others <- others[few & !is.na(strength) & strength >= 0.2]
    if (length(others) > 0L) rows_alike(columns[[name]], columns[others])
  })
}

rows_alike <- function(x, others) {
  names(others) <- paste0("x", seq_along(others))
  others$aim <- x
  tree <- rpart::rpart(aim ~ ., others,
    method = if (is.numeric(x)) "anova" else "class",
    control = rpart::rpart.control(
      minbucket = max(10, length(x) / 50), cp = 0.005, xval = 0, maxsurrogate = 2
    )
  )
  leaf <- stats::predict(tree, others, type = if (is.numeric(x)) "vector" else "matrix")
  leaf <- if (is.matrix(leaf)) do.call(paste, as.data.frame(leaf)) else leaf
  match(leaf, unique(leaf))
}

# An order of rows, among those of one code only; `weights` say how often a row's value is taken.
shuffled_order <- function(n, weights, code) {
  if (is.null(code)) return(sample.int(n, replace = !is.null(weights), prob = weights))
  if (is.null(weights)) {
    order <- integer(n)
    order[order(code)] <- order(code, stats::runif(n))
    return(order)
  }
  order <- seq_len(n)
  for (rows in split(seq_len(n), code)) {
    if (sum(weights[rows]) > 0) {
      order[rows] <- rows[sample.int(length(rows), replace = TRUE, prob = weights[rows])]
    }
  }
  order
}

# What a column without importance exceeds in one of twenty: the mean and spread of importance where
# the outcome is shuffled, for a mean over so many splits.
chance_of_importance <- function(choice, way, draws, splits, seed) {
  cmp <- choice$cmp
  units <- scoring_units(cmp$plan)
  ratio <- mean(vapply(all_splits(cmp)[unlist(units)], function(s) {
    length(s$validation) / length(unique(s$training))
  }, 1))
  data <- working_data(brief_of(cmp))
  each <- without_rng_trace(lapply(seq_len(draws), function(draw) {
    with_seed(derive_seed(seed, paste("outcome", draw)), {
      shuffled <- data
      shuffled$target$outcome <- shuffled_outcome(data$target)
      unit <- units[[(draw - 1L) %% length(units) + 1L]]
      refit <- new_refit(cmp, choice$at, shuffled)
      # a rare class may be missing where it is needed
      tryCatch(
        colMeans(unit_importance(refit, unit, choice, way)),
        error = function(e) rep(NA_real_, length(way$sets))
      )
    })
  }))
  each <- do.call(rbind, each)
  # shuffles of predictions that are scored together are not so many splits
  if (has_pooled_scores(cmp)) splits <- 1L
  sd <- apply(each, 2L, stats::sd, na.rm = TRUE)
  reach <- stats::qt(0.95, max(1, draws - 1)) * sd * sqrt(1 / splits + ratio)
  unname(colMeans(each, na.rm = TRUE) + reach)
}

# Groups in another order, each with its outcomes; single rows where there are none.
shuffled_outcome <- function(target) {
  unit <- inner_unit(target)
  place <- match(unit, sample(unique(unit)))
  outcome <- target$outcome
  outcome[order(unit, stats::runif(length(unit)))] <- target$outcome[order(place)]
  outcome
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

# How much worse each set of columns makes the score if it is shuffled among the rows that these
# splits hold out, or if fits have to do without: one row (as many as shuffles if there are several
# splits) by sets. `way`: list(metric, sets, times, near, again).
unit_importance <- function(refit, splits, choice, way) {
  plan <- choice$cmp$plan
  metric <- way$metric
  sets <- way$sets
  times <- if (way$again) 1L else way$times
  held <- lapply(plan$splits[splits], `[[`, "validation")
  rows <- unlist(held)
  all <- data_rows(refit$data, rows)
  none <- matrix(NA_real_, 1L, length(sets))
  if (!is.null(metric$undefined(truth_of(all$target), all$target$weights))) return(none)
  copies <- c(0L, rep(seq_along(sets), each = times))
  weights <- all$target$weights
  if (!is.null(weights) && sum(weights) <= 0) return(none)
  # where rows count differently, so do those that values come from
  orders <- lapply(copies, function(set) {
    if (set > 0L) shuffled_order(length(rows), weights, way$near[[set]][rows])
  })
  without <- if (way$again) lapply(sets, function(set) {
    new_refit(choice$cmp, choice$at, without_columns(refit$data, set))
  })
  number <- match(splits, which(!is_apparent(plan$splits)))
  threshold <- if (metric$by_class) thresholds_of(choice)[number]
  from <- cumsum(lengths(held)) - lengths(held)
  predicted <- lapply(seq_along(splits), function(i) {
    at <- from[i] + seq_along(held[[i]])
    if (way$again) {
      return(predictions_without(c(list(refit), without), plan$splits[[splits[i]]], threshold[i]))
    }
    shuffled_predictions(
      refit, plan$splits[[splits[i]]], all$frame, at, copies, orders, sets, threshold[i]
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

# Columns with one value throughout say nothing.
without_columns <- function(data, columns) {
  for (column in columns) {
    value <- data$frame$columns[[column]]
    first <- which(!is.na(value))[1]
    data$frame$columns[[column]] <- rep(value[if (is.na(first)) 1L else first], data$frame$n)
  }
  data
}

# Predictions of a split's held-out rows by several refits, in the shape of shuffled_predictions().
predictions_without <- function(refits, split, threshold) {
  found <- lapply(refits, function(refit) {
    fitted <- suppressWarnings(refit$fit(split$training, split$key))
    prediction <- fitted$predict(frame_rows(refit$data$frame, split$validation))
    if (is.null(threshold)) prediction else calls_at(prediction, threshold)
  })
  if (is.null(dim(found[[1]]))) return(matrix(unlist(found), length(found[[1]])))
  array(unlist(found), c(dim(found[[1]]), length(found)))
}

# Predictions of some of the held-out rows, fitted on a split's training rows, for every copy
# of them: rows x copies, or rows x classes x copies.
shuffled_predictions <- function(refit, split, frame, at, copies, orders, sets, threshold) {
  fitted <- suppressWarnings(refit$fit(split$training, split$key))
  n <- length(at)
  blocks <- split(seq_along(copies), (seq_along(copies) - 1L) %/% max(1L, block_rows %/% n))
  found <- lapply(blocks, function(block) {
    stacked <- frame_rows(frame, rep(at, length(block)))
    for (set in setdiff(copies[block], 0L)) {
      mine <- which(copies[block] == set)
      place <- rep((mine - 1L) * n, each = n) + seq_len(n)
      from <- unlist(lapply(orders[block[mine]], `[`, at), use.names = FALSE)
      for (column in sets[[set]]) {
        stacked$columns[[column]][place] <- frame$columns[[column]][from]
      }
    }
    prediction <- fitted$predict(stacked)
    if (!is.null(threshold)) prediction <- calls_at(prediction, threshold)
    if (is.null(dim(prediction))) return(matrix(prediction, n))
    aperm(array(prediction, c(n, length(block), ncol(prediction))), c(1L, 3L, 2L))
  })
  if (length(found) == 1L) return(found[[1]])
  if (length(dim(found[[1]])) == 2L) return(do.call(cbind, unname(found)))
  array(unlist(found, use.names = FALSE), c(dim(found[[1]])[1:2], length(copies)))
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
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
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
largest_errors <- function(choice, top = 20, ...) {
  no_more(...)
  check_class(choice, "kw_choice", "choice", "Make one with select_final().")
  check_number(top, "top", min = 1, whole = TRUE)
  brief <- brief_of(choice$cmp)
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
  table <- tibble::as_tibble(
    c(
      list(row = brief$rows[row[shown]]), of_rows(brief$roles$id), found,
      of_rows(names(brief$schema))
    ),
    .name_repair = "unique_quiet"
  )
  listing(table, title = paste0(
    "The rows that ", choice_name(choice$cmp, choice$at), " predicts worst when held out"
  ))
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
