#' @export
print.kw_comparison <- function(x, ...) {
  metric <- cmp_metric(x)
  table <- standings_rows(x)
  say_wrapped(paste0(
    "Comparison: ", count_of(length(x$results$candidate), "setting"), " of ",
    count_of(length(x$plan$spaces), "candidate"), " to predict ",
    outcome_words(x$plan$brief),
    " on ", count_of(nrow(x$plan$brief$table), "working row")
  ))
  say_wrapped(paste0(
    "Splits: ", splits_label(x$plan), "; took ",
    format_duration(x$seconds), " for ",
    count_of(fits_done(x), "fit")
  ))
  if (!is.null(x$stopped)) {
    say_wrapped(paste0(
      "! Stopped by ", x$stopped, ": ", sum(!is.na(table$place)), " of ",
      count_of(nrow(table), "setting"),
      " have all their scores"
    ))
  }
  if (!is.null(x$plan$screen)) say_wrapped(paste0("Screen: ", screen_words(x)))
  if (!is.null(x$plan$everywhere)) say_wrapped(paste0("Settled: ", settled_sentence(x)))
  if (!is.null(x$journal_failure)) {
    say_wrapped(paste0("! The journal is not complete: ", x$journal_failure))
  }
  ranked <- table[!is.na(table$place), ]
  best <- ranked[!duplicated(ranked$candidate), ]
  say("Best of each candidate by ", metric$label, " (", metric$direction, " is better):")
  print_standings(best, x)
  if (length(x$plan$provided) > 0L) {
    say(
      sum(table$provided), " of ", count_of(nrow(table), "setting"), " meet ",
      constraint_words(x$plan)
    )
  }
  say_undefined(x, metric)
  failed <- sum(table$failed > 0)
  if (failed > 0) say(count_of(failed, "setting"), " failed on some split: see failures()")
  say_warnings(x)
  invisible(x)
}

# What the screen did, in a sentence.
screen_words <- function(cmp) {
  gone <- cmp$results$dropped
  n <- nrow(gone)
  if (n == 0L) return("no setting was dropped")
  all <- length(cmp$results$candidate)
  when <- range(gone$splits)
  paste0(
    n, " of ", count_of(all, "setting"), if (n == 1L) " was" else " were",
    " dropped after ", if (when[1] < when[2]) paste0(when[1], " to "),
    count_of(when[2], "split"),
    if (any(gone$share < 1)) {
      paste0(" on ", format(100 * min(gone$share)), " % of the rows or more")
    },
    ", and are not ranked; see standings(level = \"all\")"
  )
}

# Standings as a table of text, numbers rounded to their uncertainty.
print_standings <- function(table, cmp) {
  labels <- setting_label(cmp, rows_in_standings(cmp, table), all = FALSE)
  print_standings_rows(table, labels)
}

# All rows are rounded alike, to the uncertainty of the first one that has any.
print_standings_rows <- function(table, labels, strips = FALSE) {
  certain <- c(table$se[!is.na(table$se) & table$se > 0], NA)[1]
  rounded <- function(x) vapply(x, round_to, character(1), uncertainty = certain)
  rows <- data.frame(
    place = ifelse(is.na(table$place), "-", table$place),
    candidate = table$candidate,
    mean = rounded(table$mean), sd = rounded(table$sd), se = rounded(table$se)
  )
  if (any(!is.na(table$training))) rows$gap <- rounded(table$gap)
  width <- if (strips) min(max(80L, getOption("width")), 120L) else 80L
  strip <- if (strips) spread_strips(table, if (width < 100L) 11L else 15L)
  if (!is.null(strip)) rows$splits <- strip
  rows$setting <- labels
  align <- c("right", "left", rep("right", ncol(rows) - 3L), "left")
  print_table(rows, align, width)
}

say_undefined <- function(cmp, metric) {
  reasons <- cmp$plan$undefined[[metric$name]]
  gone <- reasons[!is.na(reasons) & !is_apparent(all_splits(cmp))]
  if (length(gone) > 0L) {
    say_wrapped(paste0(
      "! ", metric$label, " is undefined on ", count_of(length(gone), "split"),
      ", which are left out for all: ", gone[1]
    ))
  }
}

say_warnings <- function(cmp) {
  warnings <- cmp$results$warnings
  if (length(warnings) == 0L) return(invisible())
  messages <- vapply(
    warnings, function(w) paste0(candidate_names(cmp)[w$settings[1]], ": ", w$message), ""
  )
  counts <- sort(
    tapply(vapply(warnings, `[[`, numeric(1), "count"), messages, sum),
    decreasing = TRUE
  )
  for (i in seq_len(min(3L, length(counts)))) {
    say_wrapped(paste0("! warned ", count_of(counts[[i]], "time"), ": ", names(counts)[i]))
  }
  if (length(counts) > 3L) {
    say("! and ", length(counts) - 3L, " other warnings: see warnings_by_split()")
  }
}

#' @export
print.kw_choice <- function(x, ...) {
  say_wrapped(paste0("Choice: ", choice_name(x$cmp, x$at)))
  say_wrapped(paste0("Rule: ", x$rule, ". ", x$reason))
  say_wrapped(honest_text(x))
  if (!is.null(x$threshold)) say_wrapped(x$threshold$reason)
  invisible(x)
}

#' @export
print.kw_model <- function(x, ...) {
  facts <- x$facts
  say_wrapped(paste0(
    "Final model: ", facts$candidate,
    if (nzchar(facts$setting)) paste0(" (", facts$setting, ")"), ", predicts ",
    outcome_words(x)
  ))
  steps <- vapply(x$steps, function(learned) paste0("pre_", learned$definition$name), character(1))
  say_wrapped(paste0(
    "Pipeline: ", paste(c(steps, called_family(facts$family)), collapse = " > "),
    "; fitted on ", count_of(facts$working_rows, "working row"),
    if (!is.null(x$folds)) paste0("; intervals by ", count_of(length(x$folds), "fold"))
  ))
  scores <- x$scores
  rows <- data.frame(
    metric = scores$metric, training = mapply(round_to, scores$training, scores$validation_se),
    validation = mapply(round_to, scores$validation, scores$validation_se),
    sd = mapply(round_to, scores$validation_sd, scores$validation_se)
  )
  print_table(rows, align = c("left", "right", "right", "right"))
  if (!is.null(x$threshold)) {
    say_wrapped(paste0(
      "Called ", x$event, " from a probability of ",
      format(signif(x$threshold, 4)), " on."
    ))
  }
  say_wrapped(paste0(
    "Chosen by ", facts$rule, " from ",
    count_of(facts$settings_compared, "setting"),
    ", seed ", facts$seed, ". ", facts$reason
  ))
  keeping <- parts_with_rows(x)
  if (length(keeping) > 0L) {
    say_wrapped(paste0(
      "! It holds working rows, as ", enumerate(keeping), " cannot predict without: whoever gets ",
      "it gets them."
    ))
  }
  invisible(x)
}

#' @export
print.kw_summary <- function(x, ...) {
  for (line in unclass(x)) {
    if (startsWith(line, "- ")) {
      show_lines(strwrap(substring(line, 3), 78, prefix = "  ", initial = "- "))
    } else {
      say_wrapped(line)
    }
  }
  invisible(x)
}

#' @export
print.kw_shortlist <- function(x, ...) {
  about <- attr(x, "about")
  unclear <- sum(is.na(x$answer))
  say_wrapped(paste0(
    "Shortlist by ", x$metric[1], ": ",
    if (sum(about$counts) > 0L || unclear == 0L) shortlist_counts(about),
    if (about$adjust == "step_down") " (step-down p values)",
    if (sum(about$counts) > 0L && unclear > 0L) "; ",
    if (unclear > 0L) {
      paste0(
        "of ", count_of(unclear, "other setting"), " it cannot be said, with fewer than ",
        fewest_splits, " splits in common"
      )
    }
  ))
  shown <- utils::head(as.data.frame(x), 15L)
  spread <- stats::median((x$high - x$low)[!is.na(x$high) & x$high > x$low] / 4)
  number <- function(v) vapply(v, round_to, "", uncertainty = spread)
  fixed <- c(
    "place", "candidate", "setting", "metric", "mean", "difference", "low", "high", "p",
    "splits", "p_better", "p_same", "p_worse", "answer"
  )
  varied <- shown[setdiff(names(shown), fixed)]
  rows <- data.frame(
    place = ifelse(is.na(shown$place), "-", shown$place),
    candidate = shown$candidate, mean = number(shown$mean),
    worse_by = number(shown$difference),
    interval = ifelse(
      is.na(shown$low) | shown$place %in% 1L,
      "",
      paste(number(shown$low), "to", number(shown$high))
    ),
    answer = ifelse(shown$place %in% 1L, "leader", ifelse(is.na(shown$answer), "", shown$answer)),
    same = ifelse(shown$place %in% 1L | is.na(shown$p_same), "", percent(shown$p_same))
  )
  rows$setting <- vapply(seq_len(nrow(shown)), function(i) {
    values <- lapply(varied, `[[`, i)
    values <- values[!is.na(values)]
    paste(names(values), vapply(values, format_value, ""), sep = " = ", collapse = ", ")
  }, "")
  names(rows)[c(4, 5, 7)] <- c(
    "worse by", paste0(round(100 * about$level), " % interval"), "P(same)"
  )
  print_table(rows, align = c("right", "left", "right", "right", "left", "left", "right", "left"))
  if (nrow(x) > 15L) say("and ", nrow(x) - 15L, " more")
  say_wrapped("A screen, not a test: the leader was itself picked for having the best mean.")
  invisible(x)
}

#' @export
print.kw_assessment <- function(x, ...) {
  mine <- x$scores[x$scores$metric == x$decide, ]
  say_wrapped(paste0("The whole procedure (rule ", x$rule, ") judged on outer splits: ", x$outer))
  rows <- data.frame(
    split = mine$outer_split, inner = format(signif(mine$inner, 4)),
    outer = format(signif(mine$outer, 4)),
    choice = paste0(
      x$choices$candidate,
      ifelse(nzchar(x$choices$values), paste0(" (", x$choices$values, ")"), "")
    )
  )
  names(rows)[2:3] <- paste(c("inner", "outer"), x$decide)
  print_table(rows, align = c("right", "right", "right", "left"))
  say(
    "Mean: inner ", format(signif(mean(mine$inner), 4)), ", outer ",
    format(signif(mean(mine$outer, na.rm = TRUE), 4))
  )
  if (!is.null(x$inner_folds)) {
    say_wrapped(paste0(
      "Inner splits: ", x$inner_folds[["fewest"]], " folds instead of ",
      x$inner_folds[["planned"]], ", since outer splits leave fewer groups, or rows of a class"
    ))
  }
  invisible(x)
}

#' @export
print.kw_scores_by <- function(x, ...) {
  about <- attr(x, "about")
  if (is.null(about)) return(NextMethod())
  names <- unique(x$candidate)
  say_wrapped(paste0(
    about$metric$label, " (", about$metric$direction, " is better) by ", about$column,
    ", means drawn towards the whole; * better, ! worse there than over all"
  ))
  first <- x[x$candidate == names[1], ]
  spread <- stats::median(x$sd / sqrt(pmax(x$splits, 1)), na.rm = TRUE)
  cells <- lapply(names, function(name) {
    mine <- x[x$candidate == name, ]
    sign <- c(better = " *", worse = " !")[mine$answer]
    paste0(vapply(mine$shrunk, round_to, "", spread), ifelse(is.na(sign), "  ", sign))
  })
  shown <- c(list(first$part, format(first$rows, big.mark = ",")), cells)
  names(shown) <- c(about$column, "rows", names)
  print_table(shown, align = c("left", rep("right", 1L + length(names))))
  few <- x$splits < fewest_splits
  if (any(few)) {
    say_wrapped(paste0(
      count_of(length(unique(x$part[few])), "part"), " (", enumerate(unique(x$part[few])),
      ") had a score on fewer than ", fewest_splits, " splits."
    ))
  }
  invisible(x)
}

# What was chosen, its honest score, what is as good, what cannot be told. `aside`: set-aside
# scores, or NULL.
in_one_sentence <- function(choice, aside = NULL) {
  cmp <- choice$cmp
  metric <- cmp_metric(cmp, choice$metric)
  near <- tryCatch(attr(shortlist(cmp, metric$name), "about"), kw_error_select = function(e) NULL)
  paste0(
    "In one sentence: ", choice_name(cmp, choice$at), " was chosen; ",
    honest_words(choice, metric, aside),
    if (!is.null(near) && sum(near$counts) > 0L) paste0("; ", shortlist_counts(near)), "."
  )
}

# The score on set-aside rows, else what the splits say, corrected for having been picked.
honest_words <- function(choice, metric, aside) {
  row <- if (!is.null(aside)) aside[aside$metric == metric$name, ]
  if (NROW(row) == 1L && !is.na(row$set_aside)) {
    known <- !is.na(row$low) && !is.na(row$high)
    number <- function(x) round_to(x, if (known) (row$high - row$low) / 4 else NA)
    return(paste0(
      "on rows that nothing had seen its ", metric$label, " is ", number(row$set_aside),
      if (known) paste0(" (95 % interval ", number(row$low), " to ", number(row$high), ")")
    ))
  }
  worth <- honest_score(choice)
  error <- (worth$high - worth$low) / 4
  picked <- worth$settings > 1L && !is.na(worth$optimism)
  paste0(
    "its ", metric$label,
    if (picked) {
      paste0(", corrected for having been picked from ", count_of(worth$settings, "setting"), ",")
    },
    " is ", round_to(if (picked) worth$score else worth$mean, error),
    if (is.na(error)) " over the splits" else paste0(
      " (95 % interval ", round_to(worth$low, error), " to ", round_to(worth$high, error), ")"
    )
  )
}

saved_labels <- function(table) {
  fixed <- setdiff(reserved_names, c("repeat", "split", "validation"))
  varied <- setdiff(names(table), fixed)
  vapply(seq_len(nrow(table)), function(i) {
    values <- unlist(lapply(table[i, varied, drop = FALSE], format_value))
    values <- values[!is.na(values) & !values %in% c("", "NA")]
    paste(names(values), values, sep = " = ", collapse = ", ")
  }, character(1))
}

#' @export
print.kw_standings <- function(x, n = 10, ...) {
  about <- attr(x, "about")
  if (is.null(about)) return(NextMethod())
  say_wrapped(paste0(
    "Standings by ", about$label, " (", about$direction, " is better): ",
    count_of(about$settings, "setting"), " of ", count_of(about$candidates, "candidate"), ", ",
    about$splits
  ))
  if (!is.null(about$worth)) say_wrapped(about$worth)
  shown <- utils::head(tibble::as_tibble(x), n)
  print_standings_rows(shown, saved_labels(shown), strips = TRUE)
  if (nrow(x) > n) {
    say("and ", format(nrow(x) - n, big.mark = ","), " more: print(x, n = ", 2 * n, ")")
  }
  gone <- sum(is.na(x$place))
  if (gone > 0L) {
    say(
      count_of(gone, "setting"), " without a place", if (any(x$failed > 0)) ": see failures()"
    )
  }
  invisible(x)
}

# From the lowest score of a split to the highest, with a mark at the mean, all on one scale.
spread_strips <- function(table, width) {
  ends <- range(c(table$lowest, table$highest), finite = TRUE)
  if (!all(is.finite(ends)) || ends[1] == ends[2]) return(NULL)
  place <- function(x) 1L + round((width - 1L) * (x - ends[1]) / (ends[2] - ends[1]))
  marks <- if (cli::is_utf8_output()) c("\u2500", "\u25cf") else c("-", "o")
  vapply(seq_len(nrow(table)), function(i) {
    if (is.na(table$mean[i]) || is.na(table$lowest[i])) return(strrep(" ", width))
    cells <- rep(" ", width)
    cells[seq(place(table$lowest[i]), place(table$highest[i]))] <- marks[1]
    cells[min(max(place(table$mean[i]), 1L), width)] <- marks[2]
    paste(cells, collapse = "")
  }, "")
}
