#' Turn ordered categories into numbers
#'
#' The lowest level becomes 1, the next 2, and so on. A level never declared
#' becomes 0; a missing value stays missing.
#'
#' @param order For unordered categories: a named list, column name to its levels
#'   from lowest to highest; `columns` must name these columns too. Columns without an entry are
#'   ordered as `by` says.
#' @param by `"levels"`: the order of the levels as declared; `"frequency"`: rarest
#'   level first; `"outcome"`: by the mean outcome of the level's training rows (share
#'   of the event for two classes), learned for training rows on other parts of
#'   them, as in [pre_target_mean()].
#' @param columns Which columns; default all ordered categories. See [of_kind()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on, and for an
#' `order` of columns that are not among those of the step.
#' @examples
#' pre_ordinal(order = list(kiln = c("test", "south", "north")), columns = c("kiln", "shelf"))
#' @export
pre_ordinal <- function(order = NULL, by = "levels", columns = NULL, ...) {
  no_more(...)
  check_named(order, "order")
  new_step(member_step_ordinal(), list(order = order, by = by), rlang::enquo(columns))
}

member_step_ordinal <- function() {
  step_definition("ordinal",
    learn = learn_ordinal, use = use_ordinal, script = script_ordinal,
    plain = function(state) list(levels = state),
    does = "Turns ordered categories into 1, 2, 3 ...", columns = "ordered",
    cross_fitted = TRUE, random = TRUE,
    hyperparameters = list(
      order = hyperparameter("any", NULL, meaning = "Levels from lowest to highest, by column."),
      by = hyperparameter("choice", "levels",
        choices = c("levels", "frequency", "outcome"),
        sensible = function(rows, columns, classes) among("levels", "frequency", "outcome"),
        meaning = "What orders the levels of columns that `order` does not name."
      )
    )
  )
}

learn_ordinal <- function(frame, target, settings, seed) {
  beside <- setdiff(intersect(names(settings$order), names(frame$columns)), settings$columns)
  if (length(beside) > 0L) {
    stop_kw("columns", paste0(
      "pre_ordinal: `order` tells the levels of ", quoted(beside[1]), ", but that is not among ",
      "the columns of the step."
    ),
    remedy = paste0(
      "Name it in `columns`, with all others that are meant; by default these are the ordered ",
      "categories."
    )
    )
  }
  orders <- lapply(settings$columns, function(name) {
    x <- frame$columns[[name]]
    if (!is.factor(x)) refuse_column_kind("ordinal", "categories", x)
    order <- settings$order[[name]] %||% level_order(
      x, target$outcome, settings$by, target$weights
    )
    unlisted <- setdiff(seen_levels(x), order)
    if (length(unlisted) > 0L) {
      stop_kw("columns", paste0(
        "pre_ordinal: `order` of ", quoted(name), " lacks the level ",
        quoted(unlisted[1]), "."
      ),
      remedy = "List every level, from lowest to highest."
      )
    }
    order
  })
  names(orders) <- settings$columns
  if (settings$by != "outcome") return(list(state = orders, training = NULL))
  training <- cross_fit(frame, target, 5L, function(rows) {
    part <- lapply(settings$columns, function(name) {
      settings$order[[name]] %||% level_order(
        frame$columns[[name]][rows], target$outcome[rows], "outcome", target$weights[rows]
      )
    })
    stats::setNames(part, settings$columns)
  }, use_ordinal)
  list(state = orders, training = training)
}

level_order <- function(x, outcome, by, weights = NULL) {
  if (by == "levels") return(levels(x))
  if (by == "frequency") return(levels(x)[order(weighted_counts(x, nlevels(x), weights))])
  if (nlevels(outcome) > 2L) {
    stop_kw("columns", "pre_ordinal(by = \"outcome\") needs a numeric outcome or two classes.",
      remedy = "Use pre_target_mean() for many classes."
    )
  }
  y <- if (is.factor(outcome)) as.integer(outcome) - 1L else outcome
  means <- sums_of_codes(x, nlevels(x), if (is.null(weights)) y else weights * y) /
    weighted_counts(x, nlevels(x), weights)
  levels(x)[order(ifelse(is.finite(means), means, weighted_mean(y, weights)))]
}

use_ordinal <- function(state, frame) {
  frame_replace(frame, each_known(frame, state, function(x, order) {
    as.double(codes_among(x, order, other = 0L))
  }))
}

script_ordinal <- function(state, about) {
  if (length(state) == 0L) return(list(lines = NULL))
  by <- about$settings$by
  listed <- names(state) %in% names(about$settings$order)
  columns <- vapply(names(state), r_column, "")
  given <- listed | (by == "frequency" & about$weighted)
  orders <- ifelse(given, vapply(state, r_vector, "", indent = 4L), switch(by,
    levels = paste0("levels(", columns, ")"), paste0("names(sort(table(", columns, ")))")
  ))
  by_outcome <- by == "outcome" & !listed
  kept <- paste0("ranks", about$i, " <- ", r_named_list(orders[!by_outcome], names(state)[
    !by_outcome
  ]))
  w <- if (about$weighted) ", w" else ""
  learn <- if (!any(by_outcome)) kept else code_lines(r"(
# levels from the lowest mean outcome to the highest
level_order<<i>> <- function(x, y<<w>>) {
  lapply(x[<<columns>>], function(v) {
    means <- <<means>>
    levels(v)[order(ifelse(is.finite(means), means, <<mean>>))]
  })
}
target<<i>> <- <<target>>
<<kept>>
ranks<<i>> <- c(<<listed>>level_order<<i>>(x, target<<i>><<w>>))
)",
    i = about$i, w = w, columns = r_columns(names(state)[by_outcome], about$kinds),
    means = if (about$weighted) {
      "tapply(w * y, v, sum, default = 0) / tapply(w, v, sum, default = 0)"
    } else {
      "tapply(y, v, sum, default = 0) / tabulate(v, nlevels(v))"
    },
    mean = if (about$weighted) "weighted.mean(y, w)" else "mean(y)",
    target = if (is.factor(about$target$outcome)) "as.numeric(y == levels(y)[2])" else "y",
    kept = if (any(listed)) kept, listed = if (any(listed)) paste0("ranks", about$i, ", ") else ""
  )
  training <- if (by == "outcome") script_cross_fitted(about, 5L, code_lines(r"(
others_say <- level_order<<i>>(x[others, , drop = FALSE], target<<i>>[others]<<w>>)
as_ranks<<i>>(x[!others, , drop = FALSE], <<listed>>others_say<<end>>)
)",
    i = about$i, w = if (about$weighted) ", w[others]" else "",
    listed = if (any(listed)) paste0("c(ranks", about$i, "[", r_vector(names(state)[listed]), "], ")
      else "", end = if (any(listed)) ")" else ""
  ))
  list(
    does = paste0("as_ranks", about$i), training = if (any(by_outcome)) training,
    lines = code_lines(r"(
<<learn>>
as_ranks<<i>> <- function(x, orders = ranks<<i>>) {
  for (name in names(orders)) {
    rank <- match(x[[name]], orders[[name]], nomatch = 0)
    x[[name]] <- ifelse(is.na(x[[name]]), NA, as.numeric(rank))
  }
  x
}
)", i = about$i, learn = learn)
  )
}
