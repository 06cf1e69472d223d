#' Add products of numbers
#'
#' Every pair of the selected columns gives one more column, their product after
#' centring by the training rows.
#'
#' @param columns Which columns; default all numbers. See [of_kind()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_columns` when more than 2,000 products would arise.
#' @examples
#' pre_interactions(columns = c(wall_mm, ramp_c_per_h, humidity_pct))
#' @export
pre_interactions <- function(columns = NULL, ...) {
  no_more(...)
  new_step(member_step_interactions(), list(), rlang::enquo(columns))
}

member_step_interactions <- function() {
  step_definition(
    "interactions",
    learn = learn_interactions,
    use = use_interactions,
    script = script_interactions,
    plain = function(state) {
      list(
        pairs = matrix_rows(t(state$pairs)), centres = as.list(state$centres), names = state$names
      )
    },
    columns = "number",
    does = "Adds the product of every pair of numbers."
  )
}

learn_interactions <- function(frame, target, settings, seed) {
  chosen <- dense_columns_of(frame, settings$columns)
  k <- length(chosen)
  if (k * (k - 1) / 2 > 2000) {
    stop_kw(
      "columns",
      paste0("pre_interactions: ", k, " columns would give ", k * (k - 1) / 2, " products."),
      remedy = "Name fewer columns with columns = c(...)."
    )
  }
  pairs <- if (k < 2L) matrix("", 2L, 0L) else utils::combn(names(chosen), 2L)
  centres <- vapply(chosen, function(x) centre_and_spread(x, "sd", target$weights)[1], 1)
  names <- paste(pairs[1, ], pairs[2, ], sep = "_x_")
  list(
    state = list(
      pairs = pairs, centres = centres,
      names = fresh_names(names[seq_len(ncol(pairs))], frame_names(frame))
    ),
    training = NULL
  )
}

use_interactions <- function(state, frame) {
  columns <- lapply(seq_len(ncol(state$pairs)), function(i) {
    pair <- state$pairs[, i]
    (frame$columns[[pair[1]]] - state$centres[[pair[1]]]) * (frame$columns[[pair[2]]] -
      state$centres[[pair[2]]])
  })
  frame_swap(frame, columns = stats::setNames(as.list(columns), state$names))
}

script_interactions <- function(state, about) {
  if (ncol(state$pairs) == 0L) return(list(lines = NULL))
  plain <- paste(state$pairs[1, ], state$pairs[2, ], sep = "_x_")
  usual <- identical(plain, state$names)
  middle <- if (about$weighted) as_learned(about, middle = state$centres) else code_lines(
    "middle<<i>> <- vapply(x[<<columns>>], mean, 0, na.rm = TRUE)",
    i = about$i, columns = r_columns(names(state$centres), about$kinds)
  )
  list(does = paste0("add_products", about$i), lines = code_lines(r"(
<<middle>>
<<names>>
add_products<<i>> <- function(x) {
  pairs <- combn(names(middle<<i>>), 2)
  for (j in seq_len(ncol(pairs))) {
    parts <- Map(`-`, x[pairs[, j]], middle<<i>>[pairs[, j]])
    x[[<<made>>]] <- parts[[1]] * parts[[2]]
  }
  x
}
)",
    i = about$i, middle = middle,
    names = if (!usual) paste0("product_names", about$i, " <- ", r_vector(state$names)),
    made = if (usual) {
      "paste(pairs[, j], collapse = \"_x_\")"
    } else {
      paste0("product_names", about$i, "[j]")
    }
  ))
}
