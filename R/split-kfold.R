#' Divide the working rows into k folds
#'
#' Each fold serves once as validation rows while the others are training rows.
#' If the brief has a group, groups are kept whole.
#'
#' @param k Number of folds, at least 2.
#' @param repeats How often to divide afresh.
#' @param stratify Keep the shares of the classes (or of quantile bins of a
#'   numeric outcome) alike in all folds?
#' @param stratify_by Names of further columns whose levels (or quarters, for
#'   numbers) are to be alike in all folds.
#' @param keep_groups Keep the brief's groups whole? `FALSE` lets a group lie in
#'   training and validation rows at once, which flatters the scores.
#' @return A splitter for [plan_comparison()].
#' @section Errors:
#' `kw_error_splits` when there are fewer rows, groups or rows of a class than folds.
#' @examples
#' split_kfold(10, repeats = 3)
#' @export
split_kfold <- function(k = 10, repeats = 1, stratify = TRUE, stratify_by = NULL, keep_groups = TRUE) {
  check_number(k, "k", min = 2, whole = TRUE)
  check_number(repeats, "repeats", min = 1, whole = TRUE)
  check_flag(stratify, "stratify")
  check_flag(keep_groups, "keep_groups")
  check_argument(is.null(stratify_by) || is.character(stratify_by), "stratify_by", "names of columns", stratify_by)
  splitter("kfold", list(k = k, repeats = repeats, stratify = stratify, stratify_by = stratify_by, keep_groups = keep_groups),
    generate = function(about) {
      group <- about_group(about, keep_groups)
      check_folds(about, k, stratify, group)
      unlist(lapply(seq_len(repeats), function(rep) one_kfold(about, k, rep, stratify, stratify_by, group)),
             recursive = FALSE)
    },
    spread = "folds",
    label = paste0(k, " folds", if (repeats > 1) paste0(" x ", repeats, " repeats"))
  )
}

one_kfold <- function(about, k, rep, stratify, stratify_by, group) {
  strata <- crossed_strata(if (stratify) outcome_strata(about$outcome, k), lapply(stratify_by, about$column), k)
  fold <- deal_rows(about$n, rep(1 / k, k), strata, group)
  lapply(seq_len(k), function(part) {
    new_split(which(fold != part), which(fold == part), rep, part)
  })
}

# Strata of the outcome crossed with further columns; combinations with fewer rows
# than folds are put together.
crossed_strata <- function(strata, columns, k) {
  if (length(columns) == 0L) return(strata)
  codes <- lapply(columns, function(x) {
    if (is.numeric(x) && length(unique(x)) > 4L) {
      cuts <- unique(stats::quantile(x, 1:3 / 4, names = FALSE, na.rm = TRUE))
      return(ifelse(is.na(x), 0L, findInterval(x, cuts) + 1L))
    }
    match(as.character(x), unique(as.character(x)))
  })
  together <- do.call(paste, c(list(strata %||% 1L), codes))
  rare <- names(which(table(together) < k))
  together[together %in% rare] <- paste("rare", (strata %||% rep(1L, length(together)))[together %in% rare])
  together
}

check_folds <- function(about, k, stratify, group) {
  if (k > about$n) {
    stop_kw("splits", paste0("`k` is ", k, ", but there are only ", count_of(about$n, "working row"), "."),
            remedy = paste0("Use k = ", about$n, " or fewer."))
  }
  n_groups <- length(unique(group))
  if (!is.null(group) && k > n_groups) {
    stop_kw("splits", paste0("`k` is ", k, ", but the group column ", quoted(about$group_name),
                             " has only ", count_of(n_groups, "group"), " among the working rows."),
            remedy = paste0("Use k = ", n_groups, " or fewer."))
  }
  if (!stratify || !is.factor(about$outcome)) return(invisible())
  counts <- table(about$outcome)
  if (any(counts < k)) {
    rarest <- names(counts)[which.min(counts)]
    stop_kw("splits", paste0("The class ", quoted(rarest), " has ", count_of(min(counts), "row"),
                             ", fewer than the ", k, " folds, so some folds could not hold it."),
            remedy = paste0(if (min(counts) >= 2) paste0("Use k = ", min(counts), " or fewer, m"),
                            if (min(counts) < 2) "M",
                            "erge the class with another, or say stratify = FALSE."))
  }
}
