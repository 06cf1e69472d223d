#' Draw how columns moved between the working rows and new ones
#'
#' The shares of a column's ranges and levels then (light) and now (dark), for the columns that
#' moved most.
#'
#' @param found What [watch_drift()] gave.
#' @param most So many columns at most.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A ggplot.
#' @section Errors:
#' `kw_error_argument` for anything but such a table.
#' @seealso [watch_drift()]
#' @examples
#' pots <- demo_pots()
#' job <- brief(pots[1:800, ],
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1, quiet = TRUE
#' )
#' later <- pots[801:1500, ]
#' later$humidity_pct <- later$humidity_pct + 10
#' draw_drift(watch_drift(fit_final(select_final(cmp)), later))
#' @export
draw_drift <- function(found, most = 6, ...) {
  no_more(...)
  check_argument(
    inherits(found, "kw_drift") && !is.null(attr(found, "cells")), "found",
    "what watch_drift() gave", found
  )
  check_number(most, "most", min = 1, max = 20, whole = TRUE)
  shown <- utils::head(found, most)
  heads <- paste0(
    cli::ansi_strtrim(shown$column, 26L), "\n", shown$answer, ", ", percent(shown$distance)
  )
  data <- do.call(rbind, lapply(seq_len(nrow(shown)), function(i) {
    cells <- attr(found, "cells")[[shown$column[i]]]
    n <- length(cells$label)
    data.frame(
      column = heads[i], place = rep(seq_len(n), 2L),
      label = rep(cli::ansi_strtrim(cells$label, 18L), 2L),
      when = rep(drift_times, each = n), share = c(cells$then, cells$now)
    )
  }))
  data$column <- factor(data$column, unique(heads))
  data$when <- factor(data$when, drift_times)
  # labels are the panel's own, in their order
  data$cell <- factor(paste(as.integer(data$column), data$place, data$label, sep = "\r"))
  order <- order(as.integer(data$column), -data$place)
  data$cell <- factor(data$cell, unique(as.character(data$cell)[order]))
  ggplot2::ggplot(data, ggplot2::aes(.data$share, .data$cell, fill = .data$when)) +
    ggplot2::geom_col(
      position = ggplot2::position_dodge2(width = 0.8, reverse = TRUE), width = 0.75,
      colour = "grey20", linewidth = 0.25
    ) +
    ggplot2::facet_wrap(ggplot2::vars(.data$column), scales = "free") +
    ggplot2::scale_y_discrete(labels = function(x) sub("^.*\r", "", x)) +
    ggplot2::scale_x_continuous(
      n.breaks = 4, labels = function(x) paste0(round(100 * x, 1), " %")
    ) +
    ggplot2::scale_fill_manual(values = c("grey88", okabe_ito[[1]])) +
    ggplot2::labs(
      title = attr(found, "listing")$title,
      subtitle = wrapped_subtitle(
        "Share of the rows in each range or level; in the heads: how many rows would have to be ",
        "elsewhere"
      ),
      x = NULL, y = NULL, fill = NULL
    ) +
    theme_kilnwright()
}

drift_times <- c("working rows", "new rows")
