#' Look at the splits before anything is fitted
#'
#' @param plan A plan from [plan_comparison()], or a [brief()].
#' @param splits A splitter, if `plan` is a brief.
#' @param seed Seed of the splits, if `plan` is a brief.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A `kw_split_check`, a tibble with one row a problem: `code`, `where`, `detail`, `remedy`,
#'   `splits` (how many are affected); no rows if nothing was found. Looked for: validation parts of
#'   fewer than 30 rows, classes missing in a part, groups on both sides, rows that
#'   are alike in all predictors (numbers to three digits) on both sides, later rows
#'   in training than in validation.
#' @section Errors:
#' `kw_error_argument` for anything but a brief and splits, `kw_error_splits` when the splits cannot
#' be made.
#' @examples
#' job <- brief(demo_pots(), outcome = "cracked", event = "yes", id = "pot_id", group = "firing_id")
#' check_splits(job, split_kfold(10, keep_groups = FALSE), seed = 1)
#' @export
check_splits <- function(plan, splits = split_kfold(), seed = 1, ...) {
  no_more(...)
  made <- splits_of(plan, splits, seed)
  brief <- made$brief
  looked <- lapply(made$splits, look_at_split, brief = brief, alike = alike_rows(brief))
  affected <- function(name) vapply(looked, function(one) one[[name]], numeric(1))
  rows <- list(
    split_problem("small_validation_part", affected("validation") < 30, function(hit) {
      paste0("as few as ", min(affected("validation")), " rows: single scores will scatter widely")
    }, "Use fewer folds or larger parts; below 10 rows predictions are scored together."),
    split_problem("class_missing_in_validation", affected("missing_validation") > 0, function(hit) {
      "metrics that need every class are undefined there"
    }, "Stratify, or merge rare classes."),
    split_problem("class_missing_in_training", affected("missing_training") > 0, function(hit) {
      "the class cannot be predicted there"
    }, "Stratify, or merge rare classes."),
    split_problem("groups_on_both_sides", affected("groups_astride") > 0, function(hit) {
      paste0(
        "up to ", max(affected("groups_astride")), " groups of ", brief$roles$group,
        " are in training and validation at once"
      )
    }, "Say keep_groups = TRUE, or the scores will be too good."),
    split_problem("rows_alike_on_both_sides", affected("alike_astride") > 0, function(hit) {
      paste0("up to ", max(affected("alike_astride")), " validation rows have a twin in training")
    }, "Remove duplicated rows, or declare what makes them alike as group."),
    split_problem("training_later_than_validation", affected("later") > 0, function(hit) {
      "the future is used to predict the past"
    }, "Use split_time().")
  )
  found <- tibble::as_tibble(data.table::rbindlist(c(list(no_problem()), rows)))
  structure(found, class = c("kw_split_check", class(found)), looked = length(made$splits))
}

splits_of <- function(plan, splitter, seed) {
  if (inherits(plan, "kw_comparison")) plan <- plan$plan
  if (inherits(plan, "kw_plan")) {
    return(list(
      brief = plan$brief, splits = plan$splits[!is_apparent(plan$splits)],
      splitter = plan$splitter
    ))
  }
  check_class(plan, "kw_brief", "plan", "Give a plan or a brief.")
  check_class(
    splitter, "kw_splitter", "splits", "Make one with split_kfold() or another split_...()."
  )
  splits <- make_splits(splitter, plan, seed)
  list(brief = plan, splits = splits[!is_apparent(splits)], splitter = splitter)
}

no_problem <- function() {
  list(
    code = character(), where = character(), detail = character(), remedy = character(),
    splits = integer()
  )
}

split_problem <- function(code, hit, detail, remedy) {
  if (!any(hit)) return(no_problem())
  list(
    code = code, where = paste(sum(hit), "of", count_of(length(hit), "split")),
    detail = detail(hit), remedy = remedy,
    splits = sum(hit)
  )
}

look_at_split <- function(split, brief, alike) {
  outcome <- brief$table[[brief$outcome]]
  absent <- function(rows) {
    if (is.factor(outcome)) sum(tabulate(outcome[rows], nlevels(outcome)) == 0L) else 0
  }
  group <- if (!is.null(brief$roles$group)) brief$table[[brief$roles$group]]
  time <- if (!is.null(brief$roles$time)) brief$table[[brief$roles$time]]
  list(
    validation = length(split$validation), missing_validation = absent(split$validation),
    missing_training = absent(split$training),
    groups_astride = length(intersect(group[split$training], group[split$validation])),
    alike_astride = sum(alike[split$validation] %in% alike[split$training]),
    later = if (is.null(time)) {
      0
    } else {
      max(0, max(time[split$training]) > min(time[split$validation]))
    }
  )
}

# A number for each working row; rows alike in all predictors share theirs.
alike_rows <- function(brief) {
  columns <- lapply(brief$table[names(brief$schema)], function(x) {
    if (is.numeric(x)) signif(x, 3) else as.character(x)
  })
  group_rows(columns, nrow(brief$table))
}
