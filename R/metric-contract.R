# What a metric is. A metric definition has
#   name, label, unit   unit: "outcome" (the outcome's own unit), or what it is
#   kinds               outcome kinds
#   direction           "higher" or "lower": which is better; scores keep their
#                       natural sign
#   range               lowest and highest possible score
#   undefined(truth, weights)  NULL, or why the truth alone makes it undefined
#   score(truth, prediction, weights)  one score per path value. prediction: rows
#                       x values, or rows x classes x values. NA where the
#                       prediction makes it undefined
#   why_na              why a prediction can make it undefined
#   row_wise            is it a (weighted) mean of one number a row?
#   by_class            does it look at the predicted class only?
#   compares_rows       does it compare the rows' predictions with one another, so that
#                       those of different models cannot be scored together?
#   score_in_parts(truth, prediction, weights, part)  such a metric's score from pairs of
#                       rows of one part only; NULL if it has none
#   pairs_in_parts, score_of_pairs  such a metric in two: what is counted in every part, and the
#                       score of it, so that rows can be left out of a few parts; or NULL
metric_definition <- function(
  name, label, kinds, direction, score,
  undefined = never_undefined,
  unit = "", range = c(-Inf, Inf),
  why_na = "the prediction leaves it undefined",
  row_wise = FALSE, by_class = FALSE, compares_rows = FALSE, score_in_parts = NULL,
  pairs_in_parts = NULL, score_of_pairs = NULL, does = "", arguments = list()
) {
  member("metric", name, does, arguments,
    capabilities = list(
      kinds = kinds, direction = direction, range = range, row_wise = row_wise,
      by_class = by_class, compares_rows = compares_rows
    ),
    label = label, unit = unit, score = score, undefined = undefined, why_na = why_na,
    score_in_parts = score_in_parts, pairs_in_parts = pairs_in_parts,
    score_of_pairs = score_of_pairs, class = "kw_metric"
  )
}

never_undefined <- function(truth, weights) NULL

# Metrics by name or as objects, checked against the outcome kind; a list by name.
find_metrics <- function(metrics, kind) {
  if (inherits(metrics, "kw_metric")) metrics <- list(metrics)
  given <- is.character(metrics) || (is.list(metrics) && all(vapply(metrics, function(m) {
    inherits(m, "kw_metric") || (is.character(m) && length(m) == 1L)
  }, logical(1))))
  check_argument(
    given && length(metrics) > 0L && !anyNA(metrics), "metrics",
    "names of metrics, or a list of names and metrics such as list(\"auc\", metric_cost(10, 1))",
    metrics
  )
  found <- lapply(metrics, find_metric, kind = kind)
  names(found) <- vapply(found, `[[`, character(1), "name")
  found[!duplicated(names(found))]
}

find_metric <- function(metric, kind) {
  known <- known_members("metric")
  if (is.character(metric)) {
    if (!metric %in% names(known)) {
      stop_kw("argument", paste0("There is no metric ", quoted(metric), "."),
        remedy = paste0(did_you_mean(metric, names(known), "Metrics"), " See list_metrics().")
      )
    }
    metric <- known[[metric]]()
  }
  if (is.null(kind_among(metric$kinds, kind))) {
    fitting <- names(Filter(function(make) !is.null(kind_among(make()$kinds, kind)), known))
    stop_kw(
      "argument",
      paste0("The metric ", quoted(metric$name), " does not fit ", outcome_kind(kind)$phrase, "."),
      remedy = paste0("Metrics for it: ", paste(fitting, collapse = ", "), ".")
    )
  }
  metric
}

# Scores of one prediction or of a whole path, by one metric.
score_predictions <- function(metric, truth, prediction, weights = NULL) {
  metric$score(truth, as_path_prediction(truth, prediction), weights)
}

# The better of scores in the metric's direction: positive = better.
goodness <- function(scores, metric) if (metric$direction == "higher") scores else -scores
