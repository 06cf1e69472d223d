#' Do the set-aside rows look like the working rows?
#'
#' Compares predictor columns only, never the outcome, and records in the seal
#' that it was done.
#'
#' @param brief A [brief()] with rows set aside.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A tibble, the most different column first: `column`, `kind`, `difference`
#'   (0 to 1: Kolmogorov's distance of numbers and dates, total variation distance
#'   of categories), `p_value` (Kolmogorov-Smirnov or chi-squared test),
#'   `missing_working` and `missing_set_aside` (shares). Text is left out.
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
  rows <- lapply(names, function(name) {
    compare_columns(brief$table[[name]], sealed$table[[name]], name, kinds[[name]])
  })
  table <- tibble::as_tibble(data.table::rbindlist(rows))
  listing(table[order(-table$difference), ],
    title = "Working rows beside those set aside, the most different column first",
    shares = c("missing_working", "missing_set_aside")
  )
}

compare_columns <- function(working, aside, name, kind) {
  here <- working[!is.na(working)]
  there <- aside[!is.na(aside)]
  found <- if (length(here) == 0L || length(there) == 0L) {
    c(NA_real_, NA_real_)
  } else if (kind %in% c("number", "date")) {
    compare_numbers(as.double(here), as.double(there))
  } else {
    compare_levels(as.character(here), as.character(there))
  }
  list(
    column = name, kind = kind, difference = found[1], p_value = found[2],
    missing_working = mean(is.na(working)), missing_set_aside = mean(is.na(aside))
  )
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
