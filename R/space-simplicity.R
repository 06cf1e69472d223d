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

# How many steps every setting has.
step_counts <- function(space, settings) {
  choices <- Filter(function(d) d$kind == "alternative", space$dimensions)
  chosen <- lapply(choices, function(d) settings[[d$name]])
  names(chosen) <- vapply(choices, `[[`, "", "address")
  count_nodes(space$pipeline$steps, "", chosen, nrow(settings))
}

# `chosen`: the alternatives of every row, by the address of the choice.
count_nodes <- function(nodes, prefix, chosen, n) {
  counts <- integer(n)
  for (i in seq_along(nodes)) {
    part <- nodes[[i]]$part
    address <- paste0(prefix, i)
    if (!inherits(part, "kw_either")) {
      counts <- counts + 1L
      next
    }
    for (one in seq_along(part$alternatives)) {
      mine <- chosen[[address]] %in% names(part$alternatives)[one]
      if (!any(mine)) next
      inside <- count_nodes(part$alternatives[[one]], paste0(address, "/", one, "/"), chosen, n)
      counts[mine] <- counts[mine] + inside[mine]
    }
  }
  counts
}

# Keys by which settings are ordered from simple to complex, those above, then candidate, setting.
# `results`: tables, candidate and row as above. In no locale's order of letters.
simplicity_keys <- function(spaces, results) {
  name <- order(order(names(spaces), method = "radix"))
  c(
    simplicity_columns(spaces, results$tables, results$candidate, results$row),
    list(name[results$candidate], results$row)
  )
}

# Settings, the best first, of equally good ones the simplest. `last`: do those that are not
# known to be anything come last, or (NA) are they left out?
best_first <- function(good, spaces, results, last) {
  do.call(order, c(list(-good), simplicity_keys(spaces, results), list(na.last = last)))
}
