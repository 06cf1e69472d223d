#' Draw the score over two hyperparameters, or over each of many
#'
#' `draw_tuning_map()`: a tile for every pair of values, with its mean written in; over all
#' others the best value is taken; the best tile is framed. `draw_tuning_each()`: a panel for
#' every hyperparameter, the most important first: a point for every setting, and a line
#' through the best mean for each value.
#'
#' @param cmp A comparison from [run_comparison()].
#' @param candidate Name of the candidate; may be left out if only one varies.
#' @param along Names of two hyperparameters; default the two that matter most.
#' @param metric The metric; default the deciding one.
#' @return A ggplot2 object.
#' @section Errors:
#' `kw_error_draw` when too few hyperparameters vary.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree(
#'   pruning = sensible(),
#'   min_leaf = among(2, 5, 20)
#' )),
#' splits = split_kfold(3), seed = 1, quiet = TRUE
#' )
#' draw_tuning_map(cmp)
#' draw_tuning_each(cmp)
#' @export
draw_tuning_map <- function(cmp, candidate = NULL, along = NULL, metric = NULL) {
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  metric <- cmp_metric(cmp, metric)
  candidate <- tuned_candidate(cmp, candidate)
  shares <- candidate_shares(cmp, candidate, metric)
  if (nrow(shares) < 2L) {
    stop_kw("draw", paste0("Fewer than two hyperparameters vary in ", quoted(candidate), "."),
      remedy = "Use draw_tuning()."
    )
  }
  along <- along %||% shares$hyperparameter[1:2]
  check_argument(
    is.character(along) && length(along) == 2L, "along", "two names of hyperparameters", along
  )
  for (name in along) check_choice(name, shares$hyperparameter, "along")
  data <- tuning_table(cmp, candidate, metric)
  tiles <- stats::aggregate(list(good = goodness(data$mean, metric)), data[along], max)
  tiles$mean <- goodness(tiles$good, metric)
  for (name in along) tiles[[name]] <- group_labels(tiles[[name]])
  leader <- data[data$leads, , drop = FALSE]
  is_led <- lapply(along, function(name) {
    tiles[[name]] == as.character(group_labels(leader[[name]]))
  })
  best <- tiles[is_led[[1]] & is_led[[2]], ]
  middle <- mean(range(tiles$good))
  digits <- max(2L, 2L - floor(log10(max(diff(range(tiles$mean)), 1e-8))))
  ggplot2::ggplot(tiles, ggplot2::aes(.data[[along[1]]], .data[[along[2]]])) +
    ggplot2::geom_tile(ggplot2::aes(fill = .data$good), colour = "white", show.legend = FALSE) +
    ggplot2::geom_tile(data = best, fill = NA, colour = okabe_ito[2], linewidth = 2) +
    ggplot2::geom_text(
      ggplot2::aes(label = formatC(.data$mean, format = "f", digits = min(digits, 5L))),
      colour = ifelse(tiles$good > middle, "white", "black"),
      size = if (nrow(tiles) > 60L) 2.8 else 4
    ) +
    ggplot2::scale_fill_gradient(low = "#EAF2F8", high = "#08306B") +
    ggplot2::labs(
      title = paste0(candidate, ": mean ", metric$label, " over ", along[1], " and ", along[2]),
      subtitle = splits_label(cmp$plan),
      x = along[1],
      y = along[2],
      caption = wrapped_caption(
        "Darker is better (",
        metric$direction,
        " ",
        metric$label,
        "); framed: the best.",
        if (nrow(shares) > 2L) {
          paste0(
            " Best over ",
            enumerate(setdiff(shares$hyperparameter, along)),
            "."
          )
        }
      )
    ) +
    theme_kilnwright() +
    ggplot2::theme(panel.grid.major = ggplot2::element_blank())
}

#' @rdname draw_tuning_map
#' @export
draw_tuning_each <- function(cmp, candidate = NULL, metric = NULL) {
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  metric <- cmp_metric(cmp, metric)
  candidate <- tuned_candidate(cmp, candidate)
  shares <- candidate_shares(cmp, candidate, metric)
  data <- tuning_table(cmp, candidate, metric)
  panels <- paste0(shares$hyperparameter, " (", round(100 * shares$share), " % of the variance)")
  points <- do.call(rbind, lapply(seq_len(nrow(shares)), function(i) {
    data.frame(
      panel = factor(panels[i], panels),
      value = as.character(group_labels(data[[shares$hyperparameter[i]]])), mean = data$mean
    )
  }))
  order <- unique(unlist(lapply(shares$hyperparameter, function(name) {
    levels(group_labels(data[[name]]))
  })))
  points$value <- factor(points$value, order)
  best <- stats::aggregate(
    list(good = goodness(points$mean, metric)), points[c("panel", "value")], max
  )
  best$mean <- goodness(best$good, metric)
  ggplot2::ggplot(points, ggplot2::aes(.data$value, .data$mean)) +
    ggplot2::geom_point(
      shape = 1,
      colour = "grey45",
      position = ggplot2::position_jitter(width = 0.08, height = 0, seed = 1)
    ) +
    ggplot2::geom_line(data = best, ggplot2::aes(group = 1), colour = okabe_ito[1],
      linewidth = 0.9) +
    ggplot2::geom_point(data = best, colour = okabe_ito[1], size = 2.8, shape = 17) +
    ggplot2::facet_wrap("panel", scales = "free_x") +
    ggplot2::labs(
      title = paste0(candidate, ": ", metric$label, " against each hyperparameter"),
      subtitle = splits_label(cmp$plan), x = NULL,
      y = metric_axis(cmp, metric),
      caption = "Rings: means of single settings. Triangles and line: the best mean for each value."
    ) +
    theme_kilnwright() +
    ggplot2::theme(axis.text.x = ggplot2::element_text(angle = 40, hjust = 1))
}

candidate_shares <- function(cmp, candidate, metric) {
  shares <- hyperparameter_importance(cmp, metric$name)
  shares <- shares[shares$candidate == candidate, ]
  if (nrow(shares) == 0L) {
    stop_kw(
      "draw",
      paste0("Nothing varies in ", quoted(candidate), ", or it has fewer than two ranked settings.")
    )
  }
  shares[order(-shares$share), ]
}

# The ranked settings of a candidate with their means.
tuning_table <- function(cmp, candidate, metric) {
  mine <- which(candidate_names(cmp) == candidate)
  mean <- score_summary(cmp, metric$name)$mean[mine]
  table <- as.data.frame(
    lapply(cmp$results$tables[[match(candidate, names(spaces_of(cmp)))]], function(x) {
      x[cmp$results$row[mine]]
    }),
    check.names = FALSE,
    stringsAsFactors = FALSE
  )
  table$mean <- mean
  table$leads <- mine == best_of_candidates(cmp, metric$name)[match(
    candidate, candidate_names(cmp)[best_of_candidates(cmp, metric$name)]
  )]
  table[!is.na(mean), , drop = FALSE]
}
