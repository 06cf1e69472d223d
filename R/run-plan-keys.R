#' What a plan file may say
#'
#' All keys of a plan file, as the reader knows them: what is not here is refused. The parts that
#' they name (steps, families, metrics, ...) are those of [list_parts()]; their arguments, and what
#' these mean, are told by [describe_step()] and [describe_family()].
#'
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A tibble, one row a key: `where` (the key it stands under, `"the top"` for none), `key`,
#'   `value` (what may be written there), `required`, `does` (one sentence).
#' @section Errors:
#' `kw_error_argument` for an argument that it does not have.
#' @examples
#' list_plan_keys()
#' @export
list_plan_keys <- function(...) {
  no_more(...)
  table <- tibble::as_tibble(plan_language())
  listing(table,
    title = paste(count_of(nrow(table), "key"), "of a plan file"), texts = c("value", "does"),
    rows = Inf
  )
}

# The keys that may stand in a place, and those that must.
keys_at <- function(where) {
  language <- plan_language()
  language$key[language$where == where]
}

keys_needed_at <- function(where) {
  language <- plan_language()
  language$key[language$where == where & language$required]
}

# where, key, value, does; a star before a key: it must be there.
plan_language <- function() {
  rows <- list(
    c("the top", "*brief", "map", "What is to be predicted, from what."),
    c("the top", "set_aside", "map", "Rows that nothing reads until the final model is scored."),
    c(
      "the top", "shared", "map of a name to a list of steps",
      "Steps under a name, by which candidates begin with them."
    ),
    c(
      "the top", "*candidates", "map of a name to steps and a family",
      "What is compared: a family alone, or a list of steps that ends with one."
    ),
    c(
      "the top", "rule_out", "list of texts, or of maps",
      "Combinations that are not tried, such as trees < 100 & min_node == 2."
    ),
    c("the top", "splits", "a split", "How rows are divided; stratified 10 folds if not given."),
    c(
      "the top", "search", "a search, or a map of candidates to searches",
      "Which values are tried; with candidates named, others: is for the rest."
    ),
    c("the top", "screen", "a screen", "How settings are dropped before they are scored in full."),
    c("the top", "metrics", "metrics", "What is measured."),
    c("the top", "decide", "text", "The metric that ranks; the first one if not given."),
    c(
      "the top", "provided", "texts",
      "What means have to fulfil, such as \"recall >= 0.8\"."
    ),
    c("the top", "margin", "number", "A difference in the deciding metric that does not matter."),
    c(
      "the top", "rule", "a rule, or a map of it to its margin",
      "By which the final setting is chosen."
    ),
    c(
      "the top", "blend", "yes, no or names of candidates",
      "The best of all candidates, or of these, are blended before one is chosen."
    ),
    c("the top", "minutes", "number", "The run ends within so many minutes."),
    c("the top", "seed", "whole number", "Of all that is drawn; drawn and told if not given."),
    c("the top", "search_seed", "whole number", "Of the search alone."),
    c("brief", "*table", "path", "The table; relative to the plan file."),
    c("brief", "*outcome", "column", "What is to be predicted."),
    c("brief", "event", "text", "Of two classes the one that matters."),
    c("brief", "id", "columns", "Names of rows: never predictors."),
    c("brief", "group", "column", "Rows of one group are never divided."),
    c("brief", "weight", "column", "How much each row counts."),
    c("brief", "time", "column", "By which the latest rows are set aside, and splits go forward."),
    c("brief", "ignore", "columns", "What must not be looked at."),
    c("brief", "ordered", "map of columns to levels", "Categories in their order."),
    c("brief", "text", "columns", "Columns that hold words rather than categories."),
    c("brief", "missing_codes", "map of columns to values", "Values that stand for missing ones."),
    c(
      "brief", "read_as", "map of columns to words",
      "What columns are read as: number, category, or the form of dates such as %d/%m/%Y."
    ),
    c("brief", "outcome_scale", "text", "The scale on which families learn the outcome."),
    c("brief", "outcome_kind", "text", "What the outcome is, where the table does not tell."),
    c("brief", "exposure", "column", "What counts are a rate of."),
    c("brief", "quantiles", "numbers", "Predict these quantiles of a number."),
    c("brief", "costs", "map of missed and false_alarm", "What mistakes cost: columns or numbers."),
    c(
      "brief", "rows_without_outcome", "refuse or leave_out",
      "Rows whose outcome is missing are refused if not given."
    ),
    c("set_aside", "share", "number", "Share of the rows, or of the groups."),
    c("set_aside", "seed", "whole number", "Of the draw."),
    c("set_aside", "after", "date or number", "With a time: all rows after it."),
    c("set_aside", "latest", "yes or no", "With a time: the latest rows (yes), or drawn ones."),
    c("set_aside", "keep_groups", "yes or no", "Whether groups stay whole; yes if not given."),
    c(
      "rule_out", "*rule", "text",
      "Comparisons of hyperparameters with values, joined by & and |."
    ),
    c("rule_out", "candidate", "text", "Only for this candidate."),
    c(
      "a step", "columns", "columns, or a map",
      "The columns that it works on; all that suit it if not given."
    ),
    c("a step", "called", "text", "A name of its own, put before its hyperparameters' names."),
    c("columns", "kind", "kinds", "number, category, ordered, text or date."),
    c("columns", "except", "columns", "But for these."),
    c("a value", "*from", "number", "The lower end of a range."),
    c("a value", "*to", "number", "The upper end of a range."),
    c("a value", "spacing", "even or log", "How the points of a range lie."),
    c("a value", "points", "whole number", "How finely a range is cut.")
  )
  field <- function(i) vapply(rows, `[[`, "", i)
  data.frame(
    where = field(1), key = sub("^[*]", "", field(2)), value = field(3),
    required = startsWith(field(2), "*"), does = field(4)
  )
}
