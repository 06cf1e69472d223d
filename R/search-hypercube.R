#' Search points that are spread evenly
#'
#' A Latin hypercube: every range is cut into as many intervals as there are settings, and
#' every interval is visited once, so that fewer settings than with random draws leave no part of
#' a range untried. Ranges are continuous unless they have `points`; listed values come in turn.
#'
#' @param settings Number of settings of each candidate that varies.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A search for [plan_comparison()].
#' @references McKay, Beckman & Conover (1979), A comparison of three methods for selecting
#'   values of input variables in the analysis of output from a computer code, Technometrics 21.
#' @section Errors:
#' `kw_error_argument` for a value out of range, `kw_error_package` when a package that it needs is
#' not installed.
#' @examples
#' search_hypercube(settings = 40)
#' @export
search_hypercube <- function(settings = 40, ...) {
  no_more(...)
  check_number(settings, "settings", min = 1, max = 1e5, whole = TRUE)
  need("lhs", "Latin hypercubes")
  search_at_once("hypercube", list(settings = settings), "Latin hypercube", function(space, seed) {
    with_seed(
      derive_seed(seed, paste("search", space$candidate)), spread_settings(space, settings)
    )
  })
}

member_search_hypercube <- function() {
  maker_definition("search", "hypercube", search_hypercube,
    "Tries settings that are spread evenly over the field (Latin hypercube)."
  )
}

# A hypercube of n points; where some of them could not work, merged or were ruled out, further
# ones fill up, until there are n or 20 cubes brought too few.
spread_settings <- function(space, n) {
  draw_settings(space, n, function(space, n) {
    settings_from_cube(space, lhs::randomLHS(n, length(space$dimensions)))
  })
}
