# Nearest neighbours: 50 numbers of neighbours x 5 folds, 20,000 x 20, against a
# compiled nearest-neighbour search (package FNN) called once per setting and fold.

source("bench/common.R")

table <- made_up_table(20000, 20)[c(paste0("x", 1:20), "number")]
job <- brief(table, "number")
plan <- plan_comparison(
  job,
  candidates(near = pipeline(fam_neighbours(neighbours = among(1:50)))),
  splits = split_kfold(5),
  metrics = "rmse",
  seed = 1
)
rows <- rows_by_split(plan)
x <- as.matrix(table[1:20])
score_one <- function(k, s) {
  training <- rows[[s]]$training
  validation <- rows[[s]]$validation
  p <- FNN::knn.reg(
    x[training, ], x[validation, ], table$number[training],
    k = k, algorithm = "brute"
  )$pred
  sqrt(mean((table$number[validation] - p)^2))
}

requireNamespace("FNN")
floor <- function() for (s in 1:5) score_one(50, s)
package <- time_package(plan, floor)
loop <- time_loop(50, 5, score_one)
report(
  "nearest neighbours, 50 x 5 folds, 20,000 x 20", loop, package, c(20, NA),
  largest_difference(package$value, loop, data.frame(neighbours = 1:50))
)
