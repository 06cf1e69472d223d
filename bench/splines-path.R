# Adaptive splines: 20 numbers of terms x 2 degrees x 5 folds, 2,000 x 15.

source("bench/common.R")

table <- made_up_table(2000, 15)[c(paste0("x", 1:15), "number")]
settings <- expand.grid(terms = 2:21, degree = 1:2)
job <- brief(table, "number")
plan <- plan_comparison(
  job,
  candidates(bends = fam_adaptive_splines(terms = among(2:21), degree = among(1, 2))),
  splits = split_kfold(5),
  metrics = "rmse",
  seed = 1
)
rows <- rows_by_split(plan)
x <- as.matrix(table[1:15])
grow <- function(degree, s, terms = NULL) {
  earth::earth(
    x[rows[[s]]$training, ], table$number[rows[[s]]$training],
    degree = degree, nprune = terms
  )
}
score_one <- function(i, s) {
  p <- predict(grow(settings$degree[i], s, settings$terms[i]), x[rows[[s]]$validation, ])
  sqrt(mean((table$number[rows[[s]]$validation] - p)^2))
}

floor <- function() for (s in 1:5) for (degree in 1:2) grow(degree, s)
package <- time_package(plan, floor)
loop <- time_loop(nrow(settings), 5, score_one)
report(
  "20 numbers of spline terms x 2 degrees x 5 folds, 2,000 x 15", loop, package, c(18, NA),
  largest_difference(package$value, loop, settings)
)
