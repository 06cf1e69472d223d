#' Where the time of a comparison went
#'
#' @param cmp A comparison from [run_comparison()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A tibble with `what`, `seconds` and `share` of the whole, which is the elapsed time
#'   times the processes that worked at the same time: `steps` (learning and using them),
#'   `fits`, `predictions`, `scoring`, `waiting` (of workers that had nothing to do, and their
#'   start), `overhead` (everything else: planning the work, bookkeeping, the journal); last
#'   `elapsed`, what the clock said. Of a comparison that was continued from a journal the
#'   fits include those done earlier.
#' @section Errors:
#' `kw_error_argument` for anything but a comparison.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()), splits = split_kfold(3), seed = 1,
#'   quiet = TRUE)
#' time_spent(cmp)
#' @export
time_spent <- function(cmp, ...) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  spent <- cmp$results$spent
  work <- spent[c("steps", "fits", "predictions", "scoring")]
  processes <- cmp$processes %||% 1
  whole <- max(cmp$seconds * processes, sum(work))
  waiting <- if (processes > 1) max(0, whole - max(spent[["units"]], sum(work))) else 0
  seconds <- c(work, waiting = waiting, overhead = whole - sum(work) - waiting)
  shares <- c(seconds / max(whole, 1e-9), NA)
  table <- tibble::tibble(
    what = c(names(seconds), "elapsed"), seconds = unname(c(seconds, cmp$seconds)),
    share = unname(shares)
  )
  listing(table,
    title = paste0(
      "Time of ", count_of(length(cmp$results$candidate), "setting"), " on ",
      count_of(length(all_splits(cmp)), "split"), ", by ",
      count_of(processes, "process", "processes")
    ),
    shares = "share"
  )
}
