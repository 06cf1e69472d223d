# A table of few rows and many columns, as of genes or spectra: 30 penalties x 5 folds on
# 200 x 5,000, gaps filled and columns scaled in each fold, against a loop that does the same for
# every setting. Then whether the package's own work is in proportion to the columns: reading a CSV
# file, brief, plan, run, final model and predictions on 5,000 columns and on 500.

source("bench/common.R")

table <- made_up_table(200, 5000)
x <- as.matrix(table[paste0("x", 1:5000)])
x[sample(length(x), 1000)] <- NA
table[colnames(x)] <- as.data.frame(x)
penalties <- signif(exp(seq(log(1), log(1e-2), length.out = 30)), 6)
job <- brief(table[c(colnames(x), "class")], "class", event = "yes")
plan <- plan_comparison(
  job,
  candidates(penalised = pipeline(
    pre_missing(), pre_scale(), fam_penalised(penalty = among(penalties), lasso_share = 1)
  )),
  splits = split_kfold(5), metrics = "log_loss", seed = 1
)
rows <- rows_by_split(plan)
y <- factor(table$class)
prepare <- function(s) {
  training <- x[rows[[s]]$training, ]
  fill <- apply(training, 2, median, na.rm = TRUE)
  filled <- function(x) {
    gaps <- which(is.na(x), arr.ind = TRUE)
    x[gaps] <- fill[gaps[, 2]]
    x
  }
  training <- scale(filled(training))
  list(training = training, validation = scale(
    filled(x[rows[[s]]$validation, ]), attr(training, "scaled:center"),
    attr(training, "scaled:scale")
  ))
}
path <- function(training, s) {
  glmnet::glmnet(
    training, y[rows[[s]]$training], alpha = 1, lambda = penalties, standardize = FALSE,
    family = "binomial"
  )
}
score_one <- function(i, s) {
  ready <- prepare(s)
  p <- drop(predict(
    path(ready$training, s), ready$validation, s = penalties[i], type = "response"
  ))
  -mean(log(pmax(ifelse(y[rows[[s]]$validation] == "yes", p, 1 - p), 1e-15)))
}
floor <- function() for (s in 1:5) path(prepare(s)$training, s)
package <- time_package(plan, floor)
loop <- time_loop(length(penalties), 5, score_one)
report(
  "30 penalties x 5 folds, 200 x 5,000 with gaps", loop, package, c(10, 15),
  largest_difference(package$value, loop, data.frame(penalty = penalties))
)

# In proportion to the columns? -------------------------------------------------------------

work_on <- function(columns) {
  some <- table[c(colnames(x)[seq_len(columns)], "class")]
  file <- tempfile(fileext = ".csv")
  data.table::fwrite(some, file)
  families <- candidates(
    penalised = pipeline(pre_missing(), pre_scale(), fam_penalised()), tree = fam_tree(),
    near = pipeline(pre_missing(), pre_keep_top(top = 30), pre_scale(), fam_neighbours())
  )
  works <- list(
    read = function() given <<- read_data(file),
    brief = function() job <<- brief(given, "class", event = "yes"),
    plan = function() plan <<- plan_comparison(job, families, splits = split_kfold(5), seed = 1),
    run = function() cmp <<- run_comparison(plan, quiet = TRUE, workers = 1),
    final = function() model <<- fit_final(select_final(cmp, "best_mean")),
    predict = function() predict(model, given)
  )
  given <- job <- plan <- cmp <- model <- NULL
  vapply(works, function(work) seconds_of(work())$seconds, 1)
}

work_on(500)
turns <- lapply(1:3, function(i) list(few = work_on(500), many = work_on(5000)))
few <- apply(vapply(turns, `[[`, numeric(6), "few"), 1L, median)
many <- apply(vapply(turns, `[[`, numeric(6), "many"), 1L, median)
cat(sprintf("  %-8s 500 columns %6.2f s, 5,000 columns %6.2f s, %5.1f times as long\n",
  names(few), few, many, many / few), sep = "")
over <- sum(many) / sum(few)
keep_row(
  "ten times as many columns, from CSV to predictions, 200 rows", "one process",
  sprintf("%.1f times as long", over), "<= 11 times", over <= 11
)
