# Boosted trees: 25 numbers of trees x 5 folds, 3,000 x 15.

source("bench/common.R")

table <- made_up_table(3000, 15)[c(paste0("x", 1:15), "class")]
trees <- seq(20, 500, by = 20)
job <- brief(table, "class", event = "yes")
plan <- plan_comparison(
  job,
  candidates(boosted = fam_boosted(trees = among(trees), depth = 3, rate = 0.05)),
  splits = split_kfold(5),
  metrics = "log_loss",
  seed = 1
)
rows <- rows_by_split(plan)
y <- as.integer(table$class == "yes")
# the same seeds as in the comparison, so that the scores can be compared
work <- kilnwright:::compile_work(plan$spaces, lapply(plan$round, `[[`, "settings"))
seed_of <- function(s) {
  fit <- kilnwright:::derive_seed(
    plan$seed, paste(paste(job$fingerprint, plan$splits[[s]]$key), "", work$fits$key[1])
  )
  kilnwright:::derive_seed(fit, "class 1")
}
grow <- function(n, s) {
  kilnwright:::with_seed(
    seed_of(s),
    gbm::gbm.fit(
      table[rows[[s]]$training, 1:15],
      y[rows[[s]]$training],
      distribution = "bernoulli",
      n.trees = n,
      interaction.depth = 3,
      shrinkage = 0.05,
      verbose = FALSE,
      keep.data = FALSE
    )
  )
}
score_one <- function(i, s) {
  p <- predict(
    grow(trees[i], s), table[rows[[s]]$validation, 1:15],
    n.trees = trees[i], type = "response"
  )
  -mean(log(ifelse(y[rows[[s]]$validation] == 1, p, 1 - p)))
}

floor <- function() for (s in 1:5) grow(500, s)
package <- time_package(plan, floor)
loop <- time_loop(length(trees), 5, score_one)
report(
  "25 numbers of boosted trees x 5 folds, 3,000 x 15", loop, package, c(11, NA),
  largest_difference(package$value, loop, data.frame(trees = trees))
)
