#' Say what is to be predicted, and from what
#'
#' A brief is the table together with its outcome and the roles of its columns.
#' Everything else starts from it. Columns without a role are predictors.
#'
#' @param table A data frame, one row per case.
#' @param outcome Name of the column to predict. A number is predicted as a
#'   number; text, a factor or TRUE/FALSE as classes. See `outcome_kind`.
#' @param event For two classes: the class whose probability is predicted.
#'   Without it the last class in order is taken, and the print says so.
#' @param id Names of columns that only identify a row.
#' @param group Name of the column whose rows belong together (a firing, a
#'   person, a site). Splits never divide a group.
#' @param weight Name of a numeric column of case weights, at least 0. A row counts as if it were
#'   there so often: in scores, in what preparation learns (means, quantiles, frequencies,
#'   components, filters; but not where single rows are looked for, such as nearest neighbours and
#'   smallest leaves), and in fits of families that take weights ([preview()] names those that do
#'   not).
#' @param time Name of the date, time or number column by which rows are ordered in time.
#' @param ignore Names of columns to leave out.
#' @param ordered Ordered categories: a named list, column name to its levels from
#'   lowest to highest. Ordered factors need no entry.
#' @param text Names of columns of free text. Character columns of many
#'   different remarks of several words are recognised without being named.
#' @param read_as What columns are read as, where that is not how they came: a named list, column
#'   name to `"number"` (of texts, also with a currency or a unit that all have, or with blanks
#'   before thousands), `"category"` (of numbers that are codes), or the form of dates, such as
#'   `"%d/%m/%Y"`, where it cannot be told which number is the month; of points in time the form of
#'   their day.
#' @param missing_codes Codes that stand for "missing": a named list, column
#'   name to codes, e.g. `list(drying_days = -999)`.
#' @param outcome_kind What the outcome is, where that is not to be read off its values:
#'   `"count"` for counts (0, 1, 2, ...), `"positive"` for amounts above 0, `"number"`,
#'   `"two_class"`, `"many_class"`, or `"ordered"` for classes in an order, which an ordered factor
#'   is by itself, numbers are by their size, and other columns by `ordered =`. It decides the usual
#'   metrics and what families fit: Poisson or gamma deviance, cumulative logits. Families that know
#'   nothing of a kind take counts and amounts as numbers and ordered classes as classes.
#' @param quantiles Rising numbers between 0 and 1: predict these quantiles of a numeric outcome,
#'   all at once, such as `c(0.05, 0.5, 0.95)` for a median with an interval that holds 90 % of
#'   the rows; the same as `outcome_kind = "quantiles"`, which without them takes 0.1, 0.5 and 0.9.
#' @param exposure For counts: name of the column that says how long, or of how many, a row
#'   counts. What is learned, scored and predicted is the rate per unit of it, and a row weighs as
#'   much as its exposure; for the Poisson likelihood that is the same as an offset.
#' @param outcome_scale For a numeric outcome: the scale on which families learn it, such as
#'   `"log"`, several to try, or `list(to = , from = )`; see [pre_outcome_scale()], which stands
#'   before every candidate that has none of its own. Scores and predictions are in the outcome's
#'   own unit.
#' @param costs For two classes: what mistakes cost in each row, `list(missed = , false_alarm = )`,
#'   each the name of a column or a number. The metric `"case_cost"` then is the mean cost a row, by
#'   which settings and the decision threshold can be chosen. The columns stay predictors unless
#'   `ignore` names them too, as it must if they are not known when new rows are predicted.
#' @param rows_without_outcome What is done where the outcome is missing: `"refuse"` the table, or
#'   `"leave_out"` such rows, of which the brief says how many there are. Row numbers remain those
#'   of the table.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A `kw_brief`; print it to read what it says.
#' @section Errors:
#' `kw_error_brief` when a column is absent, has two roles or cannot be used as
#' said; `kw_error_table` when the table itself is not usable.
#' @seealso [set_aside()], [run_comparison()]
#' @examples
#' brief(demo_pots(),
#'   outcome = "cracked", event = "yes", id = "pot_id", group = "firing_id",
#'   missing_codes = list(glaze = "n/r", drying_days = -999)
#' )
#' @export
brief <- function(table, outcome, event = NULL, id = NULL, group = NULL, weight = NULL,
                  time = NULL, ignore = NULL, ordered = NULL, text = NULL,
                  missing_codes = NULL, outcome_scale = NULL, outcome_kind = NULL,
                  exposure = NULL, quantiles = NULL, costs = NULL, read_as = NULL,
                  rows_without_outcome = "refuse", ...) {
  no_more(...)
  check_table(table)
  if (missing(outcome)) {
    stop_kw("brief", "`outcome` is missing: which column is to be predicted?",
      remedy = paste0("Columns: ", enumerate(names(table), 20L), ".")
    )
  }
  check_string(outcome, "outcome")
  check_named(ordered, "ordered")
  check_named(missing_codes, "missing_codes")
  check_named(read_as, "read_as")
  for (what in read_as) check_choice(what, known_readings, "read_as")
  check_choice(rows_without_outcome, c("refuse", "leave_out"), "rows_without_outcome")
  roles <- list(
    outcome = outcome, id = id, group = group, weight = weight, time = time,
    ignore = ignore, exposure = exposure
  )
  check_roles(roles, names(table))
  check_columns_exist(names(ordered), names(table), "ordered")
  check_columns_exist(text, names(table), "text")
  check_columns_exist(names(missing_codes), names(table), "missing_codes")
  check_columns_exist(names(read_as), names(table), "read_as")

  given <- unclass(table)[names(table)]
  table <- clean_table(table, roles, missing_codes, ordered, read_as)
  formats <- lapply(given, attr, "written_as")
  formats[names(read_as)] <- lapply(read_as, function(what) if (what %in% day_forms) what)
  numbers <- lapply(given, function(x) list_of(commas = attr(x, "commas")))
  texts <- intersect(names(Filter(function(what) what == "number", read_as)), texts_of(given))
  numbers[texts] <- lapply(texts, function(name) {
    number_form(trimws(as.character(recode_missing(given[[name]], missing_codes[[name]]))))
  })
  total <- nrow(table)
  rows <- rows_with_outcome(table[[outcome]], outcome, rows_without_outcome)
  if (length(rows) < total) table <- frame_of_rows(table, rows)
  check_role_values(table, roles, rows)
  if (!is.null(quantiles)) outcome_kind <- outcome_kind %||% "quantiles"
  target <- understand_outcome(table[[outcome]], rows, outcome, event, outcome_kind)
  quantiles <- check_quantiles(quantiles, target$kind, outcome)
  check_exposure(table, exposure, outcome, target$kind, rows)
  check_costs(costs, table, outcome, target$kind, rows)
  if (is.list(outcome_scale)) outcome_scale <- own_scale(outcome_scale$to, outcome_scale$from)
  check_outcome_scale(outcome_scale, outcome, target$kind, exposure)
  table[[outcome]] <- per_exposure(target$values, table, exposure)
  brief <- new_record("kw_brief",
    table = table, rows = rows, outcome = outcome, kind = target$kind,
    kind_given = !is.null(outcome_kind),
    levels = target$levels %||% quantile_names(quantiles), quantiles = quantiles,
    event = target$event, event_given = !is.null(event),
    roles = roles[-1], missing_codes = missing_codes,
    declared = list(
      ordered = ordered, text = text, read_as = read_as,
      formats = Filter(Negate(is.null), formats), numbers = Filter(length, numbers)
    ),
    n_total = total, n_without_outcome = total - length(rows), sealed = NULL,
    outcome_scale = outcome_scale, costs = costs
  )
  refresh_brief(brief)
}

check_outcome_scale <- function(scales, outcome, kind, exposure) {
  if (!is.list(scales)) {
    for (one in scales) check_choice(one, outcome_scales, "outcome_scale")
  }
  if (is.null(scales)) return(invisible())
  if (is_wide(kind)) {
    stop_kw("brief", paste0(
      "`outcome_scale` is for a number, but ", quoted(outcome), " is predicted as ",
      kind_words(kind), "."
    ), remedy = "Leave it out.")
  }
  if (!is.null(exposure)) {
    stop_kw("brief", "`outcome_scale` and `exposure` do not go together.",
      remedy = "Leave one of them out: an exposure makes a rate, learned as it is."
    )
  }
}

check_costs <- function(costs, table, outcome, kind, rows) {
  if (is.null(costs)) return(invisible())
  if (!has_event(kind)) {
    stop_kw("brief", paste0(
      "`costs` are for two classes, but ", quoted(outcome), " is predicted as ", kind_words(kind),
      "."
    ), remedy = "Leave them out.")
  }
  fine <- is.list(costs) && setequal(names(costs), names(mistakes)) && length(costs) == 2L
  check_argument(fine, "costs", "list(missed = , false_alarm = ), columns or numbers", costs)
  columns <- unlist(Filter(is.character, costs))
  check_columns_exist(columns, names(table), "costs")
  for (one in names(costs)) {
    values <- cost_values(costs[[one]], table)
    bad <- if (is.numeric(values)) is.na(values) | values < 0 else rep(TRUE, nrow(table))
    if (!any(bad)) next
    stop_kw("brief", paste0(
      "The costs `", one, "` (", describe_value(costs[[one]]), ") must be numbers of at least 0."
    ), where = where_rows(bad, rows), column = if (is.character(costs[[one]])) costs[[one]])
  }
}

mistakes <- c(missed = "an event missed", false_alarm = "a false alarm")

# Of every row of a table: a column, or the same number.
cost_values <- function(cost, table) {
  if (is.character(cost)) table[[cost]] else rep_len(cost, nrow(table))
}

# Rows x (missed, false_alarm); NULL where there are no costs, or not their columns.
row_costs <- function(costs, table) {
  columns <- unlist(Filter(is.character, costs))
  if (is.null(costs) || !all(columns %in% names(table))) return(NULL)
  each <- lapply(names(mistakes), function(one) as.double(cost_values(costs[[one]], table)))
  matrix(unlist(each), nrow(table), dimnames = list(NULL, names(mistakes)))
}

check_exposure <- function(table, exposure, outcome, kind, rows = seq_len(nrow(table))) {
  if (is.null(exposure)) return(invisible())
  if (!outcome_kind(kind)$exposure) {
    stop_kw("brief", paste0(
      "`exposure` is for counts, but ", quoted(outcome), " is predicted as ", kind_words(kind), "."
    ),
    remedy = "Say outcome_kind = \"count\" if it counts something, or leave `exposure` out."
    )
  }
  values <- table[[exposure]]
  bad <- if (is.numeric(values)) is.na(values) | values <= 0 else rep(TRUE, nrow(table))
  if (any(bad)) {
    stop_kw("brief", paste0(
      "The exposure column ", quoted(exposure), " must hold numbers above 0."
    ), where = where_rows(bad, rows), column = exposure)
  }
}

# A count becomes the rate per unit of exposure, and every row weighs as much as its exposure: for
# the Poisson likelihood that is the same as an offset, log(exposure).
per_exposure <- function(values, table, exposure) {
  if (is.null(exposure)) values else values / table[[exposure]]
}

# The counts again.
counted_outcome <- function(brief) {
  values <- brief$table[[brief$outcome]]
  exposure <- brief$roles$exposure
  if (is.null(exposure)) values else round(values * brief$table[[exposure]])
}

# How many classes there are; 0 where the outcome is no class.
class_count <- function(brief) if (has_classes(brief$kind)) length(brief$levels) else 0L

# What rows of a brief's table weigh: NULL where all weigh the same.
row_weights <- function(brief, table = brief$table) {
  roles <- intersect(c("weight", "exposure"), names(Filter(Negate(is.null), brief$roles)))
  columns <- lapply(roles, function(role) as.double(table[[brief$roles[[role]]]]))
  if (length(columns) > 0L) Reduce(`*`, columns)
}

texts_of <- function(columns) names(Filter(function(x) is.character(x) || is.factor(x), columns))

# What depends on the working rows: schema and fingerprint.
refresh_brief <- function(brief) {
  predictors <- setdiff(names(brief$table), c(brief$outcome, unlist(brief$roles)))
  if (length(predictors) == 0L) {
    stop_kw("brief", "No column is left to predict from.",
      where = paste0(
        "Every column of the table has a role: ",
        enumerate(names(brief$table)), "."
      ),
      remedy = "A brief needs an outcome and at least one predictor column."
    )
  }
  brief$schema <- learn_schema(brief$table[predictors], brief$declared)
  brief$fingerprint <- fingerprint_table(brief$table)
  brief
}

check_table <- function(table) {
  if (!is.data.frame(table)) {
    stop_kw("table", paste0("`table` must be a data frame; got ", describe_value(table), "."),
      remedy = if (is.character(table) && is.null(dim(table))) {
        "To read a file, use read_data(\"file.csv\") first."
      } else if (length(dim(table)) == 2L) {
        "Make it one with as.data.frame()."
      }
    )
  }
  if (nrow(table) == 0L) stop_kw("table", "The table has no rows.")
  names <- names(table)
  if (anyNA(names) || any(!nzchar(names))) {
    stop_kw("table", "Every column of the table needs a name.",
      where = paste("Without one: column", enumerate(which(is.na(names) | !nzchar(names))))
    )
  }
  twice <- unique(names[duplicated(names)])
  if (length(twice) > 0L) {
    stop_kw("table", paste0(
      "Column names must differ; more than one column is called ",
      enumerate(quoted(twice)), "."
    ),
    remedy = "Rename or drop the extra columns."
    )
  }
}

check_columns_exist <- function(columns, known, arg) {
  if (is.null(columns)) return(invisible())
  check_argument(is.character(columns) && !anyNA(columns), arg, "column names", columns)
  for (column in setdiff(columns, known)) {
    stop_kw("brief", paste0(
      "`", arg, "` names the column ", quoted(column),
      ", which the table does not have."
    ),
    remedy = did_you_mean(column, known, "Columns"), argument = arg, column = column
    )
  }
}

check_roles <- function(roles, known) {
  for (role in names(roles)) {
    check_columns_exist(roles[[role]], known, role)
    if (role %in% c("group", "weight", "time", "exposure") && length(roles[[role]]) > 1L) {
      stop_kw("brief", paste0(
        "`", role, "` takes one column; got ",
        enumerate(quoted(roles[[role]])), "."
      ))
    }
  }
  all <- unlist(roles, use.names = FALSE)
  twice <- unique(all[duplicated(all)])
  if (length(twice) > 0L) {
    holders <- names(roles)[vapply(roles, function(columns) twice[1] %in% columns, logical(1))]
    stop_kw("brief", paste0(
      "The column ", quoted(twice[1]), " is named twice: in ",
      paste0("`", holders, "`", collapse = " and "), "."
    ),
    remedy = "Give every column one role."
    )
  }
}

# `rows`: their numbers in the table that was given.
check_role_values <- function(table, roles, rows = seq_len(nrow(table))) {
  for (role in c("group", "time")) {
    column <- roles[[role]]
    if (!is.null(column) && anyNA(table[[column]])) {
      stop_kw("brief", paste0("The ", role, " column ", quoted(column), " has missing values."),
        where = where_rows(is.na(table[[column]]), rows), column = column,
        remedy = "Fill them in, or drop those rows."
      )
    }
  }
  if (is.null(roles$weight)) return(invisible())
  weight <- table[[roles$weight]]
  bad <- !is.numeric(weight) | is.na(weight) | (is.numeric(weight) & weight < 0)
  if (any(bad) || all(weight == 0)) {
    stop_kw("brief", paste0(
      "The weight column ", quoted(roles$weight),
      " must hold numbers of at least 0, not all 0."
    ),
    where = if (any(bad)) where_rows(bad, rows), column = roles$weight
    )
  }
}

# The target of some working rows (row numbers within the working table).
brief_target <- function(brief, rows = seq_len(nrow(brief$table))) {
  column <- function(role) {
    if (!is.null(brief$roles[[role]])) brief$table[[brief$roles[[role]]]][rows]
  }
  new_target(
    outcome = brief$table[[brief$outcome]][rows], weights = row_weights(brief)[rows],
    group = column("group"), source_row = rows, kind = brief$kind, exposure = column("exposure"),
    quantiles = brief$quantiles,
    costs = row_costs(brief$costs, brief$table)[rows, , drop = FALSE]
  )
}
