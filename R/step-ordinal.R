#' Turn ordered categories into numbers
#'
#' The lowest level becomes 1, the next 2, and so on. A level never declared
#' becomes 0; a missing value stays missing.
#'
#' @param order For unordered categories: a named list, column name to its levels
#'   from lowest to highest. Columns without an entry use the order of their levels.
#' @param columns Which columns; default all ordered categories. See [of_kind()].
#' @return A step for [pipeline()].
#' @examples
#' pre_ordinal(order = list(kiln = c("test", "south", "north")), columns = c("kiln", "shelf"))
#' @export
pre_ordinal <- function(order = NULL, columns = NULL) {
  check_named(order, "order")
  new_step(member_step_ordinal(), list(order = order), rlang::enquo(columns))
}

member_step_ordinal <- function() {
  step_definition("ordinal", learn = learn_ordinal, use = use_ordinal,
    does = "Turns ordered categories into 1, 2, 3 ...", columns = "ordered",
    hyperparameters = list(
      order = hyperparameter("any", NULL, meaning = "Levels from lowest to highest, by column.")
    ))
}

learn_ordinal <- function(frame, target, settings, seed) {
  orders <- lapply(settings$columns, function(name) {
    x <- frame$columns[[name]]
    if (!is.factor(x)) refuse_column_kind("ordinal", "categories", x)
    order <- settings$order[[name]] %||% levels(x)
    unlisted <- setdiff(levels(droplevels(x)), order)
    if (length(unlisted) > 0L) {
      stop_kw("columns", paste0("pre_ordinal: `order` of ", quoted(name), " lacks the level ",
                                quoted(unlisted[1]), "."),
              remedy = "List every level, from lowest to highest.")
    }
    order
  })
  names(orders) <- settings$columns
  list(state = orders, training = NULL)
}

use_ordinal <- function(state, frame) {
  numbers <- lapply(names(state), function(name) {
    x <- as.character(frame$columns[[name]])
    rank <- match(x, state[[name]], nomatch = 0L)
    rank[is.na(x)] <- NA
    as.double(rank)
  })
  frame_replace(frame, stats::setNames(numbers, names(state)))
}
