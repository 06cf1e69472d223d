#' Do the set-aside rows look like the working rows?
#'
#' Compares predictor columns only, never the outcome, and records in the seal
#' that it was done.
#'
#' @param brief A [brief()] with rows set aside.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A tibble, the most different column first: `column`, `kind`, `difference`
#'   (0 to 1: Kolmogorov's distance of numbers and dates, total variation distance
#'   of categories), `p_value` (Kolmogorov-Smirnov or chi-squared test; where groups were kept
#'   whole, how often a difference as large comes about when whole groups are dealt anew, 499
#'   times, or 99 in very large tables), `missing_working` and `missing_set_aside` (shares). Text is
#'   left out.
#' @section Errors:
#' `kw_error_set_aside` when nothing was set aside.
#' @examples
#' job <- set_aside(brief(demo_pots(), outcome = "cracked", group = "firing_id"), seed = 7)
#' compare_set_aside(job)
#' @export
compare_set_aside <- function(brief, ...) {
  no_more(...)
  check_class(brief, "kw_brief", "brief", "Make one with brief().")
  if (is.null(brief$sealed)) {
    stop_kw("set_aside", "No rows were set aside.", remedy = "Use set_aside() first.")
  }
  sealed <- sealed_part(brief)
  if (is.null(sealed)) {
    stop_kw("set_aside", "The set-aside rows are not in this session.",
      remedy = "Give the brief that set_aside() made."
    )
  }
  sealed$compared <- (sealed$compared %||% 0L) + 1L
  kinds <- schema_kinds(brief$schema)
  names <- names(kinds)[kinds != "text"]
  dealt <- groups_dealt_anew(brief$roles$group, brief$table, sealed$table)
  rows <- lapply(names, function(name) {
    compare_columns(brief$table[[name]], sealed$table[[name]], name, kinds[[name]], dealt)
  })
  table <- tibble::as_tibble(data.table::rbindlist(rows))
  listing(table[order(-table$difference), ],
    title = "Working rows beside those set aside, the most different column first",
    shares = c("missing_working", "missing_set_aside")
  )
}

compare_columns <- function(working, aside, name, kind, dealt = NULL) {
  here <- working[!is.na(working)]
  there <- aside[!is.na(aside)]
  found <- if (length(here) == 0L || length(there) == 0L) {
    c(NA_real_, NA_real_)
  } else if (kind %in% c("number", "date")) {
    compare_numbers(as.double(here), as.double(there))
  } else {
    compare_levels(as.character(here), as.character(there))
  }
  if (!is.null(dealt)) found[2] <- p_of_whole_groups(c(working, aside), kind, dealt)
  list(
    column = name, kind = kind, difference = found[1], p_value = found[2],
    missing_working = mean(is.na(working)), missing_set_aside = mean(is.na(aside))
  )
}

# Rows of a group are alike, so that rows are no measure of how far two parts differ by chance:
# whole groups are. NULL without groups, or where they were divided; else the group of every row,
# working rows first, and by deal (the first one is what was done) the groups that are set aside.
groups_dealt_anew <- function(group, working, aside) {
  if (is.null(group)) return(NULL)
  of_row <- c(as.character(working[[group]]), as.character(aside[[group]]))
  code <- match(of_row, unique(of_row))
  now <- unique(utils::tail(code, nrow(aside)))
  if (any(now %in% utils::head(code, nrow(working)))) return(NULL)
  deals <- if (length(code) > 1e5) 99L else 499L
  others <- with_seed(1L, replicate(deals, sample.int(max(code), length(now)), simplify = FALSE))
  list(code = code, aside = c(list(now), others))
}

# Of ranges or levels: how often a deal sets its rows as far apart as what was done.
p_of_whole_groups <- function(x, kind, dealt) {
  by_size <- kind %in% c("number", "date")
  x <- if (by_size) as.double(x) else as.character(x)
  known <- !is.na(x)
  cells <- sort(unique(x[known]))
  if (by_size && length(cells) > 200L) {
    cells <- unique(stats::quantile(cells, seq(0, 1, length.out = 201L), names = FALSE))
  }
  cell <- if (by_size) findInterval(x[known], cells) else match(x[known], cells)
  group <- dealt$code[known]
  all <- tabulate(cell, length(cells))
  is_aside <- logical(max(dealt$code))
  apart <- vapply(dealt$aside, function(groups) {
    is_aside[groups] <- TRUE
    there <- tabulate(cell[is_aside[group]], length(cells))
    gap <- there / sum(there) - (all - there) / sum(all - there)
    if (by_size) max(abs(cumsum(gap))) else sum(abs(gap)) / 2
  }, 1)
  if (is.na(apart[1])) return(NA_real_)
  mean(apart >= apart[1] - 1e-12, na.rm = TRUE)
}

compare_numbers <- function(a, b) {
  test <- suppressWarnings(stats::ks.test(a, b))
  c(unname(test$statistic), test$p.value)
}

compare_levels <- function(a, b) {
  levels <- union(a, b)
  counts <- rbind(
    tabulate(match(a, levels), length(levels)), tabulate(match(b, levels), length(levels))
  )
  shares <- counts / rowSums(counts)
  p <- if (length(levels) < 2L) 1 else suppressWarnings(stats::chisq.test(counts)$p.value)
  c(sum(abs(shares[1, ] - shares[2, ])) / 2, p)
}
