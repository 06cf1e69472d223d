# What a search may ask for beside settings: on which splits they are scored, and on which share of
# the training rows. A task is list(candidate, settings, splits, share), `settings` a table of the
# candidate's; no `splits` stand for all of them. Without tasks all settings are wanted in full.

# What a user's search returned, as rounds have it: by candidate list(settings, tasks), without what
# is known already. Settings that are known come again only where the search speaks of splits or
# shares.
new_proposals <- function(found, field, history, fail) {
  by_task <- !is.null(found$splits) || !is.null(found$share)
  lapply(stats::setNames(nm = names(found$settings)), function(name) {
    known <- history[[name]]
    table <- found$settings[[name]] %||% plain_frame(list(), 0L)
    if (!by_task) {
      return(proposed(not_in(check_proposal(field$spaces[[name]], table), known$settings)))
    }
    tasks <- tasks_of_proposal(name, table, found, field, fail)
    tasks <- lapply(tasks, without_known, known = known)
    tasks <- Filter(function(task) nrow(task$settings) > 0L, tasks)
    all <- Reduce(bind_tables, lapply(tasks, `[[`, "settings"), plain_frame(list(), 0L))
    c(proposed(not_in(all, known$settings)), list(tasks = tasks))
  })
}

# Rows for which the same is asked are a task.
tasks_of_proposal <- function(name, table, found, field, fail) {
  # what is no table is refused there
  if (!is.data.frame(table)) check_proposal(field$spaces[[name]], table)
  n <- nrow(table)
  splits <- lapply(row_by_row(found$splits, name, n, "splits", fail), checked_splits, field, fail)
  shares <- vapply(row_by_row(found$share, name, n, "share", fail), checked_share, 1, fail)
  key <- paste(vapply(splits, paste, "", collapse = " "), shares)
  lapply(unname(split(seq_len(n), factor(key, unique(key)))), function(rows) {
    list(
      candidate = name,
      settings = check_proposal(field$spaces[[name]], frame_of_rows(table, rows)),
      splits = splits[[rows[1]]], share = shares[rows[1]]
    )
  })
}

# The same for all settings, or a list by candidate of the same for all of its settings or of a
# list with one element for each.
row_by_row <- function(given, name, n, what, fail) {
  if (is.list(given)) given <- given[[name]]
  if (what == "share" && length(given) == n) given <- as.list(given)
  if (!is.list(given)) return(rep(list(given), n))
  if (length(given) != n) {
    fail("gave ", what, " for ", count_of(length(given), "setting"), " of ", quoted(name),
      ", but proposed ", n, ".")
  }
  given
}

checked_splits <- function(splits, field, fail) {
  if (is.null(splits)) return(integer())
  if (length(field$splits) == 0L) {
    fail("asks for single splits, but here predictions are scored together.")
  }
  odd <- if (is.numeric(splits)) setdiff(splits, field$splits) else splits
  if (length(odd) > 0L || length(splits) == 0L) {
    fail("asks for ", if (length(splits) == 0L) "no split" else paste("split", format(odd[[1]])),
      "; `field$splits` are those that there are.")
  }
  if (setequal(splits, field$splits)) integer() else sort(unique(as.integer(splits)))
}

checked_share <- function(share, fail) {
  if (is.null(share)) return(1)
  fine <- is.numeric(share) && length(share) == 1L && !is.na(share) && share > 0 && share <= 1
  if (!fine) fail("asks for the share ", describe_value(share), "; it is above 0 and at most 1.")
  as.numeric(share)
}

# A task without the settings that were done so already, or failed. `known`: the candidate's
# history.
without_known <- function(task, known) {
  if (NROW(known$settings) == 0L) return(task)
  at <- matching_rows(task$settings, known$settings)
  wanted <- is.na(at)
  for (i in which(!wanted)) wanted[i] <- !known$failed[at[i]] && !is_told(task, known, at[i])
  task$settings <- frame_of_rows(task$settings, which(wanted))
  task
}

is_told <- function(task, known, setting) {
  splits <- if (length(task$splits) == 0L) known$splits else task$splits
  if (task$share == 1) return(!anyNA(known$scores[setting, match(splits, known$splits)]))
  part <- known$partial
  all(splits %in% part$split[part$setting == setting & part$share == task$share])
}

# Where rows of one table stand in the other.
matching_rows <- function(table, known) {
  if (nrow(known) == 0L) return(rep(NA_integer_, nrow(table)))
  group <- group_rows(bind_tables(known, table), nrow(known) + nrow(table))
  own <- seq_len(nrow(known))
  match(group[-own], group[own])
}

# The tasks of a round, or NULL where all settings are wanted in full. `round`: what was proposed,
# by candidate.
tasks_of_round <- function(round) {
  if (all(vapply(round, function(one) is.null(one$tasks), NA))) return(NULL)
  tasks <- lapply(names(round), function(name) round[[name]]$tasks %||% whole_tasks(round[name]))
  unlist(tasks, recursive = FALSE)
}

whole_tasks <- function(round) {
  tasks <- lapply(names(round), function(name) {
    list(candidate = name, settings = round[[name]]$settings, splits = integer(), share = 1)
  })
  Filter(function(task) nrow(task$settings) > 0L, tasks)
}

# Stages of a round, in the order in which the search named them: list(parts, again, new). `parts`
# are stages on some splits or a share of the rows; `again`: fits of earlier rounds that are wanted
# in full, `new`: logical, those of this one.
stages_of_tasks <- function(tasks, work, new) {
  fits <- lapply(tasks, function(task) {
    mine <- which(work$settings$candidate == match(task$candidate, names(work$spaces)))
    at <- matching_rows(task$settings, work$tables[[task$candidate]])
    # a limit may have cut off some
    unique(work$settings$fit[mine[at[!is.na(at)]]])
  })
  whole <- vapply(tasks, function(task) length(task$splits) == 0L && task$share == 1, NA)
  key <- vapply(tasks, function(task) paste(c(task$share, task$splits), collapse = " "), "")
  parts <- lapply(unique(key[!whole]), function(one) {
    same <- which(key == one)
    list(
      fits = unique(unlist(fits[same])), splits = tasks[[same[1]]]$splits,
      share = tasks[[same[1]]]$share, part = 0.5
    )
  })
  whole <- unique(unlist(fits[whole]))
  list(parts = parts, again = whole[!new[whole]], new = new & seq_along(new) %in% whole)
}

# What a search asked for in part, and then no more of, as what a screen dropped is kept.
# `dropped`: numbers of the settings of which that was said already.
left_in_part <- function(results, plan, dropped) {
  at <- setdiff(which(rowSums(!results$done) > 0L), dropped)
  good <- goodness(results$scores[[plan$decide]], plan$metrics[[plan$decide]])
  leader <- which.max(rowMeans(good[, is.na(plan$undefined[[plan$decide]]), drop = FALSE]))
  behind <- rowMeans(sweep(-good[at, , drop = FALSE], 2L, good[leader, ], `+`), na.rm = TRUE)
  known <- rowSums(results$done[at, , drop = FALSE])
  shares <- tapply(results$partial$share, factor(results$partial$setting, at), max)
  on_shares <- vapply(at, function(i) {
    length(unique(results$partial$split[results$partial$setting == i]))
  }, 1L)
  data.frame(
    candidate = results$candidate[at], setting = results$row[at],
    splits = as.integer(ifelse(known > 0, known, on_shares)),
    share = ifelse(known > 0, 1, as.vector(shares)),
    behind = ifelse(is.nan(behind), NA, behind),
    why = rep("its search asked for no more of it", length(at))
  )
}
