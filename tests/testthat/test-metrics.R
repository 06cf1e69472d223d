test_that("class metrics equal plain formulas on random cases, ties, paths and weights included", {
  worst <- 0
  withr::with_seed(12, for (case in 1:250) {
    k <- if (case %% 2) 2L else sample(3:5, 1)
    n <- sample(5:60, 1)
    truth <- factor(sample(letters[1:k], n, TRUE), levels = letters[1:k])
    if (length(unique(truth)) < 2) next
    raw <- array(round(runif(n * k * 3), sample(c(1, 3), 1)) + 0.01, c(n, k, 3))
    p <- raw / as.vector(apply(raw, c(1, 3), sum))[rep(seq_len(n), k) + rep(0:2 * n, each = n * k)]
    w <- if (case %% 3 == 0) runif(n)
    wn <- if (is.null(w)) rep(1, n) else w
    score <- function(name) kw("score_predictions")(kw("shipped_members")("metric")[[name]](), truth, p, w)
    plain <- sapply(1:3, function(v) {
      m <- p[, , v]
      called <- max.col(m, "first")
      hit <- called == as.integer(truth)
      auc_one <- function(j) {
        pos <- as.integer(truth) == j
        pairs <- outer(m[pos, j], m[!pos, j], function(a, b) (a > b) + 0.5 * (a == b))
        sum(pairs * outer(wn[pos], wn[!pos])) / (sum(wn[pos]) * sum(wn[!pos]))
      }
      present <- which(table(truth) > 0)
      c(accuracy = sum(wn * hit) / sum(wn),
        balanced_accuracy = mean(sapply(present, function(j) weighted.mean(hit[as.integer(truth) == j], wn[as.integer(truth) == j]))),
        log_loss = -sum(wn * log(pmax(m[cbind(1:n, as.integer(truth))], 1e-15))) / sum(wn),
        auc = if (k == 2) auc_one(2) else mean(sapply(present, auc_one)),
        f1 = if (k != 2) {
          NA
        } else {
          precision <- sum(wn[called == 2 & hit]) / sum(wn[called == 2])
          recall <- sum(wn[called == 2 & hit]) / sum(wn[truth == "b"])
          if (is.nan(precision) || precision + recall == 0) 0 else 2 * precision * recall / (precision + recall)
        })
    })
    for (name in rownames(plain)) if (!anyNA(plain[name, ])) worst <- max(worst, abs(score(name) - plain[name, ]))
  })
  expect_lt(worst, 1e-10)
})

test_that("number metrics equal plain formulas on random cases", {
  withr::with_seed(13, for (case in 1:200) {
    n <- sample(2:50, 1)
    truth <- rnorm(n, 10)
    p <- matrix(rnorm(n * 2, 10), n)
    w <- if (case %% 2) runif(n, 0.1, 1)
    wn <- if (is.null(w)) rep(1, n) else w
    score <- function(name) kw("score_predictions")(kw("shipped_members")("metric")[[name]](), truth, p, w)
    error <- truth - p[, 2]
    expect_equal(score("rmse")[2], sqrt(weighted.mean(error^2, wn)))
    expect_equal(score("mae")[2], weighted.mean(abs(error), wn))
    expect_equal(score("r_squared")[2], 1 - sum(wn * error^2) / sum(wn * (truth - weighted.mean(truth, wn))^2))
  })
})

test_that("AUC in C++ equals its twin in plain R, and a missing score gives NA", {
  withr::with_seed(14, {
    scores <- cbind(rnorm(500), sample(1:5, 500, TRUE), rep(1, 500))
    event <- runif(500) < 0.3
  })
  found <- kw("auc_columns")(scores, event, numeric())
  expect_equal(found, apply(scores, 2, function(s) plain_auc(event, s)))
  expect_identical(found[3], 0.5)
  scores[3, 1] <- NA
  expect_identical(is.na(kw("auc_columns")(scores, event, numeric())), c(TRUE, FALSE, FALSE))
})

test_that("a split on which the truth leaves a metric undefined is dropped for all, and said", {
  table <- toy(60)
  table$two <- c(rep("yes", 6), rep("no", 54))
  job <- toy_brief("two_class", table)
  plan <- plan_comparison(job, candidates(b = fam_baseline(), t = fam_tree()), splits = split_kfold(12, stratify = FALSE),
                          metrics = c("auc", "log_loss"), seed = 4)
  empty <- sum(vapply(rows_by_split(plan), function(r) !any(table$two[r$validation] == "yes"), logical(1)))
  expect_gt(empty, 0)
  cmp <- quiet_run(plan)
  expect_identical(standings(cmp)$splits, rep(12 - empty, 2))
  expect_identical(standings(cmp, by = "log_loss")$splits, rep(12, 2))
  expect_output(print(cmp), "undefined on")
})

test_that("metrics of another outcome kind are refused with those that fit", {
  expect_error(plan_comparison(toy_brief("number"), metrics = "auc"), "rmse", class = "kw_error_argument")
  expect_error(plan_comparison(toy_brief(), metrics = "logloss"), "log_loss", class = "kw_error_argument")
})
