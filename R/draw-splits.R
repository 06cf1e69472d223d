#' Draw who is where in the splits
#'
#' @param plan A plan, a comparison, or a [brief()].
#' @param splits A splitter, if `plan` is a brief.
#' @param seed Seed of the splits, if `plan` is a brief.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A ggplot2 object: one line a split (at most 40), one column a slice of the
#'   working rows, ordered by time or group where there is one; filled where rows are in
#'   validation, pale in training, empty in neither. The label counts the rows.
#' @section Errors:
#' `kw_error_splits` when the splits cannot be made for this table.
#' @examples
#' job <- brief(demo_pots(), outcome = "cracked", event = "yes", id = "pot_id", group = "firing_id")
#' draw_splits(job, split_kfold(5), seed = 1)
#' @export
draw_splits <- function(plan, splits = split_kfold(), seed = 1, ...) {
  no_more(...)
  made <- splits_of(plan, splits, seed)
  shown <- utils::head(made$splits, 40L)
  data <- do.call(
    rbind, lapply(seq_along(shown), function(i) split_slices(shown[[i]], i, made$brief))
  )
  labels <- vapply(shown, function(split) {
    paste0(
      if (length(unique(vapply(made$splits, `[[`, 1L, "rep"))) > 1L) {
        paste0("repeat ", split$rep, ", ")
      }, "split ", split$part,
      ": ", length(split$training), " | ", length(split$validation)
    )
  }, character(1))
  ggplot2::ggplot(data, ggplot2::aes(x = .data$slice, y = .data$line)) +
    ggplot2::geom_tile(ggplot2::aes(alpha = .data$share, fill = .data$part), height = 0.82) +
    ggplot2::scale_y_reverse(
      breaks = seq_along(shown), labels = labels, expand = ggplot2::expansion(add = 0.5)
    ) +
    ggplot2::scale_x_continuous(expand = ggplot2::expansion(0), breaks = NULL) +
    ggplot2::scale_fill_manual(values = c(training = okabe_ito[6], validation = "black")) +
    ggplot2::scale_alpha_identity() +
    ggplot2::labs(
      title = paste0("Splits: ", made$splitter$label),
      subtitle = wrapped_subtitle(
        count_of(nrow(made$brief$table), "working row"),
        ", ordered by ", row_order(made$brief)$by,
        if (length(made$splits) > 40L) {
          paste0("; the first 40 of ", length(made$splits), " splits")
        }
      ),
      x = paste0("Working rows, ordered by ", row_order(made$brief)$by),
      y = "training | validation rows", fill = NULL,
      caption = "The fuller a slice, the more of its rows are in the part."
    ) +
    theme_kilnwright() +
    ggplot2::theme(panel.grid = ggplot2::element_blank())
}

row_order <- function(brief) {
  if (!is.null(brief$roles$time)) {
    return(list(order = order(brief$table[[brief$roles$time]]), by = brief$roles$time))
  }
  if (!is.null(brief$roles$group)) {
    group <- brief$table[[brief$roles$group]]
    return(list(order = order(match(group, unique(group))), by = brief$roles$group))
  }
  list(order = seq_len(nrow(brief$table)), by = "their place in the table")
}

# Share of each slice of rows that is in validation, or else in training.
split_slices <- function(split, line, brief) {
  n <- nrow(brief$table)
  order <- row_order(brief)$order
  slice <- ceiling(seq_len(n) * min(n, 200L) / n - 1e-9)
  in_part <- function(rows) tapply(seq_len(n) %in% rows, slice[order(order)], mean)
  validation <- in_part(split$validation)
  training <- in_part(split$training)
  rbind(
    data.frame(
      slice = as.integer(names(training)), line = line, part = "training",
      share = as.vector(training)
    ),
    data.frame(
      slice = as.integer(names(validation)), line = line, part = "validation",
      share = as.vector(validation)
    )
  )
}
