# How briefs, steps, pipelines, plans, comparisons, choices and models print: the
# one thing first, within 80 columns.

say <- function(...) show_lines(paste(paste0(...), collapse = ""))

show_lines <- function(lines) cat(visible(lines), sep = "\n")

# Lines wrapped at 80 columns, or the terminal's, further lines indented.
say_wrapped <- function(text, indent = 2L) {
  lead <- nchar(text) - nchar(sub("^ +", "", text))
  width <- min(80L, getOption("width"))
  show_lines(strwrap(text, width = width, indent = lead, exdent = indent))
}

#' @export
print.kw_brief <- function(x, ...) {
  outcome <- x$table[[x$outcome]]
  what <- outcome_kind(x$kind)$says(outcome, x, row_weights(x))
  kinds <- table(factor(schema_kinds(x$schema), column_kinds))
  kinds <- kinds[kinds > 0]
  say_wrapped(paste0("Brief: predict ", what))
  say_wrapped(paste0(
    "from ", count_of(length(x$schema), "column"), ": ",
    paste(kinds, names(kinds), collapse = ", "), "."
  ))
  if (!is.null(x$outcome_scale)) {
    say_wrapped(paste0(
      "Families learn ", x$outcome, " on ", if (is.list(x$outcome_scale)) "a scale of its own" else
        paste("the scale", paste(x$outcome_scale, collapse = " or ")), "."
    ))
  }
  if (!is.null(x$costs)) {
    say_wrapped(paste0("Costs: ", paste0(
      mistakes[names(x$costs)], " ", vapply(x$costs, format, ""), collapse = ", "
    ), "."))
  }
  say_wrapped(rows_sentence(x))
  for (role in names(x$roles)) print_role(x, role)
  for (column in names(x$missing_codes)) {
    say_wrapped(paste0("Missing in ", column, ": ", enumerate(x$missing_codes[[column]])))
  }
  for (change in x$changes) {
    say_wrapped(paste0("Changed (", words_of_code(change$code), "): ", change$said))
  }
  crowded <- names(which(lengths(lapply(x$schema, `[[`, "levels")) > nrow(x$table) / 4))
  if (length(crowded) > 0L) {
    say_wrapped(paste0(
      "! ", enumerate(crowded), ": nearly every row has its own level; an id? ",
      "Say so with id = or ignore =."
    ))
  }
  invisible(x)
}


rows_sentence <- function(brief) {
  paste0(
    "Rows: ", format(nrow(brief$table), big.mark = ","), " working",
    if (!is.null(brief$sealed)) {
      paste0(
        ", ", format(brief$sealed$n, big.mark = ","), " set aside (sealed, ",
        format(round(100 * brief$sealed$n / (brief$n_total - brief$n_without_outcome), 1)), " %)"
      )
    },
    if (brief$n_without_outcome > 0L) {
      paste0(", ", format(brief$n_without_outcome, big.mark = ","), " without outcome left out")
    }
  )
}

print_role <- function(brief, role) {
  columns <- brief$roles[[role]]
  if (is.null(columns)) return(invisible())
  extra <- if (role == "group") {
    paste0(
      " (", count_of(length(unique(brief$table[[columns]])), "group"),
      ", kept whole by every split)"
    )
  }
  label <- c(id = "Id", group = "Group", weight = "Weight", exposure = "Exposure", time = "Time",
    ignore = "Ignored")[[role]]
  say_wrapped(paste0(label, ": ", paste(columns, collapse = ", "), extra))
}
