#' Draw the scores split by split
#'
#' One line for each candidate's best setting, over the splits: lines that move together
#' say that the splits, not the settings, make the spread; a split that is off for all
#' stands out.
#'
#' @param cmp A comparison from [run_comparison()].
#' @param metric The metric; default the deciding one.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A ggplot2 object.
#' @section Errors:
#' `kw_error_draw` when there is nothing to draw, `kw_error_argument` for a metric that was not
#' scored.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline(), tree = fam_tree()),
#'   splits = split_kfold(5),
#'   seed = 1, quiet = TRUE
#' )
#' draw_split_scores(cmp)
#' @export
draw_split_scores <- function(cmp, metric = NULL, ...) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  metric <- cmp_metric(cmp, metric)
  best <- utils::head(best_of_candidates(cmp, metric$name), length(okabe_ito))
  if (length(best) == 0L) {
    stop_kw(
      "draw", "No setting is ranked: there is nothing to draw.",
      remedy = "See failures(cmp)."
    )
  }
  summary <- score_summary(cmp, metric$name)
  scores <- summary$scores[best, , drop = FALSE]
  names <- split_names(cmp, summary$counted)
  data <- data.frame(
    candidate = factor(rep(candidate_names(cmp)[best], ncol(scores)), candidate_names(cmp)[best]),
    split = factor(rep(names, each = length(best)), names),
    score = as.vector(scores)
  )
  # not all were scored on splits that settle() added
  data <- data[!is.na(data$score), ]
  last <- data[!duplicated(data$candidate, fromLast = TRUE), ]
  longest <- max(nchar(as.character(last$candidate)))
  # long names stand in the legend only
  named <- longest <= 18L
  beside <- max(min(0.15, length(names) / 30), length(names) / 80)
  # a figure of the usual width has room for about a hundred letters
  room <- if (named) beside + length(names) * longest / (100 - longest) else 0.4
  ggplot2::ggplot(
    data,
    ggplot2::aes(.data$split, .data$score,
      group = .data$candidate, colour = .data$candidate,
      linetype = .data$candidate,
      shape = .data$candidate
    )
  ) +
    ggplot2::geom_line(data = several_of("candidate"), linewidth = 0.8) +
    ggplot2::geom_point(size = 2.8) +
    ggplot2::geom_text(
      data = last[named, ],
      ggplot2::aes(label = .data$candidate),
      hjust = 0,
      nudge_x = beside,
      size = 4,
      show.legend = FALSE,
      check_overlap = TRUE
    ) +
    candidate_scales() +
    ggplot2::scale_x_discrete(breaks = every_few(names), expand = ggplot2::expansion(
      add = c(0.4, room)
    )) +
    ggplot2::labs(
      title = paste0(metric$label, " of each candidate's best setting, split by split"),
      subtitle = splits_label(cmp$plan),
      x = split_axis(cmp, names),
      y = metric_axis(cmp, metric),
      colour = NULL, linetype = NULL, shape = NULL,
      caption = "Lines that rise and fall together: the rows of the splits make the spread."
    ) +
    theme_kilnwright()
}

# What split_names() are names of.
split_axis <- function(cmp, names) {
  if (has_pooled_scores(cmp)) return(NULL)
  if (any(grepl(".", names, fixed = TRUE))) "Repeat.split" else "Split"
}

# Of many labels, as many as can be read.
every_few <- function(labels, most = 20L) {
  labels[seq(1L, length(labels), by = ceiling(length(labels) / most))]
}
