# Every metric against a plain formula on random cases: ties, weights (some 0), paths.

plain_two <- list(
  case_cost = function(y, p, w) {
    weighted.mean(ifelse(y, (p <= 0.5) * seq_along(y), (p > 0.5) * 2), w)
  },
  accuracy = function(y, p, w) weighted.mean((p > 0.5) == y, w),
  balanced_accuracy = function(y, p, w) {
    mean(c(weighted.mean((p > 0.5)[y], w[y]), weighted.mean((p <= 0.5)[!y], w[!y])))
  },
  precision = function(y, p, w) weighted.mean(y[p > 0.5], w[p > 0.5]),
  recall = function(y, p, w) weighted.mean((p > 0.5)[y], w[y]),
  specificity = function(y, p, w) weighted.mean((p <= 0.5)[!y], w[!y]),
  f1 = function(y, p, w) {
    2 * sum(w[y & p > 0.5]) / (2 * sum(w[y & p > 0.5]) + sum(w[y != (p > 0.5)]))
  },
  mcc = function(y, p, w) {
    c <- p > 0.5
    tp <- sum(w[y & c])
    tn <- sum(w[!y & !c])
    fp <- sum(w[!y & c])
    fn <- sum(w[y & !c])
    (tp * tn - fp * fn) / sqrt((tp + fp) * (tp + fn) * (tn + fp) * (tn + fn))
  },
  kappa = function(y, p, w) {
    c <- p > 0.5
    w <- w / sum(w)
    chance <- sum(w[y]) * sum(w[c]) + sum(w[!y]) * sum(w[!c])
    (sum(w[y == c]) - chance) / (1 - chance)
  },
  auc = function(y, p, w) {
    pairs <- outer(p[y], p[!y], function(a, b) (a > b) + 0.5 * (a == b))
    sum(pairs * outer(w[y], w[!y])) / (sum(w[y]) * sum(w[!y]))
  },
  average_precision = function(y, p, w) {
    cuts <- sort(unique(p), decreasing = TRUE)
    recall <- sapply(cuts, function(t) sum(w[y & p >= t]) / sum(w[y]))
    precision <- sapply(cuts, function(t) {
      if (sum(w[p >= t]) == 0) 0 else sum(w[y & p >= t]) / sum(w[p >= t])
    })
    sum(diff(c(0, recall)) * precision)
  },
  f_beta = function(y, p, w) {
    precision <- sum(w[y & p > 0.5]) / sum(w[p > 0.5])
    recall <- sum(w[y & p > 0.5]) / sum(w[y])
    if (recall == 0) 0 else 5 / (1 / precision + 4 / recall)
  },
  cost = function(y, p, w) weighted.mean(y != (p > 0.5), w),
  calibration_error = function(y, p, w) {
    rows <- rep(seq_along(y), w)
    tenth <- pmin(floor(10 * (rank(p[rows]) - 0.5) / length(rows) + 1e-9), 9)
    apart <- tapply(p[rows] - y[rows], tenth, mean)
    sum(abs(apart) * table(tenth)) / length(rows)
  },
  slope_gap = function(y, p, w) {
    x <- qlogis(pmin(pmax(p, 1e-6), 1 - 1e-6))
    here <- w > 0
    if (length(unique(x[here])) == 1L) return(1)
    split <- function(sign) max(sign * x[here & !y]) <= min(sign * x[here & y])
    if (split(1) || split(-1)) return(NA)
    fit <- suppressWarnings(glm(y ~ x, quasibinomial, weights = w,
      control = glm.control(1e-14, 200)))
    abs(coef(fit)[["x"]] - 1)
  },
  intercept_gap = function(y, p, w) {
    x <- qlogis(pmin(pmax(p, 1e-6), 1 - 1e-6))
    abs(uniroot(function(a) sum(w * (y - plogis(x + a))), c(-50, 50), tol = 1e-11)$root)
  },
  log_loss = function(y, p, w) weighted.mean(-log(pmax(ifelse(y, p, 1 - p), 1e-15)), w),
  brier = function(y, p, w) weighted.mean((p - y)^2, w),
  lift = function(y, p, w) {
    room <- 0.1 * sum(w)
    found <- 0
    for (t in sort(unique(p), decreasing = TRUE)) {
      here <- p == t
      found <- found +
        sum(w[here & y]) * if (sum(w[here]) == 0) 0 else min(1, max(room, 0) / sum(w[here]))
      room <- room - sum(w[here])
    }
    found / (0.1 * sum(w)) / (sum(w[y]) / sum(w))
  },
  macro_f1 = function(y, p, w) mean(sapply(unique(y[w > 0]), one_f1, y, p > 0.5, w)),
  weighted_f1 = function(y, p, w) {
    weighted.mean(
      c(one_f1(TRUE, y, p > 0.5, w), one_f1(FALSE, y, p > 0.5, w)), c(sum(w[y]), sum(w[!y]))
    )
  }
)

plain_many <- list(
  accuracy = function(y, m, w) weighted.mean(max.col(m, "first") == y, w),
  balanced_accuracy = function(y, m, w) {
    mean(sapply(unique(y[w > 0]), function(k) {
      weighted.mean((max.col(m, "first") == y)[y == k], w[y == k])
    }))
  },
  macro_f1 = function(y, m, w) mean(sapply(unique(y[w > 0]), one_f1, y, max.col(m, "first"), w)),
  weighted_f1 = function(y, m, w) {
    k <- unique(y[w > 0])
    weighted.mean(
      sapply(k, one_f1, y, max.col(m, "first"), w), sapply(k, function(k) sum(w[y == k]))
    )
  },
  micro_f1 = function(y, m, w) weighted.mean(max.col(m, "first") == y, w),
  log_loss = function(y, m, w) weighted.mean(-log(pmax(m[cbind(seq_along(y), y)], 1e-15)), w),
  brier = function(y, m, w) weighted.mean(rowSums((m - diag(ncol(m))[y, ])^2), w),
  mcc = function(y, m, w) {
    k <- ncol(m)
    t <- xtabs(w ~ factor(y, 1:k) + factor(max.col(m, "first"), 1:k))
    s <- sum(t)
    (sum(diag(t)) * s - sum(rowSums(t) * colSums(t))) / sqrt((s^2 - sum(colSums(t)^2)) * (s^2 -
      sum(rowSums(t)^2)))
  },
  kappa = function(y, m, w) {
    classes <- seq_len(ncol(m))
    t <- xtabs(w ~ factor(y, classes) + factor(max.col(m, "first"), classes)) / sum(w)
    (sum(diag(t)) - sum(rowSums(t) * colSums(t))) / (1 - sum(rowSums(t) * colSums(t)))
  },
  auc = function(y, m, w) {
    mean(sapply(sort(unique(y)), function(k) plain_two$auc(y == k, m[, k], w)))
  }
)
one_f1 <- function(k, y, c, w) 2 * sum(w[y == k & c == k]) / (sum(w[y == k]) + sum(w[c == k]))

plain_number <- list(
  rmse = function(y, p, w) sqrt(weighted.mean((y - p)^2, w)),
  mae = function(y, p, w) weighted.mean(abs(y - p), w),
  median_error = function(y, p, w) {
    if (length(unique(w)) == 1) return(median(abs(y - p)))
    e <- abs(y - p)
    # any value with at most half of the weight on either side
    inside <- sapply(e, function(v) {
      sum(w[e < v]) <= sum(w) / 2 + 1e-9 && sum(w[e > v]) <= sum(w) / 2 + 1e-9
    }) & w > 0
    mean(range(e[inside]))
  },
  r_squared = function(y, p, w) 1 - sum(w * (y - p)^2) / sum(w * (y - weighted.mean(y, w))^2),
  mape = function(y, p, w) 100 * weighted.mean(abs((y - p) / y), w),
  smape = function(y, p, w) 100 * weighted.mean(2 * abs(y - p) / (abs(y) + abs(p)), w),
  rmsle = function(y, p, w) sqrt(weighted.mean((log(1 + y) - log(1 + p))^2, w)),
  pinball = function(y, p, w) weighted.mean(abs(y - p) / 2, w),
  huber = function(y, p, w) {
    weighted.mean(ifelse(abs(y - p) <= 1, (y - p)^2 / 2, abs(y - p) - 0.5), w)
  },
  lin_concordance = function(y, p, w) {
    w <- w / sum(w)
    my <- sum(w * y)
    mp <- sum(w * p)
    2 * sum(w * (y - my) * (p - mp)) / (sum(w * (y - my)^2) + sum(w * (p - mp)^2) + (my - mp)^2)
  }
)

metric_members <- kw("shipped_members")("metric")

# An event missed in row i costs i, a false alarm 2.
with_costs <- function(truth) {
  costs <- cbind(missed = seq_along(truth), false_alarm = 2)
  kw("truth_of")(kw("new_target")(truth, costs = costs))
}

# Largest difference over the random cases, for each metric; a case counts where truth
# and prediction leave the metric defined.
differences <- function(plain, draw, cases = 300) {
  worst <- stats::setNames(rep(0, length(plain)), names(plain))
  counted <- worst
  for (case in seq_len(cases)) {
    d <- draw(case)
    weights <- d$weights %||% rep(1, length(d$truth))
    for (name in names(plain)) {
      metric <- metric_members[[name]]()
      if (!is.null(metric$undefined(d$truth, d$weights))) next
      ours <- kw("score_predictions")(metric, d$truth, d$prediction, d$weights)
      theirs <- c(
        plain[[name]](d$plain_truth, d$one(1), weights),
        plain[[name]](d$plain_truth, d$one(2), weights)
      )
      both <- is.finite(theirs)
      if (!identical(is.na(ours), !both)) worst[name] <- Inf
      counted[name] <- counted[name] + any(both)
      worst[name] <- max(worst[name], abs(ours - theirs)[both])
    }
  }
  list(worst = worst, counted = counted)
}
`%||%` <- function(x, y) if (is.null(x)) y else x

test_that("every metric has a plain twin here", {
  by_kind <- function(kind) names(Filter(function(make) kind %in% make()$kinds, metric_members))
  expect_setequal(names(plain_two), by_kind("two_class"))
  expect_setequal(names(plain_many), by_kind("many_class"))
  expect_setequal(names(plain_number), by_kind("number"))
})

test_that("metrics of two classes equal plain formulas on 300 random cases each", {
  found <- withr::with_seed(12, differences(plain_two, function(case) {
    n <- sample(3:40, 1)
    p <- cbind(round(runif(n), sample(1:3, 1)), runif(n))
    p[p == 0.5] <- 0.4
    y <- runif(n) < 0.4
    list(
      truth = with_costs(factor(ifelse(y, "b", "a"), c("a", "b"))), plain_truth = y,
      one = function(v) p[, v],
      weights = if (case %% 2) sample(0:3, n, TRUE) + c(1, rep(0, n - 1)),
      prediction = aperm(array(c(1 - p, p), c(n, 2, 2)), c(1, 3, 2))
    )
  }))
  expect_lt(max(found$worst), 1e-7)
  expect_gt(min(found$counted), 210)
})

test_that("metrics of many classes equal plain formulas on 300 random cases each", {
  found <- withr::with_seed(13, differences(plain_many, function(case) {
    n <- sample(6:40, 1)
    k <- sample(3:5, 1)
    raw <- array(runif(n * k * 2), c(n, k, 2))
    if (case %% 3 == 0) raw <- round(raw, 1) + 0.01
    p <- raw / apply(raw, c(1, 3), sum)[rep(seq_len(n), k) + rep(0:1 * n, each = n * k)]
    y <- sample(k, n, TRUE)
    list(
      truth = factor(letters[y], letters[1:k]), plain_truth = y, one = function(v) p[, , v],
      weights = if (case %% 2) sample(1:3, n, TRUE), prediction = p
    )
  }))
  expect_lt(max(found$worst), 1e-9)
  expect_gt(min(found$counted), 210)
})

test_that("metrics of numbers equal plain formulas on 300 random cases each", {
  found <- withr::with_seed(14, differences(plain_number, function(case) {
    n <- sample(2:50, 1)
    y <- rnorm(n, 10, 3)
    y[y < 0.1] <- 0.1
    p <- matrix(pmax(rnorm(2 * n, 10, 3), 0.1), n)
    list(
      truth = y, plain_truth = y, one = function(v) p[, v], prediction = p,
      weights = if (case %% 2) sample(0:3, n, TRUE) + c(1, rep(0, n - 1))
    )
  }))
  expect_lt(max(found$worst), 1e-9)
  expect_gt(min(found$counted), 270)
})

test_that("metrics with values of one's own follow their formulas, and are named after them", {
  y <- factor(c("no", "yes", "yes", "no", "yes"))
  p <- cbind(1 - c(0.9, 0.2, 0.8, 0.1, 0.6), c(0.9, 0.2, 0.8, 0.1, 0.6))
  score <- function(metric, truth = y, prediction = p) {
    kw("score_predictions")(metric, truth, prediction)
  }
  expect_equal(score(metric_cost(10, 1)), (10 * 1 + 1 * 1) / 5)
  expect_equal(score(metric_f_beta(2)), 5 * 2 / (5 * 2 + 4 * 1 + 1))
  expect_equal(score(metric_lift(0.4)), (1 / 2) / (3 / 5))
  expect_equal(score(metric_pinball(0.9), c(1, 2), c(0, 4)), mean(c(0.9, 0.2)))
  expect_equal(score(metric_huber(0.5), c(1, 2), c(1.2, 4)), mean(c(0.02, 0.5 * 1.75)))
  expect_identical(metric_f_beta(2)$name, "f_beta_2")
  expect_error(metric_cost(-1), "missed", class = "kw_error_argument")
})

test_that("AUC and average precision in C++ give NA for a missing score", {
  scores <- withr::with_seed(14, cbind(rnorm(500), sample(1:5, 500, TRUE), rep(1, 500)))
  event <- withr::with_seed(15, runif(500) < 0.3)
  expect_equal(
    kw("auc_columns")(scores, 1L, 1L, event, numeric()),
    apply(scores, 2, function(s) plain_auc(event, s))
  )
  scores[3, 1] <- NA
  for (f in c("auc_columns", "average_precision_columns")) {
    expect_identical(is.na(kw(f)(scores, 1L, 1L, event, numeric())), c(TRUE, FALSE, FALSE))
  }
})

test_that(
  "the order of any doubles is found: zeros, infinities, the smallest, the last bit, many ties",
  {
    odd <- c(-Inf, -1e308, -5e-324, -0, 0, 5e-324, 1e-300, 1, 1 + 2^-52 * 1:40, Inf)
    for (n in c(200, 2000)) {
      for (case in 1:20) {
        s <- withr::with_seed(
          case, sample(c(odd, if (case %% 2) rnorm(n), if (case %% 3 == 0) 1:400), n, TRUE)
        )
        event <- withr::with_seed(case + 100, runif(n) < 0.4)
        expect_equal(
          kw("auc_columns")(s, 1L, 1L, event, numeric()), plain_auc(event, s),
          tolerance = 1e-12
        )
      }
    }
  }
)

test_that(
  paste(
    "log loss and confusion counts of whole paths agree with plain R, also where predictions",
    "are missing"
  ),
  {
    withr::local_seed(9)
    n <- 300
    y <- factor(sample(letters[1:3], n, TRUE))
    p <- array(round(runif(n * 3 * 7), 1), c(n, 3, 7))
    p[5, 2, 3] <- NA
    w <- sample(0:3, n, TRUE)
    called <- apply(p, c(1, 3), function(row) if (anyNA(row)) NA else which.max(row))
    found <- kw("confusion_columns")(p, as.integer(y), as.double(w), 3L)
    plain <- sapply(1:7, function(v) {
      if (anyNA(called[, v])) rep(NA_real_, 3) else as.vector(xtabs(w ~ factor(called[, v], 1:3)))
    })
    expect_equal(found$called, plain)
    expect_equal(colSums(found$hit), colSums((called == as.integer(y)) * w))
    given <- sapply(1:7, function(v) p[cbind(seq_len(n), as.integer(y), v)])
    expect_equal(
      kw("log_loss_columns")(p, as.integer(y), as.double(w), 3L, 1e-15),
      colSums(-log(pmax(given, 1e-15)) * w) / sum(w)
    )
  }
)

test_that("a split on which the truth leaves a metric undefined is dropped for all, and said", {
  table <- toy(144)
  table$two <- c(rep("yes", 6), rep("no", 138))
  job <- toy_brief("two_class", table)
  plan <- plan_comparison(
    job,
    candidates(b = fam_baseline(), t = fam_tree()),
    splits = split_kfold(12, stratify = FALSE),
    metrics = c("auc", "log_loss"),
    seed = 4
  )
  empty <- sum(vapply(
    rows_by_split(plan), function(r) !any(table$two[r$validation] == "yes"), logical(1)
  ))
  expect_gt(empty, 0)
  cmp <- quiet_run(plan)
  expect_identical(standings(cmp)$splits, rep(12 - empty, 2))
  expect_identical(standings(cmp, metric = "log_loss")$splits, rep(12, 2))
  expect_output(print(cmp), "undefined on")
})

test_that("a prediction that leaves a metric undefined has no place, and the reason is said", {
  cmp <- quiet_run(
    toy_brief(),
    candidates(b = fam_baseline(guess = "majority"), t = fam_tree()),
    splits = split_kfold(4),
    metrics = c("precision", "mcc"),
    seed = 1
  )
  gone <- failures(cmp)
  expect_setequal(gone$candidate, "b")
  expect_match(gone$message[gone$stage == "metric precision"], "no row is called the event")
  expect_match(gone$message[gone$stage == "metric mcc"], "one class")
  table <- standings(cmp)
  expect_identical(table$place[table$candidate == "b"], NA_integer_)
  expect_identical(table$failed[table$candidate == "b"], 4L)
})

test_that("metrics of another outcome kind are refused with those that fit", {
  expect_error(
    plan_comparison(toy_brief("number"), metrics = "auc"), "rmse",
    class = "kw_error_argument"
  )
  expect_error(
    plan_comparison(toy_brief(), metrics = "logloss"), "log_loss",
    class = "kw_error_argument"
  )
  expect_error(
    plan_comparison(toy_brief(), metrics = c("auc", metric_cost(1, 2))),
    "list\\(",
    class = "kw_error_argument"
  )
})

test_that("a metric of one's own decides like any other, and is checked", {
  worst <- define_metric("worst_error", "number", "lower",
    unit = "outcome",
    score = function(truth, prediction, weights) max(abs(truth - prediction))
  )
  cmp <- quiet_run(
    toy_brief("number"),
    candidates(t = fam_tree(pruning = among(0, 0.1))),
    splits = split_kfold(3),
    metrics = list(worst(), "rmse"),
    seed = 1
  )
  rows <- rows_by_split(cmp)[[2]]
  grown <- rpart::rpart(
    number ~ x1 + x2 + x3 + colour,
    toy()[rows$training, ],
    control = rpart::rpart.control(cp = 0, xval = 0, minsplit = 20, minbucket = 7)
  )
  p <- predict(rpart::prune(grown, 0.1), toy()[rows$validation, ])
  found <- scores_by_split(cmp, metric = "worst_error")
  expect_equal(
    found$validation[found$setting == 2 & found$split == 2],
    max(abs(toy()$number[rows$validation] - p))
  )
  table <- standings(cmp, metric = "worst_error")
  expect_true(all(diff(table$mean) >= 0))
  outside <- 2
  expect_error(
    define_metric("m", "number", "lower", function(truth, prediction, weights) outside),
    "outside",
    class = "kw_error_definition"
  )
  expect_true(all(try_out(worst, toy_brief("number"))$passed))
  two <- define_metric("two", "number", "lower", score = function(truth, prediction, weights) {
    c(1, 2)
  })
  expect_match(try_out(two, toy_brief("number"))$detail, "one number", all = FALSE)
})

test_that("list_metrics tells what fits an outcome", {
  expect_true(all(c("auc", "cost", "lift") %in% list_metrics(toy_brief())$metric))
  expect_setequal(list_metrics("number")$metric, names(plain_number))
  expect_identical(
    unique(list_metrics("number")$better[list_metrics("number")$metric %in% c("rmse", "mae")]),
    "lower"
  )
})
