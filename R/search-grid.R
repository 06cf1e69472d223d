#' Search every combination, or random ones
#'
#' `search_grid()` tries every combination of the declared values.
#' `search_random()` draws settings: ranges continuously (unless they have
#' `points`), sets of values evenly.
#'
#' @param points Into how many values a range is cut that has no `points` of its own.
#' @param settings Number of settings drawn for each candidate that varies.
#' @return A search for [plan_comparison()]; a list of them sets one per candidate:
#'   `list(forest = search_random(40), search_grid())`.
#' @references Bergstra & Bengio (2012), Random search for hyper-parameter
#'   optimization, JMLR 13.
#' @examples
#' search_grid(points = 5)
#' search_random(settings = 40)
#' @export
search_grid <- function(points = 5) {
  check_number(points, "points", min = 2, max = 10000, whole = TRUE)
  new_search("grid", list(points = points),
    label = "grid",
    start = function(space, seed) list(space = space, done = FALSE),
    propose = function(state) {
      if (state$done) return(no_settings(state))
      cleaned <- clean_settings(state$space, grid_settings(state$space, points))
      state$done <- TRUE
      c(cleaned, list(state = state))
    }
  )
}

no_settings <- function(state) {
  list(
    settings = plain_frame(list(), 0L), counts = NULL, by_rule = NULL, left_out = NULL,
    state = state
  )
}

#' @rdname search_grid
#' @export
search_random <- function(settings = 40) {
  check_number(settings, "settings", min = 1, max = 1e6, whole = TRUE)
  new_search("random", list(settings = settings),
    label = "random",
    start = function(space, seed) list(space = space, seed = seed, done = FALSE),
    propose = function(state) {
      if (state$done) return(no_settings(state))
      drawn <- with_seed(
        derive_seed(state$seed, paste("search", state$space$candidate)),
        draw_settings(state$space, settings)
      )
      state$done <- TRUE
      c(drawn, list(state = state))
    }
  )
}

# Draws until there are n different settings, or 20 batches brought too few: the
# space may hold fewer.
draw_settings <- function(space, n) {
  if (length(space$dimensions) == 0L) return(clean_settings(space, plain_frame(list(), 1L)))
  found <- NULL
  counts <- 0
  by_rule <- 0
  for (batch in 1:20) {
    cleaned <- clean_settings(space, random_settings(space, n))
    counts <- counts + cleaned$counts
    by_rule <- by_rule + cleaned$by_rule
    found <- if (is.null(found)) cleaned$settings else unique(rbind(found, cleaned$settings))
    if (nrow(found) >= n) break
  }
  found <- frame_of_rows(found, seq_len(nrow(found)) <= n)
  counts[["merged"]] <- 0
  list(settings = found, counts = counts, by_rule = by_rule, left_out = cleaned$left_out)
}
