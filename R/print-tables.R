# Tables in the terminal: text in columns within the width, and how returned tables print.

# A plain table of text columns within 80 columns; the last column is wrapped.
print_table <- function(rows, align = rep("left", length(rows)), width = 80L) {
  show_lines(unlist(table_lines(rows, align, width)))
}

# Its lines: one vector of text for the names, then one a row.
table_lines <- function(rows, align, width) {
  cells <- Map(function(column, name) c(name, as.character(column)), rows, names(rows))
  last <- cells[[length(cells)]]
  cells <- Map(
    function(column, side) cli::ansi_align(column, max(cli::ansi_nchar(column)), side),
    cells[-length(cells)], align[-length(cells)]
  )
  lead <- if (length(cells) > 0L) {
    paste0(do.call(paste, c(unname(cells), sep = "  ")), "  ")
  } else {
    rep("", length(last))
  }
  room <- max(20L, width - cli::ansi_nchar(lead[1]))
  if (align[length(align)] == "right") {
    last <- cli::ansi_align(last, max(cli::ansi_nchar(last)), "right")
  }
  lapply(seq_along(lead), function(i) {
    wrapped <- if (cli::ansi_nchar(last[i]) <= room) last[i] else strwrap(no_break(last[i]), room)
    if (length(wrapped) == 0L) wrapped <- ""
    indent <- c(lead[i], rep(strrep(" ", cli::ansi_nchar(lead[1])), length(wrapped) - 1L))
    sub(" +$", "", paste0(indent, gsub("\u00a0", " ", wrapped)))
  })
}

#' @export
print.kw_listing <- function(x, n = NULL, ...) {
  spec <- attr(x, "listing")
  if (is.null(spec) || !all(spec$names %in% names(x))) return(NextMethod())
  if (nrow(x) == 0L) {
    say_wrapped(spec$none)
    return(invisible(x))
  }
  say_wrapped(spec$title)
  n <- n %||% spec$rows
  width <- min(max(getOption("width"), 60L), 120L)
  shown <- unclass(utils::head(as.data.frame(tibble::as_tibble(x)), n))
  cells <- listing_cells(shown, spec)
  cells$text <- lapply(cells$text, gsub, pattern = "[\n\r\t]+", replacement = " ")
  last <- length(cells$text)
  cells$text[-last] <- lapply(cells$text[-last], cli::ansi_strtrim, width %/% 3L)
  kept <- columns_that_fit(cells$text, width)
  lines <- table_lines(cells$text[kept], cells$align[kept], width)
  show_lines(lines[[1]])
  for (i in seq_along(shown[[1]])) {
    show_lines(lines[[i + 1L]])
    for (text in spec$texts) {
      said <- shown[[text]][i]
      if (!is.na(said) && nzchar(said)) {
        show_lines(strwrap(said, width - 1L, indent = 4L, exdent = 4L))
      }
    }
  }
  if (nrow(x) > n) {
    more <- format(nrow(x) - n, big.mark = ",")
    say("and ", more, " more: print(x, n = ", min(max(2 * n, 10), nrow(x)), ")")
  }
  gone <- c(setdiff(names(cells$text), names(cells$text)[kept]), listing_hidden(shown, spec))
  if (length(gone) > 0L) {
    has_all <- getOption("kilnwright.has_all", "tibble::as_tibble()")
    say_wrapped(paste0("Not shown: ", enumerate(gone, 12L), "; ", has_all, " has all."))
  }
  if (!is.null(spec$foot)) say_wrapped(spec$foot)
  invisible(x)
}

listing_hidden <- function(shown, spec) {
  if (!is.null(spec$settings)) spec$hide <- setdiff(spec$hide, "setting")
  # what is the same in all rows tells nothing
  known <- vapply(spec$hide, function(name) length(unique(stats::na.omit(shown[[name]]))) > 1L, NA)
  spec$hide[known]
}

# The columns as text, under the names that they have in print, and their sides.
listing_cells <- function(shown, spec) {
  merged <- if (!is.null(spec$interval)) "high"
  words <- if (!is.null(spec$settings)) "setting"
  names <- setdiff(names(shown), c(spec$hide, spec$texts, merged, words, spec$last))
  names <- c(names, spec$last)
  text <- lapply(stats::setNames(nm = names), function(name) {
    if (name == "low" && !is.null(spec$interval)) return(interval_cells(shown, spec))
    listing_column(shown[[name]], name, shown, spec)
  })
  right <- vapply(names, function(name) is.numeric(shown[[name]]) && name != "low", NA)
  called <- spec$called
  if (!is.null(merged)) called[["low"]] <- paste0(round(100 * spec$interval), " % interval")
  names(text) <- gsub("_", " ", names, fixed = TRUE)
  names(text)[names %in% names(called)] <- unlist(called[intersect(names, names(called))])
  if (!is.null(words)) {
    text$setting <- setting_words(spec$settings, shown$candidate, shown$setting)
    right <- c(right, FALSE)
  }
  list(text = text, align = ifelse(right, "right", "left"))
}

interval_cells <- function(shown, spec) {
  low <- listing_column(shown$low, "low", shown, spec)
  high <- listing_column(shown$high, "high", shown, spec)
  ifelse(is.na(shown$low) | is.na(shown$high), "", paste(low, "to", high))
}

listing_column <- function(column, name, shown, spec) {
  if (name %in% c(spec$scores, if (!is.null(spec$interval)) c("low", "high"))) {
    certain <- spec$certain
    if (!is.null(names(certain))) certain <- certain[match(shown$metric, names(certain))]
    text <- unlist(Map(round_to, column, rep_len(unname(certain), length(column))))
  } else if (name %in% spec$shares) {
    text <- percent(column)
  } else if (is.logical(column)) {
    text <- ifelse(column, "yes", "no")
    text[is.na(column)] <- "cannot say"
    return(text)
  } else if (!is.numeric(column)) {
    text <- as.character(column)
  } else if (name %in% c("p", "p_value")) {
    text <- ifelse(column < 0.001, "< 0.001", formatC(column, format = "f", digits = 3))
  } else if (all(is.na(column) | column == round(column))) {
    text <- format(column, big.mark = ",", trim = TRUE, scientific = FALSE)
  } else {
    text <- vapply(signif(column, 3), format, "")
  }
  ifelse(is.na(column), "", text)
}

# The columns that fit in, from the left, besides the last one, which may be wrapped.
columns_that_fit <- function(text, width) {
  wide <- vapply(seq_along(text), function(i) {
    max(cli::ansi_nchar(c(names(text)[i], text[[i]]))) + 2L
  }, 1)
  last <- length(text)
  kept <- last
  used <- min(wide[last], 24L)
  for (i in seq_len(last - 1L)) {
    if (used + wide[i] > width) next
    used <- used + wide[i]
    kept <- c(kept, i)
  }
  sort(kept)
}
