#' @export
print.kw_among <- function(x, ...) say(varying_words(x))
#' @export
print.kw_range <- function(x, ...) say(varying_words(x))
#' @export
print.kw_sensible <- function(x, ...) say(varying_words(x))

varying_words <- function(x) {
  if (inherits(x, "kw_sensible")) return("a sensible range")
  if (inherits(x, "kw_range")) {
    return(paste0(
      format_value(x$from), " to ", format_value(x$to),
      if (x$spacing == "log") " (log)",
      if (!is.null(x$points)) paste0(", ", x$points, " points")
    ))
  }
  values <- if (is.list(x$values)) {
    names(labelled_values(x$values))
  } else {
    vapply(x$values, format_value, "")
  }
  paste("one of", enumerate(values, 8L))
}

value_words <- function(x) {
  if (is_varying(x)) return(varying_words(x))
  if (is.null(x)) return("none")
  if (is.function(x)) return("the usual rule")
  if (is.list(x)) return(paste0("given for ", enumerate(names(x))))
  paste(vapply(x, format_value, character(1)), collapse = ", ")
}

part_words <- function(part, prefix) {
  shown <- names(part$settings)[!vapply(part$settings, is.null, logical(1))]
  if (prefix == "pre_") {
    shown <- intersect(shown, union(part$given, names(Filter(is_varying, part$settings))))
  }
  settings <- paste0(
    shown, rep(" = ", length(shown)),
    vapply(part$settings[shown], value_words, character(1))
  )
  where <- if (prefix == "pre_") columns_words(part)
  paste0(
    prefix, part$definition$name,
    if (length(settings) > 0L) paste0(": ", paste(settings, collapse = "; ")),
    if (!is.null(where)) paste0(" (", where, ")")
  )
}

# "on wall_mm", or the kinds of columns that the step takes by default.
columns_words <- function(step) {
  if (!is.null(step$columns)) return(paste("on", selection_text(step$columns)))
  kinds <- step$definition$columns
  if (length(kinds) %in% c(0L, length(column_kinds))) return(NULL)
  plural <- c(
    number = "numbers", category = "categories", ordered = "ordered categories",
    text = "text", date = "dates"
  )
  paste("on", paste(plural[kinds], collapse = " and "))
}

#' @export
print.kw_step <- function(x, ...) {
  say_wrapped(part_words(x, "pre_"))
  if (nzchar(x$definition$does)) say_wrapped(paste0("  ", x$definition$does))
  invisible(x)
}

#' @export
print.kw_family <- function(x, ...) {
  say_wrapped(part_words(x, "fam_"))
  if (nzchar(x$definition$does)) say_wrapped(paste0("  ", x$definition$does))
  invisible(x)
}

#' @export
print.kw_either <- function(x, ...) {
  say_wrapped(node_words(list(part = x, name = "")))
  invisible(x)
}

node_words <- function(node) {
  label <- if (nzchar(node$name)) paste0(node$name, ": ")
  if (!inherits(node$part, "kw_either")) return(paste0(label, part_words(node$part, "pre_")))
  alternatives <- vapply(names(node$part$alternatives), function(name) {
    inner <- node$part$alternatives[[name]]
    words <- if (length(inner) == 0L) {
      "as is"
    } else {
      paste(vapply(inner, node_words, ""), collapse = ", then ")
    }
    paste0(name, " = ", words)
  }, character(1))
  paste0(label, "either ", paste(alternatives, collapse = " | "))
}

#' @export
print.kw_pipeline <- function(x, ...) {
  say("Pipeline of ", count_of(length(x$steps), "step"), " and a family")
  for (i in seq_along(x$steps)) say_wrapped(paste0("  ", i, ". ", node_words(x$steps[[i]])), 5L)
  say_wrapped(paste0("  ", length(x$steps) + 1L, ". ", part_words(x$family, "fam_")), 5L)
  invisible(x)
}

# As code that can be pasted and edited.
#' @export
print.kw_sensible_candidates <- function(x, ...) {
  say("# To predict ", attr(x, "about"))
  for (line in candidates_code(x)) say(line)
  for (line in left_out_words(x)) say_wrapped(paste0("# ", line))
  invisible(x)
}

#' @export
print.kw_candidates <- function(x, ...) {
  say(count_of(length(x$pipelines), "candidate"))
  for (name in names(x$pipelines)) {
    varies <- names(pipeline_dimensions(x$pipelines[[name]]))
    say_wrapped(paste0(
      "  ", name, ": ", paste(c(
        vapply(x$pipelines[[name]]$steps, short_node, ""),
        paste0("fam_", x$pipelines[[name]]$family$definition$name)
      ), collapse = " > "),
      if (length(varies) > 0L) paste0("; varies ", enumerate(varies))
    ), 4L)
  }
  for (rule in x$rules) say_wrapped(paste0("  ruled out: ", rlang::expr_deparse(rule$expr)), 4L)
  invisible(x)
}

short_node <- function(node) {
  if (inherits(node$part, "kw_either")) "either" else paste0("pre_", node$part$definition$name)
}

#' @export
print.kw_splitter <- function(x, ...) say("Splits: ", x$label)

#' @export
print.kw_search <- function(x, ...) say("Search: ", x$label)

#' @export
print.kw_plan <- function(x, ...) {
  n <- vapply(x$round, function(round) nrow(round$settings), integer(1))
  say_wrapped(paste0(
    "Plan: compare ", count_of(sum(n), "setting"), " of ",
    count_of(length(n), "candidate"), " to predict ", outcome_words(x$brief)
  ))
  say_wrapped(paste0("Splits: ", splits_label(x)))
  say_wrapped(paste0("Metrics: ", metric_words(x)))
  if (!is.null(x$rule) || !is.null(x$margin)) say_wrapped(choosing_words(x))
  say(seed_words(x))
  say_searches(x)
  if (!is.null(x$minutes)) say("Time: at most ", count_of(x$minutes, "minute"))
  for (name in names(n)) {
    varies <- varying_text(x$round[[name]]$settings)
    say_wrapped(paste0(
      "  ", name, ": ", if (n[[name]] > 0L) count_of(n[[name]], "setting") else "later",
      if (nzchar(varies)) paste0(" of ", varies)
    ), 4L)
  }
  for (line in left_out_words(x$candidates)) say_wrapped(paste0("  ", line), 4L)
  for (note in x$notes) say_wrapped(paste0("! ", note))
  invisible(x)
}

# What sensible_candidates() left out, and why.
left_out_words <- function(candidates) {
  left_out <- attr(candidates, "left_out")
  if (length(left_out) > 0L) paste0("left out: ", names(left_out), ", ", unlist(left_out))
}

choosing_words <- function(plan) {
  rule <- planned_rule(plan)
  paste0(
    "Choice: by the rule ", rule$name,
    if (!is.null(rule$margin)) paste0(" with margin ", format(rule$margin)),
    if (!isFALSE(rule$blend)) paste0(
      ", among all and a blend of the best of ",
      if (is.character(rule$blend)) enumerate(rule$blend, 9L) else "each candidate"
    ),
    if (!is.null(plan$margin)) {
      paste0("; differences up to ", format(plan$margin), " in ", plan$decide, " do not matter")
    }
  )
}

# Searches of which the first round is known only, and the screen.
say_searches <- function(plan) {
  goes_on <- Filter(function(seat) !seat$search$at_once, plan$seats)
  for (seat in goes_on) {
    whose <- if (length(plan$seats) > 1L) paste0(" of ", enumerate(seat$candidates, 9L))
    say_wrapped(paste0("Search", whose, ": ", seat$search$label, "; this is its first round"))
  }
  if (!is.null(plan$screen)) say_wrapped(paste0("Screen: ", plan$screen$label))
}

# "10 folds, stratified, firing_id kept whole".
splits_label <- function(plan) paste0(plan$splitter$label, split_words(plan))

split_words <- function(plan) {
  group <- plan$brief$roles$group
  paste0(stratified_words(plan$splitter$arguments$stratify), if (!is.null(group)) {
    if (divides_groups(plan)) {
      paste0(" - NOT keeping ", group, " whole")
    } else {
      paste0(", ", group, " kept whole")
    }
  })
}

stratified_words <- function(stratify) {
  if (is.null(stratify) || isFALSE(stratify)) return("")
  paste0(", stratified", if (is.character(stratify)) paste0(" also by ", enumerate(stratify)))
}

# Is a group in training and validation rows of one split?
divides_groups <- function(plan) {
  group <- plan$brief$table[[plan$brief$roles$group]]
  any(vapply(plan$splits[!is_apparent(plan$splits)], function(split) {
    any(group[split$validation] %in% group[split$training])
  }, logical(1)))
}

metric_words <- function(plan) {
  words <- vapply(plan$metrics, function(metric) {
    paste0(
      metric$name, " (", metric$direction, " is better",
      if (metric$name == plan$decide) ", decides", ")"
    )
  }, character(1))
  paste0(
    paste(words, collapse = ", "),
    if (length(plan$provided) > 0L) paste0("; provided ", constraint_words(plan))
  )
}

constraint_words <- function(plan) enumerate(vapply(plan$provided, `[[`, character(1), "text"))

#' @export
print.kw_preview <- function(x, ...) {
  number <- function(n) format(n, big.mark = ",", trim = TRUE)
  say_wrapped(paste0(
    "Preview: ", count_of(x$settings, "setting"), " x ", count_of(x$splits, "split"),
    if (x$in_part) ", in part at first: " else " = ",
    count_of(x$scores, "score")
  ))
  say_wrapped(paste0(
    "Needed: ", number(x$fits), " fits for ", number(x$scores), " scores",
    if (x$steps_unshared > 0) {
      paste0(", ", number(x$steps), " steps instead of ", number(x$steps_unshared))
    },
    "; the rest is shared"
  ))
  say_searches(x$plan)
  print_preview_time(x)
  table <- x$candidates
  rows <- data.frame(
    candidate = table$candidate,
    settings = ifelse(table$settings == 0L, "later", number(table$settings)),
    fits = ifelse(table$settings == 0L, "", paste0(table$fits, " a split"))
  )
  if (!is.na(x$megabytes)) rows$one <- vapply(table$fit_seconds, short_duration, "")
  names(rows)[names(rows) == "one"] <- "a fit"
  rows$varies <- table$varies
  print_table(rows, align = c("left", rep("right", ncol(rows) - 2L), "left"))
  gone <- c(
    "ruled out" = sum(table$ruled_out), "cannot work" = sum(table$impossible),
    "merged, being the same" = sum(table$merged)
  )
  gone <- gone[gone > 0]
  if (length(gone) > 0L) say(
    "Of ", number(sum(table$combinations)), " combinations: ",
    paste(number(gone), names(gone), collapse = ", ")
  )
  say_wrapped(paste0("Splits: ", splits_label(x$plan)))
  say_wrapped(paste0("Metrics: ", metric_words(x$plan)))
  say(seed_words(x$plan))
  for (note in x$plan$notes) say_wrapped(paste0("! ", note))
  invisible(x)
}

print_preview_time <- function(x) {
  if (is.na(x$megabytes)) return(invisible())
  failed <- x$candidates$candidate[is.na(x$candidates$seconds)]
  if (length(failed) > 0L) {
    return(say_wrapped(paste0(
      "Time: cannot be told, since the pilot fits of ", enumerate(failed),
      " failed"
    )))
  }
  workers <- usual_cores()
  say_wrapped(paste0(
    "Time: about ", format_duration(x$seconds), " by one process",
    if (workers > 1L && x$seconds > worth_workers) {
      paste0(
        ", ", format_duration(x$seconds / workers), " by ", workers,
        " workers"
      )
    },
    "; peak memory about ", format(signif(x$megabytes, 2)), " MB a process"
  ))
}

short_duration <- function(seconds) {
  if (is.na(seconds)) {
    "?"
  } else if (seconds < 1) {
    paste(format(signif(1000 * seconds, 2)), "ms")
  } else {
    paste(format(signif(seconds, 2)), "s")
  }
}

# Keeps "name = value" together when text is wrapped.
no_break <- function(text) gsub(" = ", "\u00a0=\u00a0", text, fixed = TRUE)

seed_words <- function(plan) {
  paste0(
    "Seed: ", plan$seed, if (plan$seed_drawn) " (drawn, since none was given)",
    if (!is.null(plan$search_seed)) paste0(", of the searches ", plan$search_seed)
  )
}
