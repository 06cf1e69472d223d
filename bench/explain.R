# Partial dependence and permutation importance against naive loops, row by row; importance
# also one shuffled copy at a time. A tree on 1,600 rows.

source("bench/common.R")

table <- made_up_table(1600, 15)[c(paste0("x", 1:15), "class")]
job <- brief(table, "class", event = "yes")
cmp <- run_comparison(
  job,
  candidates(tree = pipeline(fam_tree())),
  splits = split_kfold(5),
  metrics = "auc",
  seed = 1,
  quiet = TRUE,
  workers = 1
)
choice <- select_final(cmp)
model <- fit_final(choice)

whole <- seconds_of(column_effect(model, "x1", rows = 200, points = 25))
values <- whole$value$mean$x1
rows <- sort(unique(whole$value$rows$row))[1:20]
predicted_at <- function(i, value) {
  row <- table[i, ]
  row$x1 <- value
  predict(model, row, type = "probability")$p_yes
}
mean_at <- function(value) mean(vapply(rows, predicted_at, 1, value = value))
loop <- seconds_of(vapply(values, mean_at, 1))
ours <- whole$value$rows[whole$value$rows$row %in% rows, ]
difference <- max(abs(tapply(ours$prediction, match(ours$x1, values), mean) - loop$value))
ratio <- loop$seconds * 200 / 20 / whole$seconds
cat(sprintf(
  paste(
    "partial dependence: row by row %.1f s (scaled from 20 rows), package %.2f s: %.0f",
    "(wanted: at least 10), largest difference %.0e\n"
  ),
  loop$seconds * 10,
  whole$seconds,
  ratio,
  difference
))
if (difference > 1e-9) stop("the predictions differ: this benchmark proves nothing")
keep_row(
  "partial dependence, 25 values x 200 rows",
  "one process",
  sprintf("%.0f x a loop over rows", ratio),
  ">= 10 x",
  ratio >= 10
)

refit <- kilnwright:::new_refit(cmp, choice$at)
split <- cmp$plan$splits[[1]]
fitted <- c(
  refit$fit(split$training, split$key)["predict"],
  kilnwright:::data_rows(refit$data, split$validation)
)
metric <- cmp$plan$metrics$auc
columns <- names(fitted$frame$columns)
sets <- as.list(columns)
whole <- min(replicate(
  3, seconds_of(kilnwright:::unit_importance(refit, 1L, choice, list(
    metric = metric, sets = sets, times = 10, near = NULL, again = FALSE
  )))$seconds
))
loop <- min(replicate(3, seconds_of(for (column in columns) for (i in 1:10) {
  copy <- fitted$frame
  copy$columns[[column]] <- sample(copy$columns[[column]])
  kilnwright:::score_predictions(metric, fitted$target$outcome, fitted$predict(copy), NULL)
})$seconds))
rows <- 40
single <- seconds_of(for (i in seq_len(rows)) {
  copy <- kilnwright:::frame_rows(fitted$frame, i)
  fitted$predict(copy)
})$seconds * fitted$frame$n / rows * length(columns) * 10
cat(sprintf(
  paste(
    "importance: row by row %.1f s (scaled from %d rows), package %.2f s: %.0f (wanted: at",
    "least 10)\n"
  ),
  single,
  rows,
  whole,
  single / whole
))
keep_row(
  "permutation importance, 15 columns x 10 shuffles",
  "one process, rows",
  sprintf("%.0f x a loop over rows", single / whole),
  ">= 10 x",
  single / whole >= 10
)
cat(sprintf("importance: copy by copy %.2f s, package %.2f s: %.1f\n\n", loop, whole, loop / whole))
keep_row(
  "permutation importance, 15 columns x 10 shuffles",
  "one process",
  sprintf("%.1f x a loop over shuffled copies", loop / whole),
  "-",
  TRUE
)
