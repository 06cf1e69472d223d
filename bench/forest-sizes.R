# 10 forest sizes (50 to 500 trees) x 4 columns_tried x 5 folds, 1,000 x 12: the smaller
# forests are the first trees of the largest.

source("bench/common.R")

table <- made_up_table(1000, 12)[c(paste0("x", 1:12), "class")]
settings <- expand.grid(trees = seq(50, 500, by = 50), columns_tried = c(0.1, 0.25, 0.5, 0.75))
job <- brief(table, "class", event = "yes")
plan <- plan_comparison(
  job,
  candidates(forest = pipeline(fam_forest(
    trees = among(seq(50, 500, by = 50)),
    columns_tried = among(
      0.1, 0.25, 0.5, 0.75
    ), min_node = 5
  ))),
  splits = split_kfold(5),
  metrics = "log_loss",
  seed = 1
)
rows <- rows_by_split(plan)
# the same seeds as in the comparison, so that the scores can be compared
work <- kilnwright:::compile_work(plan$spaces, lapply(plan$round, `[[`, "settings"))
described <- lapply(seq_along(work$fits$node), function(fit) {
  kilnwright:::fit_description(work, fit)
})
tried <- vapply(described, function(d) d$settings$columns_tried, numeric(1))
seed_of <- function(share, s) {
  kilnwright:::derive_seed(
    plan$seed,
    paste(paste(job$fingerprint, plan$splits[[s]]$key), "", described[[match(share, tried)]]$key)
  )
}
x <- as.matrix(table[1:12])
y <- factor(table$class)
grow <- function(n, share, s) {
  training <- rows[[s]]$training
  ranger::ranger(
    x = x[training, ], y = y[training], num.trees = n,
    mtry = max(1, round(share * 12)), min.node.size = 5, probability = TRUE,
    num.threads = 1, seed = seed_of(share, s), write.forest = TRUE, oob.error = FALSE
  )
}
score_one <- function(i, s) {
  validation <- rows[[s]]$validation
  p <- predict(
    grow(settings$trees[i], settings$columns_tried[i], s), x[validation, ],
    num.threads = 1
  )$predictions
  -mean(log(pmax(
    p[cbind(seq_along(validation), match(as.character(y[validation]), colnames(p)))], 1e-15
  )))
}

floor <- function() for (s in 1:5) for (share in c(0.1, 0.25, 0.5, 0.75)) grow(500, share, s)
package <- time_package(plan, floor, enough = 150)
loop <- time_loop(nrow(settings), 5, score_one, most_seconds = 30)
report(
  "10 forest sizes x 4 columns_tried x 5 folds, 1,000 x 12", loop, package, c(4, 8),
  largest_difference(package$value, loop, settings)
)
