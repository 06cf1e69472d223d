#' Draw where the chosen setting is right and wrong
#'
#' All on held-out rows of all splits: `draw_confusion()` counts true against called
#' classes, with the share of each true class; `draw_observed()` sets observed values
#' against predicted ones; `draw_residuals()` the errors against the predicted values;
#' `draw_intervals()`, for an outcome of quantiles, observed values against the interval from the
#' lowest to the highest one.
#' `draw_threshold()` draws a metric or cost against the decision threshold that
#' [set_threshold()] chose.
#'
#' @param choice A choice from [select_final()], or a comparison, of which the choice is drawn. For
#'   `draw_threshold()` a choice from [set_threshold()]; without a threshold of its own it is the
#'   one for the deciding metric, or for balanced accuracy where that depends on none.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A ggplot2 object.
#' @section Errors:
#' `kw_error_draw` when the figure does not fit the outcome.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1,
#'   quiet = TRUE
#' )
#' draw_observed(select_final(cmp))
#' draw_residuals(select_final(cmp))
#' @export
draw_confusion <- function(choice, ...) {
  no_more(...)
  choice <- drawn_choice(choice)
  held <- held_out_checked(choice, has_classes, "draw_confusion() is for classes.")
  brief <- brief_of(choice$cmp)
  called <- if (is.null(choice$threshold)) {
    held$prediction
  } else {
    calls_at(held$prediction, choice$threshold$value)
  }
  class <- predicted_class(as_path_prediction(held$truth, called))[, 1]
  repeats <- max(1L, tabulate(held$row))
  counts <- as.data.frame(stats::xtabs(weight ~ true + called, data.frame(
    true = factor(levels(held$truth)[as.integer(held$truth)], rev(levels(held$truth))),
    called = factor(levels(held$truth)[class], levels(held$truth)),
    weight = held$weights %||% 1
  )) / repeats)
  totals <- tapply(counts$Freq, counts$true, sum)
  counts$share <- counts$Freq / pmax(totals[as.character(counts$true)], 1e-12)
  counts$right <- as.character(counts$true) == as.character(counts$called)
  ggplot2::ggplot(counts, ggplot2::aes(.data$called, .data$true)) +
    ggplot2::geom_tile(ggplot2::aes(fill = .data$share), colour = "white", show.legend = FALSE) +
    ggplot2::geom_tile(
      data = counts[counts$right, ], fill = NA, colour = okabe_ito[2], linewidth = 1.4
    ) +
    ggplot2::geom_text(
      ggplot2::aes(label = paste0(
        format(round(.data$Freq), trim = TRUE), "\n",
        round(100 * .data$share), " %"
      )),
      colour = ifelse(counts$share > 0.5, "white", "black"),
      size = if (nrow(counts) > 25L) 3 else 5
    ) +
    ggplot2::scale_fill_gradient(low = "#EAF2F8", high = "#08306B", limits = c(0, 1)) +
    ggplot2::labs(
      title = paste0("True and called class of ", brief$outcome),
      subtitle = wrapped_subtitle(
        choice_name(choice$cmp, choice$at),
        ", held-out rows"
      ),
      x = "Called",
      y = "True",
      caption = paste0(
        if (is.null(held$weights)) "Rows" else "Weights of the rows",
        if (repeats > 1L) ", mean over repeats",
        "; share of the true class's rows. Framed: right.",
        if (!is.null(choice$threshold)) {
          paste0(
            " Threshold ",
            format(signif(choice$threshold$value, 3)), "."
          )
        }
      )
    ) +
    theme_kilnwright() +
    ggplot2::theme(panel.grid.major = ggplot2::element_blank())
}

held_out_checked <- function(choice, fits, message) {
  if (!fits(brief_of(choice$cmp)$kind)) stop_kw("draw", message)
  held_out_of_choice(choice)
}

# A comparison stands for what is chosen from it.
drawn_choice <- function(choice) {
  if (inherits(choice, "kw_comparison")) return(select_final(choice))
  check_class(choice, "kw_choice", "choice", "Make one with select_final().")
  choice
}

#' @rdname draw_confusion
#' @export
draw_observed <- function(choice, ...) {
  no_more(...)
  choice <- drawn_choice(choice)
  held <- held_out_checked(choice, Negate(is_wide), "draw_observed() is for a numeric outcome.")
  outcome <- outcome_words(brief_of(choice$cmp))
  data <- data.frame(predicted = held$prediction, observed = held$truth)
  data$weight <- held$weights
  ggplot2::ggplot(data, ggplot2::aes(.data$predicted, .data$observed)) +
    ggplot2::geom_point(alpha = point_alpha(nrow(data)), shape = 1, colour = okabe_ito[1]) +
    ggplot2::geom_abline(slope = 1, intercept = 0, colour = "black", linetype = "dotted") +
    trend_line(
      data,
      "observed"
    ) +
    ggplot2::labs(
      title = paste0("Observed against predicted ", outcome),
      subtitle = wrapped_subtitle(
        choice_name(choice$cmp, choice$at),
        ", held-out rows"
      ),
      x = paste("Predicted", outcome),
      y = paste("Observed", outcome),
      caption = paste(
        "Dotted: where both are equal. Line: mean observed value in twenty bins of",
        "equal size."
      )
    ) +
    theme_kilnwright()
}

#' @rdname draw_confusion
#' @export
draw_residuals <- function(choice, ...) {
  no_more(...)
  choice <- drawn_choice(choice)
  held <- held_out_checked(choice, Negate(is_wide), "draw_residuals() is for a numeric outcome.")
  outcome <- outcome_words(brief_of(choice$cmp))
  data <- data.frame(predicted = held$prediction, error = held$truth - held$prediction)
  data$weight <- held$weights
  ggplot2::ggplot(data, ggplot2::aes(.data$predicted, .data$error)) +
    ggplot2::geom_hline(yintercept = 0, linetype = "dotted") +
    ggplot2::geom_point(alpha = point_alpha(nrow(data)), shape = 1, colour = okabe_ito[1]) +
    trend_line(
      data,
      "error"
    ) +
    ggplot2::labs(
      title = paste0("Errors in ", outcome),
      subtitle = wrapped_subtitle(choice_name(choice$cmp, choice$at), ", held-out rows"),
      x = paste("Predicted", outcome),
      y = "Observed less predicted",
      caption = paste(
        "Line: mean error in twenty bins of equal size; away from 0 the predictions",
        "are off on average."
      )
    ) +
    theme_kilnwright()
}

# At most so many rows have an interval each.
most_intervals <- 250L

#' @rdname draw_confusion
#' @export
draw_intervals <- function(choice, ...) {
  no_more(...)
  choice <- drawn_choice(choice)
  fits <- function(kind) is_wide(kind) && !has_classes(kind)
  held <- held_out_checked(choice, fits, "draw_intervals() is for quantiles.")
  brief <- brief_of(choice$cmp)
  last <- ncol(held$prediction)
  data <- data.frame(
    low = held$prediction[, 1], high = held$prediction[, last], truth = as.double(held$truth),
    middle = middle_prediction(held$prediction, brief$quantiles)
  )
  data$where <- ifelse(data$truth < data$low | data$truth > data$high, "outside", "inside")
  share <- weighted_mean(data$where == "inside", held$weights)
  data <- data[order(data$middle, data$truth), ]
  shown <- data[unique(round(seq(1, nrow(data), length.out = min(nrow(data), most_intervals)))), ]
  shown$at <- seq_len(nrow(shown))
  ends <- vapply(brief$quantiles[c(1L, last)], format, "")
  ggplot2::ggplot(shown, ggplot2::aes(.data$at)) +
    ggplot2::geom_linerange(
      ggplot2::aes(ymin = .data$low, ymax = .data$high), colour = "grey75", linewidth = 1.2
    ) +
    ggplot2::geom_line(ggplot2::aes(y = .data$middle), colour = "grey30") +
    ggplot2::geom_point(
      ggplot2::aes(y = .data$truth, colour = .data$where, shape = .data$where), size = 1.9
    ) +
    ggplot2::scale_colour_manual(values = c(inside = okabe_ito[1], outside = okabe_ito[2])) +
    ggplot2::scale_shape_manual(values = c(inside = 1, outside = 17)) +
    ggplot2::labs(
      title = paste0("Predicted intervals of ", brief$outcome),
      subtitle = wrapped_subtitle(
        choice_name(choice$cmp, choice$at), ", held-out rows: ", percent(share),
        " of them lie between the ", ends[1], " and the ", ends[2],
        " quantile, where it should be ", percent(diff(brief$quantiles[c(1L, last)])), "."
      ),
      x = paste(
        if (nrow(shown) < nrow(data)) paste(nrow(shown), "of", nrow(data), "rows,") else "Rows",
        "in the order of the line"
      ),
      y = outcome_words(brief), colour = NULL, shape = NULL,
      caption = paste0(
        "Grey: from the lowest to the highest quantile. Line: ",
        middle_words(brief$quantiles), "."
      )
    ) +
    theme_kilnwright()
}

point_alpha <- function(n) min(0.7, max(0.08, 400 / n))

trend_line <- function(data, y, bins = 20L) {
  if (!is.null(data$weight)) data <- data[data$weight > 0, ]
  bin <- cut(rank(data$predicted, ties.method = "first"), bins, labels = FALSE)
  mean_in_bins <- function(x) {
    vapply(split(seq_along(x), bin), function(at) weighted_mean(x[at], data$weight[at]), 1)
  }
  means <- data.frame(predicted = mean_in_bins(data$predicted), value = mean_in_bins(data[[y]]))
  list(
    ggplot2::geom_line(
      data = means, ggplot2::aes(y = .data$value), colour = okabe_ito[2], linewidth = 1.1
    ),
    ggplot2::geom_point(
      data = means,
      ggplot2::aes(y = .data$value),
      colour = okabe_ito[2],
      shape = 17,
      size = 2.4
    )
  )
}

#' @rdname draw_confusion
#' @export
draw_threshold <- function(choice, ...) {
  no_more(...)
  choice <- drawn_choice(choice)
  if (!has_event(brief_of(choice$cmp)$kind)) stop_kw("draw", "draw_threshold() is for two classes.")
  if (is.null(choice$threshold)) {
    decides <- cmp_metric(choice$cmp)
    choice <- set_threshold(choice, best = if (decides$by_class) decides else "balanced_accuracy")
  }
  moved <- choice$threshold
  at <- which.min(abs(moved$curve$threshold - moved$value))
  marks <- data.frame(threshold = moved$by_split[!is.na(moved$by_split)])
  ggplot2::ggplot(moved$curve, ggplot2::aes(.data$threshold, .data$score)) +
    ggplot2::geom_line(linewidth = 0.9, colour = okabe_ito[1], na.rm = TRUE) +
    ggplot2::geom_point(
      data = moved$curve[!moved$curve$allowed, ], shape = 4, colour = "grey50", na.rm = TRUE
    ) +
    ggplot2::geom_rug(
      data = marks,
      ggplot2::aes(x = .data$threshold),
      inherit.aes = FALSE,
      sides = "b",
      colour = "grey30"
    ) +
    ggplot2::geom_vline(xintercept = moved$value, linetype = "22", colour = okabe_ito[2]) +
    ggplot2::annotate(
      "point",
      x = moved$value,
      y = moved$curve$score[at],
      size = 4,
      shape = 21,
      fill = "white",
      colour = okabe_ito[2],
      stroke = 1.5
    ) +
    ggplot2::annotate(
      "text",
      x = moved$value,
      y = max(moved$curve$score, na.rm = TRUE),
      label = paste0("  ", signif(moved$value, 3)),
      hjust = 0,
      size = 4.4
    ) +
    ggplot2::labs(
      title = paste0(moved$label, " against the decision threshold"),
      subtitle = wrapped_subtitle(
        choice_name(choice$cmp, choice$at), ", held-out rows of all splits"
      ),
      x = paste0(
        "Probability from which on ", brief_of(choice$cmp)$event,
        " is called"
      ), y = paste0(
        moved$label,
        if (nzchar(moved$unit)) paste0(" (", moved$unit, ")")
      ),
      caption = wrapped_caption(
        "Ring: the threshold chosen. Ticks below: ",
        "thresholds chosen on the other splits, one a split: how sure it is.",
        if (any(!moved$curve$allowed)) {
          " Crosses: not allowed by the constraints."
        }
      )
    ) +
    theme_kilnwright()
}
