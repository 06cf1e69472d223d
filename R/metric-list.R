#' Metrics with a value of your own
#'
#' For `metrics =` of [plan_comparison()]; mix them with names in a list.
#'
#' @param beta How many times as much recall counts as precision; above 0.
#' @param share Share of the rows that are taken from the most probable down.
#' @param missed,false_alarm Cost of an event that is not called, and of a call
#'   without the event; 0 or more.
#' @param quantile The quantile that is predicted, between 0 and 1.
#' @param bend Error up to which the loss is a parabola, in the outcome's unit.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A metric.
#' @section Errors:
#' `kw_error_argument` for a value that there is not.
#' @examples
#' list("auc", metric_cost(missed = 10, false_alarm = 1), metric_f_beta(2))
#' @name metric_values
NULL

#' @rdname metric_values
#' @export
metric_f_beta <- function(beta = 2, ...) {
  no_more(...)
  check_number(beta, "beta", min = 0, open_min = TRUE)
  f_beta_metric(paste0("f_beta_", format(beta)), paste0("F", format(beta)), beta)
}

#' @rdname metric_values
#' @export
metric_lift <- function(share = 0.1, ...) {
  no_more(...)
  check_number(share, "share", min = 0, max = 1, open_min = TRUE)
  lift_metric(paste0("lift_", format(share)), paste0("Lift at ", format(100 * share), " %"), share)
}

#' @rdname metric_values
#' @export
metric_cost <- function(missed = 1, false_alarm = 1, ...) {
  no_more(...)
  check_number(missed, "missed", min = 0)
  check_number(false_alarm, "false_alarm", min = 0)
  cost_metric(missed, false_alarm)
}

#' @rdname metric_values
#' @export
metric_pinball <- function(quantile = 0.5, ...) {
  no_more(...)
  check_number(quantile, "quantile", min = 0, max = 1, open_min = TRUE, open_max = TRUE)
  pinball_metric(
    paste0("pinball_", format(quantile)), paste("Pinball loss at", format(quantile)), quantile
  )
}

#' @rdname metric_values
#' @export
metric_huber <- function(bend = 1, ...) {
  no_more(...)
  check_number(bend, "bend", min = 0, open_min = TRUE)
  huber_metric(paste0("huber_", format(bend)), paste0("Huber loss (bend ", format(bend), ")"), bend)
}

#' What metrics there are
#'
#' @param brief A [brief()], or an outcome kind (`"number"`, `"two_class"`, `"many_class"`,
#'   `"count"`, `"positive"`, `"ordered"`): only the metrics that fit it.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A tibble: `metric`, `for_outcome`, `better` (`"higher"` or `"lower"`), `lowest`
#'   and `highest` possible score, `unit`, `does`.
#' @section Errors:
#' `kw_error_argument` for a kind of outcome that there is not.
#' @examples
#' list_metrics("two_class")
#' @export
list_metrics <- function(brief = NULL, ...) {
  no_more(...)
  kind <- if (inherits(brief, "kw_brief")) brief$kind else brief
  if (!is.null(kind)) check_choice(kind, outcome_kinds(), "brief")
  members <- lapply(known_members("metric"), function(make) make())
  if (!is.null(kind)) members <- Filter(function(m) !is.null(kind_among(m$kinds, kind)), members)
  text <- function(f) vapply(members, f, character(1), USE.NAMES = FALSE)
  arguments <- text(function(m) paste(names(m$arguments), collapse = ", "))
  table <- tibble::tibble(
    metric = names(members),
    for_outcome = text(function(m) paste(kind_words(m$kinds), collapse = ", ")),
    better = text(function(m) m$direction),
    lowest = vapply(members, function(m) m$range[1], 1, USE.NAMES = FALSE),
    highest = vapply(members, function(m) m$range[2], 1, USE.NAMES = FALSE),
    unit = text(function(m) m$unit), does = text(function(m) m$does),
    with_values = ifelse(
      nzchar(arguments),
      paste0("metric_", sub("^f1$", "f_beta", names(members)), "(", arguments, ")"),
      ""
    )
  )
  listing(table, title = count_of(nrow(table), "metric"), texts = "does", rows = Inf)
}

#' Define a metric of your own
#'
#' @param name One word; it names the metric in tables.
#' @param kinds Outcome kinds that it is for: some of `"number"`, `"two_class"`,
#'   `"many_class"`, `"count"`, `"positive"`, `"ordered"`; a metric for numbers is for counts and
#'   positive amounts too, one for many classes for ordered ones.
#' @param direction `"higher"` or `"lower"`: which is better. Scores keep their sign.
#' @param score `function(truth, prediction, weights)` giving one number for one
#'   prediction: a numeric vector, or a matrix of probabilities, rows x classes, with
#'   the classes as column names. `weights` is `NULL` or one number a row. `NA` says
#'   that the prediction leaves the metric undefined. With `vectorised = TRUE`,
#'   `prediction` has one more dimension (rows x values, or rows x classes x values)
#'   and one number a value is given.
#' @param undefined `function(truth, weights)` giving `NULL`, or in words why the true
#'   outcomes alone leave the metric undefined on a split.
#' @param label What people call it.
#' @param unit `"outcome"` for the outcome's own unit, or a word.
#' @param range Lowest and highest possible score.
#' @param row_wise Is the score a (weighted) mean of one number a row?
#' @param vectorised See `score`.
#' @param does One sentence, for [list_metrics()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A function without arguments that gives the metric for
#'   `metrics = list(...)`.
#' @section Errors:
#' `kw_error_definition` when a function uses something from outside itself.
#' @examples
#' worst_error <- define_metric("worst_error", "number", "lower",
#'   unit = "outcome",
#'   score = function(truth, prediction, weights) max(abs(truth - prediction))
#' )
#' list("rmse", worst_error())
#' @export
define_metric <- function(name, kinds, direction, score, undefined = NULL, label = name, unit = "",
                          range = c(-Inf, Inf), row_wise = FALSE, vectorised = FALSE,
                          does = "A metric defined by the user.", ...) {
  no_more(...)
  check_word(name, "name")
  check_kinds(kinds)
  check_choice(direction, c("higher", "lower"), "direction")
  check_argument(
    is.function(score) && length(formals(score)) == 3L,
    "score",
    "a function(truth, prediction, weights)",
    score
  )
  check_flag(vectorised, "vectorised")
  check_sentence(does, "does")
  check_self_contained(Filter(Negate(is.null), list(score = score, undefined = undefined)), name)
  score <- portable_function(score, "`score`")
  if (!is.null(undefined)) undefined <- portable_function(undefined, "`undefined`")
  metric <- metric_definition(name, label, kinds, direction,
    if (vectorised) score else one_by_one(score),
    undefined = undefined %||% never_undefined, unit = unit,
    range = range,
    row_wise = row_wise, does = does
  )
  as_member(function() metric, "metric", name, function() metric)
}

# Calls a function of one prediction for every value of a path.
one_by_one <- function(score) {
  function(truth, prediction, weights) {
    dims <- dim(prediction)
    vapply(seq_len(dims[length(dims)]), function(value) {
      one <- if (length(dims) == 2L) {
        prediction[, value]
      } else {
        class_columns(prediction, value, prediction_columns(truth))
      }
      found <- score(truth, one, weights)
      # not to be worked out: undefined here
      if (length(found) == 1L && is.na(found)) return(NA_real_)
      if (!is.numeric(found) || length(found) != 1L) {
        stop("the metric must give one number; got ", describe_value(found), call. = FALSE)
      }
      as.double(found)
    }, numeric(1))
  }
}

class_columns <- function(prediction, value, levels) {
  matrix(
    prediction[, , value], dim(prediction)[1], dim(prediction)[2],
    dimnames = list(NULL, levels)
  )
}
