# Rows as points for nearest_rows(): numbers divided by their interquartile range
# (or range), categories as codes.

# What is needed to place rows: learned on some rows, used on any.
learn_places <- function(columns, weights = NULL) {
  lapply(columns, function(x) {
    if (is.factor(x)) return(list(levels = levels(x)))
    known <- known_values(as.double(x), weights)
    width <- diff(weighted_quantile(known$x, c(0.25, 0.75), known$weights))
    if (is.na(width) || width <= 0) width <- suppressWarnings(diff(range(known$x)))
    list(width = if (is.finite(width) && width > 0) width else 1)
  })
}

# columns x rows
place_rows <- function(columns, places) {
  values <- lapply(names(places), function(name) {
    x <- columns[[name]]
    if (is.null(places[[name]]$width)) {
      return(as.double(match(as.character(x), places[[name]]$levels)))
    }
    as.double(x) / places[[name]]$width
  })
  n <- length(values[[1]])
  t(matrix(unlist(values, use.names = FALSE), n, length(values)))
}

placed_categories <- function(places) {
  vapply(places, function(place) is.null(place$width), logical(1), USE.NAMES = FALSE)
}
