#' Leave one row, or one group, out at a time
#'
#' `split_leave_row()` validates on every single row in turn (leave-one-out),
#' `split_leave_group()` on every group of the brief, or every value of a column.
#' Where the validation parts have fewer than 10 rows, one score is had from all
#' held-out predictions together, and its standard error by the jackknife.
#'
#' @param group Name of a column; default the brief's group.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A splitter for [plan_comparison()].
#' @references Stone (1974), Cross-validatory choice and assessment of statistical
#'   predictions, JRSS B 36.
#' @section Errors:
#' `kw_error_splits` when there is no such column, or only one value in it.
#' @examples
#' split_leave_group()
#' split_leave_group(group = "kiln")
#' @export
split_leave_row <- function() {
  splitter("leave_row", list(),
    generate = function(about) {
      if (!is.null(about$group) && anyDuplicated(about$group)) {
        stop_kw(
          "splits",
          paste0(
            "Leaving out single rows would divide the groups of ", quoted(about$group_name),
            "."
          ),
          remedy = "Use split_leave_group()."
        )
      }
      lapply(seq_len(about$n), function(row) {
        new_split(setdiff(seq_len(about$n), row), row, 1L, row)
      })
    },
    spread = "folds", scored = "pooled", label = "leave one row out"
  )
}

member_split_leave_row <- function() {
  maker_definition("split", "leave_row", split_leave_row,
    "Holds out one row after the other; predictions are scored together."
  )
}

#' @rdname split_leave_row
#' @export
split_leave_group <- function(group = NULL, ...) {
  no_more(...)
  if (!is.null(group)) check_string(group, "group")
  splitter("leave_group", list(group = group),
    generate = function(about) {
      values <- if (is.null(group)) about$group else about$column(group)
      if (is.null(values)) {
        stop_kw(
          "splits",
          "The brief has no group to leave out.",
          remedy = "Say group = \"column\", or brief(group = \"column\")."
        )
      }
      if (anyNA(values)) {
        stop_kw(
          "splits",
          paste0("The column ", quoted(group %||% about$group_name), " has missing values.")
        )
      }
      parts <- split(seq_len(about$n), match(values, unique(values)))
      if (length(parts) < 2L) stop_kw("splits", "There is only one group, so none can be left out.")
      lapply(seq_along(parts), function(part) {
        new_split(setdiff(seq_len(about$n), parts[[part]]), parts[[part]], 1L, part)
      })
    },
    spread = "folds", label = paste0("leave one ", group %||% "group", " out")
  )
}

member_split_leave_group <- function() {
  maker_definition("split", "leave_group", split_leave_group,
    "Holds out one group after the other."
  )
}

#' Splits given by columns of the table
#'
#' Every column is one split: its values say where a row belongs. The columns must
#' be no predictors; name them in `brief(ignore = )`.
#'
#' @param columns Names of columns holding `"training"`, `"validation"` or nothing
#'   (`NA`: in neither part).
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A splitter for [plan_comparison()].
#' @section Errors:
#' `kw_error_splits` when a column is absent, a predictor, holds anything else or
#' leaves a part empty.
#' @examples
#' split_columns(c("fold_a", "fold_b"))
#' @export
split_columns <- function(columns, ...) {
  no_more(...)
  check_argument(
    is.character(columns) && length(columns) > 0L && !anyNA(columns),
    "columns",
    "names of columns",
    columns
  )
  splitter("columns", list(columns = columns),
    generate = function(about) {
      lapply(seq_along(columns), function(i) split_from_column(about, columns[i], i))
    },
    spread = "dependent", label = paste0("given by ", enumerate(columns))
  )
}

member_split_columns <- function() {
  maker_definition("split", "columns", split_columns, "Takes the splits from columns of the table.")
}

split_from_column <- function(about, name, part) {
  values <- trimws(as.character(about$column(name)))
  values[!is.na(values) & !nzchar(values)] <- NA
  strange <- setdiff(values, c("training", "validation", NA))
  if (length(strange) > 0L) {
    stop_kw("splits", paste0("The column ", quoted(name), " holds ", quoted(strange[1]), "."),
      remedy = "Use \"training\", \"validation\" or nothing."
    )
  }
  training <- which(values %in% "training")
  validation <- which(values %in% "validation")
  if (length(training) == 0L || length(validation) == 0L) {
    stop_kw("splits", paste0(
      "The column ", quoted(name), " has no ",
      if (length(training) == 0L) "training" else "validation", " rows."
    ))
  }
  new_split(training, validation, 1L, part)
}
