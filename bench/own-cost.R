# What searches take for themselves. First as a share of a run in which every fit takes 50 ms: all
# between rounds, from what a search is told to what it proposes; 200 settings by evolution, 100 by
# a guided search, in a field of six choices of steps before three families, on ten folds and on
# five. Wanted: under 5 %. Then what one more round takes when 1,000 settings of 20 dimensions are
# known. Wanted: under one second.

source("bench/common.R")
internal <- function(name) getFromNamespace(name, "kilnwright")

slow_family <- function(name) {
  define_family(name,
    kinds = "number",
    fit = function(x, y, weights, settings, seed, threads) {
      Sys.sleep(0.05)
      shrink <- 1 - settings$shrink
      list(at = mean(y), by = shrink * stats::cov(x, y) / pmax(apply(x, 2, stats::var), 1e-9))
    },
    predict = function(model, x) as.vector(model$at + x %*% model$by),
    defaults = list(shrink = 0.5)
  )
}

set.seed(1)
x <- as.data.frame(matrix(stats::rnorm(120 * 5), 120))
x$V6 <- sample(c("a", "b", "c"), 120, TRUE)
x$y <- x$V1 + x$V2^2 + stats::rnorm(120)
job <- brief(x, "y")
ready <- list(
  pre_onehot(), optional(pre_skew()), optional(pre_outliers()), optional(pre_drop_correlated()),
  either(plain = as_is(), squares = pre_polynomial(), splines = pre_splines()),
  either(sd = pre_scale(), range = pre_scale(by = "range"), iqr = pre_scale(by = "iqr")),
  either(all = as_is(), parts = pre_components(), best = pre_keep_top(top = 5))
)
field <- do.call(candidates, lapply(c(one = "one", two = "two", three = "three"), function(name) {
  pipeline(ready, slow_family(name)(shrink = from_to(0, 1, points = 9)))
}))

took <- 0
ask <- internal("ask_searches")
assignInNamespace("ask_searches", function(...) {
  started <- proc.time()[[3]]
  on.exit(took <<- took + proc.time()[[3]] - started)
  ask(...)
}, "kilnwright")

searches <- list("evolve, 200 settings" = search_evolve(200), "guided, 100" = search_guided(100))
for (search in names(searches)) for (folds in c(10, 5)) for (workers in c(1, 2)) {
  took <- 0
  cmp <- run_comparison(job, field,
    splits = split_kfold(folds), search = searches[[search]], seed = 1, workers = workers,
    quiet = TRUE
  )
  fits <- length(unique(paste(cmp$ledger$fit, cmp$ledger$split)))
  cat(sprintf(
    "%-20s %5d fits on %d folds, workers %d: %.1f s of %.1f s, %.1f %%\n",
    search, fits, folds, workers, took, cmp$seconds, 100 * took / cmp$seconds
  ))
}

# One more round when 1,000 settings of 20 dimensions are known.
many <- define_family("many_dimensions",
  kinds = "number",
  fit = function(x, y, weights, settings, seed, threads) sum(unlist(settings)),
  predict = function(model, x) rep(model, nrow(x)),
  defaults = stats::setNames(as.list(rep(0.5, 20)), paste0("d", 1:20))
)
ranges <- stats::setNames(rep(list(from_to(0, 1, points = 101)), 20), paste0("d", 1:20))
space <- candidates(many = do.call(many, ranges))
told <- run_comparison(job, space,
  splits = split_kfold(5), search = search_random(1000), seed = 1, quiet = TRUE
)
plan <- told$plan
for (search in list(search_evolve(2000), search_guided(2000))) {
  seats <- internal("search_seats")(search, names(plan$spaces))
  metric <- plan$metrics[[plan$decide]]
  splits <- seq_along(plan$splits)
  seats <- internal("first_round")(plan$spaces, seats, metric, 1, splits)$seats
  history <- internal("search_history")(told$results, plan)
  # the first round after the first is still a beginning
  seats <- internal("propose_all")(seats, plan$spaces, metric, history, splits)$seats
  rounds <- replicate(5, {
    started <- proc.time()[[3]]
    internal("propose_all")(seats, plan$spaces, metric, history, splits)
    proc.time()[[3]] - started
  })
  cat(sprintf(
    "%-20s one more round, 1,000 settings of 20 dimensions known: %.2f s (first %.2f)\n",
    search$name, stats::median(rounds), rounds[1]
  ))
}
