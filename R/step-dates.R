#' Turn dates into numbers
#'
#' The date columns are replaced by the parts asked for. Times are read in their
#' own time zone. A missing date gives missing parts.
#'
#' @param parts Some of `"elapsed"` (days since the first training date), `"year"`,
#'   `"month"`, `"day_of_year"`, `"weekday"` (1 = Monday), `"day"`, `"hour"`.
#' @param cyclic Turn month, day of year, weekday, day and hour into sine and cosine, so that
#'   December lies beside January?
#' @param columns Which columns; default all dates. See [of_kind()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on.
#' @examples
#' pre_dates(parts = c("elapsed", "month"), cyclic = among(TRUE, FALSE))
#' @export
pre_dates <- function(
  parts = c("elapsed", "month", "weekday"), cyclic = TRUE, columns = NULL, ...
) {
  no_more(...)
  new_step(member_step_dates(), list(parts = parts, cyclic = cyclic), rlang::enquo(columns))
}

member_step_dates <- function() {
  step_definition(
    "dates",
    learn = learn_dates,
    use = use_dates,
    script = script_dates, plain = function(state) state,
    check = check_date_parts,
    columns = "date",
    does = "Turns dates into elapsed days and (cyclic) parts.",
    hyperparameters = list(
      parts = hyperparameter(
        "any",
        c("elapsed", "month", "weekday"),
        meaning = "Which parts of a date become columns."
      ),
      cyclic = hyperparameter(
        "flag",
        TRUE,
        sensible = function(rows, columns, classes) among(TRUE, FALSE),
        meaning = "Whether parts that come round again become sine and cosine."
      )
    )
  )
}

date_periods <- c(month = 12, day_of_year = 365.25, weekday = 7, day = 30.4375, hour = 24)

check_date_parts <- function(settings) {
  if (is_varying(settings$parts)) return(invisible())
  for (part in settings$parts) {
    check_choice(part, c("elapsed", "year", names(date_periods)), "parts")
  }
}

learn_dates <- function(frame, target, settings, seed) {
  starts <- lapply(frame$columns[settings$columns], function(x) {
    if (column_kind(x) != "date") refuse_column_kind("dates", "dates", x)
    first <- days_of(x)
    if (all(is.na(first))) 0 else min(first, na.rm = TRUE)
  })
  state <- list(starts = starts, parts = settings$parts, cyclic = settings$cyclic)
  names <- unlist(lapply(names(starts), function(name) {
    paste(name, date_part_names(settings), sep = "_")
  }))
  state$names <- fresh_names(as.character(names), setdiff(frame_names(frame), names(starts)))
  list(state = state, training = NULL)
}

date_part_names <- function(settings) {
  unlist(lapply(settings$parts, function(part) {
    if (settings$cyclic && part %in% names(date_periods)) paste0(part, c("_sin", "_cos")) else part
  }))
}

days_of <- function(x) if (inherits(x, "POSIXct")) as.double(x) / 86400 else as.double(x)

use_dates <- function(state, frame) {
  columns <- lapply(names(state$starts), function(name) {
    x <- frame$columns[[name]]
    local <- as.POSIXlt(x)
    unlist(
      lapply(state$parts, function(part) date_part(part, x, local, state, name)),
      recursive = FALSE
    )
  })
  columns <- stats::setNames(as.list(unlist(columns, recursive = FALSE)), state$names)
  frame_swap(frame, remove = names(state$starts), columns = columns)
}

date_part <- function(part, x, local, state, name) {
  value <- switch(part,
    elapsed = days_of(x) - state$starts[[name]],
    year = local$year + 1900,
    month = local$mon + 1,
    day_of_year = local$yday + 1,
    weekday = (local$wday + 6) %% 7 + 1,
    day = local$mday,
    hour = local$hour + local$min / 60
  )
  if (!state$cyclic || !part %in% names(date_periods)) return(list(as.double(value)))
  angle <- 2 * pi * value / date_periods[[part]]
  list(sin(angle), cos(angle))
}

script_dates <- function(state, about) {
  if (length(state$starts) == 0L) return(list(lines = NULL))
  columns <- about$frame$columns[names(state$starts)]
  moments <- vapply(columns, inherits, NA, "POSIXct")
  empty <- vapply(columns, function(x) all(is.na(x)), NA)
  days <- if (any(moments)) "days<<i>>(v)" else "as.numeric(v)"
  values <- c(
    elapsed = paste0(days, " - first_day<<i>>[[name]]"), year = "part$year + 1900",
    month = "part$mon + 1", day_of_year = "part$yday + 1", weekday = "(part$wday + 6) %% 7 + 1",
    day = "part$mday", hour = "part$hour + part$min / 60"
  )
  by <- rep(names(state$starts), each = length(date_part_names(state)))
  plain <- paste(by, date_part_names(state), sep = "_")
  made <- new_column_names(about, "part_names", "usual", plain, state$names, by)
  at <- 0L
  # x[["fired_on_year"]], or by its place among the names that are written out
  place <- function(ending) {
    at <<- at + 1L
    if (is.null(made$lines)) return(paste0("    x[[paste0(name, \"_", ending, "\")]] <- "))
    paste0("    x[[", made$code, "[", at, "]]] <- ")
  }
  parts <- unlist(lapply(state$parts, function(part) {
    if (!state$cyclic || !part %in% names(date_periods)) return(paste0(place(part), values[[part]]))
    turn <- paste0("(2 * pi * (", values[[part]], ") / ", date_periods[[part]], ")")
    c(
      paste0(place(paste0(part, "_sin")), "sin", turn),
      paste0(place(paste0(part, "_cos")), "cos", turn)
    )
  }))
  list(does = paste0("date_parts", about$i), lines = code_lines(r"(
<<days>>
<<first>>
<<names>>
date_parts<<i>> <- function(x) {
  for (name in names(first_day<<i>>)) {
    v <- x[[name]]
    part <- as.POSIXlt(v)
    x[[name]] <- NULL
<<parts>>
  }
  x
}
)",
    i = about$i, names = made$lines, parts = gsub("<<i>>", about$i, parts, fixed = TRUE),
    days = if (any(moments)) paste0(
      "days", about$i, " <- function(v) as.numeric(v) / ",
      if (all(moments)) "86400" else "(if (inherits(v, \"POSIXct\")) 86400 else 1)"
    ),
    first = if (any(empty)) as_learned(about, first_day = state$starts) else paste0(
      "first_day", about$i, " <- lapply(x[", r_vector(names(state$starts)), "], function(v) min(",
      gsub("<<i>>", about$i, days, fixed = TRUE), ", na.rm = TRUE))"
    )
  ))
}
