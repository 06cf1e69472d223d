# The rows of standings(), a bare tibble.
standings_rows <- function(cmp, metric = NULL, top = NULL, level = "settings") {
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  check_choice(level, c("settings", "candidates", "families", "all"), "level")
  metric <- cmp_metric(cmp, metric)
  if (!is.null(top)) check_number(top, "top", min = 1, whole = TRUE)
  results <- cmp$results
  summary <- score_summary(cmp, metric$name)
  meets <- meets_constraints(cmp)
  ranked <- ifelse(meets, summary$mean, NA)
  order <- order_settings(cmp, ranked, metric)
  if (!all(meets)) {
    order <- c(order[!is.na(ranked[order])], unmet_last(cmp, summary$mean, ranked, metric))
  }
  gone <- cmp$results$dropped$at
  order <- c(setdiff(order, gone), if (level == "all") gone)
  columns <- summary[c("mean", "sd", "se", "lowest", "highest", "splits", "training")]
  table <- c(
    list(
      place = ranks_in_order(ranked[order]),
      candidate = candidate_names(cmp)[order], setting = results$row[order]
    ),
    lapply(varied_columns(cmp), function(column) column[order]),
    list(metric = rep(metric$name, length(order))), lapply(columns, `[`, order),
    list(
      gap = abs(summary$training - summary$mean)[order],
      seconds = rowSums(results$seconds, na.rm = TRUE)[order],
      failed = failed_splits(cmp, metric$name)[order]
    ),
    if (length(constraints_of(cmp)) > 0L) list(provided = meets[order])
  )
  table <- tibble::as_tibble(c(table, if (level == "all") unranked_columns(cmp, metric, order)))
  if (level %in% c("candidates", "families")) table <- first_of_each(cmp, table, level)
  if (is.null(top)) table else utils::head(table, top)
}

# What is known of settings that a screen dropped, and why others have not all their scores.
unranked_columns <- function(cmp, metric, order) {
  results <- cmp$results
  gone <- results$dropped
  at <- match(order, gone$at)
  scores <- results$scores[[metric$name]][, counted_splits(cmp, metric$name), drop = FALSE]
  so_far <- rowMeans(scores, na.rm = TRUE)[order]
  why <- gone$why[at]
  done <- results$done[order, splits_of_all(cmp$plan), drop = FALSE]
  short <- is.na(why) & rowSums(!done) > 0
  if (!is.null(cmp$stopped)) why[short] <- paste("the run was stopped by", cmp$stopped)
  list(
    so_far = ifelse(is.nan(so_far), NA, so_far), share = gone$share[at],
    behind = gone$behind[at], why = why
  )
}

# The first row of every candidate or family, with a column for the family.
first_of_each <- function(cmp, table, level) {
  if (level == "candidates") return(table[!duplicated(table$candidate), ])
  family <- vapply(spaces_of(cmp), function(space) space$pipeline$family$definition$name,
    "")[table$candidate]
  tibble::add_column(table, family = unname(family), .after = "place")[!duplicated(family), ]
}

cmp_metric <- function(cmp, metric = NULL) {
  metrics <- metrics_of(cmp)
  name <- metric %||% deciding_metric(cmp)
  check_choice(name, names(metrics), "metric")
  metrics[[name]]
}

candidate_names <- function(cmp) names(spaces_of(cmp))[cmp$results$candidate]

# Splits on which a setting failed, or its predictions left the metric undefined.
failed_splits <- function(cmp, metric) {
  failed <- integer(length(cmp$results$candidate))
  unscored <- Filter(function(record) record$metric == metric, cmp$results$unscored)
  for (failure in c(cmp$results$failures, unscored)) {
    failed[failure$settings] <- failed[failure$settings] + 1L
  }
  failed
}

# Settings without a place: first those that miss a constraint, best first.
unmet_last <- function(cmp, mean, ranked, metric) {
  order <- order_settings(cmp, mean, metric)
  order[is.na(ranked[order])]
}

# Best mean first; of equal ones the simplest. Settings without a mean come last.
order_settings <- function(cmp, mean, metric) {
  best_first(goodness(mean, metric), spaces_of(cmp), cmp$results, last = TRUE)
}

ranks_in_order <- function(mean) {
  place <- seq_along(mean)
  place[is.na(mean)] <- NA_integer_
  place
}

# Hyperparameters that took more than one value in some candidate, one column
# each for all settings.
varied_columns <- function(cmp) {
  results <- cmp$results
  several <- lapply(results$tables, function(settings) {
    names(settings)[vapply(settings, function(column) length(unique(column)) > 1L, logical(1))]
  })
  names <- unique(unlist(several))
  columns <- lapply(names, function(name) {
    parts <- lapply(results$tables, `[[`, name)
    as_text <- any(vapply(parts, is.character, logical(1)))
    values <- lapply(seq_along(parts), function(i) {
      column <- parts[[i]] %||% rep(NA, nrow(results$tables[[i]]))
      (if (as_text) as.character(column) else column)
    })
    whole <- rep(values[[1]][NA_integer_][1], length(results$candidate))
    for (i in seq_along(values)) {
      mine <- results$candidate == i
      whole[mine] <- values[[i]][results$row[mine]]
    }
    whole
  })
  stats::setNames(columns, names)
}

# "pruning = 0.01, impurity = gini" of settings; not `all`: without what never varied in their
# candidate.
setting_label <- function(cmp, at, all = TRUE) {
  tables <- if (all) cmp$results$tables else varied_settings(cmp)
  setting_words(tables, cmp$results$candidate[at], cmp$results$row[at])
}

# The tables of settings by candidate, without what never varied in one.
varied_settings <- function(cmp) {
  tables <- Map(function(settings, space) {
    # what a blend is made of is always said
    if (is_blend(space)) return(settings)
    settings[vapply(settings, function(x) length(unique(x)) > 1L, NA)]
  }, cmp$results$tables, spaces_of(cmp))
  stats::setNames(tables, names(spaces_of(cmp)))
}

# Settings in words: rows of such tables; `candidate` is a number or a name.
setting_words <- function(tables, candidate, row) {
  labels <- character(length(row))
  for (one in unique(candidate)) {
    mine <- which(candidate == one)
    settings <- tables[[one]]
    parts <- Map(function(name, values) {
      values <- values[row[mine]]
      known <- unique(values)
      texts <- vapply(known, format_value, "")[match(values, known)]
      ifelse(is.na(values), NA_character_, paste(name, "=", texts))
    }, names(settings), settings)
    labels[mine] <- vapply(seq_along(mine), function(at) {
      said <- vapply(parts, `[[`, "", at)
      paste(said[!is.na(said)], collapse = ", ")
    }, "")
  }
  labels
}

format_value <- function(x) if (is.numeric(x)) format(signif(x, 6), digits = 4) else as.character(x)
