#' Search every combination, or random ones
#'
#' `search_grid()` tries every combination of the declared values.
#' `search_random()` draws settings: ranges continuously (unless they have
#' `points`), sets of values evenly.
#'
#' @param points Into how many values a range is cut that has no `points` of its own.
#' @param settings Number of settings drawn for each candidate that varies.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A search for [plan_comparison()]; a list of them sets one per candidate:
#'   `list(forest = search_random(40), search_grid())`.
#' @references Bergstra & Bengio (2012), Random search for hyper-parameter
#'   optimization, JMLR 13.
#' @section Errors:
#' `kw_error_argument` for a value out of range, `kw_error_plan` when a grid would have too many
#' settings.
#' @examples
#' search_grid(points = 5)
#' search_random(settings = 40)
#' @export
search_grid <- function(points = 5, ...) {
  no_more(...)
  check_number(points, "points", min = 2, max = 10000, whole = TRUE)
  search_at_once("grid", list(points = points), "grid", function(space, seed) {
    clean_settings(space, grid_settings(space, points))
  }, exhaustive = TRUE)
}

member_search_grid <- function() {
  maker_definition("search", "grid", search_grid,
    "Tries all combinations of values, with so many points in a range."
  )
}

#' @rdname search_grid
#' @export
search_random <- function(settings = 40, ...) {
  no_more(...)
  check_number(settings, "settings", min = 1, max = 1e6, whole = TRUE)
  search_at_once("random", list(settings = settings), "random", function(space, seed) {
    with_seed(
      derive_seed(seed, paste("search", space$candidate)), draw_settings(space, settings)
    )
  })
}

member_search_random <- function() {
  maker_definition("search", "random", search_random, "Tries settings drawn at random.")
}

# Draws until there are n different settings, or 20 turns brought too few: the
# space may hold fewer.
draw_settings <- function(space, n, draw = random_settings) {
  if (length(space$dimensions) == 0L) return(clean_settings(space, plain_frame(list(), 1L)))
  found <- NULL
  counts <- 0
  by_rule <- 0
  for (turn in 1:20) {
    cleaned <- clean_settings(space, draw(space, n))
    counts <- counts + cleaned$counts
    by_rule <- by_rule + cleaned$by_rule
    found <- if (is.null(found)) cleaned$settings else unique(rbind(found, cleaned$settings))
    if (nrow(found) >= n) break
  }
  found <- frame_of_rows(found, seq_len(nrow(found)) <= n)
  counts[["merged"]] <- 0
  list(settings = found, counts = counts, by_rule = by_rule, left_out = cleaned$left_out)
}
