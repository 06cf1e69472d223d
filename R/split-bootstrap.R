#' Bootstrap draws and random holdouts
#'
#' `split_bootstrap()` trains on as many rows as there are, drawn with
#' replacement, and validates on the rows not drawn. `split_holdout()` holds out
#' a random share, again and again. If the brief has a group, whole groups are
#' drawn or held out.
#'
#' With `score = "632"` every draw's score is 0.368 times the apparent score (trained
#' and scored on all rows) plus 0.632 times the score on the rows not drawn; with
#' `"632plus"` the weight grows with how much the family overfits. Both need a metric
#' that is a mean of one number a row, such as log_loss or mae.
#'
#' @param draws Number of draws.
#' @param score `"out_of_bag"` (the rows not drawn), `"632"` or `"632plus"`.
#' @param share Share of the rows held out, above 0 and below 1.
#' @param stratify Keep the shares of the classes (or of quantile bins of a
#'   numeric outcome)?
#' @param keep_groups Keep the brief's groups whole? `FALSE` flatters the scores.
#' @return A splitter for [plan_comparison()].
#' @references Efron & Tibshirani (1993), An Introduction to the Bootstrap; Efron &
#'   Tibshirani (1997), Improvements on cross-validation: the .632+ bootstrap method,
#'   JASA 92.
#' @section Errors:
#' `kw_error_splits` when a draw would leave no validation or training rows.
#' @examples
#' split_bootstrap(25)
#' split_holdout(share = 0.25, draws = 10)
#' @export
split_bootstrap <- function(draws = 25, score = "out_of_bag", keep_groups = TRUE) {
  check_number(draws, "draws", min = 1, whole = TRUE)
  check_choice(score, c("out_of_bag", "632", "632plus"), "score")
  check_flag(keep_groups, "keep_groups")
  splitter("bootstrap", list(draws = draws, score = score, keep_groups = keep_groups),
    generate = function(about) {
      group <- about_group(about, keep_groups)
      lapply(seq_len(draws), function(draw) one_bootstrap(about$n, group, draw))
    },
    spread = "draws", summary = if (score != "out_of_bag") score,
    label = paste0(draws, " bootstrap draws", switch(score, "632" = ", .632", "632plus" = ", .632+", "")))
}

one_bootstrap <- function(n, group, draw) {
  units <- if (is.null(group)) as.list(seq_len(n)) else unname(split(seq_len(n), group))
  for (attempt in 1:100) {
    training <- unlist(units[sample.int(length(units), replace = TRUE)], use.names = FALSE)
    validation <- setdiff(seq_len(n), training)
    if (length(validation) > 0L) return(new_split(training, validation, draw, 1L))
  }
  stop_kw("splits", paste0("With ", count_of(length(units), "row or group", "rows or groups"),
                           " a bootstrap draw leaves nothing to validate on."),
          remedy = "Use more rows or groups, or split_kfold().")
}

#' @rdname split_bootstrap
#' @export
split_holdout <- function(share = 0.25, draws = 1, stratify = TRUE, keep_groups = TRUE) {
  check_number(share, "share", min = 0, max = 1, open_min = TRUE, open_max = TRUE)
  check_number(draws, "draws", min = 1, whole = TRUE)
  check_flag(stratify, "stratify")
  check_flag(keep_groups, "keep_groups")
  splitter("holdout",
    list(share = share, draws = draws, stratify = stratify, keep_groups = keep_groups),
    generate = function(about) {
      strata <- if (stratify) outcome_strata(about$outcome, 2L)
      group <- about_group(about, keep_groups)
      lapply(seq_len(draws), function(draw) one_holdout(about$n, share, strata, group, draw))
    },
    spread = "draws",
    label = paste0(count_of(draws, "holdout"), " of ", format(100 * share), " %"))
}

one_holdout <- function(n, share, strata, group, draw) {
  held <- deal_rows(n, c(share, 1 - share), strata, group) == 1L
  if (!any(held) || all(held)) {
    stop_kw("splits", paste0("A share of ", format(share), " leaves no ",
                             if (any(held)) "training" else "validation", " rows."),
            remedy = "Use another share; with groups, whole groups are held out.")
  }
  new_split(which(!held), which(held), draw, 1L)
}
