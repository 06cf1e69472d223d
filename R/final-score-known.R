#' Score a model on rows with known outcomes
#'
#' For rows that came later: what the model is worth on them, by the metrics of its comparison.
#' Rows whose outcome is missing are left out and counted. Unlike [score_set_aside()] it can be
#' called as often as there are new rows. On rows that the model learned from, and after choosing
#' anew by such scores, it will seem better than it is.
#'
#' @param model A model from [fit_final()] or [open_model()].
#' @param table A data frame with the model's columns and the outcome, with the columns of costs if
#'   `"case_cost"` is to be had, and with the exposure if the
#'   model has one.
#' @param by Name of a column of the table: scores for each of its parts as well, levels (the most
#'   frequent twelve at most) or four ranges of a number.
#' @param weight,group Names of columns of the table: what rows weigh, and which rows belong
#'   together, for the intervals.
#' @param draws Bootstrap draws for the intervals; see [score_set_aside()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A tibble, one row a metric (and part): `part` (with `by`), `metric`, `score`, `low`,
#'   `high` (95 % interval), `validation` (the mean over the comparison's splits), `rows`,
#'   `left_out` (rows without outcome). `NA` where a part does not allow the metric.
#' @section Errors:
#' `kw_error_data` for a table without the outcome, or with outcomes that the model does not know;
#' `kw_error_argument` for columns that there are not, `kw_error_brief` for weights and exposures
#' that are no such numbers, and for groups with gaps.
#' @examples
#' pots <- demo_pots()
#' job <- brief(pots[1:800, ],
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1, quiet = TRUE
#' )
#' model <- fit_final(select_final(cmp))
#' score_known(model, pots[801:1500, ], by = "kiln", group = "firing_id", draws = 100)
#' @export
score_known <- function(model, table, by = NULL, weight = NULL, group = NULL, draws = 1000, ...) {
  no_more(...)
  check_class(model, "kw_model", "model", "Make one with fit_final().")
  check_class(table, "data.frame", "table")
  check_number(draws, "draws", min = 20, whole = TRUE)
  given <- list(by = by, weight = weight, group = group)
  for (name in names(given)) {
    check_string(given[[name]], name, null_ok = TRUE)
    if (!is.null(given[[name]])) check_choice(given[[name]], names(table), name)
  }
  truth <- known_outcomes(model, table)
  known <- which(!is.na(truth))
  if (length(known) == 0L) {
    stop_kw("data", "No row has a known outcome.", column = model$outcome)
  }
  rows <- table[known, , drop = FALSE]
  check_role_values(rows, given)
  target <- new_target(
    truth[known], row_weights(list(roles = list(weight = weight, exposure = model$exposure)), rows),
    if (!is.null(group)) rows[[group]], quantiles = model$quantiles,
    costs = row_costs(model$costs, rows)
  )
  prediction <- predict_frame(model, frame_from_new(rows, model$schema, model$missing_codes))
  left_out <- nrow(table) - length(known)
  whole <- rows_scored(model, target, prediction, seq_along(known), draws, left_out)
  if (is.null(by)) return(known_listing(whole, model, left_out))
  part <- parts_of_values(rows[[by]], 4)
  divided <- lapply(seq_along(part$label), function(i) {
    rows_scored(model, target, prediction, which(part$code == i), draws, NA_integer_)
  })
  parts <- c("all rows", part$label)
  all <- do.call(rbind, c(list(whole), divided))
  all <- tibble::add_column(all, part = rep(parts, each = nrow(whole)), .before = 1L)
  known_listing(all, model, left_out, by)
}

known_listing <- function(table, model, left_out, by = NULL) {
  certain <- tapply((table$high - table$low) / 4, table$metric, middle)
  listing(table,
    title = paste0(
      "Scores on rows with known ", model$outcome, if (!is.null(by)) paste0(", by ", by),
      if (left_out > 0L) paste0("; ", count_of(left_out, "row"), " without it left out")
    ),
    scores = c("score", "validation"), certain = c(certain), interval = 0.95,
    hide = "left_out", called = if (!is.null(by)) c(part = by)
  )
}

# Outcomes as the model has them, NA where they are missing.
known_outcomes <- function(model, table) {
  needed <- c(outcome = model$outcome, exposure = model$exposure)
  for (role in names(needed)[!needed %in% names(table)]) {
    stop_kw("data", paste0("The table has no column ", quoted(needed[[role]]), ", the ", role, "."),
      remedy = did_you_mean(needed[[role]], names(table), "Columns"), column = needed[[role]]
    )
  }
  check_exposure(table, model$exposure, model$outcome, model$kind)
  values <- recode_missing(table[[model$outcome]], model$missing_codes[[model$outcome]])
  if (has_classes(model$kind)) return(known_classes(model, values))
  number <- mend_number(values, model$outcome, model$outcome_form)
  per_exposure(number, table, model$exposure)
}

known_classes <- function(model, values) {
  text <- as.character(values)
  strange <- which(!is.na(text) & !text %in% model$levels)
  if (length(strange) > 0L) {
    stop_kw("data", paste0(
      "The outcome ", quoted(model$outcome), " is ", quoted(text[strange[1]]), " in row ",
      strange[1], "."
    ),
    remedy = paste0("The model knows ", enumerate(quoted(model$levels), 6L), "."),
    column = model$outcome, row = strange, got = text[strange[1]], choices = model$levels
    )
  }
  factor(text, levels = model$levels, ordered = is.ordered(values) && model$kind == "ordered")
}

rows_scored <- function(model, target, prediction, some, draws, left_out) {
  found <- scores_with_reach(
    model, target_rows(target, some), prediction_rows(prediction, some), draws
  )
  metrics <- names(model$metrics)
  tibble::tibble(
    metric = metrics, score = found$score, low = found$low, high = found$high,
    validation = model$scores$validation[match(metrics, model$scores$metric)],
    rows = length(some), left_out = left_out
  )
}
