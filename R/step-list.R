#' What steps there are, and what each does
#'
#' @param name Name of a step without `pre_`, e.g. `"skew"`.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return `list_steps()`: a tibble with `step`, `does`, `columns` (taken by default)
#'   and `hyperparameters`. `describe_step()`: a `kw_description`; printing it shows
#'   choices, defaults, sensible ranges and what going up does.
#' @section Errors:
#' `kw_error_argument` for a name that there is not.
#' @examples
#' list_steps()
#' describe_step("skew")
#' @export
list_steps <- function() {
  members <- lapply(known_members("step"), function(make) make())
  table <- tibble::tibble(
    step = paste0("pre_", names(members)),
    does = vapply(members, `[[`, character(1), "does", USE.NAMES = FALSE),
    columns = vapply(members, function(m) {
      if (length(m$columns) == length(column_kinds)) "any" else paste(m$columns, collapse = ", ")
    }, character(1), USE.NAMES = FALSE),
    hyperparameters = vapply(
      members,
      function(m) paste(names(m$arguments), collapse = ", "),
      character(1),
      USE.NAMES = FALSE
    )
  )
  listing(table,
    title = paste0(count_of(nrow(table), "step"), ": describe_step() says more"),
    hide = "hyperparameters", texts = "does", rows = Inf
  )
}

#' @rdname list_steps
#' @export
describe_step <- function(name, ...) {
  no_more(...)
  members <- known_members("step")
  check_string(name, "name")
  check_choice(sub("^pre_", "", name), names(members), "name")
  definition <- members[[sub("^pre_", "", name)]]()
  structure(
    list(
      title = paste0("pre_", definition$name), does = definition$does,
      about = paste0(
        "Columns by default: ",
        if (length(definition$columns) == 0L) "none; name them" else
          paste(definition$columns, collapse = ", ")
      ),
      hyperparameters = definition$arguments,
      sizes = list(rows = 1000, columns = 20, classes = 2)
    ),
    class = "kw_description"
  )
}
