#' The figure that one would ask for first
#'
#' `plot()` of what the package makes: of a brief [draw_columns()], of a plan [draw_splits()], of a
#' comparison [draw_standings()], of a choice or a model [draw_verdict()], of importance, effects,
#' learning curves, searches and scores by parts the figure of each. The `draw_` functions give the
#' figure to be changed and saved.
#'
#' @param x What was made.
#' @param ... Arguments of that `draw_` function.
#' @return The ggplot2 object, invisibly, after it was drawn.
#' @section Errors:
#' Those of that `draw_` function, such as `kw_error_select` for a model that was opened from a file
#' or `kw_error_draw` when nothing is ranked.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline(), tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1, quiet = TRUE
#' )
#' plot(cmp)
#' @name plot_kilnwright
NULL

draw_now <- function(figure) {
  print(figure)
  invisible(figure)
}

#' @rdname plot_kilnwright
#' @export
plot.kw_brief <- function(x, ...) draw_now(draw_columns(x, ...))

#' @rdname plot_kilnwright
#' @export
plot.kw_plan <- function(x, ...) draw_now(draw_splits(x, ...))

#' @rdname plot_kilnwright
#' @export
plot.kw_comparison <- function(x, ...) draw_now(draw_standings(x, ...))

#' @rdname plot_kilnwright
#' @export
plot.kw_choice <- function(x, ...) draw_now(draw_verdict(x, ...))

#' @rdname plot_kilnwright
#' @export
plot.kw_model <- function(x, ...) draw_now(draw_verdict(x, ...))

#' @rdname plot_kilnwright
#' @export
plot.kw_importance <- function(x, ...) draw_now(draw_importance(x, ...))

#' @rdname plot_kilnwright
#' @export
plot.kw_column_effect <- function(x, ...) draw_now(draw_dependence(x, ...))

#' @rdname plot_kilnwright
#' @export
plot.kw_learning_curve <- function(x, ...) draw_now(draw_learning_curve(x, ...))

#' @rdname plot_kilnwright
#' @export
plot.kw_searches <- function(x, ...) draw_now(draw_search(x, ...))

#' @rdname plot_kilnwright
#' @export
plot.kw_scores_by <- function(x, ...) draw_now(draw_scores_by(x, ...))
