# Outcomes that are numbers: any, counts, and positive amounts.

member_outcome_number <- function() {
  outcome_definition("number", "numbers", "a numeric outcome",
    recognises = function(values, event) is.numeric(values) && is.null(event),
    read = read_number, metrics = c("rmse", "r_squared"), says = says_number,
    about = about_number, foretells = function(model) "a number"
  )
}

member_outcome_count <- function() {
  outcome_definition("count", "counts", "a count",
    read = read_count, serves = "number", metrics = c("poisson_deviance", "rmse"),
    says = function(outcome, brief, weights) {
      per <- brief$roles$exposure
      if (is.null(per)) return(says_number(outcome, brief, weights, "the count"))
      paste0(says_number(outcome, brief, weights, "the rate of"), " per unit of ", per)
    },
    about = about_number,
    foretells = function(model) {
      per <- model$exposure
      if (is.null(per)) return("an expected count")
      paste("an expected count per unit of", per)
    },
    lowest = least_positive, exposure = TRUE
  )
}

member_outcome_positive <- function() {
  outcome_definition("positive", "positive numbers", "a positive amount",
    read = read_positive, serves = "number", metrics = c("gamma_deviance", "rmse"),
    says = says_number, about = about_number, foretells = function(model) "a positive number",
    lowest = least_positive
  )
}

read_number <- function(values, rows, name, event, asked) {
  numbers <- outcome_numbers(values, name, "number")
  distinct <- sort(unique(numbers))
  if (length(distinct) == 2L && !asked) {
    stop_kw("brief", paste0(
      "The outcome ", quoted(name), " is a number with only two values, ",
      paste(distinct, collapse = " and "), ": classes or a number?"
    ),
    remedy = paste0(
      "For classes say event = ", distinct[2], "; for a number say outcome_kind = \"number\"."
    )
    )
  }
  list(values = numbers, levels = NULL, event = NULL)
}

read_count <- function(values, rows, name, event, asked) {
  numbers <- outcome_numbers(values, name, "count")
  refuse_outcomes(
    numbers < 0 | numbers != round(numbers), numbers, rows, name, "count",
    "counts are whole numbers of at least 0"
  )
  list(values = numbers, levels = NULL, event = NULL)
}

read_positive <- function(values, rows, name, event, asked) {
  numbers <- outcome_numbers(values, name, "positive")
  refuse_outcomes(numbers <= 0, numbers, rows, name, "positive", "positive numbers are above 0")
  list(values = numbers, levels = NULL, event = NULL)
}

outcome_numbers <- function(values, name, kind) {
  if (is.numeric(values)) return(as.double(values))
  stop_kw("brief", paste0(
    "outcome_kind = \"", kind, "\" is for numbers, but the outcome ", quoted(name), " holds ",
    if (is.factor(values) || is.character(values)) "text" else describe_value(values), "."
  ),
  remedy = "Convert it with as.numeric(), or leave `outcome_kind` out."
  )
}

refuse_outcomes <- function(bad, values, rows, name, kind, says) {
  if (!any(bad)) return(invisible())
  stop_kw("brief", paste0(
    "The outcome ", quoted(name), " holds ", format(values[bad][1]), ", but ", says, "."
  ),
  where = where_rows(bad, rows), column = name,
  remedy = paste0("Use outcome_kind = \"number\", or correct those rows.")
  )
}

says_number <- function(outcome, brief, weights, what = "the number") {
  paste0(
    what, " ", brief$outcome, " (", format(min(outcome), digits = 3), " to ",
    format(max(outcome), digits = 3), ", mean ",
    format(weighted_mean(outcome, weights), digits = 3), ")"
  )
}

about_number <- function(outcome, weights = NULL) {
  paste0(
    "a number between ", format(signif(min(outcome), 4)), " and ", format(signif(max(outcome), 4)),
    ", mean ", format(signif(weighted_mean(outcome, weights), 4))
  )
}

# Families that know nothing of counts may predict less than nothing. A thousandth of the mean is
# the least that is taken for true.
least_positive <- function(y, weights) weighted_mean(y, weights) / 1000
