#' Draw where in the field a search went
#'
#' Settings of one candidate by two of its hyperparameters, in the order in which they were
#' proposed: the later, the darker and larger.
#'
#' @param cmp A comparison from [run_comparison()].
#' @param candidate Name of a candidate in which at least two hyperparameters vary; default the best
#'   in which anything varies.
#' @param pair Names of two of them; default the two with the most values.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A ggplot2 object.
#' @section Errors:
#' `kw_error_draw` when fewer than two hyperparameters of the candidate vary.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job,
#'   candidates(tree = fam_tree(min_leaf = from_to(2, 60, "log"), depth = from_to(2, 12))),
#'   splits = split_kfold(3), search = search_hypercube(12), seed = 1, quiet = TRUE
#' )
#' draw_field(cmp, "tree")
#' @export
draw_field <- function(cmp, candidate = NULL, pair = NULL, ...) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  metric <- cmp_metric(cmp)
  candidate <- tuned_candidate(cmp, candidate, metric)
  data <- field_data(cmp, candidate, pair, metric)
  pair <- attr(data, "pair")
  axis <- function(which) {
    dimension <- spaces_of(cmp)[[candidate]]$dimensions[[pair[which]]]
    if (!is.numeric(data[[c("x", "y")[which]]])) return(NULL)
    log <- inherits(dimension$varying, "kw_range") && dimension$varying$spacing == "log"
    scale <- list(ggplot2::scale_x_continuous, ggplot2::scale_y_continuous)[[which]]
    if (log) scale(trans = "log10") else scale()
  }
  ggplot2::ggplot(data, ggplot2::aes(.data$x, .data$y)) +
    ggplot2::geom_point(
      ggplot2::aes(fill = .data$turn, size = .data$turn, shape = .data$state), colour = "grey20",
      position = ggplot2::position_jitter(
        width = if (is.numeric(data$x)) 0 else 0.15, height = if (is.numeric(data$y)) 0 else 0.15,
        seed = 1
      )
    ) +
    ggplot2::geom_point(
      data = data[data$leads, ], shape = 1, size = 10, stroke = 1.4, colour = okabe_ito[2]
    ) +
    axis(1) + axis(2) +
    ggplot2::scale_fill_gradient(low = "grey95", high = "grey10") +
    ggplot2::scale_size_continuous(range = c(2, 5)) +
    ggplot2::scale_shape_manual(values = c("scored in full" = 21, "in part" = 4)) +
    ggplot2::labs(
      title = paste0("Where the search went: ", candidate),
      subtitle = wrapped_subtitle(
        count_of(nrow(data), "setting"), " of this candidate; search: ",
        search_of(cmp$plan$seats, candidate)$label, ". The ring marks the best by mean ",
        metric$label
      ),
      x = pair[1], y = pair[2], fill = "Proposed as", size = "Proposed as", shape = NULL,
      caption = "The later a setting was proposed, the darker and larger its point."
    ) +
    ggplot2::guides(
      fill = ggplot2::guide_legend(override.aes = list(shape = 21)),
      size = ggplot2::guide_legend(), shape = ggplot2::guide_legend(override.aes = list(size = 3))
    ) +
    theme_kilnwright()
}

# One row a setting of the candidate: x, y, turn (its number in the order of the proposals), state,
# leads.
field_data <- function(cmp, candidate, pair, metric) {
  mine <- which(candidate_names(cmp) == candidate)
  settings <- frame_of_rows(
    cmp$results$tables[[candidate]], cmp$results$row[mine]
  )
  distinct <- vapply(settings, function(x) length(unique(x)), integer(1))
  varied <- names(sort(-distinct[distinct > 1L]))
  if (length(varied) < 2L) {
    stop_kw("draw", paste0(
      "Of the candidate ", quoted(candidate), " fewer than two hyperparameters vary."
    ), remedy = "Draw it with draw_tuning().")
  }
  if (is.null(pair)) pair <- varied[1:2]
  check_argument(is.character(pair) && length(pair) == 2L, "pair", "two names", pair)
  for (name in pair) check_choice(name, varied, "pair")
  value <- function(name) {
    if (is.numeric(settings[[name]])) settings[[name]] else group_labels(settings[[name]])
  }
  mean <- score_summary(cmp, metric$name)$mean[mine]
  good <- goodness(mean, metric)
  data <- data.frame(
    x = value(pair[1]), y = value(pair[2]),
    turn = rank(order(order(cmp$results$round[mine], cmp$results$row[mine]))),
    state = factor(is.na(mean), c(FALSE, TRUE), c("scored in full", "in part")),
    leads = !is.na(good) & good == max(good, -Inf, na.rm = TRUE)
  )
  structure(data[!is.na(data$x) & !is.na(data$y), ], pair = pair)
}

#' Draw the front of score against simplicity, spread or time
#'
#' All ranked settings by their mean score and by how simple they are, how much their scores differ
#' over the splits, how long they take, or another metric. The settings of the front, than which
#' none is both better and simpler (steadier, quicker, better by that metric), are joined by a line;
#' the first, and those that gain most, are numbered and named above.
#'
#' @param cmp A comparison from [run_comparison()].
#' @param against `"simplicity"`, by which ties are broken in every rule: family, its
#'   hyperparameters, number of steps; `"spread"`, the standard deviation over the splits;
#'   `"seconds"`, of a fit with its steps and scoring, mean over the splits; or another metric that
#'   was scored.
#' @param metric The metric; default the deciding one.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A ggplot2 object.
#' @section Errors:
#' `kw_error_argument` for a metric that was not scored, `kw_error_draw` when no setting was
#' scored in full.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job,
#'   candidates(baseline = fam_baseline(), tree = fam_tree(min_leaf = among(2, 10, 40))),
#'   splits = split_kfold(3), seed = 1, quiet = TRUE
#' )
#' draw_front(cmp)
#' draw_tradeoff(cmp, "r_squared")
#' @export
draw_front <- function(cmp, against = "simplicity", metric = NULL, ...) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  metric <- cmp_metric(cmp, metric)
  others <- setdiff(names(metrics_of(cmp)), metric$name)
  check_choice(against, c(names(front_words), others), "against")
  check_ranked(cmp, metric)
  if (against == "spread" && all(is.na(score_summary(cmp, metric$name)$sd))) {
    stop_kw("draw", "There is one score a setting only, so none has a spread.",
      remedy = "Use against = \"simplicity\", or run more splits."
    )
  }
  data <- front_data(cmp, metric, against)
  words <- words_of_front(cmp, metric, against)
  front <- data[data$front, ]
  plot <- ggplot2::ggplot(data, ggplot2::aes(.data$x, .data$mean)) +
    ggplot2::geom_point(
      ggplot2::aes(colour = .data$candidate, shape = .data$candidate), size = 2, alpha = 0.5
    ) +
    ggplot2::geom_step(data = front[nrow(front) > 1L, ], linewidth = 0.9, colour = "grey20") +
    ggplot2::geom_linerange(
      data = front[!is.na(front$se), ],
      ggplot2::aes(ymin = .data$mean - .data$se, ymax = .data$mean + .data$se), colour = "grey20"
    ) +
    ggplot2::geom_point(
      data = front, ggplot2::aes(colour = .data$candidate, shape = .data$candidate), size = 4
    ) +
    ggplot2::geom_text(
      data = front[front$named, ], ggplot2::aes(label = .data$number),
      hjust = 1.9, vjust = -0.5, size = 5
    ) +
    candidate_scales() +
    ggplot2::labs(
      title = words[["title"]],
      x = words[["axis"]],
      y = paste0("Mean ", metric$label, " (", metric$direction, " is better)"),
      colour = NULL, shape = NULL,
      subtitle = paste(front$label[front$named], collapse = "\n"),
      caption = wrapped_caption(
        "Line: the front, than which nothing is ", words[["less"]],
        "; bars: one standard error. Points: all ", nrow(data), " ranked settings."
      )
    ) +
    theme_kilnwright()
  if (against == "seconds") plot + ggplot2::scale_x_log10() else plot
}

#' @rdname draw_front
#' @export
draw_tradeoff <- function(cmp, against = "seconds", metric = NULL, ...) {
  no_more(...)
  draw_front(cmp, against, metric)
}

# What the axis says, and what less of it is.
front_words <- list(
  simplicity = c(axis = "Settings from the simplest to the most complex (rank)", less = "simpler"),
  spread = c(axis = "Standard deviation over the splits", less = "steadier"),
  seconds = c(axis = "Seconds a split", less = "quicker")
)

words_of_front <- function(cmp, metric, against) {
  if (against %in% names(front_words)) {
    words <- front_words[[against]]
    words[["less"]] <- paste("both better and", words[["less"]])
    return(c(words, title = paste0("What a better ", metric$label, " costs")))
  }
  other <- cmp_metric(cmp, against)
  c(
    axis = paste0("Mean ", other$label, " (", other$direction, " is better)"),
    less = paste("better by both", metric$label, "and", other$label),
    title = paste(metric$label, "beside", other$label)
  )
}

# So many settings of the front are named: the first, and those that gain most.
most_named <- 6L

# Ranked settings: candidate, x, mean, se, front, named, label.
front_data <- function(cmp, metric, against) {
  summary <- score_summary(cmp, metric$name)
  other <- if (!against %in% names(front_words)) cmp_metric(cmp, against)
  there <- if (!is.null(other)) score_summary(cmp, against)$mean else summary$mean
  if (against == "spread") there <- summary$sd
  ranked <- which(!is.na(summary$mean) & !is.na(there))
  x <- if (!is.null(other)) there[ranked] else switch(against,
    seconds = pmax(rowMeans(cmp$results$seconds[ranked, , drop = FALSE], na.rm = TRUE), 1e-4),
    spread = summary$sd[ranked],
    order(do.call(order, lapply(simplicity_keys(spaces_of(cmp), cmp$results), `[`, ranked)))
  )
  good <- goodness(summary$mean[ranked], metric)
  # the less, the better
  order <- order(if (is.null(other)) x else -goodness(x, other), -good)
  front <- logical(length(ranked))
  front[order] <- good[order] > c(-Inf, utils::head(cummax(good[order]), -1L))
  data <- data.frame(
    candidate = factor(candidate_names(cmp)[ranked], names(spaces_of(cmp))), x = x,
    mean = summary$mean[ranked], se = summary$se[ranked], front = front, at = ranked
  )[order, ]
  gain <- ifelse(data$front, abs(c(Inf, diff(data$mean[data$front])))[cumsum(data$front)], 0)
  data$named <- data$front & rank(-gain, ties.method = "first") <= most_named
  data$number <- cumsum(data$named)
  data$label <- ""
  data$label[data$named] <- vapply(which(data$named), function(i) {
    text <- paste0(
      data$number[i], "  ", round_to(data$mean[i], data$se[i]), "  ", choice_name(cmp, data$at[i])
    )
    paste(strtrim(text, 110L), if (nchar(text) > 110L) "...", sep = "")
  }, "")
  data
}
