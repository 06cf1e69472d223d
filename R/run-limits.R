#' Limits of a run
#'
#' A run that reaches one ends with a valid comparison of what is done, which says so.
#' Interrupting a run (Ctrl-C) does the same.
#'
#' Minutes are a budget: what fits take is learned as the run goes, and a setting that would not be
#' scored on all splits in time is not begun. One setting of every candidate comes first, then two
#' more of each, then four, the cheaper candidates before the dearer ones. A search that asks for
#' what there is no time for is asked again, as long as there is time for the quickest setting. A
#' screen drops what is bad also where not all could be scored in full, as long as it takes no more
#' than half of what is left, and the best of what was begun are scored in full before the time is
#' over. Where there is no time for anything, the simplest setting is scored all the same, and the
#' comparison says so.
#'
#' @param minutes The run is over after so many minutes. In this process compiled code that runs
#'   then is waited for.
#' @param settings At most so many settings are tried, taken in turn from all
#'   candidates.
#' @param fit_seconds A single fit is stopped after so many seconds and counts as
#'   failed. In this process R code is stopped; on workers, except on Windows, compiled
#'   code too.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return Limits for `run_comparison(limits = )`.
#' @section Errors:
#' `kw_error_argument` for an argument of the wrong kind or out of range, naming it.
#' @examples
#' limits(minutes = 5, fit_seconds = 30)
#' @export
limits <- function(minutes = NULL, settings = NULL, fit_seconds = NULL, ...) {
  no_more(...)
  if (!is.null(minutes)) check_number(minutes, "minutes", min = 0, open_min = TRUE)
  if (!is.null(settings)) check_number(settings, "settings", min = 1, whole = TRUE)
  if (!is.null(fit_seconds)) check_number(fit_seconds, "fit_seconds", min = 0, open_min = TRUE)
  structure(
    list(minutes = minutes, settings = settings, fit_seconds = fit_seconds),
    class = "kw_limits"
  )
}

# The first settings of every candidate in turn, `most` in all: rows by candidate, or NULL where
# that is all of them.
limit_settings <- function(tables, most) {
  sizes <- vapply(tables, nrow, integer(1))
  if (is.null(most) || sum(sizes) <= most) return(NULL)
  turn <- unlist(lapply(sizes, seq_len))
  whose <- rep(seq_along(tables), sizes)
  kept <- utils::head(order(turn, whose), most)
  stats::setNames(
    lapply(seq_along(tables), function(i) sort(turn[kept][whose[kept] == i])), names(tables)
  )
}
