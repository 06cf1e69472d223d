# The two values that steps hand on: a frame of predictor columns, and the target
# that belongs to its rows.

# columns: data frame of plain columns; sparse: NULL or a dgCMatrix with column
# names; n: number of rows.
new_frame <- function(columns, sparse = NULL) {
  n <- attr(columns, "row.names")
  n <- if (is.integer(n) && length(n) == 2L && is.na(n[1])) abs(n[2]) else length(n)
  structure(list(columns = columns, sparse = sparse, n = n), class = "kw_frame")
}

frame_names <- function(frame) c(names(frame$columns), colnames(frame$sparse))

frame_width <- function(frame) {
  length(frame$columns) + (if (is.null(frame$sparse)) 0L else ncol(frame$sparse))
}

frame_rows <- function(frame, rows) {
  columns <- lapply(frame$columns, function(x) x[rows])
  sparse <- if (!is.null(frame$sparse)) frame$sparse[rows, , drop = FALSE]
  new_frame(plain_frame(columns, length(rows)), sparse)
}

# Replaces columns in place, keeps all others and the order.
frame_replace <- function(frame, columns) {
  kept <- unclass(frame$columns)
  kept[names(columns)] <- columns
  new_frame(plain_frame(kept[names(frame$columns)], frame$n), frame$sparse)
}

# Drops `remove`, then adds `columns` (a named list) at the end.
frame_swap <- function(frame, remove = character(), columns = list(), sparse = NULL) {
  kept <- unclass(frame$columns)[setdiff(names(frame$columns), remove)]
  dense <- plain_frame(c(kept, columns), frame$n)
  all_sparse <- frame$sparse
  if (!is.null(all_sparse) && any(remove %in% colnames(all_sparse))) {
    all_sparse <- all_sparse[, setdiff(colnames(all_sparse), remove), drop = FALSE]
  }
  if (!is.null(sparse)) {
    all_sparse <- if (is.null(all_sparse)) sparse else cbind(all_sparse, sparse)
  }
  if (!is.null(all_sparse) && ncol(all_sparse) == 0L) all_sparse <- NULL
  new_frame(dense, all_sparse)
}

# What `change` makes of each column of which something was learned, and of that: `known` by name.
# To look up one name after the other takes a second where there are thousands.
each_known <- function(frame, known, change) {
  Map(change, unclass(frame$columns)[names(known)], known)
}

# A table with every column changed, but for some: the columns of a data frame that are set by their
# places or names take the square of their number.
with_each <- function(table, change, but = NULL) {
  columns <- unclass(table)
  at <- !names(table) %in% but
  columns[at] <- lapply(columns[at], change)
  class(columns) <- class(table)
  columns
}

# Names for new columns that clash with none of the frame's own.
fresh_names <- function(new, taken) {
  make.unique(c(taken, new), sep = "_")[length(taken) + seq_along(new)]
}

# outcome: double, or a factor whose second level is the event; weights, group:
# NULL or one value a row; source_row: the brief row that each row came from, NA
# for rows that a step made up.
# `scale`: on which families learn a numeric outcome, see data-outcome-scale.R; NULL: its own.
# `kind`: what the outcome is, see outcome-contract.R. `exposure`: of which the outcome is a rate,
# and in which the weights are contained already. `quantiles`: which are to be predicted, or NULL.
# `recalibration`: how the probabilities of the family are, list(by, folds, shares of the classes),
# or NULL. `costs`: of a mistake in each row, columns missed and false_alarm, or NULL.
new_target <- function(
  outcome, weights = NULL, group = NULL, source_row = seq_along(outcome), scale = NULL, kind = NULL,
  exposure = NULL, quantiles = NULL, recalibration = NULL,
  costs = NULL
) {
  structure(
    list(
      outcome = outcome, weights = weights, group = group, source_row = source_row, scale = scale,
      kind = kind, exposure = exposure, quantiles = quantiles, recalibration = recalibration,
      costs = costs
    ),
    class = "kw_target"
  )
}

target_rows <- function(target, rows) {
  part <- function(x) if (!is.null(x)) x[rows]
  new_target(
    part(target$outcome), part(target$weights), part(target$group), part(target$source_row),
    target$scale, target$kind, part(target$exposure), target$quantiles, target$recalibration,
    if (!is.null(target$costs)) target$costs[rows, , drop = FALSE]
  )
}

# What must stay together when training rows are divided again inside a step or
# a fit: the group if there is one, else the source row, so that the copies that
# a bootstrap makes of one row never end up on both sides. Made-up rows (NA)
# each stand alone.
inner_unit <- function(target) {
  if (!is.null(target$group)) return(as.integer(factor(target$group)))
  unit <- match(target$source_row, unique(target$source_row))
  made_up <- is.na(target$source_row)
  unit[made_up] <- length(unit) + seq_len(sum(made_up))
  unit
}

# Divides training rows into `parts` for an inner purpose; returns the part of
# each row. Uses the RNG: call it inside with_seed().
inner_parts <- function(target, parts, stratify = TRUE) {
  weights <- target$weights
  strata <- if (stratify) outcome_strata(target$outcome, parts, weights)
  deal_rows(length(target$outcome), rep(1 / parts, parts), strata, inner_unit(target), weights)
}

# Sums of weights, or numbers of rows, by class.
class_totals <- function(outcome, weights) {
  if (is.null(weights)) return(tabulate(outcome, nlevels(outcome)))
  as.vector(tapply(weights, outcome, sum, default = 0))
}

# Frames of the same columns, one below the other.
bind_frames <- function(frames) {
  first <- frames[[1]]$columns
  bind <- function(...) {
    parts <- list(...)
    if (!is.factor(parts[[1]])) return(do.call(c, parts))
    levels <- unique(unlist(lapply(parts, levels)))
    structure(
      match(unlist(lapply(parts, as.character)), levels),
      levels = levels,
      class = class(parts[[1]])
    )
  }
  columns <- do.call(Map, c(
    list(bind), unname(lapply(frames, function(frame) unclass(frame$columns)[names(first)]))
  ))
  names(columns) <- names(first)
  n <- sum(vapply(frames, `[[`, numeric(1), "n"))
  sparse <- if (!is.null(frames[[1]]$sparse)) do.call(rbind, lapply(frames, `[[`, "sparse"))
  new_frame(plain_frame(columns, as.integer(n)), sparse)
}

# Numbers of equal rows, in order of appearance.
group_rows <- function(table, n) {
  group <- rep(1, n)
  size <- 1
  for (column in table) {
    number <- entry_numbers(column)
    most <- max(number, 0L) + 1
    # all numbers as the digits of one, for as long as it is a whole number to a computer
    if (size * most > 2^52) {
      group <- match(group, unique(group))
      size <- max(group) + 1
    }
    group <- group * most + number
    size <- size * most
  }
  match(group, unique(group))
}

# Which of the different entries each one is; numbers are the same where their texts are, so also
# after a journal. Texts of the different ones only: of all of them they take seven times as long.
entry_numbers <- function(column) {
  different <- unique(column)
  number <- match(column, different)
  if (!is.double(column)) return(number)
  texts <- as.character(different)
  match(texts, unique(texts))[number]
}

row_texts <- function(table) do.call(paste, c(unname(lapply(table, entry_texts)), sep = "\r"))

# Numbers become texts slowly, and most columns have few different ones.
entry_texts <- function(column) {
  if (!is.double(column)) return(as.character(column))
  different <- unique(column)
  as.character(different)[match(column, different)]
}

frame_columns_of <- function(table, names) plain_frame(unclass(table)[names], nrow(table))

# Of these columns those whose association with others says something: no texts, constants or
# categories of nearly as many levels as rows.
associable_columns <- function(brief, names) {
  kinds <- schema_kinds(brief$schema)[names]
  distinct <- vapply(brief$table[names], function(x) length(unique(x[!is.na(x)])), integer(1))
  names[kinds != "text" & distinct > 1L & !(kinds == "category" & distinct > nrow(brief$table) / 5)]
}

# Columns as numbers and categories, of many rows some, evenly.
plain_columns <- function(brief, names, most = 20000L) {
  n <- nrow(brief$table)
  some <- if (n > most) unique(round(seq(1, n, length.out = most))) else seq_len(n)
  columns <- frame_columns(frame_of_rows(brief$table[names], some), brief$schema[names])$columns
  columns[] <- lapply(columns, function(x) {
    if (inherits(x, c("Date", "POSIXct"))) as.double(x) else x
  })
  columns
}
