#' Draw the data of a brief
#'
#' Working rows only. `draw_columns()`: each column's distribution by outcome.
#' `draw_missing()`: which values are missing together. `draw_correlation()`: how
#' strongly columns go with one another, alike ones side by side: absolute Pearson
#' correlation of two numbers, correlation ratio of a number and a category,
#' bias-corrected Cramer's V (Bergsma 2013) of two categories. `draw_outcome()`:
#' the outcome itself, and by group or time if there are any.
#'
#' @param brief A [brief()].
#' @param columns Names of the columns to draw; default all but text, at most `most`.
#' @param most At most so many columns.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A ggplot2 object.
#' @section Errors:
#' `kw_error_draw` when there is nothing to draw.
#' @examples
#' job <- brief(demo_pots(), outcome = "cracked", id = "pot_id", group = "firing_id")
#' draw_outcome(job)
#' draw_columns(job, columns = c("wall_mm", "kiln"))
#' @name draw_data
NULL

#' @rdname draw_data
#' @export
draw_columns <- function(brief, columns = NULL, most = 16, ...) {
  no_more(...)
  check_class(brief, "kw_brief", "brief", "Make one with brief().")
  check_columns_exist(columns, names(brief$schema), "columns")
  data <- column_figure_data(brief, columns, most)
  by_class <- has_classes(brief$kind)
  plot <- ggplot2::ggplot(data$bars, ggplot2::aes(x = .data$at, y = .data$height)) +
    ggplot2::facet_wrap("column", scales = "free") +
    theme_kilnwright(11) +
    ggplot2::labs(
      title = paste0("Columns by ", outcome_words(brief)), subtitle = data$said, x = NULL,
      y = if (by_class) {
        paste0("share of ", brief$event %||% "each class")
      } else {
        paste0("mean ", outcome_words(brief))
      }
    )
  if (!by_class || has_event(brief$kind)) {
    return(plot + ggplot2::geom_col(ggplot2::aes(y = .data$share), fill = "grey85", width = 0.92) +
      ggplot2::geom_line(
        data = data$bars[data$bars$in_order, ],
        ggplot2::aes(group = .data$line),
        colour = okabe_ito[1],
        linewidth = 0.9
      ) +
      ggplot2::geom_linerange(
        ggplot2::aes(ymin = .data$low, ymax = .data$high),
        colour = okabe_ito[1],
        na.rm = TRUE
      ) +
      ggplot2::geom_point(colour = okabe_ito[1], size = 1.8) +
      ggplot2::scale_x_continuous(labels = NULL, expand = ggplot2::expansion(add = 0.9)) +
      tick_labels(data$ticks))
  }
  plot + ggplot2::geom_line(
    data = data$bars[data$bars$in_order, ],
    ggplot2::aes(colour = .data$line, linetype = .data$line),
    linewidth = 0.8
  ) +
    ggplot2::scale_x_continuous(labels = NULL, expand = ggplot2::expansion(add = 0.9)) +
    ggplot2::geom_point(ggplot2::aes(colour = .data$line, shape = .data$line),
      size = 1.8) + group_scales() +
    tick_labels(data$ticks) +
    ggplot2::labs(colour = brief$outcome, linetype = brief$outcome, shape = brief$outcome)
}

# Every panel has bins of its own: their labels stand inside the panel.
tick_labels <- function(ticks) {
  list(
    ggplot2::geom_text(
      data = ticks,
      ggplot2::aes(label = .data$label, y = -Inf),
      vjust = -0.4,
      size = 2.6,
      colour = "grey25"
    ),
    ggplot2::theme(axis.text.x = ggplot2::element_blank())
  )
}

# Per column and bin: rows, and the outcome in it. Numbers by value, or in quantile bins where
# they have many; categories by level (the commonest eleven).
column_figure_data <- function(brief, columns, most) {
  kinds <- schema_kinds(brief$schema)
  names <- columns %||% utils::head(names(kinds)[kinds != "text"], most)
  if (length(names) == 0L) stop_kw("draw", "There is no column to draw: text has no distribution.")
  frame <- frame_columns(brief$table, brief$schema)$columns
  pieces <- lapply(names, function(name) one_column_bins(frame[[name]], brief, name))
  left <- sum(kinds != "text") - length(names)
  one_line <- !has_classes(brief$kind) || has_event(brief$kind)
  list(
    bars = do.call(rbind, lapply(pieces, `[[`, "bars")),
    ticks = do.call(rbind, lapply(pieces, `[[`, "ticks")),
    said = paste0(
      if (one_line) "Grey bars: rows in a bin, to scale within a panel. ",
      "Points: outcome in it",
      if (one_line) ", with one standard error", ".",
      if (is.null(columns) && left > 0) paste0(" ", left, " more columns not shown.")
    )
  )
}

# Mean and sd of some rows.
of_rows <- function(rows, value, weights) {
  known <- known_values(value[rows], weights[rows])
  c(weighted_mean(known$x, known$weights), weighted_sd(known$x, known$weights))
}

one_column_bins <- function(x, brief, name) {
  binned <- bin_for_figure(x)
  outcome <- brief$table[[brief$outcome]]
  lines <- if (!has_classes(brief$kind)) list(outcome) else
    lapply(
      stats::setNames(nm = if (has_event(brief$kind)) brief$event else brief$levels),
      function(level) as.double(outcome == level)
    )
  counts <- tabulate(binned$code, length(binned$label))
  in_bin <- split(seq_along(outcome), factor(binned$code, seq_along(binned$label)))
  bars <- lapply(seq_along(lines), function(i) {
    found <- lapply(in_bin, of_rows, value = lines[[i]], weights = row_weights(brief))
    mean <- vapply(found, `[[`, 1, 1L)
    sd <- vapply(found, `[[`, 1, 2L)
    data.frame(
      column = name, at = seq_along(binned$label), height = mean,
      low = mean - sd / sqrt(counts),
      high = mean + sd / sqrt(counts), line = names(lines)[i] %||% "mean", rows = counts
    )
  })
  bars <- do.call(rbind, bars)
  top <- max(bars$height, na.rm = TRUE)
  # a line joins bins that have an order, not levels, nor the missing
  bars$in_order <- (!is.factor(x) | is.ordered(x)) & binned$label[bars$at] != "missing"
  if (length(unique(bars$at[bars$in_order & bars$rows > 0])) < 2L) bars$in_order <- FALSE
  bars$share <- bars$rows / max(bars$rows) * top
  longest <- max(nchar(binned$label))
  # as many labels as do not touch
  most <- max(if (longest > 8L) 3L else 4L, 20L %/% (longest + 1L))
  shown <- unique(round(seq(1, length(binned$label), length.out = min(length(binned$label), most))))
  list(
    bars = bars[bars$rows > 0, ],
    ticks = data.frame(
      column = name, at = shown,
      label = cli::ansi_strtrim(binned$label[shown], 10L)
    )
  )
}

# Numbers of no more values than this have a bin for each, others so many by quantiles.
most_bins <- 10L

# With no more digits than tell them apart, such as years.
short_numbers <- function(x) {
  for (digits in 3:9) {
    label <- format(signif(x, digits), trim = TRUE, drop0trailing = TRUE)
    if (anyDuplicated(label) == 0L) break
  }
  label
}

bin_for_figure <- function(x) {
  if (is.factor(x)) {
    counts <- sort(table(x), decreasing = !is.ordered(x))
    levels <- if (is.ordered(x)) levels(x) else utils::head(names(counts)[counts > 0], 11L)
    code <- match(as.character(x), levels)
    label <- levels
    if (any(is.na(code) & !is.na(x))) {
      code[is.na(code) & !is.na(x)] <- length(levels) + 1L
      label <- c(label, "others")
    }
  } else {
    number <- as.double(x)
    is_day <- inherits(x, "Date")
    values <- sort(unique(number))
    if (length(values) <= most_bins) {
      code <- match(number, values)
      label <- if (is_day) format(structure(values, class = "Date")) else short_numbers(values)
    } else {
      cuts <- unique(stats::quantile(number, 0:most_bins / most_bins, na.rm = TRUE, names = FALSE))
      code <- findInterval(number, cuts, rightmost.closed = TRUE, all.inside = TRUE)
      code[is.na(number)] <- NA
      middle <- (cuts[-1] + cuts[-length(cuts)]) / 2
      label <- if (is_day) {
        format(structure(middle, class = "Date"), "%Y-%m")
      } else {
        short_numbers(middle)
      }
    }
  }
  if (anyNA(code)) {
    label <- c(label, "missing")
    code[is.na(code)] <- length(label)
  }
  list(code = code, label = label)
}

#' @rdname draw_data
#' @export
draw_missing <- function(brief, most = 30, ...) {
  no_more(...)
  check_class(brief, "kw_brief", "brief", "Make one with brief().")
  data <- missing_figure_data(brief, most)
  ggplot2::ggplot(
    data$cells, ggplot2::aes(x = .data$column, y = .data$pattern, fill = .data$missing)
  ) +
    ggplot2::geom_tile(colour = "white", linewidth = 0.8) +
    ggplot2::geom_text(
      data = data$cells[data$cells$missing == "missing", ], label = "x", size = 4.5
    ) +
    ggplot2::scale_fill_manual(values = c(present = "grey88", missing = okabe_ito[5]),
      name = NULL) +
    ggplot2::scale_y_discrete(labels = data$labels) +
    ggplot2::scale_x_discrete(labels = data$shares, position = "top") +
    ggplot2::labs(
      title = "Which values are missing together",
      x = NULL,
      y = "rows with this pattern",
      subtitle = data$said
    ) +
    theme_kilnwright() +
    ggplot2::theme(panel.grid = ggplot2::element_blank())
}

# Patterns of missing values, the most frequent on top, at most twelve.
missing_figure_data <- function(brief, most) {
  table <- brief$table[names(brief$schema)]
  shares <- vapply(table, function(x) mean(is.na(x)), numeric(1))
  gaps <- utils::head(names(sort(shares[shares > 0], decreasing = TRUE)), most)
  if (length(gaps) == 0L) stop_kw("draw", "No value is missing: there is nothing to draw.")
  marks <- do.call(paste0, lapply(table[gaps], function(x) as.integer(is.na(x))))
  counts <- sort(table(marks), decreasing = TRUE)
  counts <- utils::head(counts, 12L)
  patterns <- rev(names(counts))
  cells <- expand.grid(pattern = factor(patterns, patterns), column = factor(gaps, gaps))
  at <- as.integer(cells$column)
  cells$missing <- ifelse(substr(as.character(cells$pattern), at, at) == "1", "missing", "present")
  complete <- sum(!grepl("1", marks))
  list(
    cells = cells,
    labels = stats::setNames(format(as.integer(counts), big.mark = ","), names(counts)),
    shares = stats::setNames(
      paste0(gaps, "\n", format(round(100 * shares[gaps], 1)), " %"),
      gaps
    ),
    said = paste0(
      count_of(complete, "row"), " of ", format(nrow(table), big.mark = ","),
      " complete; below each name the share missing"
    )
  )
}

#' @rdname draw_data
#' @export
draw_correlation <- function(brief, most = 40, ...) {
  no_more(...)
  check_class(brief, "kw_brief", "brief", "Make one with brief().")
  data <- correlation_figure_data(brief, most)
  size <- if (data$n <= 20L) 3 else 2
  ggplot2::ggplot(data$cells, ggplot2::aes(x = .data$a, y = .data$b, fill = .data$strength)) +
    ggplot2::geom_tile(colour = "white") +
    ggplot2::geom_text(
      data = data$cells[data$cells$strength >= 0.3 & data$cells$a != data$cells$b, ],
      ggplot2::aes(
        label = sub("^0", "", sprintf("%.2f", .data$strength)),
        colour = ifelse(.data$strength > 0.6, "white", "black")
      ),
      size = size
    ) +
    ggplot2::scale_colour_identity() +
    ggplot2::scale_fill_gradient(
      low = "white", high = "#08306B", limits = c(0, 1), name = "association"
    ) +
    ggplot2::coord_equal() +
    ggplot2::labs(
      title = "How strongly columns go with one another", x = NULL, y = NULL,
      subtitle = wrapped_subtitle(
        "Alike columns lie side by side; values from 0.3 are written out. ",
        data$said
      )
    ) +
    theme_kilnwright(if (data$n <= 20L) 13 else 10) +
    ggplot2::theme(
      axis.text.x = ggplot2::element_text(angle = 45, hjust = 1),
      panel.grid = ggplot2::element_blank(),
      legend.position = "right"
    )
}

correlation_figure_data <- function(brief, most) {
  usable <- associable_columns(brief, names(brief$schema))
  names <- utils::head(usable, most)
  if (length(names) < 2L) stop_kw("draw", "Fewer than two columns can be compared.")
  strength <- association_matrix(plain_columns(brief, names))
  order <- stats::hclust(stats::as.dist(1 - strength), "average")$order
  cells <- expand.grid(i = seq_along(names), j = seq_along(names))
  list(
    cells = data.frame(
      a = factor(names[cells$i], names[order]),
      b = factor(names[cells$j], rev(names[order])),
      strength = strength[cbind(cells$i, cells$j)]
    ),
    n = length(names),
    said = if (length(usable) > most) {
      paste0(length(usable) - most, " more columns not shown.")
    } else {
      ""
    }
  )
}

#' @rdname draw_data
#' @export
draw_outcome <- function(brief, ...) {
  no_more(...)
  check_class(brief, "kw_brief", "brief", "Make one with brief().")
  outcome <- brief$table[[brief$outcome]]
  group <- brief$roles$group
  plot <- if (is.null(group)) {
    draw_outcome_alone(brief, outcome)
  } else {
    draw_outcome_by_group(brief, outcome, group)
  }
  plot + theme_kilnwright()
}

draw_outcome_alone <- function(brief, outcome) {
  if (!has_classes(brief$kind)) {
    return(ggplot2::ggplot(data.frame(value = outcome), ggplot2::aes(.data$value)) +
      ggplot2::geom_histogram(bins = 40, fill = okabe_ito[6], colour = "white") +
      ggplot2::geom_rug(alpha = 0.2) +
      ggplot2::labs(
        title = paste("The outcome", outcome_words(brief)), x = outcome_words(brief), y = "rows"
      ))
  }
  counts <- as.data.frame(table(level = outcome))
  ggplot2::ggplot(counts, ggplot2::aes(.data$Freq, .data$level)) +
    ggplot2::geom_col(fill = okabe_ito[6], width = 0.6) +
    ggplot2::geom_text(
      ggplot2::aes(label = paste0(.data$Freq, " (", percent(.data$Freq / sum(.data$Freq)), ")")),
      hjust = -0.08,
      size = 4.2
    ) +
    ggplot2::scale_x_continuous(expand = ggplot2::expansion(mult = c(0, 0.18))) +
    ggplot2::labs(title = paste("The outcome", brief$outcome), x = "rows", y = NULL)
}

# Groups in the order of their mean outcome, beside what chance alone would give.
draw_outcome_by_group <- function(brief, outcome, group) {
  data <- group_figure_data(brief, outcome, group)
  ggplot2::ggplot(data$groups, ggplot2::aes(.data$rank, .data$mean)) +
    ggplot2::geom_ribbon(ggplot2::aes(ymin = .data$low, ymax = .data$high), fill = "grey85") +
    ggplot2::geom_point(
      ggplot2::aes(size = .data$rows),
      shape = 21, fill = okabe_ito[1], colour = "white"
    ) +
    ggplot2::geom_hline(yintercept = data$overall, linetype = "22", colour = "grey30") +
    ggplot2::scale_size_area(max_size = 6) +
    ggplot2::labs(
      title = paste0("The outcome ", outcome_words(brief), " by ", group),
      subtitle = wrapped_subtitle(
        "Grey: where nine in ten groups would lie if groups did not matter (random ",
        "shuffles). Dashes: all rows."
      ),
      x = paste0(group, ", in order of its mean"), y = data$what
    )
}

group_figure_data <- function(brief, outcome, group) {
  y <- if (!has_classes(brief$kind)) {
    outcome
  } else {
    as.double(outcome == (brief$event %||% names(which.max(table(outcome)))))
  }
  code <- match(brief$table[[group]], unique(brief$table[[group]]))
  weights <- row_weights(brief) %||% rep(1, length(y))
  means <- function(rows) {
    rowsum(weights[rows] * y[rows], code)[, 1] / rowsum(weights[rows], code)[, 1]
  }
  shuffled <- with_seed(1L, {
    vapply(1:200, function(i) sort(means(sample.int(length(y)))), numeric(max(code)))
  })
  shuffled <- matrix(shuffled, max(code))
  mean <- means(seq_along(y))
  order <- order(mean)
  list(
    groups = data.frame(
      rank = seq_along(order), mean = mean[order], rows = tabulate(code)[order],
      low = apply(shuffled, 1, stats::quantile, 0.05),
      high = apply(shuffled, 1, stats::quantile, 0.95)
    ),
    overall = weighted_mean(y, weights),
    what = if (has_classes(brief$kind)) {
      paste("share of", brief$event %||% names(which.max(table(outcome))))
    } else {
      paste("mean", outcome_words(brief))
    }
  )
}
