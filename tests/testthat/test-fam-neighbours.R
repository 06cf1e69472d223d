test_that(
  "nearest neighbours equal a plain loop, for every distance, weighting, tie and case weight",
  {
    d <- agree("many_class")
    d$x <- round(2 * d$x)
    d$x[160, ] <- d$x[10, ]
    w <- withr::with_seed(3, sample(0:3, 150, TRUE))
    far <- list(
      euclidean = function(a, b) sqrt(sum((a - b)^2)),
      manhattan = function(a, b) sum(abs(a - b)), chebyshev = function(a, b) max(abs(a - b))
    )
    definition <- kw("member_fam_neighbours")()
    values <- expand.grid(
      neighbours = c(1, 4, 30),
      weighting = c("equal", "inverse", "fading"),
      distance = names(far),
      stringsAsFactors = FALSE
    )
    values <- kw("plain_frame")(as.list(values), nrow(values))
    target <- kw("new_target")(d$y[d$train], weights = w)
    fitted <- kw("fit_family")(definition, d$x[d$train, ], target, as.list(values), 1)
    found <- kw("predict_family")(fitted, d$x[d$test, ], values)
    for (v in seq_len(nrow(values))) {
      k <- values$neighbours[v]
      plain <- t(sapply(d$test, function(i) {
        use <- d$train[w > 0]
        distance <- sapply(use, function(j) far[[values$distance[v]]](d$x[i, ], d$x[j, ]))
        near <- order(distance, seq_along(use))
        next_one <- distance[near[k + 1]]
        near <- near[1:k]
        last <- distance[near[k]]
        if (next_one <= last) next_one <- last * (1 + 1e-6)
        weight <- switch(values$weighting[v],
          equal = rep(1, k),
          inverse = if (any(distance[near] == 0)) {
            as.numeric(distance[near] == 0)
          } else {
            1 / distance[near]
          },
          fading = if (next_one > 0) 1 - (distance[near] / next_one)^2 else rep(1, k)
        )
        weight <- weight * w[match(use[near], d$train)]
        sapply(levels(d$y), function(level) sum(weight * (d$y[use[near]] == level)) / sum(weight))
      }))
      expect_equal(unname(found[, , v]), unname(plain), tolerance = 1e-8)
    }
  }
)
