#' Draw the score over two hyperparameters, or over each of many
#'
#' `draw_tuning_map()`: a tile for every pair of values, with its mean written in; over all
#' others the best value is taken; the best tile is framed, and the shades tell the better half of
#' the tiles apart. `draw_tuning_each()`: a panel for every hyperparameter, the most important
#' first, numbers on their own scale: a point for every setting, and a line through the best mean
#' for each value.
#'
#' @param along Names of two hyperparameters; default the two that matter most.
#' @inheritParams draw_tuning
#' @param worst Down to which share of the settings, from the best, the scores are drawn; 1: all.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A ggplot2 object.
#' @section Errors:
#' `kw_error_draw` when too few hyperparameters vary, or no setting is in focus;
#' `kw_error_argument` for a focus on hyperparameters that do not vary.
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
draw_tuning_map <- function(
  cmp, candidate = NULL, along = NULL, metric = NULL, focus = NULL, ...
) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  metric <- cmp_metric(cmp, metric)
  named <- !is.null(candidate)
  candidate <- tuned_candidate(cmp, candidate, metric)
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
  data <- tuning_table(cmp, candidate, metric, focus)
  # labels first, so that what is not used is a level like any other
  data[along] <- lapply(data[along], group_labels)
  tiles <- stats::aggregate(list(good = goodness(data$mean, metric)), data[along], max)
  tiles$mean <- goodness(tiles$good, metric)
  best <- merge(tiles, data[data$leads, along])
  # all shades for the better half
  shades <- c(stats::median(tiles$good), max(tiles$good))
  if (shades[1] == shades[2]) shades[1] <- min(tiles$good)
  digits <- max(2L, 2L - floor(log10(max(diff(range(tiles$mean)), 1e-8))))
  ggplot2::ggplot(tiles, ggplot2::aes(.data[[along[1]]], .data[[along[2]]])) +
    ggplot2::geom_tile(ggplot2::aes(fill = .data$good), colour = "white", show.legend = FALSE) +
    ggplot2::geom_tile(data = best, fill = NA, colour = okabe_ito[2], linewidth = 2) +
    numbers_in_tiles(tiles, best, mean(shades), min(digits, 5L), along) +
    ggplot2::scale_x_discrete(
      breaks = every_few(levels(tiles[[along[1]]]), 15L),
      guide = ggplot2::guide_axis(check.overlap = TRUE)
    ) +
    ggplot2::scale_y_discrete(breaks = every_few(levels(tiles[[along[2]]]), 25L)) +
    ggplot2::scale_fill_gradient(
      low = "#EAF2F8", high = "#08306B", limits = if (shades[1] < shades[2]) shades,
      oob = function(x, range = c(0, 1)) pmin(pmax(x, range[1]), range[2])
    ) +
    ggplot2::labs(
      title = paste0(candidate, ": mean ", metric$label, " over ", along[1], " and ", along[2]),
      subtitle = splits_label(cmp$plan),
      x = along[1],
      y = along[2],
      caption = wrapped_caption(
        "Darker is better (", metric$direction, " ", metric$label,
        "), within the better half of the tiles; framed: the best.",
        if (nrow(shares) > 2L) {
          paste0(" Best over ", enumerate(setdiff(shares$hyperparameter, along)), ".")
        },
        tuning_words(cmp, named, candidate, focus, metric)
      )
    ) +
    theme_kilnwright() +
    ggplot2::theme(panel.grid.major = ggplot2::element_blank())
}

# Their means, where they have room; else that of the best alone, and only the shades of others.
numbers_in_tiles <- function(tiles, best, white_from, digits, along) {
  columns <- nlevels(tiles[[along[1]]])
  room <- columns <= 18L && nlevels(tiles[[along[2]]]) <= 25L
  if (!room) tiles <- best
  ggplot2::geom_text(
    data = tiles,
    ggplot2::aes(label = formatC(.data$mean, format = "f", digits = digits)),
    colour = ifelse(tiles$good > white_from, "white", "black"),
    angle = if (room) 0 else 90, size = if (columns > 10L) 2.8 else 4
  )
}

#' @rdname draw_tuning_map
#' @export
draw_tuning_each <- function(
  cmp, candidate = NULL, metric = NULL, focus = NULL, worst = 0.75, ...
) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  check_number(worst, "worst", min = 0.01, max = 1)
  metric <- cmp_metric(cmp, metric)
  named <- !is.null(candidate)
  candidate <- tuned_candidate(cmp, candidate, metric)
  shares <- candidate_shares(cmp, candidate, metric)
  data <- tuning_table(cmp, candidate, metric, focus)
  panels <- paste0(shares$hyperparameter, " (", round(100 * shares$share), " % of the variance)")
  places <- Map(axis_places, data[shares$hyperparameter], seq_along(panels))
  points <- do.call(rbind, Map(function(place, panel) {
    data.frame(panel = factor(panel, panels), at = place$at, mean = data$mean)
  }, places, panels))
  points <- points[!is.na(points$at), ]
  best <- stats::aggregate(
    list(good = goodness(points$mean, metric)), points[c("panel", "at")], max
  )
  best$mean <- goodness(best$good, metric)
  seen <- better_part(data$mean, metric, worst)
  ggplot2::ggplot(points, ggplot2::aes(.data$at, .data$mean)) +
    ggplot2::geom_point(
      shape = 1,
      colour = "grey45",
      position = ggplot2::position_jitter(width = 0.008, height = 0, seed = 1)
    ) +
    ggplot2::geom_line(
      data = several_of("panel")(best), ggplot2::aes(group = 1), colour = okabe_ito[1],
      linewidth = 0.9
    ) +
    ggplot2::geom_point(data = best, colour = okabe_ito[1], size = 2.8, shape = 17) +
    ggplot2::facet_wrap("panel", scales = "free_x") +
    axis_of_places(places) +
    ggplot2::coord_cartesian(ylim = seen$limits) +
    ggplot2::labs(
      title = paste0(candidate, ": ", metric$label, " against each hyperparameter"),
      subtitle = splits_label(cmp$plan), x = NULL,
      y = metric_axis(cmp, metric),
      caption = wrapped_caption(
        "Rings: means of single settings. Triangles and line: the best mean for each value.",
        if (seen$below > 0L) {
          paste0(" ", count_of(seen$below, "worse setting"), " out of sight (worst = 1 shows all).")
        },
        tuning_words(cmp, named, candidate, focus, metric)
      )
    ) +
    theme_kilnwright() +
    ggplot2::theme(axis.text.x = ggplot2::element_text(angle = 40, hjust = 1))
}

# Which scores are in sight: from the best to the share `worst`, unless the others are near.
better_part <- function(mean, metric, worst) {
  good <- goodness(mean, metric)
  low <- stats::quantile(good, 1 - worst, names = FALSE)
  if (diff(range(good)) < 2 * (max(good) - low)) low <- min(good)
  list(limits = sort(goodness(c(low, max(good)), metric)), below = sum(good < low))
}

# Where values stand in panel `i`, whose axis goes from 2 i to 2 i + 1: numbers on their own
# scale, by magnitude where they span several, levels one after the other.
axis_places <- function(values, i) {
  labels <- levels(group_labels(values))
  if (is.numeric(values) && !all(is.na(values))) {
    by_magnitude <- spans_magnitudes(values[!is.na(values)])
    scale <- if (by_magnitude) log10 else identity
    ends <- range(scale(values), na.rm = TRUE)
    place <- function(x) 2 * i + (scale(x) - ends[1]) / max(diff(ends), 1e-12)
    ticks <- sort(unique(values))
    if (length(ticks) > 6L) {
      ticks <- round_ticks(range(values, na.rm = TRUE), by_magnitude)
    }
    at <- place(values)
    # where the hyperparameter was not used
    at[is.na(values)] <- 2 * i + 1.12
    return(list(
      at = at, ticks = c(place(ticks), if (anyNA(values)) 2 * i + 1.12),
      labels = c(vapply(ticks, format_value, ""), if (anyNA(values)) "not used")
    ))
  }
  step <- 1 / max(length(labels) - 1L, 1L)
  list(
    at = 2 * i + step * (as.integer(group_labels(values)) - 1L),
    ticks = 2 * i + step * (seq_along(labels) - 1L), labels = labels
  )
}

# Round numbers within the ends; by magnitude powers of ten, of few magnitudes threes as well.
round_ticks <- function(ends, by_magnitude) {
  ticks <- if (by_magnitude) {
    powers <- 10^seq(floor(log10(ends[1])), ceiling(log10(ends[2])))
    if (log10(ends[2] / ends[1]) < 3) sort(c(powers, 3 * powers)) else powers
  } else {
    pretty(ends, 5)
  }
  ticks[ticks >= ends[1] * (1 - 1e-9) & ticks <= ends[2] + 1e-9 * abs(ends[2])]
}

axis_of_places <- function(places) {
  ticks <- unlist(lapply(places, `[[`, "ticks"), use.names = FALSE)
  labels <- unlist(lapply(places, `[[`, "labels"), use.names = FALSE)
  ggplot2::scale_x_continuous(
    breaks = function(limits) ticks[ticks >= limits[1] & ticks <= limits[2]],
    labels = function(at) labels[match(round(at, 8), round(ticks, 8))],
    minor_breaks = NULL
  )
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
tuning_table <- function(cmp, candidate, metric, focus = NULL) {
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
  table <- table[!is.na(mean) & in_focus(cmp, candidate, focus, metric), , drop = FALSE]
  # of those in focus, where the candidate's best is not among them
  if (!any(table$leads)) table$leads[which.max(goodness(table$mean, metric))] <- TRUE
  table
}
