#' Replace categories by how frequent they are
#'
#' A level becomes the share of training rows that have it; a level never seen,
#' and a missing value, become 0.
#'
#' @param columns Which columns; default all categories. See [of_kind()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on.
#' @examples
#' pre_frequency(columns = "glaze")
#' @export
pre_frequency <- function(columns = NULL, ...) {
  no_more(...)
  new_step(member_step_frequency(), list(), rlang::enquo(columns))
}

member_step_frequency <- function() {
  step_definition("frequency",
    learn = learn_frequency, use = use_frequency, script = script_frequency, columns = "category",
    plain = function(state) list(shares = lapply(state, as.list)),
    does = "Replaces a category by the share of training rows that have it."
  )
}

learn_frequency <- function(frame, target, settings, seed) {
  shares <- lapply(frame$columns[settings$columns], function(x) {
    if (!is.factor(x)) refuse_column_kind("frequency", "categories", x)
    counts <- weighted_counts(x, nlevels(x), target$weights)
    total <- if (is.null(target$weights)) length(x) else sum(target$weights)
    stats::setNames(counts[counts > 0] / total, levels(x)[counts > 0])
  })
  list(state = shares, training = NULL)
}

use_frequency <- function(state, frame) {
  columns <- each_known(frame, state, function(x, shares) {
    share <- unname(shares[codes_among(x, names(shares))])
    share[is.na(share)] <- 0
    share
  })
  frame_replace(frame, columns)
}

script_frequency <- function(state, about) {
  shares <- if (about$weighted) as_learned(about, shares = state) else code_lines(
    "shares<<i>> <- lapply(x[<<columns>>], function(v) table(v) / length(v))",
    i = about$i, columns = r_columns(names(state), about$kinds)
  )
  list(does = paste0("as_frequency", about$i), lines = code_lines(r"(
<<shares>>
as_frequency<<i>> <- function(x) {
  for (name in names(shares<<i>>)) {
    known <- shares<<i>>[[name]]
    share <- as.numeric(known)[match(x[[name]], names(known))]
    x[[name]] <- ifelse(is.na(share), 0, share)
  }
  x
}
)", i = about$i, shares = shares))
}
