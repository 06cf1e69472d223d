# Maps from predicted probabilities to recalibrated ones, each class against the rest.

recalibrations <- c("none", "platt", "isotonic", "beta")

# No map makes a probability more certain than the rows that it was learned on can tell.
clear_of_ends <- function(p, least = 1e-5) pmin(pmax(p, least), 1 - least)

# The targets of Platt (1999): as if each side had one row more than it has. Sums of weights count
# as rows.
platt_ends <- function(event, weights) {
  n <- vapply(c(FALSE, TRUE), function(side) sum(weights[event == side]), 1)
  c(1 / (n[1] + 2), (n[2] + 1) / (n[2] + 2))
}

# `p`: held-out probabilities of a class, `event`: is it the class? A map never turns the order of
# probabilities round.
learn_recalibration <- function(p, event, weights, by) {
  ends <- platt_ends(event, weights)
  target <- ends[event + 1L]
  if (by == "isotonic") {
    steps <- rising_means(p, as.double(event), weights)
    return(list(by = by, at = steps$at, value = pmin(pmax(steps$value, ends[1]), ends[2])))
  }
  p <- clear_of_ends(p)
  sides <- if (by == "platt") list(stats::qlogis(p)) else list(log(p), -log1p(-p))
  c(list(by = by), rising_logistic(sides, target, weights))
}

# Logistic regression of which no slope is below 0: list(constant, slopes).
rising_logistic <- function(sides, target, weights) {
  slopes <- numeric(length(sides))
  free <- seq_along(sides)
  repeat {
    design <- do.call(cbind, c(list(rep(1, length(target))), sides[free]))
    b <- stats::glm.fit(design, target, weights, family = stats::quasibinomial())$coefficients
    b[is.na(b)] <- 0
    falling <- free[b[-1] < 0]
    if (length(falling) == 0L) break
    free <- setdiff(free, falling)
  }
  slopes[free] <- b[-1]
  list(constant = b[[1]], slopes = slopes)
}

# Isotonic regression by pooling neighbours (Ayer, Brunk, Ewing, Reid & Silverman 1955) of weighted
# values: the ends of the blocks, and the blocks' means there.
rising_means <- function(x, y, weights) {
  order <- order(x)
  alike <- cumsum(!duplicated(x[order]))
  total <- rowsum(cbind(weights, weights * y)[order, ], alike)
  known <- unique(x[order])[total[, 1] > 0]
  total <- total[total[, 1] > 0, , drop = FALSE]
  block <- matrix(0, nrow(total), 4L)
  n <- 0L
  for (i in seq_len(nrow(total))) {
    n <- n + 1L
    block[n, ] <- c(total[i, ], i, i)
    while (n > 1L && block[n - 1L, 2] * block[n, 1] >= block[n, 2] * block[n - 1L, 1]) {
      block[n - 1L, ] <- c(block[n - 1L, 1:2] + block[n, 1:2], block[n - 1L, 3], block[n, 4])
      n <- n - 1L
    }
  }
  block <- block[seq_len(n), , drop = FALSE]
  ends <- cbind(block[, 3], block[, 4])
  keep <- as.vector(rbind(TRUE, ends[, 1] < ends[, 2]))
  list(
    at = known[as.vector(t(ends))[keep]], value = rep(block[, 2] / block[, 1], each = 2L)[keep]
  )
}

recalibrated <- function(p, map) {
  if (map$by == "isotonic") {
    # what is missing stays so
    if (length(map$at) == 1L) return(map$value + 0 * p)
    return(stats::approx(map$at, map$value, p, rule = 2)$y)
  }
  p <- clear_of_ends(p)
  sides <- if (map$by == "platt") list(stats::qlogis(p)) else list(log(p), -log1p(-p))
  stats::plogis(map$constant + Reduce(`+`, Map(`*`, map$slopes, sides)))
}

# Maps for every value along a path, from held-out predictions, rows x classes (x values); of two
# classes the second has one, of more each. `present`: numbers of the classes with training rows.
learn_recalibrations <- function(prediction, outcome, weights, by, present, values) {
  dims <- dim(prediction)
  n_values <- if (length(dims) == 3L) dims[3] else 1L
  classes <- if (dims[2] == 2L) 2L else present
  list(values = values, classes = classes, maps = lapply(seq_len(n_values), function(v) {
    lapply(classes, function(class) {
      p <- if (length(dims) == 3L) prediction[, class, v] else prediction[, class]
      learn_recalibration(p, as.integer(outcome) == class, weights, by)
    })
  }))
}

# Recalibrated probabilities in the shape that they came in.
recalibrate_prediction <- function(prediction, recalibration, values) {
  column <- place_of_values(values, recalibration$values)
  dims <- dim(prediction)
  whole <- array(prediction, c(dims[1:2], length(column)))
  for (v in seq_along(column)) {
    maps <- recalibration$maps[[column[v]]]
    for (i in seq_along(maps)) {
      class <- recalibration$classes[i]
      whole[, class, v] <- recalibrated(whole[, class, v], maps[[i]])
    }
    whole[, , v] <- summing_to_one(matrix(whole[, , v], dims[1]), recalibration$classes)
  }
  array(whole, dims)
}

summing_to_one <- function(p, classes) {
  if (length(classes) == 1L) return(cbind(1 - p[, 2], p[, 2], deparse.level = 0))
  p / rowSums(p)
}

# Where values along a path stand among those that something was learned for.
place_of_values <- function(values, known) {
  if (is.null(values)) return(1L)
  if (is.data.frame(values)) return(match(row_texts(values), row_texts(known)))
  match(values, known)
}
