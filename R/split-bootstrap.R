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
#' @param held_out Share of the rows held out, above 0 and below 1.
#' @param stratify `TRUE` keeps the shares of the classes (or of quantile bins of a
#'   numeric outcome) in every draw, `FALSE` does not; names of columns keep those of
#'   their levels as well. A bootstrap draw of whole groups is not stratified, but drawn
#'   again where training or validation part lacks a class.
#' @param keep_groups Keep the brief's groups whole? `FALSE` flatters the scores.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A splitter for [plan_comparison()].
#' @references Efron & Tibshirani (1993), An Introduction to the Bootstrap; Efron &
#'   Tibshirani (1997), Improvements on cross-validation: the .632+ bootstrap method,
#'   JASA 92.
#' @section Errors:
#' `kw_error_splits` when a draw would leave no validation or training rows.
#' @examples
#' split_bootstrap(25)
#' split_holdout(held_out = 0.25, draws = 10)
#' @export
split_bootstrap <- function(
  draws = 25, score = "out_of_bag", stratify = TRUE, keep_groups = TRUE, ...
) {
  no_more(...)
  check_number(draws, "draws", min = 1, max = most_repeats, whole = TRUE)
  check_choice(score, c("out_of_bag", "632", "632plus"), "score")
  check_stratify(stratify)
  check_flag(keep_groups, "keep_groups")
  splitter(
    "bootstrap",
    list(draws = draws, score = score, stratify = stratify, keep_groups = keep_groups),
    generate = function(about) {
      group <- about_group(about, keep_groups)
      if (!is.null(group) && !anyDuplicated(group)) group <- NULL
      # of bins with fewer rows too many rows would be left out by chance
      strata <- if (is.null(group)) strata_of(about, stratify, 10L)
      classes <- if (!isFALSE(stratify) && is.factor(about$outcome)) about$outcome
      lapply(seq_len(draws), function(draw) one_bootstrap(about$n, group, strata, classes, draw))
    },
    spread = "draws", more_by = "draws",
    summary = if (score != "out_of_bag") score,
    label = paste0(
      draws, " bootstrap draws",
      switch(score,
        "632" = ", .632",
        "632plus" = ", .632+",
        ""
      )
    )
  )
}

member_split_bootstrap <- function() {
  maker_definition("split", "bootstrap", split_bootstrap,
    "Draws as many rows as there are, with replacement; those not drawn are held out."
  )
}

# Drawn again, at most 100 times, as long as a part lacks a class; where no draw is whole,
# the last one that leaves rows to validate on is taken.
one_bootstrap <- function(n, group, strata, classes, draw) {
  units <- split(seq_len(n), group %||% seq_len(n))
  within <- split(seq_along(units), strata %||% rep(1L, length(units)))
  found <- NULL
  for (attempt in 1:100) {
    drawn <- unlist(lapply(within, function(of) of[sample.int(length(of), replace = TRUE)]))
    training <- unlist(units[drawn], use.names = FALSE)
    validation <- setdiff(seq_len(n), training)
    if (length(validation) == 0L) next
    found <- new_split(training, validation, draw, 1L)
    if (is.null(classes) || holds_classes(found, classes)) return(found)
  }
  if (!is.null(found)) return(found)
  stop_kw("splits", paste0(
    "With ", count_of(length(units), "row or group", "rows or groups"),
    " a bootstrap draw leaves nothing to validate on."
  ),
  remedy = "Use more rows or groups, or split_kfold()."
  )
}

# Has each part every class of which there are two rows or more?
holds_classes <- function(split, classes) {
  wanted <- which(tabulate(classes, nlevels(classes)) > 1L)
  codes <- as.integer(classes)
  all(wanted %in% codes[split$training]) && all(wanted %in% codes[split$validation])
}

#' @rdname split_bootstrap
#' @export
split_holdout <- function(held_out = 0.25, draws = 1, stratify = TRUE, keep_groups = TRUE, ...) {
  no_more(...)
  check_number(held_out, "held_out", min = 0, max = 1, open_min = TRUE, open_max = TRUE)
  check_number(draws, "draws", min = 1, max = most_repeats, whole = TRUE)
  check_stratify(stratify)
  check_flag(keep_groups, "keep_groups")
  splitter("holdout",
    list(held_out = held_out, draws = draws, stratify = stratify, keep_groups = keep_groups),
    generate = function(about) {
      strata <- strata_of(about, stratify, 2L)
      group <- about_group(about, keep_groups)
      lapply(seq_len(draws), function(draw) one_holdout(about, held_out, strata, group, draw))
    },
    spread = "draws", more_by = "draws",
    label = paste0(count_of(draws, "holdout"), " of ", format(100 * held_out), " %")
  )
}

member_split_holdout <- function() {
  maker_definition("split", "holdout", split_holdout,
    "Holds a share of the rows out, once or several times."
  )
}

one_holdout <- function(about, held_out, strata, group, draw) {
  shares <- c(held_out, 1 - held_out)
  held <- deal_rows(about$n, shares, strata, group, about$weights) == 1L
  if (!any(held) || all(held)) {
    stop_kw("splits", paste0(
      "A share of ", format(held_out), " leaves no ",
      if (any(held)) "training" else "validation", " rows."
    ),
    remedy = "Use another share; with groups, whole groups are held out."
    )
  }
  new_split(which(!held), which(held), draw, 1L)
}
