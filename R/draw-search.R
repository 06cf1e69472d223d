#' Draw how a search went
#'
#' @param searched A comparison, or what [join_comparisons()] gave.
#' @param against `"fits"` or `"seconds"`.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A ggplot2 object: best mean so far against what was spent, settings in the order
#'   in which they were proposed; points are single settings. Of a search that was repeated the
#'   line is the median of the repeats, and a band goes from the worst to the best of them.
#' @section Errors:
#' `kw_error_argument` for an argument of the wrong kind or out of range, naming it.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree(pruning = sensible())),
#'   splits = split_kfold(3),
#'   seed = 1, quiet = TRUE
#' )
#' draw_search(cmp)
#' @export
draw_search <- function(searched, against = "fits", ...) {
  no_more(...)
  check_choice(against, c("fits", "seconds"), "against")
  if (inherits(searched, "kw_comparison")) {
    metric <- cmp_metric(searched)
    curves <- list(settings = search_curve(searched, metric))
  } else {
    check_class(
      searched, "kw_searches", "searched", "Make it with run_comparison() or join_comparisons()."
    )
    metric <- attr(searched, "metric")
    curves <- attr(searched, "curves")
  }
  searches <- unique(names(curves))
  repeated <- any(duplicated(names(curves)))
  lines <- do.call(rbind, lapply(searches, function(name) {
    data.frame(search = name, over_repeats(curves[names(curves) == name], against, metric))
  }))
  points <- do.call(rbind, Map(function(name, curve) {
    data.frame(search = name, spent = curve[[against]], as.data.frame(curve))
  }, names(curves), curves))
  lines$search <- factor(lines$search, searches)
  points$search <- factor(points$search, searches)
  # before the first setting is complete there is no best one
  points <- points[!is.na(points$best), ]
  partly <- points[!is.na(points$partly), ]
  plot <- ggplot2::ggplot(
    lines, ggplot2::aes(.data$spent, .data$best, colour = .data$search, linetype = .data$search)
  ) +
    (if (repeated) repeats_band(lines) else single_settings(points, partly)) +
    ggplot2::geom_step(linewidth = 1) +
    candidate_scales() +
    ggplot2::labs(
      title = paste0("Best mean ", metric$label, " so far"),
      x = if (against == "fits") "Fits done" else "Seconds of work",
      y = paste0(metric$label, " (", metric$direction, " is better)"),
      colour = NULL, linetype = NULL, shape = NULL, fill = NULL,
      caption = wrapped_caption(
        if (repeated) {
          paste(
            "Steps: best mean so far, the median of the repeats of a search.",
            "Bands: from their worst to their best."
          )
        } else {
          paste(
            "Steps: best mean so far. Points: single settings, in the order in which they were",
            "proposed."
          )
        },
        if (!repeated && nrow(partly) > 0L) {
          " Crosses: settings that were scored in part, at what is expected of them."
        }
      )
    ) +
    theme_kilnwright()
  if (length(searches) == 1L) plot + ggplot2::theme(legend.position = "none") else plot
}

# Median, worst and best of the best means so far, over the repeats of a search: columns spent,
# best, low, high, from where all have one to where the first of them ends.
over_repeats <- function(curves, against, metric) {
  curves <- lapply(curves, function(curve) curve[!is.na(curve$best), ])
  spent <- sort(unique(unlist(lapply(curves, `[[`, against))))
  from <- max(vapply(curves, function(curve) min(curve[[against]]), 1))
  to <- min(vapply(curves, function(curve) max(curve[[against]]), 1))
  spent <- spent[spent >= from & spent <= to]
  best <- vapply(curves, function(curve) {
    curve$best[findInterval(spent, curve[[against]])]
  }, numeric(length(spent)))
  best <- matrix(best, length(spent))
  data.frame(
    spent = spent, best = apply(best, 1L, stats::median), low = apply(best, 1L, min),
    high = apply(best, 1L, max)
  )
}

single_settings <- function(points, partly) {
  list(
    ggplot2::geom_point(
      data = points, ggplot2::aes(y = .data$mean, shape = .data$search),
      size = 1.8, alpha = 0.55, na.rm = TRUE
    ),
    ggplot2::geom_point(
      data = partly, ggplot2::aes(y = .data$partly), shape = 4, size = 1.6, alpha = 0.6
    )
  )
}

# A band of steps, level until the next place as the lines are, and a view of what comes after the
# first tenth, since early means are far off.
repeats_band <- function(lines) {
  steps <- do.call(rbind, lapply(split(lines, lines$search), function(line) {
    n <- nrow(line)
    level <- rep(seq_len(n), each = 2L)[-2L * n]
    at <- rep(seq_len(n), each = 2L)[-1L]
    data.frame(
      search = line$search[level], spent = line$spent[at], best = line$best[level],
      low = line$low[level], high = line$high[level]
    )
  }))
  late <- lines[lines$spent >= max(lines$spent) / 10, ]
  list(
    ggplot2::geom_ribbon(
      data = steps,
      ggplot2::aes(ymin = .data$low, ymax = .data$high, group = .data$search, fill = .data$search),
      alpha = 0.2, colour = NA
    ),
    ggplot2::coord_cartesian(ylim = range(late$low, late$high))
  )
}
