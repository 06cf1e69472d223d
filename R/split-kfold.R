#' Divide the working rows into k folds
#'
#' Each fold serves once as validation rows while the others are training rows.
#' If the brief has a group, groups are kept whole.
#'
#' @param k Number of folds, at least 2.
#' @param repeats How often to divide afresh.
#' @param stratify `TRUE` keeps the shares of the classes (or of quantile bins of a
#'   numeric outcome) alike in all folds: every fold gets the floor or the ceiling of each
#'   class's share, with groups to about one group's rows of it. Where rows have weights, the
#'   folds' sums of weights are kept alike, too. Groups and rows are dealt at random, however large
#'   they are or much they weigh, and then changed only until the folds are alike enough. Names of
#'   columns: their levels (or quarters, for numbers) are kept alike as well. `FALSE`: neither.
#' @param keep_groups Keep the brief's groups whole? `FALSE` lets a group lie in
#'   training and validation rows at once, which flatters the scores.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A splitter for [plan_comparison()].
#' @section Errors:
#' `kw_error_splits` when there are fewer rows, groups or rows of a class than folds.
#' @examples
#' split_kfold(10, repeats = 3)
#' @export
split_kfold <- function(k = 10, repeats = 1, stratify = TRUE, keep_groups = TRUE, ...) {
  no_more(...)
  check_number(k, "k", min = 2, whole = TRUE)
  check_number(repeats, "repeats", min = 1, max = most_repeats, whole = TRUE)
  check_stratify(stratify)
  check_flag(keep_groups, "keep_groups")
  splitter("kfold", list(k = k, repeats = repeats, stratify = stratify, keep_groups = keep_groups),
    generate = function(about) {
      group <- about_group(about, keep_groups)
      check_folds(about, k, stratify, group)
      strata <- strata_of(about, stratify, k)
      unlist(
        lapply(seq_len(repeats), function(rep) one_kfold(about, k, rep, strata, group)),
        recursive = FALSE
      )
    },
    spread = "folds", more_by = "repeats",
    label = paste0(k, " folds", if (repeats > 1) paste0(" x ", repeats, " repeats"))
  )
}

member_split_kfold <- function() {
  maker_definition("split", "kfold", split_kfold,
    "Deals the rows into k parts and holds out each in turn, repeatedly on request."
  )
}

# More would take days, and say nothing more.
most_repeats <- 10000

one_kfold <- function(about, k, rep, strata, group) {
  fold <- deal_rows(about$n, rep(1 / k, k), strata, group, about$weights)
  lapply(seq_len(k), function(part) {
    new_split(which(fold != part), which(fold == part), rep, part)
  })
}

check_stratify <- function(stratify) {
  fine <- (is.logical(stratify) && length(stratify) == 1L && !is.na(stratify)) ||
    (is.character(stratify) && length(stratify) > 0L && !anyNA(stratify))
  check_argument(fine, "stratify", "TRUE, FALSE or names of columns", stratify)
}

# Strata for dealing rows into so many parts, or NULL.
strata_of <- function(about, stratify, parts) {
  if (isFALSE(stratify)) return(NULL)
  columns <- if (is.character(stratify)) lapply(stratify, about$column)
  crossed_strata(
    outcome_strata(about$outcome, parts, about$weights), columns, parts, about$weights
  )
}

# Strata of the outcome crossed with further columns; combinations with fewer rows
# than folds are put together.
crossed_strata <- function(strata, columns, k, weights = NULL) {
  if (length(columns) == 0L) return(strata)
  codes <- lapply(columns, function(x) {
    if (is.numeric(x) && length(unique(x)) > 4L) {
      known <- known_values(x, weights)
      cuts <- unique(weighted_quantile(known$x, 1:3 / 4, known$weights))
      return(ifelse(is.na(x), 0L, findInterval(x, cuts) + 1L))
    }
    match(as.character(x), unique(as.character(x)))
  })
  together <- do.call(paste, c(list(strata), codes))
  rare <- together %in% names(which(table(together) < k))
  together[rare] <- paste("rare", strata[rare])
  together
}

check_folds <- function(about, k, stratify, group) {
  if (k > about$n) {
    stop_kw(
      "splits",
      paste0("`k` is ", k, ", but there are only ", count_of(about$n, "working row"), "."),
      remedy = paste0("Use k = ", about$n, " or fewer."), most = about$n
    )
  }
  n_groups <- length(unique(group))
  if (!is.null(group) && k > n_groups) {
    stop_kw("splits", paste0(
      "`k` is ", k, ", but the group column ", quoted(about$group_name),
      " has only ", count_of(n_groups, "group"), " among the working rows."
    ),
    remedy = paste0("Use k = ", n_groups, " or fewer."), most = n_groups
    )
  }
  if (isFALSE(stratify) || !is.factor(about$outcome)) return(invisible())
  counts <- table(about$outcome)
  if (any(counts < k)) {
    rarest <- names(counts)[which.min(counts)]
    stop_kw("splits", paste0(
      "The class ", quoted(rarest), " has ", count_of(min(counts), "row"),
      ", fewer than the ", k, " folds, so some folds could not hold it."
    ),
    remedy = paste0(
      if (min(counts) >= 2) paste0("Use k = ", min(counts), " or fewer, m"),
      if (min(counts) < 2) "M",
      "erge the class with another, or say stratify = FALSE."
    ),
    most = min(counts)
    )
  }
}
