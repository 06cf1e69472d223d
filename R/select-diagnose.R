#' What is odd about a comparison
#'
#' Looks for splits that are off for all settings, and what is different about their rows;
#' settings with an unusual spread; best values at the edge of what was tried; values
#' that hardly matter; over-fitting; failures and constraints that nothing meets.
#'
#' A split is off when the median over settings of (score - the setting's mean) lies more
#' than 3.5 robust standard deviations (median absolute deviation x 1.4826) from that of the
#' other splits. What a hyperparameter matters is its share of the variance of the
#' settings' means that the means over its values account for, by candidate (the first-order
#' part of an analysis of variance); it hardly matters when, for each of its values, the
#' best setting with it is worse than the best of the candidate by less than one standard
#' error, by the upper end of the 95 % interval of their paired difference over the splits
#' (see [shortlist()]); it matters when for some value the whole interval lies above 0.
#'
#' @param cmp A comparison from [run_comparison()].
#' @param metric The metric; default the deciding one.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return `diagnose()`: a tibble with one row a finding: `code`, `where`, `detail`,
#'   `remedy`; no rows if nothing is odd. `hyperparameter_importance()`: a tibble with
#'   `candidate`, `hyperparameter`, `values` (how many were tried), `share` (0 to 1, of the
#'   variance of the settings' means), `range` (between the best means for its values), `se`
#'   (of the candidate's best setting), `matters` (`NA`: it cannot be said).
#' @section Errors:
#' `kw_error_argument` for anything but a comparison, `kw_error_select` when nothing is ranked.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree(
#'   pruning = sensible(),
#'   min_leaf = among(2, 5, 10)
#' )),
#' splits = split_kfold(5), seed = 1, quiet = TRUE
#' )
#' diagnose(cmp)
#' hyperparameter_importance(cmp)
#' @export
diagnose <- function(cmp, metric = NULL, ...) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  metric <- cmp_metric(cmp, metric)
  summary <- score_summary(cmp, metric$name)
  edges <- find_edges(cmp, metric)
  found <- c(
    find_odd_splits(cmp, metric, summary), edges,
    find_flat(cmp, metric, vapply(edges, `[[`, "", "where")),
    find_wide_spread(cmp, metric, summary), find_gap(cmp, metric, summary),
    find_failed(cmp)
  )
  empty <- list(code = character(), where = character(), detail = character(), remedy = character())
  table <- tibble::as_tibble(data.table::rbindlist(c(list(empty), found)))
  listing(table,
    title = paste0(count_of(nrow(table), "thing"), " to look at, by ", metric$label),
    none = paste0("Nothing is odd, by ", metric$label, "."), texts = c("detail", "remedy")
  )
}

oddity <- function(code, where, detail, remedy) {
  list(list(code = code, where = where, detail = detail, remedy = remedy))
}

split_name <- function(split) {
  if (split$rep > 1) {
    paste0("repeat ", split$rep, ", split ", split$part)
  } else {
    paste("split", split$part)
  }
}

find_odd_splits <- function(cmp, metric, summary) {
  scores <- summary$scores[!is.na(summary$mean), , drop = FALSE]
  if (ncol(scores) < 5L || nrow(scores) == 0L || !is.null(cmp$results$pooled)) return(NULL)
  off <- apply(scores - rowMeans(scores), 2L, stats::median)
  spread <- stats::mad(off)
  odd <- which(abs(off - stats::median(off)) > 3.5 * max(spread, 1e-12))
  unlist(lapply(odd, function(j) {
    split <- all_splits(cmp)[summary$counted][[j]]
    oddity(
      "odd_split", split_name(split),
      paste0(
        "all settings score ", if (goodness(off[j], metric) < 0) "worse" else "better",
        " there: a median of ",
        signif(stats::median(scores[, j]), 3), " against ",
        signif(stats::median(scores[, -j]), 3), " on the others. ",
        rows_apart(cmp, split)
      ),
      paste(
        "Look at these rows: rows_by_split(cmp). Groups that belong together, or an error in",
        "the data?"
      )
    )
  }), recursive = FALSE)
}

# What sets the validation rows of a split apart from the other working rows: the columns
# with the largest standardised differences.
rows_apart <- function(cmp, split, most = 3L) {
  brief <- brief_of(cmp)
  here <- seq_len(nrow(brief$table)) %in% split$validation
  columns <- c(brief$outcome, names(brief$schema))
  each <- lapply(columns, function(name) column_apart(brief$table[[name]], here, name))
  each <- Filter(Negate(is.null), each)
  size <- vapply(each, `[[`, numeric(1), "size")
  top <- order(-size)[seq_len(min(most, sum(size > 0.2)))]
  if (length(top) == 0L) return("Its rows do not differ much from the others in any column.")
  paste0("Its rows differ most in ", enumerate(vapply(each[top], `[[`, "", "text")), ".")
}

column_apart <- function(x, here, name) {
  if (inherits(x, c("Date", "POSIXct")) || is.numeric(x)) {
    shown <- if (is.numeric(x)) function(v) format(signif(v, 3)) else function(v) format(v)
    value <- as.double(x)
    spread <- stats::sd(value, na.rm = TRUE)
    if (is.na(spread) || spread == 0 || all(is.na(value[here]))) return(NULL)
    size <- abs(mean(value[here], na.rm = TRUE) - mean(value[!here], na.rm = TRUE)) / spread
    return(list(
      size = size,
      text = paste0(
        name, " (mean ", shown(mean(x[here], na.rm = TRUE)), " against ",
        shown(mean(x[!here], na.rm = TRUE)), ")"
      )
    ))
  }
  level <- as.character(x)
  if (length(unique(level)) > 50L) return(NULL)
  known <- unique(level[!is.na(level)])
  inside <- vapply(known, function(l) mean(level[here] == l, na.rm = TRUE), numeric(1))
  outside <- vapply(known, function(l) mean(level[!here] == l, na.rm = TRUE), numeric(1))
  size <- abs(inside - outside) / sqrt(pmax(outside * (1 - outside), 1 / length(x)))
  if (length(size) == 0L || all(is.na(size))) return(NULL)
  top <- which.max(size)
  list(
    size = size[[top]],
    text = paste0(
      name, " (", known[top], " ", round(100 * inside[[top]]), " % against ",
      round(100 * outside[[top]]), " %)"
    )
  )
}

# Best values of numeric hyperparameters at an end of what was tried, but not as far as they
# may go.
find_edges <- function(cmp, metric) {
  found <- NULL
  for (at in best_of_candidates(cmp, metric$name)) {
    candidate <- cmp$results$candidate[at]
    table <- cmp$results$tables[[candidate]]
    for (dimension in spaces_of(cmp)[[candidate]]$dimensions) {
      values <- sort(unique(table[[dimension$name]]))
      value <- table[[dimension$name]][cmp$results$row[at]]
      if (!is.numeric(values) || length(values) < 3L || is.na(value) || !value %in% range(values)) {
        next
      }
      low <- value == values[1]
      if (isTRUE(all.equal(value, if (low) dimension$declared$min else dimension$declared$max))) {
        next
      }
      found <- c(
        found,
        oddity(
          "at_the_edge", paste0(names(spaces_of(cmp))[candidate], ", ", dimension$name),
          paste0(
            "the best value, ", format(value), ", is the ", if (low) "lowest" else "highest",
            " that was tried"
          ),
          paste0("Try ", if (low) "lower" else "higher", " values: see refine_ranges().")
        )
      )
    }
  }
  found
}

# Hyperparameters that hardly matter, in one finding; one whose best value lies at an edge is
# not among them.
find_flat <- function(cmp, metric, edges) {
  shares <- hyperparameter_importance(cmp, metric$name)
  place <- paste0(shares$candidate, ", ", shares$hyperparameter)
  flat <- place[shares$matters %in% FALSE & !place %in% edges]
  if (length(flat) == 0L) return(NULL)
  oddity(
    "hardly_matters", paste(flat, collapse = "; "),
    paste(
      "whatever value is taken, the best setting with it is worse by less than one standard",
      "error for sure (paired over the splits)"
    ),
    "Fix such a one at a simple value, and search others more finely."
  )
}

#' @rdname diagnose
#' @export
hyperparameter_importance <- function(cmp, metric = NULL, ...) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  metric <- cmp_metric(cmp, metric)
  summary <- score_summary(cmp, metric$name)
  good <- goodness(summary$mean, metric)
  # of splits in time no paired differences can be had
  field <- tryCatch(
    paired_field(cmp, metric$name, 0.95, 0, "none"),
    kw_error_select = function(e) NULL
  )
  rows <- lapply(seq_along(cmp$results$tables), function(candidate) {
    mine <- which(cmp$results$candidate == candidate & !is.na(good))
    if (length(mine) < 2L) return(NULL)
    table <- cmp$results$tables[[candidate]]
    varied <- names(table)[vapply(table, function(x) length(unique(x)) > 1L, logical(1))]
    lapply(varied, function(name) {
      level <- match(table[[name]], unique(table[[name]]))[cmp$results$row[mine]]
      found <- worth_of_values(mine, level, good, summary, field)
      c(list(candidate = names(spaces_of(cmp))[candidate], hyperparameter = name), found)
    })
  })
  empty <- list(
    candidate = character(), hyperparameter = character(), values = integer(),
    share = numeric(), range = numeric(),
    se = numeric(), matters = logical()
  )
  table <- tibble::as_tibble(
    data.table::rbindlist(c(list(empty), unlist(rows, recursive = FALSE)))
  )
  listing(table,
    title = paste0("How much hyperparameters matter to ", metric$label),
    none = "No hyperparameter took more than one value.",
    scores = c("range", "se"), certain = middle(table$se), shares = "share",
    called = c(matters = "matters", share = "share of variance")
  )
}

# One hyperparameter: `level` says which of its values each of the settings `mine` has.
worth_of_values <- function(mine, level, good, summary, field) {
  values <- good[mine]
  means <- tapply(values, level, mean)
  between <- sum(tabulate(match(level, names(means))) * (means - mean(values))^2) / length(values)
  whole <- mean((values - mean(values))^2)
  best <- vapply(split(seq_along(mine), level), function(at) at[which.max(values[at])], 1L)
  leader <- which.max(values)
  se <- summary$se[mine[leader]]
  matters <- NA
  if (!is.null(field)) {
    worse <- paired_differences(field, rep(mine[leader], length(best)), mine[best])
    sure <- worse$splits >= fewest_splits & !is.na(worse$high)
    if (any(worse$low > 0 & sure)) matters <- TRUE
    if (all(sure) && all(worse$high < se)) matters <- FALSE
  }
  list(
    values = length(best), share = if (whole > 0) between / whole else 0,
    range = max(values[best]) - min(values[best]), se = se, matters = matters
  )
}

find_wide_spread <- function(cmp, metric, summary) {
  sd <- summary$sd
  if (sum(!is.na(sd)) < 10L) return(NULL)
  usual <- stats::median(sd, na.rm = TRUE)
  wide <- which(sd > 3 * usual & usual > 0)
  if (length(wide) == 0L) return(NULL)
  widest <- wide[which.max(sd[wide])]
  oddity(
    "unusual_spread", choice_name(cmp, widest),
    paste0(
      count_of(length(wide), "setting"), if (length(wide) == 1L) " has" else " have",
      " more than three times the usual standard deviation (",
      signif(usual, 2), "); here it is ", signif(sd[widest], 2)
    ),
    "Look at scores_by_split(): a few splits on which it breaks down?"
  )
}

find_gap <- function(cmp, metric, summary) {
  if (all(is.na(summary$training))) return(NULL)
  unlist(lapply(best_of_candidates(cmp, metric$name), function(at) {
    gap <- goodness(summary$training[at], metric) - goodness(summary$mean[at], metric)
    if (is.na(gap) || is.na(summary$sd[at]) || gap < max(2 * summary$sd[at], 1e-6)) return(NULL)
    oddity(
      "over_fitting", choice_name(cmp, at),
      paste0(
        "training score ", signif(summary$training[at], 3), " against ",
        signif(summary$mean[at], 3), " in validation"
      ),
      "Simpler settings may do as well; learning_curve() says whether more rows would help."
    )
  }), recursive = FALSE)
}

find_failed <- function(cmp) {
  gone <- failures(cmp)
  found <- NULL
  if (nrow(gone) > 0L) {
    commonest <- names(sort(table(paste0(gone$stage, ": ", gone$message)), decreasing = TRUE))[1]
    found <- oddity(
      "failures", paste(unique(gone$candidate), collapse = ", "),
      paste0(
        count_of(nrow(gone), "score"),
        " could not be had; commonest message, from ", commonest
      ),
      "See failures(cmp)."
    )
  }
  if (length(constraints_of(cmp)) > 0L && !any(meets_constraints(cmp))) {
    found <- c(found, oddity(
      "constraints", "all settings", "no setting meets the constraints",
      "Loosen `provided`, or move the threshold."
    ))
  }
  found
}
