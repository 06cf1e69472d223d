# Metrics of whole matrices of predictions, 10,000 rows x 200 columns, against plain R,
# column by column; scores must agree.

source("bench/common.R")

set.seed(3)
rows <- 10000
columns <- 200
truth <- factor(ifelse(runif(rows) < 0.3, "yes", "no"))
event <- truth == "yes"
continuous <- matrix(runif(rows * columns), rows)
few <- matrix(round(runif(rows * columns) * 250) / 250, rows)
as_prediction <- function(p) {
  whole <- array(0, c(rows, 2, columns))
  whole[, 1, ] <- 1 - p
  whole[, 2, ] <- p
  whole
}

auc_plain <- function(p) {
  (sum(rank(p)[event]) - sum(event) * (sum(event) + 1) / 2) / (sum(event) * sum(!event))
}
precision_plain <- function(p) {
  down <- order(p, decreasing = TRUE)
  last <- !duplicated(p[down], fromLast = TRUE)
  found <- cumsum(event[down])[last]
  sum(diff(c(0, found)) / sum(event) * found / which(last))
}
log_loss_plain <- function(p) -mean(log(pmax(ifelse(event, p, 1 - p), 1e-15)))
kappa_plain <- function(p) {
  counts <- table(event, factor(p > 0.5, c(FALSE, TRUE))) / rows
  chance <- sum(rowSums(counts) * colSums(counts))
  (sum(diag(counts)) - chance) / (1 - chance)
}

one <- function(name, metric, plain, p, wanted) {
  score <- kilnwright:::find_metric(metric, "two_class")$score
  prediction <- as_prediction(p)
  ours <- median(replicate(5, seconds_of(score(truth, prediction, NULL))$seconds))
  loop <- median(replicate(3, seconds_of(apply(p, 2, plain))$seconds))
  difference <- max(abs(score(truth, prediction, NULL) - apply(p, 2, plain)))
  cat(sprintf(
    "%-38s plain R %.3f s, package %.3f s: %.1f (wanted: at least %g), largest difference %.0e\n",
    name,
    loop,
    ours,
    loop / ours,
    wanted,
    difference
  ))
  keep_row(
    paste0(name, ", 10,000 rows x 200 columns"),
    "one process",
    sprintf("%.1f x plain R", loop / ours),
    if (wanted > 1) sprintf(">= %g x", wanted) else "-",
    loop / ours >= wanted
  )
  if (difference > 1e-9) stop("the scores differ: this benchmark proves nothing")
}

one("AUC, continuous", "auc", auc_plain, continuous, 4)
one("AUC, 251 distinct values", "auc", auc_plain, few, 10)
one("average precision, continuous", "average_precision", precision_plain, continuous, 4)
one("average precision, 251 distinct values", "average_precision", precision_plain, few, 10)
one("log loss", "log_loss", log_loss_plain, continuous, 1)
one("kappa, from confusion counts", "kappa", kappa_plain, continuous, 1)
