#' Draw what was chosen and how sure that is, on one axis
#'
#' The chosen setting's mean over the splits, what it is worth on new rows with its interval, and
#' its score on the rows set aside, above the best setting of every other candidate.
#'
#' @param x A model from [fit_final()], or a choice from [select_final()]. A model shows the score
#'   on rows set aside once [score_set_aside()] has opened them.
#' @param top How many of the other candidates at most; one that looks at no column is always there.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A ggplot2 object.
#' @section Errors:
#' `kw_error_argument` for anything else, `kw_error_select` for a model that was opened from a file.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline(), tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1, quiet = TRUE
#' )
#' draw_verdict(select_final(cmp))
#' @export
draw_verdict <- function(x, top = 6, ...) {
  no_more(...)
  aside <- NULL
  choice <- x
  if (inherits(x, "kw_model")) {
    choice <- x$origin$choice
    aside <- x$origin$set_aside
    if (is.null(choice)) {
      stop_kw("select", "A model that was opened from a file carries no comparison to draw.",
        remedy = "Use the model from fit_final()."
      )
    }
  }
  check_class(choice, "kw_choice", "x", "Give a model from fit_final() or a choice.")
  check_number(top, "top", min = 1, whole = TRUE)
  cmp <- choice$cmp
  metric <- cmp_metric(cmp, choice$metric)
  data <- verdict_data(choice, metric, aside, top)
  rows <- data$rows
  ggplot2::ggplot(rows, ggplot2::aes(.data$score, .data$line)) +
    # all lines in their order before those of single splits
    ggplot2::geom_blank() +
    ggplot2::geom_vline(xintercept = rows$score[1], colour = "grey75", linetype = "22") +
    ggplot2::geom_point(
      data = data$splits, ggplot2::aes(y = .data$line), shape = 1, colour = "grey50", size = 1.8,
      position = ggplot2::position_nudge(y = -0.24)
    ) +
    ggplot2::geom_segment(
      data = rows[!is.na(rows$low), ],
      ggplot2::aes(
        x = .data$low, xend = .data$high, yend = .data$line, colour = .data$part,
        linewidth = .data$bar
      )
    ) +
    ggplot2::geom_point(
      ggplot2::aes(colour = .data$part, shape = .data$bar),
      size = 4, fill = "white", stroke = 1.5
    ) +
    ggplot2::geom_text(ggplot2::aes(x = .data$end, label = .data$text), hjust = -0.35, size = 4) +
    ggplot2::facet_grid(ggplot2::vars(.data$part), scales = "free_y", space = "free_y") +
    ggplot2::scale_colour_manual(values = c(okabe_ito[1], "grey35"), guide = "none") +
    ggplot2::scale_linewidth_manual(values = c(interval = 2.6, sd = 0.8), guide = "none") +
    ggplot2::scale_shape_manual(values = c(interval = 23, sd = 21), guide = "none") +
    ggplot2::scale_y_discrete(expand = ggplot2::expansion(add = c(0.6, 0.5))) +
    ggplot2::scale_x_continuous(expand = ggplot2::expansion(mult = c(0.03, 0.14))) +
    ggplot2::labs(
      x = metric_axis(cmp, metric), y = NULL,
      caption = wrapped_caption(
        "Circle: mean over ", splits_label(cmp$plan), "; thin line: one standard deviation over ",
        "the splits; rings: single splits. Diamond: one score with its 95 % interval.",
        if (!is.null(choice$threshold) && metric$by_class) {
          " Mean and worth are without the threshold that was moved."
        }
      )
    ) +
    theme_kilnwright() +
    ggplot2::theme(
      panel.grid.major.y = ggplot2::element_blank(),
      axis.text.y = ggplot2::element_text(colour = "grey10", lineheight = 1.05),
      strip.text.y = ggplot2::element_text(angle = 0, hjust = 0),
      panel.spacing = ggplot2::unit(1.1, "lines")
    )
}

# rows: line, part, score, low, high, bar (what the line means), text, end (of all that is drawn
# there); splits: single scores.
verdict_data <- function(choice, metric, aside, top) {
  cmp <- choice$cmp
  worth <- honest_score(choice)
  row <- function(line, part, score, low, high, bar, error) {
    data.frame(
      line = line, part = part, score = score, low = low, high = high, bar = bar,
      text = round_to(score, error)
    )
  }
  spread <- function(at, line, part) {
    summary <- score_summary(cmp, metric$name)
    mean <- summary$mean[at]
    sd <- summary$sd[at]
    row(line, part, mean, mean - sd, mean + sd, "sd", summary$se[at])
  }
  quarter <- function(low, high) (high - low) / 4
  one <- aside[aside$metric == metric$name, ]
  chosen <- rbind(
    spread(choice$at, "mean over the splits", "The choice"),
    if (!is.na(worth$low)) {
      row(
        "worth on new rows", "The choice", worth$score, worth$low, worth$high, "interval",
        quarter(worth$low, worth$high)
      )
    },
    if (NROW(one) == 1L && !is.na(one$set_aside)) {
      row(
        "rows set aside", "The choice", one$set_aside, one$low, one$high, "interval",
        quarter(one$low, one$high)
      )
    }
  )
  rivals <- others_of_verdict(cmp, choice, metric, top)
  beside <- do.call(rbind, lapply(rivals, function(at) {
    spread(at, candidate_names(cmp)[at], "The best of\nthe others")
  }))
  rows <- rbind(chosen, beside)
  rows$part <- factor(rows$part, unique(rows$part))
  rows$line <- factor(rows$line, rev(unique(rows$line)))
  rows$bar <- factor(rows$bar, c("interval", "sd"))
  at <- c(choice$at, rivals)
  scores <- score_summary(cmp, metric$name)$scores[at, , drop = FALSE]
  line <- rows$line[rows$bar == "sd"]
  splits <- data.frame(
    score = as.vector(t(scores)), line = rep(line, each = ncol(scores)),
    part = rep(rows$part[rows$bar == "sd"], each = ncol(scores))
  )
  splits <- splits[!is.na(splits$score), ]
  # numbers stand behind all that is drawn of a line
  rows$end <- vapply(seq_len(nrow(rows)), function(i) {
    mine <- splits$score[rows$bar[i] == "sd" & splits$line == rows$line[i]]
    max(rows$score[i], rows$high[i], mine, na.rm = TRUE)
  }, 1)
  list(rows = rows, splits = splits)
}

# The best settings of the other candidates; what looks at no column stays among them.
others_of_verdict <- function(cmp, choice, metric, top) {
  best <- best_of_candidates(cmp, metric$name)
  best <- best[candidate_names(cmp)[best] != candidate_names(cmp)[choice$at]]
  if (length(best) <= top) return(best)
  plain <- vapply(spaces_of(cmp)[candidate_names(cmp)[best]], function(space) {
    space$pipeline$family$definition$accepts$nothing
  }, NA)
  kept <- utils::head(best[!plain], top - any(plain))
  best[best %in% c(kept, best[plain])]
}
