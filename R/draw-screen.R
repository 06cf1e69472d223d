#' Draw how a screen thinned out the field
#'
#' @param cmp A comparison whose plan had a `screen`.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A ggplot2 object: of every candidate how many settings were still in after each stage,
#'   on a logarithmic axis; the candidate's name stands where its line ends. Lines that would lie on
#'   each other are a little apart.
#' @section Errors:
#' `kw_error_argument` for a comparison without a screen.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job,
#'   candidates(baseline = fam_baseline(), tree = fam_tree(min_leaf = among(2, 10, 40))),
#'   splits = split_kfold(5), screen = screen_splits(), seed = 1, quiet = TRUE
#' )
#' draw_screen(cmp)
#' @export
draw_screen <- function(cmp, ...) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  if (is.null(cmp$plan$screen)) {
    stop_kw("argument", "The comparison has no screen.",
      remedy = "Say screen = screen_splits() in plan_comparison()."
    )
  }
  data <- settings_left(cmp)
  stages <- attr(data, "stages")
  ends <- data[data$stage == stages_of(data)[as.character(data$candidate)], ]
  # below the end where others' lines go on, else above, where no line of the grid strikes it out
  ends$below <- ifelse(ends$stage < length(stages), 1.6, -0.3)
  ggplot2::ggplot(data, ggplot2::aes(
    .data$stage, .data$height, colour = .data$candidate, linetype = .data$candidate,
    shape = .data$candidate
  )) +
    ggplot2::geom_step(direction = "hv", linewidth = 1) +
    ggplot2::geom_point(size = 2.6) +
    ggplot2::geom_text(
      ggplot2::aes(label = paste0(.data$candidate, ": ", .data$left), vjust = .data$below),
      data = ends, hjust = 0, nudge_x = 0.08, size = 4, show.legend = FALSE
    ) +
    candidate_scales() +
    ggplot2::scale_x_continuous(
      breaks = seq_along(stages), labels = stages,
      expand = ggplot2::expansion(add = c(0.3, 1.1))
    ) +
    ggplot2::scale_y_log10() +
    ggplot2::labs(
      title = paste0(
        nrow(cmp$results$dropped), " of ", count_of(length(cmp$results$candidate), "setting"),
        " were dropped before they were scored in full"
      ),
      x = NULL, y = "Settings still in", colour = NULL, linetype = NULL, shape = NULL,
      caption = wrapped_caption(
        "After each stage, by candidate. Where a line ends early, all its settings were dropped. ",
        "What was dropped is not ranked."
      )
    ) +
    theme_kilnwright() +
    ggplot2::theme(legend.position = "none")
}

# Settings of every candidate that are left after each stage at which any were dropped: columns
# candidate, stage (number), left, height (where it is drawn); the stages' labels are the attribute
# `stages`.
settings_left <- function(cmp) {
  gone <- cmp$results$dropped
  at <- unique(gone[order(gone$share, gone$splits), c("splits", "share")])
  at <- at[order(at$share, at$splits), ]
  part <- ifelse(at$share < 1, paste0("\non ", format(100 * at$share), " % of the rows"), "")
  stages <- c("begin", sprintf("%d splits%s", as.integer(at$splits), part), "whole")
  names <- names(spaces_of(cmp))
  all <- tabulate(cmp$results$candidate, length(names))
  lost <- vapply(seq_len(nrow(at)), function(i) {
    here <- gone$splits == at$splits[i] & gone$share == at$share[i]
    tabulate(gone$candidate[here], length(names))
  }, integer(length(names)))
  lost <- cbind(0L, matrix(lost, length(names)), 0L)
  left <- all - t(apply(lost, 1L, cumsum))
  data <- data.frame(
    candidate = factor(rep(names, length(stages)), names),
    stage = rep(seq_along(stages), each = length(names)), left = as.vector(left)
  )
  data <- data[data$left > 0L, ]
  data$height <- apart_on_log_axis(data)
  attr(data, "stages") <- stages[seq_len(max(data$stage))]
  data
}

# Lines of candidates of which as many settings were left somewhere would lie on each other: they
# are a line's width apart, on an axis of which the height takes some seventy.
apart_on_log_axis <- function(data) {
  place <- data[c("stage", "left")]
  meeting <- data$candidate[duplicated(place) | duplicated(place, fromLast = TRUE)]
  meeting <- intersect(levels(data$candidate), meeting)
  shift <- (length(meeting) + 1) / 2 - match(data$candidate, meeting)
  shift[is.na(shift)] <- 0
  data$left * max(1.02, (max(data$left) / min(data$left))^(1 / 70))^shift
}

# The last stage of every candidate, by name.
stages_of <- function(data) tapply(data$stage, as.character(data$candidate), max)
