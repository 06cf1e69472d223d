# Metrics for ordered classes: being off by two classes is worse than by one.

member_metric_ranked_probability <- function() {
  metric_definition("ranked_probability", "Ranked probability score", "ordered", "lower",
    range = c(0, 1), row_wise = TRUE,
    does = paste(
      "Mean squared error of the probabilities of being at or below each class, averaged over",
      "the cuts between classes (Epstein 1969)."
    ),
    score = function(truth, prediction, weights) {
      k <- nlevels(truth)
      below <- 0
      errors <- 0
      for (class in seq_len(k - 1L)) {
        below <- below + class_slice(prediction, class)
        errors <- errors + (below - (as.integer(truth) <= class))^2
      }
      weighted_columns(errors / (k - 1L), weights)
    }
  )
}

member_metric_quadratic_kappa <- function() {
  metric_definition("quadratic_kappa", "Quadratic-weighted kappa", "ordered", "higher",
    range = c(-1, 1), by_class = TRUE, undefined = needs_two_classes,
    why_na = "all rows are called one class, which is the only one that there is",
    does = paste(
      "Agreement of called and true class beyond chance, where being off costs the square of",
      "the classes between (Cohen 1968)."
    ),
    score = function(truth, prediction, weights) {
      w <- weights %||% rep(1, length(truth))
      true <- as.double(as.integer(truth))
      total <- sum(w)
      called <- predicted_class(prediction)
      sums <- function(x) .colSums(w * x, nrow(called), ncol(called))
      # the mean over all pairs of a true and a called class
      expected <- sum(w * true^2) / total + sums(called^2) / total -
        2 * sum(w * true) * sums(called) / total^2
      found <- 1 - sums((called - true)^2) / total / expected
      ifelse(expected <= 0, NA_real_, found)
    }
  )
}

member_metric_class_error <- function() {
  metric_definition("class_error", "Mean class error", "ordered", "lower",
    unit = "classes", range = c(0, Inf), row_wise = TRUE, by_class = TRUE,
    does = "Mean absolute number of classes by which the called class is off.",
    score = function(truth, prediction, weights) {
      weighted_columns(abs(predicted_class(prediction) - as.integer(truth)), weights)
    }
  )
}
