#' Draw the scores of candidates within the parts of a column
#'
#' A point is the score of a candidate's best setting on the held-out rows of a part, drawn towards
#' its whole, with one standard error of the splits; filled where it differs from the whole beyond
#' chance. Dashes: each candidate's mean over all parts.
#'
#' @param found A table of [scores_by()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A ggplot.
#' @section Errors:
#' `kw_error_argument` for anything but such a table.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline(), tree = fam_tree()),
#'   splits = split_kfold(5), seed = 1, quiet = TRUE, keep = "all_predictions"
#' )
#' draw_scores_by(scores_by(cmp, "clay_body"))
#' @export
draw_scores_by <- function(found, ...) {
  no_more(...)
  check_class(found, "kw_scores_by", "found", "Make one with scores_by().")
  about <- attr(found, "about")
  data <- scores_by_data(found)
  ggplot2::ggplot(
    data$points,
    ggplot2::aes(
      .data$shrunk, .data$part,
      colour = .data$candidate, shape = .data$candidate, group = .data$candidate
    )
  ) +
    ggplot2::geom_vline(
      ggplot2::aes(xintercept = .data$mean, colour = .data$candidate),
      data = data$whole, linetype = "22", linewidth = 0.5, show.legend = FALSE
    ) +
    ggplot2::geom_linerange(
      ggplot2::aes(xmin = .data$low, xmax = .data$high),
      position = ggplot2::position_dodge(0.6), linewidth = 0.7
    ) +
    ggplot2::geom_point(
      ggplot2::aes(fill = .data$fill),
      position = ggplot2::position_dodge(0.6), size = 3, stroke = 1.1
    ) +
    ggplot2::scale_fill_identity() +
    ggplot2::scale_shape_manual(values = rep(c(21:25), length.out = nrow(data$whole))) +
    ggplot2::scale_colour_manual(values = data$colours) +
    ggplot2::labs(
      title = paste0(about$metric$label, " by ", about$column),
      subtitle = wrapped_subtitle(
        "Held-out rows of each part, best setting of each candidate, drawn towards its whole ",
        "(dashes); filled: differs from the whole beyond chance"
      ),
      x = paste0(about$metric$label, " (", about$metric$direction, " is better)"), y = NULL,
      colour = NULL, shape = NULL
    ) +
    theme_kilnwright()
}

# Points with one standard error, and each candidate's whole.
scores_by_data <- function(found) {
  names <- unique(found$candidate)
  colours <- stats::setNames(rep(okabe_ito, length.out = length(names)), names)
  error <- found$sd / sqrt(pmax(found$splits, 1))
  error[is.na(error)] <- 0
  sizes <- found$rows[match(unique(found$part), found$part)]
  points <- data.frame(
    candidate = factor(found$candidate, names),
    part = factor(found$part, rev(unique(found$part)), rev(paste0(
      unique(found$part), " (", format(sizes, big.mark = ",", trim = TRUE), ")"
    ))),
    shrunk = found$shrunk, low = found$shrunk - error, high = found$shrunk + error,
    fill = ifelse(found$answer %in% c("better", "worse"), colours[found$candidate], "white")
  )
  points <- points[!is.na(points$shrunk), ]
  whole <- vapply(names, function(name) {
    mine <- which(found$candidate == name & !is.na(found$mean))
    stats::weighted.mean(found$mean[mine], found$rows[mine])
  }, 1)
  list(
    points = points, colours = colours,
    whole = data.frame(candidate = factor(names, names), mean = unname(whole))
  )
}
