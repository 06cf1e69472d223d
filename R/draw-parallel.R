#' Draw many hyperparameters at once
#'
#' One line a setting, from hyperparameter to hyperparameter, the most important first, and at the
#' end its score; the better, the darker and the wider, so that where the dark lines run together
#' is where the good settings are. The best one is drawn in another colour.
#'
#' @inheritParams draw_tuning
#' @param most So many hyperparameters at most.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A ggplot2 object.
#' @section Errors:
#' `kw_error_draw` when nothing varies in the candidate, or no setting is in focus;
#' `kw_error_argument` for a focus on hyperparameters that do not vary.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree(
#'   pruning = sensible(), min_leaf = among(2, 5, 20), depth = among(3, 30)
#' )),
#' splits = split_kfold(3), seed = 1, quiet = TRUE
#' )
#' draw_parallel(cmp, focus = 0.5)
#' @export
draw_parallel <- function(cmp, candidate = NULL, metric = NULL, focus = NULL, most = 8, ...) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  check_number(most, "most", min = 1, whole = TRUE)
  metric <- cmp_metric(cmp, metric)
  named <- !is.null(candidate)
  candidate <- tuned_candidate(cmp, candidate, metric)
  shares <- candidate_shares(cmp, candidate, metric)
  data <- tuning_table(cmp, candidate, metric, focus)
  shown <- utils::head(shares$hyperparameter, most)
  columns <- c(data[shown], list(data$mean))
  names(columns)[length(columns)] <- metric$label
  axes <- lapply(columns, axis_places, i = 0)
  last <- length(axes)
  if (metric$direction == "lower") axes[[last]] <- turned_axis(axes[[last]])
  lines <- parallel_lines(axes, data, metric)
  ggplot2::ggplot(lines, ggplot2::aes(.data$axis, .data$place, group = .data$setting)) +
    ggplot2::geom_vline(xintercept = seq_along(axes), colour = "grey60") +
    ggplot2::geom_line(
      ggplot2::aes(alpha = .data$worth, linewidth = .data$worth), colour = okabe_ito[1]
    ) +
    ggplot2::geom_line(data = lines[lines$leads, ], colour = okabe_ito[2], linewidth = 1.6) +
    axis_numbers(axes[-last], seq_len(last - 1L), hjust = 1) +
    axis_numbers(axes[last], last, hjust = 0) +
    ggplot2::scale_alpha_continuous(range = c(0.08, 0.9), guide = "none") +
    ggplot2::scale_linewidth_continuous(range = c(0.3, 1.1), guide = "none") +
    ggplot2::scale_x_continuous(
      breaks = seq_along(axes), labels = names(columns), position = "top",
      expand = ggplot2::expansion(add = c(0.35, 0.3)), minor_breaks = NULL
    ) +
    ggplot2::labs(
      title = paste0(candidate, ": settings by ", metric$label),
      subtitle = wrapped_subtitle(
        count_of(nrow(data), "setting"), ", ", splits_label(cmp$plan)
      ),
      x = NULL, y = NULL,
      caption = wrapped_caption(
        "A line is a setting; the darker, the better (", metric$direction, " ", metric$label,
        "); orange: the best. Scores stand better above.",
        if (nrow(shares) > most) {
          paste0(" Not shown: ", enumerate(utils::tail(shares$hyperparameter, -most)), ".")
        },
        tuning_words(cmp, named, candidate, focus, metric)
      )
    ) +
    theme_kilnwright() +
    ggplot2::theme(
      axis.text.y = ggplot2::element_blank(), panel.grid.major = ggplot2::element_blank(),
      axis.text.x = ggplot2::element_text(face = "bold")
    )
}

# Every setting on every axis, the better ones last, so that they are on top.
parallel_lines <- function(axes, data, metric) {
  order <- order(goodness(data$mean, metric))
  n <- length(order)
  data.frame(
    axis = rep(seq_along(axes), each = n),
    place = unlist(lapply(axes, function(axis) axis$at[order]), use.names = FALSE),
    setting = rep(seq_len(n), length(axes)),
    worth = rep(seq_len(n) / n, length(axes)),
    leads = rep(data$leads[order], length(axes))
  )
}

# The better above, also where lower is better.
turned_axis <- function(axis) {
  axis$at <- 1 - axis$at
  axis$ticks <- 1 - axis$ticks
  axis
}

# Left of the axes (`hjust` = 1) or right of them (0).
axis_numbers <- function(axes, at, hjust) {
  data <- do.call(rbind, Map(function(axis, at) {
    few <- every_few(seq_along(axis$ticks), 12L)
    data.frame(axis = at, place = axis$ticks[few], label = axis$labels[few])
  }, axes, at))
  ggplot2::geom_text(
    data = data, ggplot2::aes(.data$axis, .data$place, label = .data$label), inherit.aes = FALSE,
    hjust = hjust, nudge_x = if (hjust == 1) -0.02 else 0.02, size = 3.6
  )
}
