#' Draw the score against a hyperparameter
#'
#' The line is the mean over splits, the band one standard error to either side,
#' the faint points are the single splits, thin lines the means of single repeats, and
#' the best setting is marked. Training scores, if the comparison kept them, are a
#' dotted line. A second hyperparameter becomes line type, shape and colour, a third one panels;
#' for any further ones the best value is taken.
#'
#' @param cmp A comparison from [run_comparison()].
#' @param candidate Name of the candidate; default the best one in which anything varies.
#' @param along The hyperparameter on the horizontal axis; default the one with
#'   most values.
#' @param metric The metric; default the deciding one.
#' @param focus Which settings to show: a share, such as 0.25 for the best quarter; or a list of
#'   ranges (`c(lowest, highest)`) and levels by hyperparameter, such as
#'   `list(pruning = c(1e-4, 1e-2), impurity = "gini")`. Default: all.
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
#' cmp <- run_comparison(job, candidates(tree = fam_tree(pruning = sensible())),
#'   splits = split_kfold(3), seed = 1, quiet = TRUE
#' )
#' draw_tuning(cmp, "tree")
#' @export
draw_tuning <- function(cmp, candidate = NULL, along = NULL, metric = NULL, focus = NULL, ...) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  metric <- cmp_metric(cmp, metric)
  named <- !is.null(candidate)
  candidate <- tuned_candidate(cmp, candidate, metric)
  check_ranked(cmp, metric, candidate)
  varied <- varied_by_candidate(cmp)[[candidate]]
  if (!is.null(along)) check_choice(along, names(varied), "along")
  axes <- tuning_axes(cmp, candidate, varied, along)
  data <- tuning_figure_data(cmp, metric, candidate, axes, focus)
  plot <- if (is.numeric(data$summary$x)) tuning_lines(data, axes) else tuning_points(data, axes)
  plot <- plot +
    ggplot2::labs(
      title = paste0(candidate, ": ", metric$label, " against ", axes$x),
      subtitle = wrapped_subtitle(
        "Best: ", data$best_text, ". ", splits_label(cmp$plan)
      ),
      x = axis_title(axes$x, data$log), y = metric_axis(cmp, metric),
      colour = axes$line, linetype = axes$line, shape = axes$line, fill = axes$line,
      caption = wrapped_caption(
        "Line: mean over splits. Band or bar: one standard error. Faint points: single splits. ",
        "Ring: the best setting.",
        if (!is.null(data$repeats)) " Thin lines: single repeats.",
        if (!all(is.na(data$summary$training))) {
          " Dotted with crosses: training rows."
        },
        if (length(axes$rest) > 0L) paste0(" Best over ", enumerate(axes$rest), "."),
        tuning_words(cmp, named, candidate, focus, metric)
      )
    ) +
    theme_kilnwright()
  if (data$log) plot <- plot + ggplot2::scale_x_log10(labels = function(x) format_breaks(x))
  if (!is.null(axes$panel)) plot <- plot + ggplot2::facet_wrap("panel")
  plot
}

# The candidate to draw; if none is named, the best one in which anything varies.
tuned_candidate <- function(cmp, candidate, metric) {
  varied <- varied_by_candidate(cmp)
  if (is.null(candidate)) {
    tuned <- names(varied)[lengths(varied) > 0L]
    if (length(tuned) == 0L) {
      stop_kw("draw", "No hyperparameter varies in any candidate: there is nothing to draw.")
    }
    best <- candidate_names(cmp)[best_of_candidates(cmp, metric$name)]
    return(c(best[best %in% tuned], tuned)[1])
  }
  check_choice(candidate, names(varied), "candidate")
  if (length(varied[[candidate]]) == 0L) {
    stop_kw("draw", paste0("No hyperparameter varies in the candidate ", quoted(candidate), "."))
  }
  candidate
}

# What is said of the candidate that was not named, and of the focus.
tuning_words <- function(cmp, named, candidate, focus, metric) {
  several <- sum(lengths(varied_by_candidate(cmp)) > 0L) > 1L
  paste0(
    if (!named && several) {
      paste0(" ", candidate, ": the best candidate that varies, since none was named.")
    },
    if (!is.null(focus)) {
      mine <- which(candidate_names(cmp) == candidate)
      shown <- in_focus(cmp, candidate, focus, metric)
      paste0(" In focus: ", sum(shown), " of ", count_of(length(mine), "setting"), ".")
    }
  )
}

# Which settings of a candidate, of those that it has, are in focus.
in_focus <- function(cmp, candidate, focus, metric) {
  mine <- which(candidate_names(cmp) == candidate)
  mean <- score_summary(cmp, metric$name)$mean[mine]
  if (is.null(focus)) return(rep(TRUE, length(mine)))
  shown <- if (is.numeric(focus)) {
    check_number(focus, "focus", min = 0, max = 1)
    good <- goodness(mean, metric)
    known <- which(!is.na(good))
    seq_along(mine) %in% utils::head(known[order(-good[known])], ceiling(focus * length(known)))
  } else {
    settings <- varied_by_candidate(cmp)[[candidate]][cmp$results$row[mine], , drop = FALSE]
    within_focus(settings, focus)
  }
  if (!any(shown & !is.na(mean))) {
    stop_kw("draw", "No setting that was scored is in focus.", remedy = "Widen `focus`.")
  }
  shown
}

within_focus <- function(settings, focus) {
  check_argument(
    is.list(focus) && !is.null(names(focus)) && all(nzchar(names(focus))), "focus",
    "a share, or a list of ranges and levels by hyperparameter", focus
  )
  shown <- rep(TRUE, nrow(settings))
  for (name in names(focus)) {
    check_choice(name, names(settings), "focus")
    values <- settings[[name]]
    wanted <- focus[[name]]
    fits <- if (is.numeric(values)) {
      check_argument(
        is.numeric(wanted) && length(wanted) == 2L && !anyNA(wanted), paste0("focus$", name),
        "c(lowest, highest)", wanted
      )
      values >= min(wanted) & values <= max(wanted)
    } else {
      values %in% wanted
    }
    shown <- shown & !is.na(fits) & fits
  }
  shown
}

# Hyperparameters with more than one value, as columns, by candidate.
varied_by_candidate <- function(cmp) {
  lapply(cmp$results$tables, function(settings) {
    settings[vapply(settings, function(x) length(unique(x[!is.na(x)])) > 1L, logical(1))]
  })
}

# x: most values, numbers first; then line, panel, and the rest.
tuning_axes <- function(cmp, candidate, varied, along) {
  size <- vapply(varied, function(x) length(unique(x)) + 1000 * is.numeric(x), numeric(1))
  names <- names(varied)[order(-size)]
  if (!is.null(along)) names <- c(along, setdiff(names, along))
  few <- vapply(
    names[-1], function(name) length(unique(varied[[name]])) <= length(okabe_ito), logical(1)
  )
  groups <- names[-1][few]
  list(
    x = names[1], line = if (length(groups) > 0L) groups[1],
    panel = if (length(groups) > 1L) groups[2],
    rest = setdiff(names[-1], utils::head(groups, 2L))
  )
}

tuning_figure_data <- function(cmp, metric, candidate, axes, focus) {
  mine <- which(candidate_names(cmp) == candidate)
  settings <- cmp$results$tables[[candidate]][cmp$results$row[mine], , drop = FALSE]
  summary <- score_summary(cmp, metric$name)
  scores <- summary$scores[mine, , drop = FALSE]
  place <- order(order_settings(cmp, summary$mean, metric))[mine]
  values <- function(name) {
    if (is.null(name)) rep("", length(mine)) else group_labels(settings[[name]])
  }
  all <- data.frame(
    x = I(settings[[axes$x]]), line = values(axes$line),
    panel = if (is.null(axes$panel)) {
      ""
    } else {
      paste(axes$panel, "=", values(axes$panel))
    },
    mean = summary$mean[mine], se = summary$se[mine],
    training = summary$training[mine],
    at = seq_along(mine), place = place
  )
  all$x <- unclass(all$x)
  all <- all[!is.na(all$mean) & !is.na(all$x) & in_focus(cmp, candidate, focus, metric), ]
  if (nrow(all) == 0L) {
    stop_kw("draw", paste0(axes$x, " is not used by any setting in focus."),
      remedy = "Name another one: along = ."
    )
  }
  all <- all[order(all$place), ]
  all$best <- seq_len(nrow(all)) == 1L
  summary <- all[!duplicated(all[c("x", "line", "panel")]), ]
  n <- ncol(scores)
  score_columns <- list(
    n = n,
    rep = if (is.null(cmp$results$pooled)) split_places(cmp)$rep[counted_splits(cmp, metric$name)]
  )
  splits <- summary[rep(seq_len(nrow(summary)), each = n), c("x", "line", "panel")]
  splits$score <- as.vector(t(scores[summary$at, , drop = FALSE]))
  list(
    summary = summary, splits = splits, repeats = repeat_lines(cmp, splits, score_columns),
    best_text = setting_label(cmp, mine[all$at[1]], all = FALSE),
    log = spans_magnitudes(summary$x)
  )
}

# Means of the single repeats, where folds were repeated.
repeat_lines <- function(cmp, splits, score_columns) {
  rep <- score_columns$rep
  if (splitter_of(cmp)$spread != "folds" || length(unique(rep)) < 2L) return(NULL)
  splits$rep <- rep(rep, length.out = nrow(splits))
  stats::aggregate(score ~ x + line + panel + rep, splits, mean)
}

# Values as levels, in their order; a hyperparameter that had no effect is not used.
group_labels <- function(x) {
  values <- sort(unique(x), na.last = TRUE)
  labels <- ifelse(is.na(values), "not used", vapply(values, format_value, ""))
  factor(labels[match(x, values)], unique(labels))
}

spans_magnitudes <- function(x) is.numeric(x) && all(x > 0) && max(x) / min(x) >= 50

tuning_lines <- function(data, axes) {
  grouped <- !is.null(axes$line)
  aes <- if (grouped) {
    ggplot2::aes(
      x = .data$x, y = .data$mean, colour = .data$line, linetype = .data$line,
      shape = .data$line, fill = .data$line
    )
  } else {
    ggplot2::aes(x = .data$x, y = .data$mean)
  }
  fixed <- if (grouped) list() else list(colour = okabe_ito[1])
  band <- if (grouped) {
    list(alpha = 0.14, colour = NA)
  } else {
    list(alpha = 0.18, colour = NA, fill = okabe_ito[1])
  }
  plot <- ggplot2::ggplot(data$summary, aes) +
    do.call(
      ggplot2::geom_point,
      c(
        list(data = data$splits, ggplot2::aes(y = .data$score), size = 1.1, alpha = 0.4),
        if (!grouped) list(colour = "grey40")
      )
    ) +
    do.call(
      ggplot2::geom_ribbon,
      c(list(ggplot2::aes(ymin = .data$mean - .data$se, ymax = .data$mean + .data$se),
        na.rm = TRUE
      ), band)
    ) +
    extra_lines(data, grouped) +
    do.call(ggplot2::geom_line, c(list(data = several_of("line", "panel"), linewidth = 1), fixed)) +
    do.call(ggplot2::geom_point, c(list(size = 2), fixed)) +
    best_ring(data)
  if (grouped) plot + group_scales() else plot
}

# Thin lines of single repeats, and the training scores.
extra_lines <- function(data, grouped) {
  fixed <- if (grouped) list() else list(colour = "grey35")
  list(
    if (!is.null(data$repeats)) {
      do.call(
        ggplot2::geom_line,
        c(
          list(
            data = several_of("line", "panel", "rep")(data$repeats),
            ggplot2::aes(y = .data$score, group = interaction(.data$rep, .data$line)),
            linewidth = 0.3, alpha = 0.7, linetype = "solid",
            show.legend = FALSE
          ), fixed
        )
      )
    },
    if (!all(is.na(data$summary$training))) {
      training <- ggplot2::aes(y = .data$training)
      list(
        do.call(
          ggplot2::geom_line,
          c(list(
            training, data = several_of("line", "panel"), linewidth = 0.8, linetype = "11",
            show.legend = FALSE
          ), fixed)
        ),
        do.call(
          ggplot2::geom_point,
          c(list(training, size = 1.6, shape = 4, show.legend = FALSE), fixed)
        )
      )
    }
  )
}

best_ring <- function(data) {
  ggplot2::geom_point(
    data = data$summary[data$summary$best, ],
    ggplot2::aes(x = .data$x, y = .data$mean),
    inherit.aes = FALSE,
    shape = 21,
    size = 6,
    stroke = 1.4,
    colour = "black",
    fill = NA
  )
}

tuning_points <- function(data, axes) {
  grouped <- !is.null(axes$line)
  data$summary$x <- group_labels(data$summary$x)
  data$splits$x <- factor(vapply(data$splits$x, format_value, ""), levels = levels(data$summary$x))
  side <- ggplot2::position_dodge(width = 0.5)
  group <- if (grouped) {
    ggplot2::aes(colour = .data$line, shape = .data$line, fill = .data$line, linetype = .data$line)
  }
  plot <- ggplot2::ggplot(
    data$summary, ggplot2::aes(x = .data$x, y = .data$mean, group = .data$line)
  ) +
    ggplot2::geom_point(
      data = data$splits,
      ggplot2::aes(y = .data$score),
      shape = 1,
      colour = "grey50",
      size = 1.6,
      position = side
    ) +
    ggplot2::geom_linerange(
      ggplot2::aes(
        ymin = .data$mean - .data$se, ymax = .data$mean + .data$se
      ),
      linewidth = 2.4, position = side,
      na.rm = TRUE
    ) +
    ggplot2::geom_point(size = 4, position = side)
  if (grouped) plot <- plot + group + group_scales()
  plot
}

group_scales <- function() {
  list(
    ggplot2::scale_colour_manual(values = okabe_ito),
    ggplot2::scale_fill_manual(values = okabe_ito),
    ggplot2::scale_linetype_manual(values = line_types),
    ggplot2::scale_shape_manual(values = point_shapes)
  )
}

axis_title <- function(name, log) if (log) paste0(name, " (log scale)") else name

format_breaks <- function(x) {
  vapply(
    x,
    function(v) if (is.na(v)) "" else format(v, digits = 2, scientific = abs(log10(v)) > 3.5),
    ""
  )
}
