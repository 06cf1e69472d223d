#' Draw ROC, precision-recall, net benefit and calibration curves
#'
#' Each candidate's best setting on the rows that were held out. Of the first three, the
#' line is the mean over splits, the band one standard deviation to either side, at 101
#' positions along the horizontal axis. The net benefit of acting on rows above a threshold
#' probability (Vickers & Elkin 2006, Medical Decision Making 26) is the share of rows that are
#' rightly acted on, less the share wrongly acted on, times the odds of the threshold: who acts at a
#' probability of 20 % takes four needless acts for one event that is met. It stands beside acting
#' on all rows and on none. For calibration the held-out rows of all splits
#' are put into bins of equal size by predicted probability; bars are 95 % intervals of the
#' share of events (Wilson 1927).
#'
#' @param cmp A comparison from [run_comparison()], of a two-class outcome.
#' @param candidates Names of the candidates to show; default all, at most six.
#' @param bins Number of bins.
#' @param most Thresholds up to this are shown; default twice the share of events, at least a half.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A ggplot2 object.
#' @section Errors:
#' `kw_error_draw` unless the outcome has two classes.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "cracked", event = "yes", id = "pot_id", group = "firing_id",
#'   ignore = c("shrinkage_pct", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1,
#'   quiet = TRUE
#' )
#' draw_roc(cmp)
#' draw_calibration(cmp)
#' @export
draw_roc <- function(cmp, candidates = NULL, ...) {
  no_more(...)
  data <- curve_data(cmp, candidates, function(truth, event, weights, at) {
    order <- order(event, decreasing = TRUE)
    last <- !duplicated(event[order], fromLast = TRUE)
    polyline_at(
      c(0, cumsum((weights * !truth)[order])[last] / sum(weights[!truth])),
      c(0, cumsum((weights * truth)[order])[last] / sum(weights[truth])), at
    )
  })
  curve_figure(
    cmp,
    data,
    "ROC curve of each candidate's best setting",
    "False alarms: share of rows without the event that are called it",
    "Share of events that are found"
  ) +
    ggplot2::geom_abline(slope = 1, intercept = 0, colour = "grey60", linetype = "dotted") +
    ggplot2::coord_equal(xlim = c(0, 1), ylim = c(0, 1))
}

#' @rdname draw_roc
#' @export
draw_precision_recall <- function(cmp, candidates = NULL, ...) {
  no_more(...)
  data <- curve_data(cmp, candidates, function(truth, event, weights, at) {
    order <- order(event, decreasing = TRUE)
    last <- !duplicated(event[order], fromLast = TRUE)
    found <- cumsum((weights * truth)[order])[last]
    right <- found / cumsum(weights[order])[last]
    stats::approx(c(0, found / sum(weights[truth])), c(right[1], right), at,
      method = "constant", f = 1, rule = 2, ties = max
    )$y
  })
  share <- event_share(cmp)
  curve_figure(
    cmp,
    data,
    "Precision and recall of each candidate's best setting",
    "Recall: share of events that are found",
    "Precision: share of called rows that have the event"
  ) +
    ggplot2::geom_hline(yintercept = share, colour = "grey60", linetype = "dotted") +
    ggplot2::coord_cartesian(xlim = c(0, 1), ylim = c(0, 1))
}

event_share <- function(cmp) {
  all <- brief_target(brief_of(cmp))
  weighted_mean(as.integer(all$outcome) == 2L, all$weights)
}

#' @rdname draw_roc
#' @export
draw_net_benefit <- function(cmp, candidates = NULL, most = NULL, ...) {
  no_more(...)
  # refuses other outcomes
  shown_candidates(cmp, candidates)
  share <- event_share(cmp)
  if (!is.null(most)) {
    check_number(most, "most", min = 0, max = 0.99, open_min = TRUE)
  } else {
    most <- min(max(0.5, 2 * share), 0.99)
  }
  at <- seq(0, most, length.out = 101L)
  data <- curve_data(cmp, candidates, at = at, limits = c(-Inf, Inf),
    curve = function(truth, event, weights, at) {
      vapply(at, net_benefit, 1, truth = truth, event = event, weights = weights)
    })
  all <- data.frame(x = at, mean = share - (1 - share) * at / (1 - at))
  curve_figure(
    cmp,
    data,
    paste0("What acting on predictions of ", brief_of(cmp)$outcome, " is worth"),
    paste0("Threshold: probability of ", brief_of(cmp)$event, " from which one acts"),
    "Net benefit: events met, per row",
    marked = at[seq(6L, 96L, by = 10L)],
    dotted = paste0(
      "Dotted: acting on all rows, and on none. At a threshold of t one needless act costs ",
      "t / (1 - t) of an event met."
    )
  ) +
    ggplot2::geom_hline(yintercept = 0, colour = "grey50", linetype = "dotted") +
    ggplot2::geom_line(
      data = all, ggplot2::aes(.data$x, .data$mean), inherit.aes = FALSE,
      colour = "grey50", linetype = "dotted"
    ) +
    ggplot2::coord_cartesian(ylim = c(-share / 4, 1.1 * max(data$high, share, na.rm = TRUE)))
}

# Of acting on rows of at least this probability (Vickers & Elkin 2006).
net_benefit <- function(threshold, truth, event, weights) {
  act <- event >= threshold
  right <- sum(weights[act & truth])
  (right - (sum(weights[act]) - right) * threshold / (1 - threshold)) / sum(weights)
}

# Mean and sd over splits of each shown candidate's curve, `curve` giving its heights.
curve_data <- function(
  cmp, candidates, curve, at = seq(0, 1, by = 0.01), limits = c(0, 1)
) {
  best <- shown_candidates(cmp, candidates)
  rows <- lapply(best, function(setting) {
    each <- vapply(held_out_events(cmp, setting), function(part) {
      if (length(unique(part$truth)) < 2L) return(rep(NA_real_, length(at)))
      curve(part$truth, part$event, part$weights %||% rep(1, length(part$truth)), at)
    }, numeric(length(at)))
    sd <- apply(each, 1L, stats::sd, na.rm = TRUE)
    mean <- rowMeans(each, na.rm = TRUE)
    data.frame(
      candidate = candidate_names(cmp)[setting], x = at, mean = mean,
      low = pmax(limits[1], mean - sd), high = pmin(limits[2], mean + sd)
    )
  })
  do.call(rbind, rows)
}

# Height of a line from point to point; where it rises upright, at its upper end.
polyline_at <- function(x, y, at) {
  order <- order(x, y)
  x <- x[order]
  y <- y[order]
  before <- pmax(findInterval(at + 1e-12, x), 1L)
  after <- pmin(before + 1L, length(x))
  gone <- ifelse(x[after] > x[before], (at - x[before]) / (x[after] - x[before]), 0)
  y[before] + pmin(pmax(gone, 0), 1) * (y[after] - y[before])
}

most_shown <- 6L

# Numbers of the best settings of the candidates to show.
shown_candidates <- function(cmp, candidates) {
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  if (!has_event(brief_of(cmp)$kind)) {
    stop_kw("draw", "This figure is for an outcome of two classes.")
  }
  for (name in candidates) check_choice(name, names(spaces_of(cmp)), "candidates")
  best <- best_of_candidates(cmp)
  if (length(best) == 0L) {
    stop_kw(
      "draw", "No setting is ranked: there is nothing to draw.",
      remedy = "See failures(cmp)."
    )
  }
  if (!is.null(candidates)) best <- best[candidate_names(cmp)[best] %in% candidates]
  utils::head(best, most_shown)
}

held_out_events <- function(cmp, setting) {
  plan <- cmp$plan
  Map(function(split, prediction) {
    target <- brief_target(plan$brief, split$validation)
    # rows without weight count nowhere
    here <- if (is.null(target$weights)) TRUE else target$weights > 0
    list(
      truth = (as.integer(target$outcome) == 2L)[here], event = prediction[here, 2],
      weights = target$weights[here]
    )
  }, plan$splits[!is_apparent(plan$splits)], setting_predictions(cmp, setting))
}

curve_figure <- function(
  cmp, data, title, x, y, marked = seq(0.1, 0.9, by = 0.1), dotted = "Dotted: by chance."
) {
  data$candidate <- factor(data$candidate, unique(data$candidate))
  marks <- data[round(data$x, 6) %in% round(marked, 6), ]
  ggplot2::ggplot(
    data,
    ggplot2::aes(
      .data$x,
      .data$mean,
      colour = .data$candidate,
      linetype = .data$candidate,
      shape = .data$candidate
    )
  ) +
    ggplot2::geom_ribbon(
      ggplot2::aes(ymin = .data$low, ymax = .data$high, fill = .data$candidate),
      alpha = 0.13,
      colour = NA
    ) +
    ggplot2::geom_line(linewidth = 0.9) +
    ggplot2::geom_point(data = marks, size = 2.4) +
    candidate_scales() +
    ggplot2::labs(
      title = title,
      subtitle = paste0(splits_label(cmp$plan), ", held-out rows"),
      x = x,
      y = y,
      colour = NULL,
      fill = NULL,
      linetype = NULL,
      shape = NULL,
      caption = wrapped_caption(
        "Line: mean over splits. Band: one standard deviation over splits. ", dotted
      )
    ) +
    theme_kilnwright()
}

# Of more than eight, colours come again with other shapes.
candidate_scales <- function() {
  turned <- function(values) unlist(lapply(0:7, function(by) values[(0:7 + by) %% 8L + 1L]))
  list(
    ggplot2::scale_colour_manual(values = rep(okabe_ito, 8L), labels = short_of_many),
    ggplot2::scale_fill_manual(values = rep(okabe_ito, 8L), labels = short_of_many),
    ggplot2::scale_linetype_manual(values = turned(line_types), labels = short_of_many),
    ggplot2::scale_shape_manual(values = turned(point_shapes), labels = short_of_many)
  )
}

# Of many long names the legend has room for their beginnings only, with the end where those are
# alike.
short_of_many <- function(names) {
  if (length(names) < 5L) return(names)
  ifelse(nchar(names) <= 18L, names, paste0(
    substr(names, 1L, 12L), "..", substr(names, nchar(names) - 3L, nchar(names))
  ))
}

#' @rdname draw_roc
#' @export
draw_calibration <- function(cmp, candidates = NULL, bins = 10, ...) {
  no_more(...)
  best <- shown_candidates(cmp, candidates)
  check_number(bins, "bins", min = 2, whole = TRUE)
  data <- do.call(rbind, lapply(best, function(setting) {
    parts <- held_out_events(cmp, setting)
    calibration_bins(
      unlist(lapply(parts, `[[`, "event")),
      unlist(lapply(parts, `[[`, "truth")),
      unlist(lapply(parts, `[[`, "weights")),
      bins,
      candidate_names(cmp)[setting]
    )
  }))
  data$candidate <- factor(data$candidate, unique(data$candidate))
  ggplot2::ggplot(data, ggplot2::aes(.data$predicted, .data$share)) +
    ggplot2::geom_abline(slope = 1, intercept = 0, colour = "grey60", linetype = "dotted") +
    ggplot2::geom_errorbar(
      ggplot2::aes(ymin = .data$low, ymax = .data$high),
      width = 0, colour = okabe_ito[1]
    ) +
    ggplot2::geom_line(data = several_of("candidate"), colour = okabe_ito[1]) +
    ggplot2::geom_point(
      size = 2.6, colour = okabe_ito[1]
    ) +
    ggplot2::facet_wrap("candidate") +
    ggplot2::coord_cartesian(xlim = c(0, 1), ylim = c(0, 1)) +
    ggplot2::labs(
      title = "Are the probabilities right?",
      subtitle = wrapped_subtitle(
        splits_label(cmp$plan),
        ", held-out rows"
      ),
      x = paste0("Mean predicted probability of ", brief_of(cmp)$event),
      y = paste0(
        "Share of ", brief_of(cmp)$event,
        " among the rows"
      ),
      caption = wrapped_caption(
        "Points: bins with equally many held-out rows. Bars: 95 % intervals. ",
        "On the dotted line predictions are right on average."
      )
    ) +
    theme_kilnwright()
}

calibration_bins <- function(event, truth, weights, bins, candidate) {
  cut <- unique(weighted_quantile(event, seq(0, 1, length.out = bins + 1L), weights))
  bin <- if (length(cut) < 3L) {
    rep(1L, length(event))
  } else {
    findInterval(event, cut, rightmost.closed = TRUE, all.inside = TRUE)
  }
  each <- lapply(split(seq_along(event), bin), function(at) {
    n <- rows_of_weights(weights[at], length(at))
    p <- weighted_mean(truth[at], weights[at])
    z <- stats::qnorm(0.975)
    centre <- (p + z^2 / (2 * n)) / (1 + z^2 / n)
    reach <- z / (1 + z^2 / n) * sqrt(p * (1 - p) / n + z^2 / (4 * n^2))
    data.frame(
      candidate = candidate, predicted = weighted_mean(event[at], weights[at]), share = p,
      low = centre - reach, high = centre + reach, rows = n
    )
  })
  do.call(rbind, each)
}
