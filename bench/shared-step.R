# 24 settings of 4 families behind one shared step that costs about as much as three
# fits, x 5 folds, 8,000 x 40. Families and step are plain functions, called by the loop
# and by the package alike.

source("bench/common.R")

table <- made_up_table(8000, 40)[c(paste0("x", 1:40), "number")]
learn <- function(columns, outcome) {
  x <- as.matrix(columns)
  for (i in 1:16) spread <- crossprod(x)
  chol(spread / nrow(x))
}
use <- function(columns, state) {
  for (name in names(columns)) columns[[name]] <- columns[[name]] / state[1, 1]
  columns
}
fitter <- function(bend) {
  eval(substitute(function(x, y, weights, settings, seed, threads) {
    z <- cbind(1, x, BEND)
    solve(crossprod(z) + diag(settings$ridge, ncol(z)), crossprod(z, y))
  }, list(BEND = bend)))
}
predictor <- function(bend) {
  eval(substitute(function(model, x) drop(cbind(1, x, BEND) %*% model), list(BEND = bend)))
}
bends <- list(
  square = quote(x^2), wave = quote(sin(x)), size = quote(abs(x)),
  root = quote(sqrt(abs(x)))
)
ridges <- c(0.1, 0.3, 1, 3, 10, 30)
fits <- lapply(bends, fitter)
predicts <- lapply(bends, predictor)
families <- Map(
  function(name, fit, predict) {
    define_family(name, "number", fit, predict, defaults = list(ridge = 1))
  },
  names(bends),
  fits,
  predicts
)

job <- brief(table, "number")
step <- pre_custom(use = use, learn = learn)
pipelines <- lapply(families, function(family) pipeline(step, family(ridge = among(ridges))))
plan <- plan_comparison(
  job, do.call(candidates, pipelines),
  splits = split_kfold(5), metrics = "rmse", seed = 1
)
rows <- rows_by_split(plan)
settings <- expand.grid(ridge = ridges, family = 1:4)
x <- table[1:40]
prepare <- function(s) {
  state <- learn(x[rows[[s]]$training, ], NULL)
  list(
    training = as.matrix(use(x[rows[[s]]$training, ], state)),
    validation = as.matrix(use(x[rows[[s]]$validation, ], state))
  )
}
fit_one <- function(i, s, ready) {
  fits[[settings$family[i]]](
    ready$training, table$number[rows[[s]]$training], NULL, list(ridge = settings$ridge[i]), 1, 1
  )
}
score_one <- function(i, s) {
  ready <- prepare(s)
  p <- predicts[[settings$family[i]]](fit_one(i, s, ready), ready$validation)
  sqrt(mean((table$number[rows[[s]]$validation] - p)^2))
}

floor <- function() {
  for (s in 1:5) {
    ready <- prepare(s)
    for (i in 1:24) fit_one(i, s, ready)
  }
}
package <- time_package(plan, floor)
steps <- seconds_of(for (s in 1:5) prepare(s))
cat(sprintf(
  "one step costs as much as %.1f fits\n", 24 * steps$seconds / (package$floor - steps$seconds)
))
loop <- time_loop(24, 5, score_one)
report(
  "24 settings of 4 families behind one step x 5 folds, 8,000 x 40", loop, package, c(3, 5.5),
  largest_difference(package$value, loop, settings["ridge"], settings$family)
)
