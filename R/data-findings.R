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

member_finding_disguised <- finding_definition("disguised", function(look) {
  words <- lapply(columns_of(look, "category", "ordered"), function(name) {
    levels <- look$brief$schema[[name]]$levels
    hit <- levels[means_missing(levels) | !nzchar(trimws(levels))]
    if (length(hit) == 0L) return(NULL)
    disguised(
      name,
      hit,
      sum(look$column_of[[name]] %in% hit),
      paste0("levels that mean missing: ", enumerate(quoted(hit))),
      in_quotes(hit)
    )
  })
  numbers <- lapply(names(look$sentinels), function(name) {
    value <- look$sentinel_of[[name]]
    if (length(value) == 0L) return(NULL)
    disguised(
      name,
      value,
      sum(look$column_of[[name]] %in% value),
      paste0("the value ", value, " stands off from all others"),
      format(value)
    )
  })
  c(words, numbers)
}, "Missing values written as something else.")

disguised <- function(name, codes, rows, what, code_text) {
  finding(
    "disguised_missing",
    "serious",
    name,
    paste0(name, ": ", what, " (", count_of(rows, "row"), ")."),
    paste0("brief(..., missing_codes = list(", name_text(name), " = ", code_text, "))"),
    list(kind = "missing_code", codes = codes)
  )
}

# The lowest or highest value, if it is repeated, looks like a code, and lies far
# from all others, of which there must be several.
find_sentinel <- function(x) {
  filled <- sum(!is.na(x))
  if (filled < 30L) return(numeric())
  for (value in range(x, na.rm = TRUE)) {
    times <- if (value == round(value)) sum(x == value, na.rm = TRUE) else 0L
    if (times < 3L || times > 0.9 * filled) next
    rest <- x[!is.na(x) & x != value]
    if (length(unique(rest)) < 5L) next
    code <- grepl("^-?9{2,}$|^-1$|^-9$|^-?8{2,}$", format(value, scientific = FALSE, trim = TRUE))
    gap <- min(abs(range(rest) - value))
    width <- max(diff(range(rest)), 1e-12)
    if ((code && gap > width) || gap > 20 * width) return(value)
  }
  numeric()
}

# Zeros among measurements that otherwise never come near zero: not measured, or truly none?
member_finding_zeros <- finding_definition("zeros", function(look) {
  lapply(columns_of(look, "number"), function(name) {
    x <- honest_values(look, name)
    times <- sum(x == 0, na.rm = TRUE)
    if (!zeros_stand_apart(x, times)) return(NULL)
    finding(
      "zeros_apart", "notable", name,
      paste0(
        name, ": ", share_words(times / length(x), look$n), " are 0, while all others are ",
        "at least ", format(min(x[x > 0], na.rm = TRUE)), ": not measured, or truly none?"
      ),
      paste0("brief(..., missing_codes = list(", name_text(name), " = 0))"),
      list(kind = "missing_code", codes = 0)
    )
  })
}, "Zeros that may stand for missing values.")

zeros_stand_apart <- function(x, times) {
  x <- x[!is.na(x)]
  if (times < 3L || times > 0.6 * length(x) || any(x < 0)) return(FALSE)
  rest <- x[x > 0]
  values <- sort(unique(rest))
  if (length(values) < 10L) return(FALSE)
  step <- stats::median(diff(utils::head(values, 10L)))
  values[1] > 3 * step && values[1] > 0.08 * stats::median(rest)
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

# What a column of levels holds but for words that stand for missing values: list(to, others), to
# be read as a number or as one of some forms of dates, and what it holds besides; NULL: neither.
stored_as_text <- function(look, name) {
  # a factor was made on purpose
  if (is.factor(look$brief$table[[name]])) return(NULL)
  levels <- look$brief$schema[[name]]$levels
  texts <- trimws(levels[!means_missing(levels)])
  if (length(texts) < 8L) return(NULL)
  numbers <- mostly_numbers(texts)
  if (!is.null(numbers)) {
    others <- levels[!trimws(levels) %in% texts[numbers$are_numbers]]
    return(list(to = "number", others = others, unit = numbers$form$unit))
  }
  days <- possible_date_formats(texts)
  moments <- if (length(days) == 0L) possible_moment_formats(texts)
  if (length(c(days, moments)) == 0L) return(NULL)
  list(
    to = c(days, moments), others = levels[means_missing(levels)], moments = length(moments) > 0L
  )
}

member_finding_stored_as_text <- finding_definition("stored_as_text", function(look) {
  lapply(columns_of(look, "category"), function(name) {
    stored <- stored_as_text(look, name)
    if (is.null(stored)) return(NULL)
    if (length(stored$to) > 1L) return(ambiguous_date(look, name, stored$to))
    number <- stored$to == "number"
    what <- if (number) "numbers" else if (stored$moments) "points in time" else "dates"
    besides <- stored$others[!means_missing(stored$others)]
    finding(
      if (number) "number_as_text" else "date_as_text", "serious", name,
      paste0(
        name, ": ", what, " stored as text",
        if (!is.null(stored$unit)) paste0(", with ", unit_words(stored$unit), " them"),
        if (length(besides) > 0L) {
          paste0("; ", count_of(length(besides), "other text"), ", such as ", quoted(besides[1]))
        }, "."
      ),
      paste0(
        "brief(..., read_as = list(", name_text(name), " = ", in_quotes(stored$to), ")",
        if (length(stored$others) > 0L) {
          paste0(", missing_codes = list(", name_text(name), " = ", in_quotes(stored$others), ")")
        }, ")"
      ),
      list(kind = "convert", to = stored$to, codes = stored$others)
    )
  })
}, "Numbers and dates stored as text.")

ambiguous_date <- function(look, name, formats) {
  first <- look$brief$schema[[name]]$levels[1]
  finding(
    "ambiguous_date", "serious", name,
    paste0(
      name, ": dates in which day and month could change places, such as ", quoted(first), "."
    ),
    paste0(
      "brief(..., read_as = list(", name_text(name), " = \"", formats, "\"))",
      collapse = "   # or "
    ), NULL
  )
}

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

member_finding_classes <- finding_definition("classes", function(look) {
  if (!is.factor(look$outcome)) return(NULL)
  counts <- sort(table(look$outcome))
  rarest <- names(counts)[1]
  list(
    if (counts[[1]] < 10L) {
      finding(
        "small_class", "serious", look$brief$outcome,
        paste0(
          "The class ", rarest, " has ", count_of(counts[[1]], "row"),
          ": too few for 10 folds."
        ),
        paste0("split_kfold(k = ", max(2L, counts[[1]]), ")"), NULL
      )
    },
    if (counts[[1]] / look$n < 0.1) {
      finding(
        "class_imbalance", "notable", look$brief$outcome,
        paste0(
          "Only ", format(round(100 * counts[[1]] / look$n, 1)), " % of the rows are ",
          rarest, "."
        ),
        "metrics = c(\"auc\", \"balanced_accuracy\"); accuracy says little", NULL
      )
    }
  )
}, "Classes that are rare.")

member_finding_gives_away <- finding_definition("gives_away", function(look) {
  lapply(setdiff(names(look$table), columns_of(look, "text")), function(name) {
    if (look$distinct_of[[name]] < 2L) return(NULL)
    if (look$kind_of[[name]] != "number" && look$distinct_of[[name]] > length(look$some) / 5) {
      return(NULL)
    }
    x <- if (look$kind_of[[name]] == "number") honest_values(look, name) else look$sample_of[[name]]
    strength <- single_strength(x, look$outcome[look$some])
    if (strength < 0.9) return(NULL)
    finding(
      "gives_outcome_away", "serious", name,
      paste0(
        name, " alone all but tells the outcome (association ",
        format(round(strength, 3)), "): was it known beforehand?"
      ),
      paste0("brief(..., ignore = ", in_quotes(name), ")"), list(kind = "role", role = "ignore")
    )
  })
}, "Columns that give the outcome away.")

# 0 to 1, numbers in quantile bins so that any shape counts, but no more bins than the rows
# allow; less what as many levels would explain by chance.
single_strength <- function(x, outcome) {
  codes <- coarse_codes(x, as.integer(max(2, min(20, length(x) / 10))))
  if (is.factor(outcome)) return(cramers_v(codes, as.integer(droplevels(outcome))))
  n <- length(codes)
  unexplained <- (1 - correlation_ratio(outcome, codes)^2) * (n - 1) / max(n - max(codes), 1)
  straight <- if (is.numeric(x)) association(x, outcome) else 0
  max(sqrt(max(0, 1 - unexplained)), if (straight > 0.98) straight)
}

# Rows that belong together are found by how the table is made: some rows for every level of
# a column, others that never differ within a level (or the same points for every level, as in
# repeated measures), and outcomes that are alike within levels.
member_finding_groups <- finding_definition("groups", function(look) {
  if (!is.null(look$brief$roles$group)) return(NULL)
  found <- lapply(columns_of(look, "category", "ordered", "number"), function(name) {
    x <- look$sample_of[[name]]
    if (!could_be_group(x, look$distinct_of[[name]], length(look$some))) return(NULL)
    codes <- coarse_match(x)
    bound <- bound_columns(look, name, codes)
    points <- if (length(bound) == 0L) repeated_points(look, name, codes)
    if (length(bound) == 0L && length(points) == 0L) return(NULL)
    # the design says most; what moves within levels, as time does, hides part of this
    if (outcome_f(look$outcome[look$some], codes)$p > 0.1) return(NULL)
    list(name = name, bound = bound, points = points, levels = max(codes))
  })
  found <- Filter(Negate(is.null), found)
  if (length(found) == 0L) return(NULL)
  # of nested ones (child in school) the coarsest keeps all together
  one <- found[[which.min(vapply(found, `[[`, 1, "levels"))]]
  why <- if (length(one$bound) > 0L) {
    paste0(
      enumerate(one$bound, 3L),
      if (length(one$bound) == 1L) " never differs" else " never differ", " within it"
    )
  } else {
    paste0("each has the same values of ", enumerate(one$points, 3L))
  }
  list(finding(
    "groups", "serious", one$name,
    paste0(
      "Rows of one ", one$name, " belong together: ", why,
      ", and the outcome differs between them."
    ),
    paste0("brief(..., group = ", in_quotes(one$name), ")"), list(kind = "role", role = "group")
  ))
}, "Columns that look like groups.")

could_be_group <- function(x, distinct, n) {
  if (anyNA(x) || distinct < 5L || distinct > n / 2) return(FALSE)
  if (is.numeric(x) && any(x != round(x))) return(FALSE)
  mean(tabulate(coarse_match(x)) > 1L) > 0.8
}

# Columns that are constant within the levels of another, though chance would hardly make
# them so.
bound_columns <- function(look, name, codes) {
  others <- setdiff(names(look$sample), c(name, columns_of(look, "text")))
  others <- others[look$distinct[others] > 1L & look$distinct[others] <= max(codes)]
  sizes <- tabulate(codes)
  sizes <- sizes[sizes > 1L]
  Filter(function(other) {
    b <- coarse_match(look$sample_of[[other]])
    # as many levels as the column itself: the same in other words
    if (max(b) >= max(codes)) return(FALSE)
    pairs <- length(unique(codes + (max(codes) + 1) * b))
    if (pairs > max(codes) * 1.02) return(FALSE)
    share <- tabulate(b) / length(b)
    by_chance <- mean(vapply(sizes, function(size) sum(share^size), 1))
    length(sizes) * log(max(by_chance, 1e-300)) < log(1e-6)
  }, others)
}

# Numbers and dates of which every level has the same several values, each once.
repeated_points <- function(look, name, codes) {
  others <- setdiff(columns_of(look, "number", "date"), name)
  Filter(function(other) {
    x <- look$sample_of[[other]]
    distinct <- look$distinct_of[[other]]
    if (anyNA(x) || distinct < 3L || distinct > length(x) / 5) return(FALSE)
    point <- coarse_match(x)
    once <- !anyDuplicated(codes + (max(codes) + 1) * point)
    once && mean(tabulate(codes) == distinct) > 0.8
  }, others)
}

coarse_match <- function(x) match(x, unique(x))

# F test of the outcome between groups (0/1 of the commonest class for classes).
outcome_f <- function(outcome, codes) {
  y <- if (is.factor(outcome)) as.double(outcome == names(which.max(table(outcome)))) else outcome
  k <- max(codes)
  n <- length(y)
  f <- f_statistics(matrix(y), factor(codes))
  list(f = f, p = stats::pf(f, k - 1, n - k, lower.tail = FALSE))
}
