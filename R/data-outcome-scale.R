# Scales on which an outcome can be learned, and the way back.

outcome_scales <- c("none", "log", "log1p", "sqrt", "box_cox", "yeo_johnson")

# Two functions of an author's, there and back, as list(to, from); NULL where neither is given.
own_scale <- function(to, from) {
  if (is.null(to) && is.null(from)) return(NULL)
  for (one in c("to", "from")) {
    check_argument(is.function(get(one)), one, "a function of numbers", get(one))
  }
  check_self_contained(list(to = to, from = from), "outcome_scale")
  list(to = portable_function(to, "`to`"), from = portable_function(from, "`from`"))
}

# An author's function of numbers gives as many numbers.
own_values <- function(f, x, name) {
  out <- f(x)
  if (is.numeric(out) && length(out) == length(x) && !anyNA(out) && all(is.finite(out))) {
    return(as.double(out))
  }
  stop_kw("columns", paste0(
    "pre_outcome_scale(): `", name, "` must give a finite number for every outcome."
  ), remedy = "Does it take all outcomes that there are?")
}

# There and back is where one was.
check_way_back <- function(y, own) {
  there <- own_values(own$to, y, "to")
  back <- own_values(own$from, there, "from")
  if (isTRUE(all.equal(back, as.double(y), tolerance = 1e-6))) return(invisible())
  stop_kw("columns", "pre_outcome_scale(): `from` does not take back what `to` did.",
    remedy = "Give functions such as to = log10 and from = function(z) 10^z."
  )
}

# What is learned of it: list(by, power, reach, back), NULL for "none"; with `own`, functions of an
# author's. `reach`: no prediction is further from the outcomes of the training rows, on the scale,
# than they are from one another.
learn_outcome_scale <- function(y, by, back, weights = NULL, own = NULL) {
  if (by == "none") return(NULL)
  if (by == "own") check_way_back(y, own)
  wanted <- switch(by,
    log = , box_cox = if (any(y <= 0)) "above 0",
    log1p = if (any(y <= -1)) "above -1",
    sqrt = if (any(y < 0)) "of 0 or more"
  )
  if (!is.null(wanted)) {
    stop_kw("columns", paste0(
      "pre_outcome_scale(by = \"", by, "\") needs outcomes ", wanted, "; there is ",
      format(min(y)), "."
    ), remedy = "Use by = \"yeo_johnson\", which takes any number.")
  }
  known <- known_values(y, weights)
  power <- switch(by,
    box_cox = best_power(known$x, box_cox, log(known$x), known$weights),
    yeo_johnson = best_power(
      known$x, yeo_johnson, sign(known$x) * log1p(abs(known$x)), known$weights
    ),
    NA_real_
  )
  scale <- list(by = by, power = power, back = back, own = own)
  ends <- range(to_scale(known$x, scale))
  scale$reach <- ends + c(-1, 1) * max(diff(ends), 1e-8)
  scale
}

to_scale <- function(y, scale) {
  switch(scale$by,
    log = log(y), log1p = log1p(y), sqrt = sqrt(y), box_cox = box_cox(y, scale$power),
    yeo_johnson = yeo_johnson(y, scale$power), own = own_values(scale$own$to, y, "to")
  )
}

out_of_scale <- function(z, scale) {
  z <- pmin(pmax(z, scale$reach[1]), scale$reach[2])
  switch(scale$by,
    log = exp(z), log1p = expm1(z), sqrt = pmax(z, 0)^2, box_cox = from_box_cox(z, scale$power),
    yeo_johnson = from_yeo_johnson(z, scale$power),
    own = own_values(scale$own$from, as.vector(z), "from")
  )
}

# Fifty quantiles of the errors on the training rows stand for all of them.
smear_points <- (seq_len(50L) - 0.5) / 50

# The scale with what it needs to give means: errors of a fit on its training rows, a column for
# every value along its path. `fitted`: predictions on the scale, rows (x values).
with_smear <- function(scale, z, fitted, values, weights) {
  if (scale$back == "median") return(scale)
  errors <- z - matrix(fitted, length(z))
  known <- if (is.null(weights)) rep(TRUE, length(z)) else weights > 0
  scale$values <- values
  scale$errors <- apply(errors[known, , drop = FALSE], 2L, weighted_quantile,
    shares = smear_points, weights = weights[known])
  scale
}

# Predictions in the outcome's own unit: medians, or means by the smearing estimate of Duan (1983),
# the mean over the errors of what a prediction with each of them would be.
in_own_unit <- function(prediction, scale, values) {
  if (scale$back == "median") {
    prediction[] <- out_of_scale(prediction, scale)
    return(prediction)
  }
  column <- place_of_values(values, scale$values)
  n <- length(prediction) / length(column)
  total <- 0
  for (i in seq_along(smear_points)) {
    total <- total + out_of_scale(prediction + rep(scale$errors[i, column], each = n), scale)
  }
  prediction[] <- total / length(smear_points)
  prediction
}
