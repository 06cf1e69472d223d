# What a metric is. A metric definition has
#   name, label, unit   unit: "outcome" (the outcome's own unit), or what it is
#   kinds               outcome kinds
#   direction           "higher" or "lower": which is better; scores keep their
#                       natural sign
#   undefined(truth, weights)  NULL, or why the truth alone makes it undefined
#   score(truth, prediction, weights)  one score per path value. prediction: rows
#                       x values, or rows x classes x values
metric_definition <- function(name, label, kinds, direction, score, undefined = function(truth, weights) NULL,
                              unit = "", range = c(-Inf, Inf), does = "") {
  structure(list(name = name, label = label, kinds = kinds, direction = direction, score = score,
                 undefined = undefined, unit = unit, range = range, does = does),
            class = "kw_metric")
}

# Metrics by name, checked against the outcome kind.
find_metrics <- function(metrics, kind) {
  check_argument(is.character(metrics) && length(metrics) > 0L && !anyNA(metrics), "metrics",
                 "names of metrics", metrics)
  known <- shipped_members("metric")
  lapply(unique(metrics), function(name) {
    if (!name %in% names(known)) {
      stop_kw("argument", paste0("There is no metric ", quoted(name), "."),
              remedy = did_you_mean(name, names(known), "Metrics"))
    }
    metric <- known[[name]]()
    if (!kind %in% metric$kinds) {
      fitting <- names(Filter(function(make) kind %in% make()$kinds, known))
      stop_kw("argument", paste0("The metric ", quoted(name), " does not fit ",
                                 outcome_words[[kind]], "."),
              remedy = paste0("Metrics for it: ", paste(fitting, collapse = ", "), "."))
    }
    metric
  })
}

outcome_words <- c(number = "a numeric outcome", two_class = "an outcome of two classes",
                   many_class = "an outcome of many classes")

default_metrics <- function(kind) {
  switch(kind, two_class = c("auc", "log_loss"), many_class = c("log_loss", "balanced_accuracy"),
         number = c("rmse", "r_squared"))
}

# Scores of one prediction or of a whole path, by one metric.
score_predictions <- function(metric, truth, prediction, weights = NULL) {
  metric$score(truth, as_path_prediction(truth, prediction), weights)
}

# A single prediction as a path of one value.
as_path_prediction <- function(truth, prediction) {
  dims <- dim(prediction)
  if (is.factor(truth)) {
    if (length(dims) == 2L) dim(prediction) <- c(dims, 1L)
  } else if (is.null(dims)) {
    dim(prediction) <- c(length(prediction), 1L)
  }
  prediction
}

# The better of scores in the metric's direction: positive = better.
goodness <- function(scores, metric) if (metric$direction == "higher") scores else -scores
