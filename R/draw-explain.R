#' Draw what matters, how predictions move, whether more rows would help, how optimistic
#'
#' @param importance What [column_importance()] gave.
#' @param top How many columns at most.
#' @param model A model from [fit_final()], or what [column_effect()] gave.
#' @param columns One or two names of columns.
#' @param ... For `draw_dependence()`: further arguments of [column_effect()].
#' @param curve What [learning_curve()] gave.
#' @param found What [optimism()] gave.
#' @return A ggplot2 object.
#' @section Errors:
#' `kw_error_select` for a model that was opened from a file, `kw_error_argument` for a value of the
#' wrong kind.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1,
#'   quiet = TRUE
#' )
#' choice <- select_final(cmp)
#' draw_importance(column_importance(choice, times = 2))
#' draw_dependence(fit_final(choice), "wall_mm")
#' draw_learning_curve(learning_curve(choice, shares = c(0.3, 0.6, 1)))
#' draw_optimism(optimism(cmp))
#' @export
draw_importance <- function(importance, top = 15, ...) {
  no_more(...)
  check_class(importance, "kw_importance", "importance", "Make it with column_importance().")
  check_number(top, "top", min = 1, whole = TRUE)
  by_split <- attr(importance, "by_split")
  table <- utils::head(importance, top)
  table$column <- factor(table$column, rev(table$column))
  single <- data.frame(
    column = factor(rep(as.character(table$column), each = nrow(by_split)), levels(table$column)),
    value = as.vector(by_split[, as.character(table$column), drop = FALSE])
  )
  bars <- table[!is.na(table$sd), ]
  ggplot2::ggplot(table, ggplot2::aes(.data$importance, .data$column)) +
    ggplot2::geom_vline(xintercept = 0, colour = "grey60") +
    ggplot2::geom_point(
      data = single, ggplot2::aes(x = .data$value), shape = 1, colour = "grey45",
      position = ggplot2::position_nudge(y = -0.22)
    ) +
    ggplot2::geom_segment(
      data = bars,
      ggplot2::aes(
        x = .data$importance - .data$sd, xend = .data$importance + .data$sd,
        yend = .data$column
      ),
      colour = okabe_ito[1],
      linewidth = 0.8
    ) +
    ggplot2::geom_point(size = 3.4, shape = 21, fill = "white", colour = okabe_ito[1],
      stroke = 1.4) +
    chance_marks(table) +
    ggplot2::labs(
      title = "Which columns matter",
      subtitle = wrapped_subtitle(
        attr(importance, "about"), ", held-out rows of ",
        count_of(nrow(by_split), "split")
      ),
      x = paste0(
        "How much worse ", attr(importance, "label"),
        " gets when the column is shuffled"
      ),
      y = NULL,
      caption = paste0(
        "Point: mean over splits. Line: one standard deviation. Rings: single splits.",
        if ("by_chance" %in% names(table)) " Bar: what chance alone exceeds once in twenty."
      )
    ) +
    theme_kilnwright() +
    ggplot2::theme(panel.grid.major.y = ggplot2::element_blank())
}

chance_marks <- function(table) {
  if (!"by_chance" %in% names(table)) return(NULL)
  ggplot2::geom_point(
    data = table, ggplot2::aes(x = .data$by_chance), shape = 124, size = 5, colour = "grey30"
  )
}

#' @rdname draw_importance
#' @export
draw_dependence <- function(model, columns = NULL, ...) {
  found <- if (inherits(model, "kw_column_effect")) model else column_effect(model, columns, ...)
  y <- if (is.null(found$class)) {
    paste("Predicted", found$outcome)
  } else {
    paste0("Probability that ", found$outcome, " is ", found$class)
  }
  plot <- if (length(found$columns) == 2L) {
    dependence_of_two(found, y)
  } else if (is.numeric(found$mean[[1]]) || inherits(found$mean[[1]], c("Date", "POSIXct"))) {
    dependence_lines(found, y)
  } else {
    dependence_points(found, y)
  }
  plot + theme_kilnwright()
}

dependence_lines <- function(found, y) {
  name <- found$columns
  mean <- data.frame(x = found$mean[[1]], mean = found$mean$mean)
  rows <- data.frame(x = found$rows[[name]], y = found$rows$prediction, row = found$rows$row)
  seen <- found$seen[[1]]
  marks <- data.frame(x = seen[!is.na(seen) & seen >= min(mean$x) & seen <= max(mean$x)])
  ggplot2::ggplot(mean, ggplot2::aes(.data$x, .data$mean)) +
    ggplot2::geom_line(
      data = rows, ggplot2::aes(y = .data$y, group = .data$row), colour = "grey50", alpha = 0.22
    ) +
    ggplot2::geom_line(colour = okabe_ito[1], linewidth = 1.5) +
    ggplot2::geom_point(
      colour = okabe_ito[1], size = 2
    ) +
    ggplot2::geom_rug(data = marks, ggplot2::aes(x = .data$x), inherit.aes = FALSE, alpha = 0.15) +
    ggplot2::labs(
      title = paste("How predictions move with", name), x = name, y = y,
      caption = wrapped_caption(
        "Thick line: mean over ", length(unique(rows$row)),
        " working rows (partial dependence). Thin lines: single rows. ",
        "Ticks: where rows lie."
      )
    )
}

dependence_points <- function(found, y) {
  name <- found$columns
  order <- found$mean[[1]][order(found$mean$mean)]
  mean <- data.frame(x = factor(found$mean[[1]], order), mean = found$mean$mean)
  rows <- data.frame(x = factor(found$rows[[name]], order), y = found$rows$prediction)
  ggplot2::ggplot(mean, ggplot2::aes(.data$mean, .data$x)) +
    ggplot2::geom_point(
      data = rows,
      ggplot2::aes(x = .data$y),
      shape = 1,
      colour = "grey45",
      alpha = 0.3,
      position = ggplot2::position_jitter(height = 0.12, width = 0, seed = 1)
    ) +
    ggplot2::geom_point(colour = okabe_ito[1], size = 4, shape = 17) +
    ggplot2::labs(
      title = paste("How predictions move with", name), x = y, y = name,
      caption = "Triangles: mean over working rows (partial dependence). Rings: single rows."
    )
}

dependence_of_two <- function(found, y) {
  a <- found$columns[1]
  b <- found$columns[2]
  data <- data.frame(a = found$mean[[1]], b = found$mean[[2]], mean = found$mean$mean)
  if (!is.numeric(data$b) || length(unique(data$b)) <= 6L || !is.numeric(data$a)) {
    return(dependence_grouped(data, a, b, y))
  }
  across <- cell_borders(data$a)
  up <- cell_borders(data$b)
  ggplot2::ggplot(data, ggplot2::aes(.data$a, .data$b)) +
    ggplot2::geom_rect(
      ggplot2::aes(fill = .data$mean),
      xmin = across$from,
      xmax = across$to,
      ymin = up$from,
      ymax = up$to
    ) +
    ggplot2::geom_contour(ggplot2::aes(z = .data$mean), colour = "white", linewidth = 0.4) +
    ggplot2::scale_fill_gradient(low = "#EAF2F8", high = "#08306B") +
    ggplot2::labs(
      title = paste("How predictions move with", a, "and", b), x = a, y = b, fill = y,
      caption = "Mean over working rows (partial dependence). White lines: equal predictions."
    )
}

# Borders midway between neighbouring values, for every x.
cell_borders <- function(x) {
  values <- sort(unique(x))
  middle <- (values[-1] + values[-length(values)]) / 2
  at <- match(x, values)
  list(from = c(values[1], middle)[at], to = c(middle, values[length(values)])[at])
}

dependence_grouped <- function(data, a, b, y) {
  if (!is.numeric(data$a) && is.numeric(data$b)) {
    names(data)[1:2] <- c("b", "a")
    data <- data.frame(a = data$a, b = data$b, mean = data$mean)
    swapped <- a
    a <- b
    b <- swapped
  }
  data$b <- factor(data$b, utils::head(unique(data$b), length(okabe_ito)))
  data <- data[!is.na(data$b), ]
  ggplot2::ggplot(
    data,
    ggplot2::aes(
      .data$a, .data$mean,
      group = .data$b, colour = .data$b, linetype = .data$b, shape = .data$b
    )
  ) +
    ggplot2::geom_line(linewidth = 0.9) +
    ggplot2::geom_point(size = 2.4) +
    candidate_scales() +
    ggplot2::labs(
      title = paste("How predictions move with", a, "and", b),
      x = a,
      y = y,
      colour = b,
      linetype = b,
      shape = b,
      caption = "Mean over working rows (partial dependence)."
    )
}

#' @rdname draw_importance
#' @export
draw_learning_curve <- function(curve, ...) {
  no_more(...)
  check_class(curve, "kw_learning_curve", "curve", "Make it with learning_curve().")
  metric <- attr(curve, "metric")
  each <- attr(curve, "by_split")
  both <- rbind(
    data.frame(rows = curve$rows, score = curve$training, which = "training rows"),
    data.frame(rows = curve$rows, score = curve$validation, which = "validation rows")
  )
  band <- data.frame(
    rows = curve$rows, low = curve$validation - curve$se,
    high = curve$validation + curve$se
  )
  beyond <- attr(curve, "prognosis")
  last <- curve[nrow(curve), ]
  if (!is.null(beyond)) {
    beyond <- rbind(
      data.frame(
        rows = last$rows, score = last$validation, low = last$validation, high = last$validation
      ),
      as.data.frame(beyond)
    )
  }
  ggplot2::ggplot(both, ggplot2::aes(.data$rows, .data$score)) +
    prognosis_layers(beyond) +
    ggplot2::geom_ribbon(
      data = band[!is.na(band$low), ],
      ggplot2::aes(x = .data$rows, ymin = .data$low, ymax = .data$high),
      inherit.aes = FALSE,
      fill = okabe_ito[1],
      alpha = 0.18
    ) +
    ggplot2::geom_point(
      data = as.data.frame(each),
      ggplot2::aes(y = .data$validation),
      shape = 1,
      colour = "grey45",
      na.rm = TRUE
    ) +
    ggplot2::geom_line(
      ggplot2::aes(colour = .data$which, linetype = .data$which),
      linewidth = 1, na.rm = TRUE
    ) +
    ggplot2::geom_point(
      ggplot2::aes(colour = .data$which, shape = .data$which),
      size = 3, na.rm = TRUE
    ) +
    ggplot2::scale_colour_manual(values = rev(okabe_ito[1:2])) +
    ggplot2::scale_linetype_manual(
      values = c("22", "solid")
    ) +
    ggplot2::scale_shape_manual(values = c(17, 16)) +
    ggplot2::labs(
      title = "Would more rows help?",
      subtitle = wrapped_subtitle(attr(curve, "says")),
      x = "Training rows",
      y = paste0(metric$label, " (", metric$direction, " is better)"),
      colour = NULL,
      linetype = NULL,
      shape = NULL,
      caption = wrapped_caption(
        attr(curve, "about"),
        ". Lines: means over splits. Band: one standard error. Rings: single splits.",
        if (!is.null(beyond)) {
          " Dotted, with its 95 % interval: if the curve goes on as it has been bent so far."
        }
      )
    ) +
    theme_kilnwright()
}

prognosis_layers <- function(beyond) {
  if (is.null(beyond)) return(NULL)
  list(
    ggplot2::geom_ribbon(
      data = beyond[!is.na(beyond$low), ],
      ggplot2::aes(x = .data$rows, ymin = .data$low, ymax = .data$high),
      inherit.aes = FALSE, fill = "grey50", alpha = 0.18
    ),
    ggplot2::geom_line(data = beyond, linetype = "dotted", linewidth = 1, colour = okabe_ito[1])
  )
}

#' @rdname draw_importance
#' @export
draw_optimism <- function(found, ...) {
  no_more(...)
  fine <- is.data.frame(found) &&
    all(c("estimate", "score", "low", "high", "metric") %in% names(found))
  check_argument(fine, "found", "what optimism() gave", found)
  words <- c(
    naive = "naive: the best mean",
    fold_corrected = "corrected by folds\n(Tibshirani & Tibshirani)",
    bootstrap = "corrected by bootstrap\n(rows drawn again)",
    nested = "nested: the whole\nprocedure repeated"
  )
  about <- attr(found, "about")
  data <- found[!is.na(found$score), ]
  data$label <- factor(words[data$estimate], rev(words))
  bars <- data[!is.na(data$low), ]
  ggplot2::ggplot(data, ggplot2::aes(.data$score, .data$label)) +
    ggplot2::geom_vline(xintercept = data$score[data$estimate == "naive"], linetype = "dotted") +
    ggplot2::geom_segment(
      data = bars,
      ggplot2::aes(x = .data$low, xend = .data$high, yend = .data$label),
      linewidth = 1,
      colour = okabe_ito[1]
    ) +
    ggplot2::geom_point(size = 4, shape = 21, fill = "white", colour = okabe_ito[1], stroke = 1.5) +
    ggplot2::geom_text(
      ggplot2::aes(label = format(signif(.data$score, 3))),
      hjust = -0.2,
      vjust = -0.9,
      size = 4.2
    ) +
    ggplot2::scale_x_continuous(expand = ggplot2::expansion(mult = c(0.05, 0.12))) +
    ggplot2::labs(
      title = "How good is the leader really?", subtitle = wrapped_subtitle(about[["choice"]]),
      x = about[["metric"]] %||% data$metric[1], y = NULL,
      caption = wrapped_caption(
        "The best of many means is too good: it was picked for being best. ",
        "Lines: 95 % over bootstrap draws or outer splits."
      )
    ) +
    theme_kilnwright()
}
