#' Draw the standings
#'
#' Each line is a setting: its mean over the splits (large point), one standard
#' error to either side (thick line), one standard deviation to either side (thin
#' line), and the score of every single split (small rings).
#'
#' @param cmp A comparison from [run_comparison()].
#' @param metric The metric; default the deciding one.
#' @param show `"candidates"`: the best setting of each candidate; `"settings"`: the
#'   first settings of the standings.
#' @param top How many lines at most.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A ggplot2 object.
#' @section Errors:
#' `kw_error_argument` for a metric that was not scored, `kw_error_draw` when nothing is ranked.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline(), tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1, quiet = TRUE
#' )
#' draw_standings(cmp)
#' @export
draw_standings <- function(cmp, metric = NULL, show = "candidates", top = 20, ...) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  check_choice(show, c("candidates", "settings"), "show")
  check_number(top, "top", min = 1, whole = TRUE)
  metric <- cmp_metric(cmp, metric)
  check_ranked(cmp, metric)
  data <- standings_figure_data(cmp, metric, show, top)
  bars <- data$summary[!is.na(data$summary$sd), ]
  crowded <- nrow(data$summary) > crowded_lines
  ggplot2::ggplot(data$summary, ggplot2::aes(y = .data$line)) +
    ggplot2::geom_point(
      data = data$splits, ggplot2::aes(x = .data$score, y = .data$height),
      shape = 1, colour = "grey45", size = 1.9, stroke = 0.6
    ) +
    ggplot2::geom_segment(
      data = bars,
      ggplot2::aes(
        x = .data$mean - .data$sd, xend = .data$mean + .data$sd,
        yend = .data$line
      ),
      linewidth = 0.7,
      colour = okabe_ito[1]
    ) +
    ggplot2::geom_segment(
      data = bars,
      ggplot2::aes(
        x = .data$mean - .data$se, xend = .data$mean + .data$se,
        yend = .data$line
      ),
      linewidth = 3,
      colour = okabe_ito[1]
    ) +
    ggplot2::geom_point(
      ggplot2::aes(x = .data$mean),
      size = if (crowded) 3.2 else 4.2,
      shape = 21,
      fill = "white",
      colour = okabe_ito[1],
      stroke = 1.6
    ) +
    ggplot2::geom_text(
      ggplot2::aes(x = .data$mean, label = .data$mean_text),
      vjust = if (crowded) -0.9 else -1.35,
      size = if (crowded) 3.2 else 4
    ) +
    ggplot2::scale_y_continuous(
      breaks = data$summary$line, labels = data$summary$label,
      expand = ggplot2::expansion(add = c(0.6, 0.7))
    ) +
    ggplot2::labs(
      title = paste0(
        if (show == "candidates") {
          "The best setting of each candidate by "
        } else {
          "The first settings by "
        }, metric$label
      ),
      subtitle = wrapped_subtitle(
        splits_label(cmp$plan), ", ",
        count_of(nrow(brief_of(cmp)$table), "working row")
      ),
      x = metric_axis(cmp, metric), y = NULL,
      caption = paste(
        "Large point: mean over splits. Thick line: one standard error. Thin line:",
        "one standard deviation. Rings: single splits."
      )
    ) +
    theme_kilnwright() +
    ggplot2::theme(
      panel.grid.major.y = ggplot2::element_blank(),
      axis.text.y = ggplot2::element_text(
        colour = "grey10", lineheight = 1.05,
        size = if (crowded) ggplot2::rel(0.72)
      )
    )
}

# From so many lines on, labels take one line each.
crowded_lines <- 8L

# summary: one row a line, best on top; splits: one row a single score, set a
# little below its line, alternating so that equal scores stay apart.
standings_figure_data <- function(cmp, metric, show, top) {
  table <- standings_rows(cmp, metric = metric$name)
  table <- table[!is.na(table$place), ]
  if (show == "candidates") table <- table[!duplicated(table$candidate), ]
  table <- utils::head(table, top)
  table$line <- rev(seq_len(nrow(table)))
  at <- match(paste(table$candidate, table$setting), paste(candidate_names(cmp), cmp$results$row))
  labels <- setting_label(cmp, at, all = FALSE)
  table$label <- if (nrow(table) > crowded_lines) {
    cli::ansi_strtrim(
      paste0(table$candidate, ifelse(nzchar(labels), paste0(": ", labels), "")), 52L
    )
  } else {
    lines_that_fit(table$candidate, labels)
  }
  table$mean_text <- mapply(round_to, table$mean, table$se)
  scores <- score_summary(cmp, metric$name)$scores[at, , drop = FALSE]
  n <- ncol(scores)
  splits <- data.frame(score = as.vector(t(scores)), line = rep(table$line, each = n))
  splits$height <- splits$line - 0.2 - 0.06 * (seq_len(n) %% 3)
  list(summary = table, splits = splits[!is.na(splits$score), ])
}

# Candidates with their settings below, in so many lines that the next label has room: a figure of
# the usual height holds about 26. Lines are as wide as they must be; what is left over is cut off.
lines_that_fit <- function(candidates, labels) {
  most <- max(2L, floor(26 / (length(labels) + 0.3)))
  for (width in c(34, 45, 56)) {
    lines <- strsplit(wrap_words(labels, width), "\n", fixed = TRUE)
    if (max(lengths(lines)) < most) break
  }
  long <- lengths(lines) >= most
  lines[long] <- lapply(lines[long], function(line) {
    line <- line[seq_len(most - 1L)]
    replace(line, most - 1L, paste(line[most - 1L], "..."))
  })
  vapply(Map(c, candidates, lines), paste, "", collapse = "\n", USE.NAMES = FALSE)
}

wrap_words <- function(text, width) {
  vapply(no_break(text), function(one) paste(strwrap(one, width), collapse = "\n"), character(1),
    USE.NAMES = FALSE
  )
}
