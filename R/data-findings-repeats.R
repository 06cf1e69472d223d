# Findings about what stands in the table twice: rows, and columns.

# Rows as two sums of their values times odd multipliers: equal rows have equal
# sums, different ones hardly ever.
row_marks <- function(columns, round_by = NULL) {
  marks <- lapply(1:2, function(k) numeric(length(columns[[1]])))
  for (j in seq_along(columns)) {
    x <- columns[[j]]
    value <- if (is.character(x)) as.double(match(x, unique(x))) else as.double(x)
    if (!is.null(round_by[[j]])) value <- round(value / round_by[[j]])
    value[is.na(value)] <- -12345.678
    for (k in 1:2) {
      marks[[k]] <- marks[[k]] + value * sqrt(2 + 7 * j + 131 * k)
      if (length(value) > 5e5) gc(FALSE)
    }
  }
  marks
}

member_finding_duplicates <- finding_definition("duplicates", function(look) {
  ids <- vapply(
    names(look$table),
    function(name) look$distinct_of[[name]] >= 0.98 * look$n && look$kind_of[[name]] == "category",
    logical(1)
  )
  columns <- unclass(look$table)[!ids]
  if (length(columns) < 2L) return(NULL)
  with_outcome <- c(columns, stats::setNames(list(look$outcome), look$brief$outcome))
  marks <- row_marks(with_outcome)
  twice <- duplicated(marks[[1]]) & duplicated(marks[[2]])
  group <- look$brief$roles$group
  astride <- any(twice) && !is.null(group) && straddles(marks[[1]], look$brief$table[[group]])
  # no longer needed, and as large as two columns
  rm(marks)
  exact <- if (any(twice)) finding_of_repeats(look, twice, with_outcome, if (astride) group)
  list(exact, near_duplicates(look, columns, twice))
}, "Rows that are there twice.")

# `group`: of which the same rows are in different ones.
finding_of_repeats <- function(look, twice, columns, group) {
  deciding <- deciding_column(lapply(columns, `[`, look$some))
  chance <- !is.null(deciding)
  finding(
    "duplicate_rows", if (chance) "minor" else if (is.null(group)) "notable" else "serious",
    character(),
    paste0(
      count_of(sum(twice), "row repeats", "rows repeat"), " an earlier one exactly",
      if (!is.null(group)) paste0(", also across different ", group),
      if (chance) {
        paste0("; others that agree in all else differ in ", deciding, ", so it may be chance")
      }, "."
    ),
    paste0(
      "table[!duplicated(table", compared_columns(names(columns), names(look$brief$table)), "), ]",
      if (chance) "; only where they are the same case"
    ),
    list(kind = "drop_rows", rows = look$brief$rows[twice])
  )
}

# Whole rows are compared, or those columns: as code behind the table's name.
compared_columns <- function(compared, all) {
  others <- setdiff(all, compared)
  if (length(others) == 0L) return("")
  if (length(compared) <= length(others)) return(paste0("[", in_quotes(compared), "]"))
  paste0("[setdiff(names(table), ", in_quotes(others), ")]")
}

# A copied row agrees in every column, whatever it agrees in otherwise. Rows of few different values
# agree by chance: of pairs that are alike but for one column, some are alike in that one as well,
# about as many as of any pairs, and many are not. Such a column, or NULL. Three times as many may
# be: columns go with one another. Of many columns chance is no reason. A sample of the rows has the
# same shares.
deciding_column <- function(columns) {
  if (length(columns) > 30L) return(NULL)
  alike <- alike_pairs(columns)
  if (alike == 0) return(NULL)
  for (name in rev(names(columns))) {
    usual <- alike_pairs(columns[name]) / choose(length(columns[[1]]), 2)
    if (alike / alike_pairs(columns[names(columns) != name]) <= min(3 * usual, 2 / 3)) return(name)
  }
}

alike_pairs <- function(columns) {
  marks <- row_marks(columns)[[1]]
  sum(choose(tabulate(match(marks, unique(marks))), 2))
}

# A table of counts: of rows that are alike in all predictors one for every class, and how many
# cases each stands for as its weight. A split that holds out such a row learns from the others,
# which are of the other classes only.
member_finding_counted <- finding_definition("counted", function(look) {
  weight <- look$brief$roles$weight
  if (is.null(weight) || !has_classes(look$brief$kind)) return(NULL)
  counts <- look$brief$table[[weight]]
  if (any(counts != round(counts)) || max(counts) < 2) return(NULL)
  marks <- row_marks(unclass(look$table))[[1]]
  group <- look$brief$roles$group
  # a group that keeps them together keeps them on one side
  if (!is.null(group) && !straddles(marks, look$brief$table[[group]])) return(NULL)
  alike <- match(marks, unique(marks))
  if (mean(tabulate(alike)[alike] > 1L) < 0.8) return(NULL)
  # one row at most of each class
  if (anyDuplicated(alike + (length(alike) + 1) * as.integer(look$outcome)) > 0L) return(NULL)
  list(finding(
    "counted_rows", "serious", weight,
    paste0(
      "Every row stands for as many cases as ", weight, " says, and rows that are alike in all ",
      "predictors are of different classes: a split that holds out one of them learns the ",
      "opposite from the others."
    ),
    paste0(
      "table[rep(seq_len(nrow(table)), table[[", in_quotes(weight), "]]), ], as a row for every ",
      "case; and no weight"
    ),
    list(kind = "table", words = paste0(
      "Write a row for every case into the table, as many as ", weight, " says, and name no weight."
    ))
  ))
}, "Rows that are counts of cases.")

straddles <- function(marks, group) {
  code <- match(marks, unique(marks))
  first <- group[match(code, code)]
  any(first != group)
}

near_duplicates <- function(look, columns, exact) {
  wide <- vapply(
    names(columns),
    function(name) look$kind_of[[name]] == "number" && look$distinct_of[[name]] > 50L,
    logical(1)
  )
  if (sum(wide) < 3L) return(NULL)
  grid <- lapply(names(columns), function(name) {
    if (!wide[[name]]) return(NULL)
    step <- stats::IQR(columns[[name]][look$some], na.rm = TRUE) / 100
    if (is.na(step) || step <= 0) NULL else step
  })
  keep <- look$kinds[names(columns)] != "text"
  marks <- row_marks(columns[keep], grid[keep])
  if (look$n > 5e5) gc(FALSE)
  near <- duplicated(marks[[1]]) & duplicated(marks[[2]]) & !exact
  if (!any(near)) return(NULL)
  finding(
    "near_duplicate_rows", "notable", character(),
    paste0(count_of(sum(near), "row is", "rows are"), " almost the same as an earlier one."),
    "brief(..., group = ) to keep them on one side",
    list(kind = "table", words = paste0(
      "If they are of the same case, name the column that says so as the group, which keeps them ",
      "on one side of every split."
    ))
  )
}

member_finding_repeats <- finding_definition("repeats", function(look) {
  numbers <- columns_of(look, "number")
  numbers <- numbers[look$distinct[numbers] > 2L]
  if (length(numbers) < 2L) return(NULL)
  x <- vapply(numbers, function(name) honest_values(look, name), numeric(length(look$some)))
  pairs <- correlated_pairs(x, 0.95)
  found <- list()
  gone <- character()
  for (at in seq_len(nrow(pairs))) {
    i <- pairs$first[at]
    j <- pairs$second[at]
    r <- pairs$r[at]
    if (any(c(numbers[i], numbers[j]) %in% gone)) next
    exact <- abs(r) > 1 - 1e-6
    gone <- c(gone, numbers[j])
    found[[length(found) + 1L]] <- finding(
      if (exact) "repeated_column" else "correlated", if (exact) "serious" else "notable",
      c(numbers[i], numbers[j]),
      paste0(
        numbers[j], if (exact) " is a linear function of " else " hardly differs from ",
        numbers[i],
        " (correlation ", format(round(r, 4)), ")."
      ),
      paste0("brief(..., ignore = ", in_quotes(numbers[j]), ")"),
      if (exact) list(kind = "role", role = "ignore", columns = numbers[j]) else
        list(kind = "step", step = "drop_correlated", settings = list(above = 0.95))
    )
  }
  c(found, sums_of_others(x[, setdiff(numbers, gone), drop = FALSE]), matching_categories(look))
}, "Columns that repeat one another.")

# Pairs of columns (first < second, by second) whose correlation is above a value, found block by
# block: the whole matrix of 10,000 columns would not fit.
correlated_pairs <- function(x, above) {
  whole <- !anyNA(x)
  if (whole) {
    x <- x - rep(colMeans(x), each = nrow(x))
    x <- x / rep(sqrt(colSums(x^2)), each = nrow(x))
  }
  blocks <- split(seq_len(ncol(x)), (seq_len(ncol(x)) - 1L) %/% 500L)
  data.table::rbindlist(lapply(blocks, function(block) {
    before <- seq_len(max(block))
    r <- if (whole) {
      crossprod(x[, before, drop = FALSE], x[, block, drop = FALSE])
    } else {
      quiet_cor(
        x[, before, drop = FALSE], x[, block, drop = FALSE],
        use = "pairwise.complete.obs"
      )
    }
    hit <- which(abs(r) > above, arr.ind = TRUE)
    hit <- hit[hit[, 1] < block[hit[, 2]], , drop = FALSE]
    data.frame(first = hit[, 1], second = block[hit[, 2]], r = r[hit])
  }))
}

# Columns that are exact linear combinations of others (a total and its parts).
sums_of_others <- function(x) {
  x <- x[stats::complete.cases(x), , drop = FALSE]
  if (ncol(x) < 3L || nrow(x) <= ncol(x) + 5L) return(NULL)
  spread <- apply(x, 2L, stats::sd)
  x <- x[, spread > 0, drop = FALSE]
  z <- scale(x)
  decomposed <- qr(z, tol = 1e-7)
  if (decomposed$rank == ncol(z)) return(NULL)
  lapply(decomposed$pivot[-seq_len(decomposed$rank)], function(j) {
    base <- decomposed$pivot[seq_len(decomposed$rank)]
    weights <- qr.coef(qr(z[, base, drop = FALSE]), z[, j])
    parts <- colnames(z)[base][abs(weights) > 1e-6]
    name <- colnames(z)[j]
    finding(
      "sum_of_columns",
      "notable",
      c(name, parts),
      paste0(name, " follows exactly from ", enumerate(parts), "."),
      paste0("brief(..., ignore = ", in_quotes(name), ")"),
      list(kind = "role", role = "ignore", columns = name)
    )
  })
}

# Pairs of categories of which each determines the other.
matching_categories <- function(look) {
  names <- columns_of(look, "category", "ordered")
  names <- names[look$distinct[names] > 1L & look$distinct[names] < look$n / 3]
  if (length(names) < 2L) return(NULL)
  codes <- lapply(look$sample[names], coarse_codes)
  pairs <- utils::combn(names, 2L)
  lapply(seq_len(ncol(pairs)), function(i) {
    a <- codes[[pairs[1, i]]]
    b <- codes[[pairs[2, i]]]
    if (max(a) != max(b) || length(unique(a + (max(a) + 1) * b)) != max(a)) return(NULL)
    finding(
      "repeated_column",
      "serious",
      pairs[, i],
      paste0(pairs[2, i], " says the same as ", pairs[1, i], " in other words."),
      paste0("brief(..., ignore = ", in_quotes(pairs[2, i]), ")"),
      list(kind = "role", role = "ignore", columns = pairs[2, i])
    )
  })
}
