# 404 tree settings (2 impurities x 202 complexities) x 10 folds, 2,000 x 12.

source("bench/common.R")

table <- made_up_table(2000, 12)[c(paste0("x", 1:12), "class")]
complexities <- signif(exp(seq(log(1e-5), log(0.1), length.out = 202)), 6)
job <- brief(table, "class", event = "yes")
plan <- plan_comparison(
  job,
  candidates(tree = fam_tree(
    pruning = among(complexities), impurity = among("gini", "information"), min_leaf = 5
  )),
  splits = split_kfold(10), metrics = "log_loss", seed = 1
)
rows <- rows_by_split(plan)
settings <- expand.grid(
  impurity = c("gini", "information"), pruning = complexities, stringsAsFactors = FALSE
)

data <- transform(table, class = factor(class))
grow <- function(impurity, training) {
  rpart::rpart(class ~ ., data[training, ],
    method = "class", parms = list(split = impurity),
    control = rpart::rpart.control(
      minsplit = 14, minbucket = 5, cp = 0, xval = 0, maxcompete = 0, maxsurrogate = 0
    )
  )
}
score_one <- function(i, s) {
  fit <- rpart::prune(grow(settings$impurity[i], rows[[s]]$training), settings$pruning[i])
  p <- predict(fit, data[rows[[s]]$validation, ])
  truth <- as.integer(data$class[rows[[s]]$validation])
  -mean(log(pmax(p[cbind(seq_along(truth), truth)], 1e-15)))
}

floor <- function() {
  for (s in 1:10) for (impurity in c("gini", "information")) grow(impurity, rows[[s]]$training)
}
package <- time_package(plan, floor)
loop <- time_loop(nrow(settings), 10, score_one)
report(
  "404 tree settings x 10 folds, 2,000 x 12", loop, package, c(35, 55),
  largest_difference(package$value, loop, settings)
)
