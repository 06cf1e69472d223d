#' @export
print.kw_findings <- function(x, ...) {
  if (nrow(x) == 0L) {
    say("Nothing found that calls for a remedy.")
    return(invisible(x))
  }
  counts <- table(factor(x$severity, c("serious", "notable", "minor")))
  counts <- counts[counts > 0]
  say(count_of(nrow(x), "finding"), ": ", paste(counts, names(counts), collapse = ", "))
  for (severity in names(counts)) {
    say(toupper(severity))
    mine <- x[x$severity == severity, ]
    for (code in unique(mine$code)) print_findings_of(mine[mine$code == code, ])
  }
  say_wrapped(
    "apply_remedies(brief, findings) applies what loses nothing, the rest if it is named."
  )
  invisible(x)
}

# A few findings of one kind one by one, more of them in one line.
print_findings_of <- function(found) {
  if (nrow(found) <= 2L) {
    for (i in seq_len(nrow(found))) {
      say_wrapped(paste0("  ", found$detail[i]), 4L)
      say_wrapped(paste0("    -> ", found$remedy[i]), 7L)
    }
    return(invisible())
  }
  details <- sub("[.]$", "", found$detail)
  say_wrapped(paste0(
    "  ", words_of_code(found$code[1]), ", ", nrow(found), " times: ", enumerate(details, 4L), "."
  ), 4L)
  say_wrapped(paste0("    -> ", enumerate(unique(found$remedy), 1L)), 7L)
}

#' @export
print.kw_prepared <- function(x, ...) {
  for (i in seq_along(x)) {
    before <- if (i > 1L) names(x[[i - 1L]])
    now <- names(x[[i]])
    say(
      if (i == 1L) "Untouched" else paste0(i - 1L, ". ", names(x)[i]), ": ",
      count_of(length(now), "column")
    )
    if (i > 1L) {
      say_wrapped(paste0("   works on ", enumerate(attr(x, "taken")[[i]], 8L)), 3L)
      if (length(setdiff(now, before)) > 0L) {
        say_wrapped(paste0("   new: ", enumerate(setdiff(now, before), 8L)), 3L)
      }
      if (length(setdiff(before, now)) > 0L) {
        say_wrapped(paste0("   gone: ", enumerate(setdiff(before, now), 8L)), 3L)
      }
    }
    shown <- changed_columns(x, i)
    values <- lapply(x[[i]][shown], function(column) format_cells(column))
    if (length(shown) > 0L) print_columns(values)
  }
  invisible(x)
}

# New and changed columns first, so that what a step did is seen.
changed_columns <- function(x, i) {
  now <- names(x[[i]])
  if (i == 1L) return(now)
  before <- x[[i - 1L]]
  changed <- !vapply(now, function(name) identical(before[[name]], x[[i]][[name]]), logical(1))
  now[changed]
}

format_cells <- function(x) {
  text <- if (is.numeric(x)) format(signif(x, 4), digits = 4, trim = TRUE) else as.character(x)
  text[is.na(x)] <- "NA"
  cli::ansi_strtrim(text, 14L)
}

# As many columns as fit 80 characters, then how many more there are.
print_columns <- function(values, width = 76L) {
  names <- cli::ansi_strtrim(names(values), 18L)
  widths <- pmax(
    nchar(names, "width"), vapply(values, function(v) max(nchar(v, "width")), integer(1))
  ) + 2L
  fit <- max(1L, sum(cumsum(widths) <= width - 12L))
  rows <- stats::setNames(
    as.data.frame(values[seq_len(fit)], check.names = FALSE),
    names[seq_len(fit)]
  )
  lines <- utils::capture.output(print_table(rows, align = rep("right", fit)))
  if (length(values) > fit) lines[1] <- paste0(lines[1], "  +", length(values) - fit, " more")
  show_lines(paste0("   ", lines))
}

#' @export
print.kw_description <- function(x, ...) {
  say_wrapped(paste0(x$title, ": ", x$does))
  for (fact in x$about[nzchar(x$about)]) say_wrapped(fact)
  for (name in names(x$hyperparameters)) {
    h <- x$hyperparameters[[name]]
    default <- if (is.function(h$default)) {
      h$default(x$sizes$rows, x$sizes$columns, x$sizes$classes)
    } else {
      h$default
    }
    say_wrapped(
      paste0(
        "  ", name, " (", h$type,
        if (!is.null(default)) paste0(", default ", value_words(default)), ")"
      ), 4L
    )
    say_wrapped(paste0("    ", h$meaning), 4L)
    if (!is.null(h$choices)) {
      say_wrapped(paste0("    Choices: ", paste(h$choices, collapse = ", ")), 6L)
    }
    if (!is.null(h$sensible)) {
      range <- h$sensible(x$sizes$rows, x$sizes$columns, x$sizes$classes)
      say_wrapped(paste0("    Sensible: ", varying_words(range)), 6L)
    }
    if (!is.null(h$rising)) say_wrapped(paste0("    Going up: ", h$rising), 6L)
  }
  for (says in x$impossible) say_wrapped(paste0("  Cannot work: ", says, "."), 4L)
  invisible(x)
}

#' @export
print.kw_column_effect <- function(x, ...) {
  of <- if (is.null(x$class)) {
    x$outcome
  } else {
    paste0("the probability of ", x$outcome, " = ", x$class)
  }
  say_wrapped(paste0(
    "Mean prediction of ", of, " with ", paste(x$columns, collapse = " and "),
    " set to one value after another:"
  ))
  shown <- x$mean
  if (nrow(shown) > most_effect_rows) {
    shown <- shown[unique(round(seq(1, nrow(shown), length.out = most_effect_rows))), ]
  }
  numbers <- vapply(shown, is.numeric, logical(1))
  cells <- Map(
    function(column, number) if (number) format(signif(column, 3)) else as.character(column),
    shown,
    numbers
  )
  print_table(as.data.frame(cells, check.names = FALSE), align = ifelse(numbers, "right", "left"))
  left <- nrow(x$mean) - nrow(shown)
  say_wrapped(paste0(
    if (left > 0L) paste0(left, " values in between are not shown: see its `mean`. "),
    "draw_dependence() draws it."
  ))
  invisible(x)
}

most_effect_rows <- 12L

#' @export
print.kw_tried <- function(x, ...) {
  say(sum(x$passed), " of ", count_of(nrow(x), "check"), " passed")
  for (i in seq_len(nrow(x))) {
    say_wrapped(
      paste0(
        if (x$passed[i]) "  ok   " else "  FAIL ", x$check[i],
        if (!x$passed[i]) paste0(": ", x$detail[i])
      ), 7L
    )
  }
  invisible(x)
}

#' @export
print.kw_new_data_check <- function(x, ...) {
  if (nrow(x) == 0L) say("The ", count_of(attr(x, "rows"), "row"), " are as the model knows them.")
  for (i in seq_len(nrow(x))) {
    say_wrapped(paste0(
      "! ", x$where[i], ": ", x$detail[i], ". ", x$remedy[i]
    ), 2L)
  }
  invisible(x)
}

#' @export
print.kw_split_check <- function(x, ...) {
  splits <- count_of(attr(x, "looked"), "split")
  if (nrow(x) == 0L) say("Nothing wrong was found with the ", splits, ".")
  for (i in seq_len(nrow(x))) {
    say_wrapped(paste0(words_of_code(x$code[i]), " (", x$where[i], "): ", x$detail[i]))
    say_wrapped(paste0("  -> ", x$remedy[i]), 5L)
  }
  invisible(x)
}
