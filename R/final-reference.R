# What a model keeps of its working rows, to say later whether new rows look like them: shares of
# ranges and levels by column, and no row.

# Numbers with no more values than this are counted value by value, others in so many ranges.
most_single_values <- 20L
fine_ranges <- 50L

# Of what was chosen: list(columns, outcome, prediction, group).
reference_of <- function(choice, schema) {
  brief <- brief_of(choice$cmp)
  group <- if (!is.null(brief$roles$group)) brief$table[[brief$roles$group]]
  columns <- working_data(brief)$frame$columns
  list(
    columns = lapply(columns[names(schema)], reference_column, group = group),
    outcome = reference_column(plain_outcome(brief, brief$table[[brief$outcome]]), group),
    prediction = reference_prediction(choice, group), group = brief$roles$group
  )
}

plain_outcome <- function(brief, x) {
  if (has_classes(brief$kind)) factor(as.character(x), levels = brief$levels) else as.double(x)
}

# By predictions of rows that a fit had not seen, where those were kept.
reference_prediction <- function(choice, group) {
  kept <- kept_predictions(choice$cmp, choice$at)
  if (is.null(kept)) return(NULL)
  splits <- all_splits(choice$cmp)
  splits <- splits[!is_apparent(splits)]
  rows <- unlist(lapply(splits, `[[`, "validation"))
  brief <- brief_of(choice$cmp)
  x <- unlist(lapply(kept, told_prediction, kind = brief$kind, levels = brief$levels))
  if (length(x) != length(rows) || anyNA(x)) return(NULL)
  # once a row
  once <- !duplicated(rows)
  reference_column(x[once], group[rows[once]])
}

# A prediction as one column: a value, the event's probability, the middle quantile, or a class.
told_prediction <- function(prediction, kind, levels) {
  if (!is_wide(kind)) return(as.double(prediction))
  if (!has_classes(kind)) return(prediction[, (ncol(prediction) + 1L) %/% 2L])
  if (length(levels) == 2L) return(prediction[, 2L])
  factor(levels[max.col(prediction, "first")], levels = levels)
}

# One column's cells: `values` of which each is one, or `cuts` between ranges; `counts` of rows in
# each, the missing ones apart.
reference_column <- function(x, group = NULL) {
  told <- told_values(x)
  known <- told$x[!is.na(told$x)]
  cells <- if (told$kind == "level") {
    list(values = levels(told$x))
  } else {
    values <- sort(unique(known))
    if (length(values) <= most_single_values) list(values = values) else list(
      cuts = unique(stats::quantile(known, seq_len(fine_ranges - 1L) / fine_ranges,
        names = FALSE, type = 1
      )), ends = range(known)
    )
  }
  code <- cell_of(told$x, cells)
  c(cells, list(
    kind = told$kind, type = told$type, n = length(x), missing = sum(is.na(told$x)),
    counts = tabulate(code, cells_in(cells)),
    mean = if (told$kind == "number" && length(known) > 0L) mean(known) else NA_real_,
    sd = if (told$kind == "number" && length(known) > 1L) stats::sd(known) else NA_real_,
    effect = design_effect(coarse_code(code, cells_in(cells), 10L), group),
    groups = if (is.null(group)) length(x) else length(unique(group))
  ))
}

# A column as numbers or as levels; of texts the number of characters.
told_values <- function(x) {
  if (is.factor(x)) return(list(kind = "level", type = "level", x = x))
  if (inherits(x, "Date")) return(list(kind = "number", type = "date", x = as.double(x)))
  if (inherits(x, "POSIXct")) return(list(kind = "number", type = "moment", x = as.double(x)))
  if (is.character(x)) return(list(kind = "number", type = "characters", x = nchar(x, "chars") +
    ifelse(is.na(x), NA_real_, 0)))
  list(kind = "number", type = "number", x = as.double(x))
}

cells_in <- function(cells) {
  if (is.null(cells$cuts)) length(cells$values) else length(cells$cuts) + 1L
}

# The cell of each value: NA where it is missing, 0 where it is a level that there was not, or a
# number between single values.
cell_of <- function(x, cells) {
  if (!is.null(cells$cuts)) return(findInterval(x, cells$cuts, left.open = TRUE) + 1L)
  code <- match(if (is.factor(x)) as.character(x) else x, cells$values, nomatch = 0L)
  ifelse(is.na(x), NA_integer_, code)
}

# Neighbouring cells together, so that about `parts` of equal weight are left; missing is one more.
coarse_code <- function(code, cells, parts) {
  known <- !is.na(code)
  counts <- tabulate(code[known], cells)
  to <- joined_cells(counts, sum(counts) / parts)
  ifelse(known, to[pmax(code, 1L)], max(c(to, 0L)) + 1L)
}

# For each cell which one it is part of, where no part but the last is lighter than `least`.
joined_cells <- function(weights, least) {
  to <- integer(length(weights))
  part <- 1L
  sum <- 0
  for (i in seq_along(weights)) {
    to[i] <- part
    sum <- sum + weights[i]
    if (sum >= least - 1e-9 && i < length(weights)) {
      part <- part + 1L
      sum <- 0
    }
  }
  # a light last part goes with the one before
  if (part > 1L && sum < least - 1e-9) to[to == part] <- part - 1L
  to
}

# How many times the shares of the cells vary more than those of as many single rows would, since
# rows of a group are alike: the mean of the cells' design effects (Rao & Scott 1981, Journal of
# the American Statistical Association 76), at least 1.
design_effect <- function(code, group) {
  if (is.null(group)) return(1)
  group <- match(group, unique(group))
  groups <- max(group)
  n <- length(code)
  if (groups == n || groups < 2L) return(1)
  sizes <- tabulate(group, groups)
  codes <- sort(unique(code))
  each <- vapply(codes, function(one) {
    here <- tabulate(group[code == one], groups)
    p <- sum(here) / n
    if (p >= 1) return(NA_real_)
    variance <- groups / (groups - 1) * sum((here - sizes * p)^2) / n^2
    variance * n / p
  }, 0)
  if (length(codes) < 2L) return(1)
  max(1, sum(each, na.rm = TRUE) / (length(codes) - 1))
}
