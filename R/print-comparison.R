#' @export
print.kw_comparison <- function(x, ...) {
  metric <- cmp_metric(x)
  table <- standings(x)
  say_wrapped(paste0("Comparison: ", count_of(nrow(table), "setting"), " of ",
                     count_of(length(x$plan$spaces), "candidate"), " to predict ", x$plan$job$outcome,
                     " on ", count_of(nrow(x$plan$job$table), "working row")))
  say_wrapped(paste0("Splits: ", x$plan$splitter$label, split_words(x$plan), "; took ",
                     format_duration(x$seconds), " for ", count_of(x$results$fits * length(x$plan$splits), "fit")))
  if (!is.null(x$stopped)) {
    say_wrapped(paste0("! Stopped by ", x$stopped, ": ", sum(!is.na(table$place)), " of ", count_of(nrow(table), "setting"),
                       " have all their scores"))
  }
  if (!is.null(x$journal_failure)) say_wrapped(paste0("! The journal is not complete: ", x$journal_failure))
  ranked <- table[!is.na(table$place), ]
  best <- ranked[!duplicated(ranked$candidate), ]
  say("Best of each candidate by ", metric$label, " (", metric$direction, " is better):")
  print_standings(best, x)
  if (length(x$plan$provided) > 0L) {
    say(sum(table$provided), " of ", count_of(nrow(table), "setting"), " meet ", constraint_words(x$plan))
  }
  say_undefined(x, metric)
  failed <- sum(table$failed > 0)
  if (failed > 0) say(count_of(failed, "setting"), " failed on some split: see failures()")
  say_warnings(x)
  invisible(x)
}

# Standings as a table of text, numbers rounded to their uncertainty.
print_standings <- function(table, cmp) {
  labels <- vapply(seq_len(nrow(table)), function(i) {
    at <- which(candidate_names(cmp) == table$candidate[i] & cmp$results$row == table$setting[i])
    setting_label(cmp, at, all = FALSE)
  }, character(1))
  print_standings_rows(table, labels)
}

# All rows are rounded alike, to the uncertainty of the first one that has any.
print_standings_rows <- function(table, labels) {
  certain <- c(table$se[!is.na(table$se) & table$se > 0], NA)[1]
  rounded <- function(x) vapply(x, round_to, character(1), uncertainty = certain)
  rows <- data.frame(place = ifelse(is.na(table$place), "-", table$place), candidate = table$candidate,
                     mean = rounded(table$mean), sd = rounded(table$sd), se = rounded(table$se))
  if (any(!is.na(table$training))) rows$gap <- rounded(table$gap)
  rows$setting <- labels
  print_table(rows, align = c("right", "left", rep("right", ncol(rows) - 3L), "left"))
}

say_undefined <- function(cmp, metric) {
  reasons <- cmp$plan$undefined[[metric$name]]
  gone <- reasons[!is.na(reasons) & !is_apparent(cmp$plan$splits)]
  if (length(gone) > 0L) {
    say_wrapped(paste0("! ", metric$label, " is undefined on ", count_of(length(gone), "split"),
                       ", which are left out for all: ", gone[1]))
  }
}

say_warnings <- function(cmp) {
  warnings <- cmp$results$warnings
  if (length(warnings) == 0L) return(invisible())
  messages <- vapply(warnings, function(w) paste0(candidate_names(cmp)[w$settings[1]], ": ", w$message), "")
  counts <- sort(tapply(vapply(warnings, `[[`, numeric(1), "count"), messages, sum), decreasing = TRUE)
  for (i in seq_len(min(3L, length(counts)))) {
    say_wrapped(paste0("! warned ", count_of(counts[[i]], "time"), ": ", names(counts)[i]))
  }
  if (length(counts) > 3L) say("! and ", length(counts) - 3L, " other warnings: see warnings_by_split()")
}

#' @export
print.kw_choice <- function(x, ...) {
  say_wrapped(paste0("Choice: ", choice_name(x$cmp, x$at)))
  say_wrapped(paste0("Rule: ", x$rule, ". ", x$reason))
  if (!is.null(x$threshold)) say_wrapped(x$threshold$reason)
  invisible(x)
}

#' @export
print.kw_model <- function(x, ...) {
  facts <- x$facts
  say_wrapped(paste0("Final model: ", facts$candidate,
                     if (nzchar(facts$setting)) paste0(" (", facts$setting, ")"), ", predicts ", x$outcome))
  steps <- vapply(x$steps, function(learned) paste0("pre_", learned$definition$name), character(1))
  say_wrapped(paste0("Pipeline: ", paste(c(steps, paste0("fam_", facts$family)), collapse = " > "),
                     "; fitted on ", count_of(facts$working_rows, "working row")))
  scores <- x$scores
  rows <- data.frame(
    metric = scores$metric, training = mapply(round_to, scores$training, scores$validation_se),
    validation = mapply(round_to, scores$validation, scores$validation_se),
    sd = mapply(round_to, scores$validation_sd, scores$validation_se)
  )
  print_table(rows, align = c("left", "right", "right", "right"))
  if (!is.null(x$threshold)) say_wrapped(paste0("Called ", x$event, " from a probability of ", format(signif(x$threshold, 4)), " on."))
  say_wrapped(paste0("Chosen by ", facts$rule, " from ", count_of(facts$settings_compared, "setting"),
                     ", seed ", facts$seed, ". ", facts$reason))
  invisible(x)
}
