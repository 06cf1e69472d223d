#' Where the time of a comparison went
#'
#' @param cmp A comparison from [run_comparison()].
#' @return A tibble with `what`, `seconds` and `share` of the whole: `steps` (learning and
#'   using them), `fits`, `scoring` (predicting and scoring), `rest` (planning the work,
#'   sending it to workers, waiting for them, writing the journal). Seconds of steps, fits
#'   and scoring are summed over the processes that worked at the same time; `elapsed` is
#'   what the clock said, and `rest` is elapsed times processes less the others.
#' @examples
#' job <- brief(demo_pots(), outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'              ignore = c("cracked", "grade", "notes"))
#' cmp <- run_comparison(job, candidates(tree = fam_tree()), splits = split_kfold(3), seed = 1, quiet = TRUE)
#' time_spent(cmp)
#' @export
time_spent <- function(cmp) {
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  spent <- cmp$results$spent
  whole <- cmp$seconds * (cmp$processes %||% 1)
  seconds <- c(spent, rest = max(0, whole - sum(spent)))
  shares <- c(seconds / max(whole, sum(spent), 1e-9), NA)
  tibble::tibble(what = c(names(seconds), "elapsed"), seconds = unname(c(seconds, cmp$seconds)), share = unname(shares))
}
