#' Look for trouble in the table
#'
#' Goes through the working rows and lists what would bite an analyst, the most
#' serious first, each with a remedy. Set-aside rows are never read. Associations
#' and correlations are taken over at most 20,000 rows, evenly spaced.
#'
#' @param brief A [brief()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A `kw_findings`, a tibble with `code`, `where` (columns, or "the table"),
#'   `detail` (one sentence), `remedy` (R code), `severity` (`"serious"`, `"notable"`,
#'   `"minor"`), `columns` (list of names), and `action`, which [apply_remedies()] uses.
#'   Filter it like any data frame.
#' @section Errors:
#' `kw_error_argument` for anything but a brief, or rows and columns out of range.
#' @examples
#' job <- brief(demo_pots(), outcome = "cracked", event = "yes")
#' inspect_data(job)
#' @export
inspect_data <- function(brief, ...) {
  no_more(...)
  check_class(brief, "kw_brief", "brief", "Make one with brief().")
  look <- new_look(brief)
  checks <- known_members("finding")
  found <- unlist(
    in_each(look, names(checks), function(check) checks[[check]]()$look(look)),
    recursive = FALSE,
    use.names = FALSE
  )
  found <- drop_overruled(Filter(Negate(is.null), found))
  severity <- vapply(found, `[[`, character(1), "severity")
  order <- order(match(severity, c("serious", "notable", "minor")))
  found <- found[order]
  text <- function(field) vapply(found, `[[`, character(1), field)
  columns <- lapply(found, `[[`, "columns")
  table <- tibble::tibble(
    code = text("code"), where = vapply(columns, places_of_columns, ""), detail = text("detail"),
    remedy = text("remedy"), severity = severity[order], columns = columns,
    action = lapply(found, `[[`, "action")
  )
  structure(table, class = c("kw_findings", class(table)))
}

places_of_columns <- function(columns) {
  if (length(columns) == 0L) "the table" else enumerate(columns, 4L)
}

# Of an id or a group it need not be said that it has many levels.
drop_overruled <- function(found) {
  codes <- vapply(found, `[[`, character(1), "code")
  settled <- unlist(lapply(found[codes %in% c("id_like", "groups")], `[[`, "columns"))
  Filter(function(one) one$code != "many_levels" || !one$columns %in% settled, found)
}

# What the checks share: the predictors, a sample of rows, what is already known
# about single columns.
new_look <- function(brief) {
  table <- brief$table[names(brief$schema)]
  n <- nrow(table)
  some <- if (n > 20000L) unique(round(seq(1, n, length.out = 20000L))) else seq_len(n)
  kinds <- schema_kinds(brief$schema)
  sample <- frame_columns(frame_of_rows(table, some), brief$schema)$columns
  distinct <- vapply(table, count_distinct, integer(1))
  sentinels <- lapply(table[kinds == "number"], function(x) {
    if (n > 5e5) gc(FALSE)
    find_sentinel(x)
  })
  list(
    brief = brief, table = table, kinds = kinds, n = n, some = some, sample = sample,
    outcome = brief$table[[brief$outcome]], distinct = distinct, sentinels = sentinels,
    column_of = by_name(table), sample_of = by_name(sample), distinct_of = by_name(distinct),
    kind_of = by_name(kinds), sentinel_of = by_name(sentinels)
  )
}

# To be looked up by name in no time, however many there are.
by_name <- function(x) list2env(as.list(x), parent = emptyenv())

# Different values, missing ones not counted.
count_distinct <- function(x) {
  if (is.factor(x)) return(length(seen_codes(x)))
  if (length(x) > 5e5) gc(FALSE)
  sum(!duplicated(x)) - anyNA(x)
}

seen_codes <- function(x) which(tabulate(x, nlevels(x)) > 0L)

finding <- function(code, severity, columns, detail, remedy, action = NULL) {
  list(
    code = code, severity = severity, columns = columns, detail = detail, remedy = remedy,
    action = action
  )
}

columns_of <- function(look, ...) names(look$kinds)[look$kinds %in% c(...)]

# The sampled rows of a column without its sentinel values.
honest_values <- function(look, name) {
  x <- look$column_of[[name]][look$some]
  x[x %in% look$sentinel_of[[name]]] <- NA
  x
}

# What a check finds in each column. On a large table, what is left over from one
# column must not pile up on the next.
in_each <- function(look, names, check) {
  lapply(names, function(name) {
    if (look$n > 5e5) gc(FALSE)
    check(name)
  })
}

member_finding_id <- finding_definition("id", function(look) {
  in_each(look, columns_of(look, "category", "number"), function(name) {
    x <- look$column_of[[name]]
    filled <- sum(!is.na(x))
    if (filled < 30L || look$distinct_of[[name]] < 0.98 * filled) return(NULL)
    stored <- if (look$kind_of[[name]] == "category") stored_as_text(look, name)
    if (identical(stored$to, "number")) {
      x <- as_numbers(x, number_form(trimws(as.character(x))))
    }
    if (!is.null(stored) && !is.numeric(x)) return(NULL)
    if (is.numeric(x) && !counts_upwards(x)) return(NULL)
    finding(
      "id_like",
      "serious",
      name,
      paste0(name, ": nearly every row has its own value, like an id."),
      paste0("brief(..., id = ", in_quotes(name), ")"),
      list(kind = "role", role = "id")
    )
  })
}, "Columns that tell every row from every other.")

# Whole numbers, all different, without great gaps.
counts_upwards <- function(x) {
  some <- utils::head(x, 1000L)
  if (any(some != round(some), na.rm = TRUE)) return(FALSE)
  x <- x[!is.na(x)]
  all(x == round(x)) && max(x) - min(x) < 2 * length(x)
}

member_finding_constant <- finding_definition("constant", function(look) {
  in_each(look, names(look$table), function(name) {
    filled <- !is.na(look$column_of[[name]])
    if (!any(filled)) {
      return(finding(
        "all_missing", "serious", name, paste0(name, ": missing in every row."),
        paste0("brief(..., ignore = ", in_quotes(name), ")"),
        list(kind = "role", role = "ignore")
      ))
    }
    if (look$distinct_of[[name]] == 1L && all(filled)) {
      return(finding(
        "constant", "notable", name, paste0(name, ": the same value in every row."),
        paste0("brief(..., ignore = ", in_quotes(name), ")"),
        list(kind = "role", role = "ignore")
      ))
    }
    if (look$distinct_of[[name]] > 20L) return(NULL)
    share <- commonest_value_share(look$column_of[[name]])
    if (share < 0.99) return(NULL)
    finding(
      "near_constant",
      "minor",
      name,
      paste0(name, ": ", round(100 * share, 1), " % of the rows have the same value."),
      "pre_drop_constant(share = 0.99)",
      list(kind = "step", step = "drop_constant", settings = list(share = 0.99))
    )
  })
}, "Columns that never, or hardly ever, vary.")

commonest_value_share <- function(x) {
  counts <- if (is.factor(x)) {
    c(tabulate(x, nlevels(x)), sum(is.na(x)))
  } else {
    tabulate(match(x, unique(x)))
  }
  max(counts) / length(x)
}

member_finding_missing <- finding_definition("missing", function(look) {
  in_each(look, names(look$table), function(name) {
    share <- mean(is.na(look$column_of[[name]]))
    if (share == 0 || share == 1) return(NULL)
    finding(
      "missing",
      if (share > 0.5) "serious" else if (share > 0.1) "notable" else "minor",
      name,
      paste0(name, ": ", share_words(share, look$n), " missing."),
      "pre_missing(flag = TRUE)",
      list(kind = "step", step = "missing", settings = list(flag = TRUE))
    )
  })
}, "Values that are missing, much or in a pattern.")

# "12.5 %", or the number of rows where that would be 0 %.
share_words <- function(share, n) {
  if (share < 5e-4) count_of(round(share * n), "row") else paste(format(round(100 * share, 1)), "%")
}

member_finding_levels <- finding_definition("levels", function(look) {
  lapply(columns_of(look, "category"), function(name) {
    distinct <- look$distinct_of[[name]]
    if (distinct >= 0.98 * sum(!is.na(look$column_of[[name]]))) return(NULL)
    if (distinct > 50L) {
      return(finding(
        "many_levels",
        "notable",
        name,
        paste0(name, ": ", count_of(distinct, "level"), "."),
        paste0("pre_target_mean(columns = ", in_quotes(name), ")"),
        list(kind = "step", step = "target_mean", settings = list(), columns = name)
      ))
    }
    levels <- look$brief$schema[[name]]$levels
    counts <- tabulate(codes_among(look$column_of[[name]], levels), length(levels))
    rare <- levels[counts < min(20, 0.05 * look$n)]
    rare <- rare[!means_missing(rare)]
    if (length(rare) == 0L || distinct <= 2L) return(NULL)
    finding(
      "rare_levels",
      "minor",
      name,
      paste0(name, ": ", count_of(length(rare), "rare level"), " (", enumerate(rare, 3L), ")."),
      "pre_rare_levels(at_least = 20)",
      list(kind = "step", step = "rare_levels", settings = list(at_least = 20))
    )
  })
}, "Categories with many or rare levels.")

member_finding_shape <- finding_definition("shape", function(look) {
  lapply(columns_of(look, "number"), function(name) {
    x <- honest_values(look, name)
    x <- x[!is.na(x)]
    if (length(unique(x)) < 10L) return(NULL)
    quartiles <- stats::quantile(x, c(0.25, 0.75), names = FALSE)
    far <- x < quartiles[1] - 4 * diff(quartiles) | x > quartiles[2] + 4 * diff(quartiles)
    # a few far values are outliers; many are a tail
    skew <- skewness(if (mean(far) < 0.01) x[!far] else x)
    if (!is.na(skew) && abs(skew) > 1.5) {
      return(finding(
        "skewed",
        "minor",
        name,
        paste0(
          name, ": long tail to the ", if (skew > 0) "right" else "left",
          " (skewness ", format(round(skew, 1)), ")."
        ),
        paste0("pre_skew(columns = ", in_quotes(name), ")"),
        list(kind = "step", step = "skew", settings = list(), columns = name)
      ))
    }
    if (!any(far) || diff(quartiles) == 0) return(NULL)
    finding(
      "outliers",
      "minor",
      name,
      paste0(
        name, ": ", count_of(sum(far), "value"), " far outside the rest (",
        enumerate(
          format(
            utils::head(sort(unique(x[far])), 3),
            trim = TRUE
          ),
          3L
        ), ")."
      ),
      paste0("pre_outliers(columns = ", in_quotes(name), ")"),
      list(kind = "step", step = "outliers", settings = list(), columns = name)
    )
  })
}, "Numbers that are skewed or have extreme values.")

skewness <- function(x) mean((x - mean(x))^3) / mean((x - mean(x))^2)^1.5

member_finding_free <- finding_definition("free", function(look) {
  text <- lapply(columns_of(look, "text"), function(name) {
    finding(
      "free_text", "notable", name, paste0(name, ": free text; no family reads it as it is."),
      paste0("pre_text(columns = ", in_quotes(name), ")"),
      list(kind = "step", step = "text", settings = list())
    )
  })
  dates <- lapply(columns_of(look, "date"), function(name) {
    finding(
      "date", "minor", name, paste0(name, ": a date; no family reads it as it is."),
      paste0("pre_dates(columns = ", in_quotes(name), ")"),
      list(kind = "step", step = "dates", settings = list())
    )
  })
  c(text, dates)
}, "Free text.")
