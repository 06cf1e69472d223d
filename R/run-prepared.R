#' See the rows after every step
#'
#' Learns the steps of a pipeline on the working rows, with the first value of
#' everything that varies, and shows the first rows after each.
#'
#' @param pipeline A [pipeline()] or a list of steps.
#' @param brief A [brief()].
#' @param rows How many rows to show.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A `kw_prepared`: a list with one tibble a step, the untouched rows first,
#'   each with `rows` rows; sparse columns are shown as numbers, at most 50 of them.
#' @section Errors:
#' `kw_error_plan` when a step fails, with its message.
#' @examples
#' job <- brief(demo_pots(), outcome = "cracked", id = "pot_id", group = "firing_id")
#' show_prepared(pipeline(pre_missing(), pre_dates(), pre_onehot(), fam_linear()), job)
#' @export
show_prepared <- function(pipeline, brief, rows = 5, ...) {
  no_more(...)
  check_class(brief, "kw_brief", "brief", "Make one with brief().")
  check_number(rows, "rows", min = 1, whole = TRUE)
  nodes <- prepared_nodes(pipeline, brief)
  frame <- frame_columns(brief$table, brief$schema)
  target <- brief_target(brief)
  shown <- list(untouched = first_rows(frame, rows))
  taken <- list(character())
  for (step in default_steps(nodes)) {
    taken <- c(taken, list(select_columns(step, frame)))
    learned <- with_conditions(learn_step(step, frame, target, derive_seed(1, "prepared")))
    if (!is.null(learned$error)) {
      stop_kw(
        "plan", paste0("The step pre_", step$definition$name, " fails."),
        where = learned$error
      )
    }
    shown[[length(shown) + 1L]] <- first_rows(learned$value$frame, rows)
    names(shown)[length(shown)] <- paste0("pre_", step$definition$name)
    frame <- learned$value$frame
    target <- learned$value$target
  }
  structure(shown, class = "kw_prepared", taken = taken)
}

prepared_nodes <- function(pipeline, brief) {
  about <- list(
    rows = nrow(brief$table), columns = length(brief$schema),
    classes = class_count(brief)
  )
  if (inherits(pipeline, "kw_pipeline")) {
    check_family_fits("pipeline", pipeline$family$definition, brief)
    return(resolve_nodes(write_out_minimal(pipeline, brief)$steps, about))
  }
  resolve_nodes(flatten_steps(pipeline, "show_prepared()"), about)
}

first_rows <- function(frame, rows) {
  part <- frame_rows(frame, seq_len(min(rows, frame$n)))
  sparse <- part$sparse
  if (!is.null(sparse)) {
    sparse <- dense_columns(sparse[, seq_len(min(50L, ncol(sparse))), drop = FALSE])
  }
  tibble::as_tibble(c(unclass(part$columns)[names(part$columns)], sparse))
}
