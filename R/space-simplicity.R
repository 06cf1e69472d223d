# How simple settings are: columns to sort by, simplest first. The family's rank, what it says of
# its own settings, the number of steps.

# `tables`: settings by candidate; `candidate` and `row` say which settings are asked for.
simplicity_columns <- function(spaces, tables, candidate, row) {
  own <- Map(function(space, settings) {
    space$pipeline$family$definition$simplicity(family_columns(space, settings))
  }, spaces, tables)
  width <- max(0L, lengths(own))
  columns <- lapply(seq_len(width), function(k) {
    key <- numeric(length(candidate))
    for (i in seq_along(spaces)) {
      mine <- candidate == i
      if (k <= length(own[[i]]) && is.numeric(own[[i]][[k]])) {
        key[mine] <- own[[i]][[k]][row[mine]]
      }
    }
    key[is.na(key)] <- 0
    key
  })
  steps <- Map(step_counts, spaces, tables)
  n_steps <- vapply(seq_along(candidate), function(i) steps[[candidate[i]]][row[i]], integer(1))
  c(list(unname(complexity_ranks(spaces)[candidate])), columns, list(n_steps))
}

# 0 (simplest) to 100, by candidate.
complexity_ranks <- function(spaces) {
  vapply(spaces, function(s) s$pipeline$family$definition$complexity_rank, numeric(1))
}

step_counts <- function(space, settings) {
  if (nrow(settings) == 0L) return(integer())
  in_steps <- vapply(space$dimensions, function(d) d$kind == "alternative", logical(1))
  chain <- group_rows(settings[names(which(in_steps))], nrow(settings))
  rows <- match(seq_len(max(chain)), chain)
  counts <- vapply(rows, function(row) {
    length(fill_pipeline(space$pipeline, space$dimensions, setting_values(settings, row))$steps)
  }, integer(1))
  counts[chain]
}
