# Every score must equal what a plain loop over the same rows gives.

plain_scores <- function(kind, truth, p) {
  if (kind == "number") return(c(
    rmse = sqrt(mean((truth - p)^2)), mae = mean(abs(truth - p)),
    r_squared = 1 - sum((truth - p)^2) / sum((truth - mean(truth))^2)
  ))
  classes <- colnames(p)
  called <- classes[apply(p, 1, which.max)]
  given <- p[cbind(seq_along(truth), match(truth, classes))]
  recalls <- tapply(called == truth, truth, mean)
  scores <- c(
    accuracy = mean(called == truth), balanced_accuracy = mean(recalls),
    log_loss = -mean(log(pmax(given, 1e-15))),
    auc = mean(vapply(
      if (kind == "two_class") "yes" else classes,
      function(k) plain_auc(truth == k, p[, k]), numeric(1)
    ))
  )
  if (kind == "two_class") {
    hits <- sum(called == "yes" & truth == "yes")
    scores["f1"] <- 2 * hits / (sum(called == "yes") + sum(truth == "yes"))
  }
  scores
}

metrics_of <- list(
  number = c("rmse", "mae", "r_squared"),
  two_class = c("auc", "log_loss", "accuracy", "balanced_accuracy", "f1"),
  many_class = c("log_loss", "auc", "accuracy", "balanced_accuracy")
)

# Fills, one-hot and scaling by hand: learned on `train`, used on both.
prepare <- function(table, train, rows) {
  medians <- vapply(table[train, c("x1", "x2", "x3")], median, numeric(1), na.rm = TRUE)
  commonest <- names(which.max(table(table$colour[train])))
  part <- table[, c("x1", "x2", "x3", "colour")]
  for (column in names(medians)) part[[column]][is.na(part[[column]])] <- medians[[column]]
  part$colour[is.na(part$colour)] <- commonest
  x <- cbind(
    as.matrix(part[1:3]),
    sapply(sort(unique(part$colour[train])), function(l) as.numeric(part$colour == l))
  )
  centre <- colMeans(x[train, ])
  spread <- apply(x[train, ], 2, sd)
  sweep(sweep(x, 2, centre), 2, spread, "/")[rows, , drop = FALSE]
}

loop_predict <- list(
  baseline = function(table, kind, y, train, test, setting) {
    if (kind == "number") return(rep(mean(y[train]), length(test)))
    shares <- table(factor(y[train], class_order(kind))) / length(train)
    matrix(shares, length(test), length(shares), byrow = TRUE, dimnames = list(NULL, names(shares)))
  },
  linear = function(table, kind, y, train, test, setting) {
    x <- as.data.frame(prepare(table, train, seq_along(y)))
    if (kind == "number") {
      fit <- suppressWarnings(lm(y ~ ., cbind(x, y = y)[train, ]))
      return(suppressWarnings(predict(fit, x[test, ])))
    }
    if (kind == "two_class") {
      fit <- suppressWarnings(glm(y ~ ., binomial, cbind(x, y = as.numeric(y == "yes"))[train, ]))
      return(with_no(suppressWarnings(predict(fit, x[test, ], type = "response"))))
    }
    z <- factor(y, class_order(kind))
    fit <- nnet::multinom(z ~ ., cbind(x, z = z)[train, ], trace = FALSE, maxit = 1000)
    predict(fit, x[test, ], type = "probs")
  },
  penalised = function(table, kind, y, train, test, setting) {
    x <- prepare(table, train, seq_along(y))
    unit <- if (kind == "number") sqrt(mean((y[train] - mean(y[train]))^2)) else 1
    target <- if (kind == "number") y else factor(y, class_order(kind))
    fit <- glmnet::glmnet(
      x[train, ],
      target[train],
      alpha = setting$lasso_share,
      standardize = FALSE,
      family = c(
        number = "gaussian", two_class = "binomial",
        many_class = "multinomial"
      )[[kind]],
      lambda = sort(penalties, decreasing = TRUE) * unit
    )
    p <- predict(fit, x[test, ], s = setting$penalty * unit, type = "response")
    if (kind == "number") drop(p) else if (kind == "two_class") with_no(drop(p)) else p[, , 1]
  },
  tree = function(table, kind, y, train, test, setting) {
    data <- data.frame(table[, c("x1", "x2", "x3")],
      colour = factor(table$colour),
      y = if (kind == "number") y else factor(y, class_order(kind))
    )
    grown <- rpart::rpart(y ~ ., data[train, ],
      method = if (kind == "number") "anova" else "class",
      parms = if (kind != "number") list(split = "gini"),
      control = rpart::rpart.control(
        minsplit = 20, minbucket = 7, cp = 0, xval = 0, maxcompete = 0
      )
    )
    predict(rpart::prune(grown, setting$pruning), data[test, ])
  }
)

class_order <- function(kind) if (kind == "two_class") c("no", "yes") else c("high", "low", "mid")
with_no <- function(p) cbind(no = 1 - p, yes = p)
penalties <- c(0.003, 0.03, 0.3)

toy_candidates <- list(
  baseline = fam_baseline(),
  linear = fam_linear(),
  penalised = fam_penalised(penalty = among(penalties), lasso_share = among(0, 0.5)),
  tree = fam_tree(pruning = among(0, 0.01, 0.05))
)

for (kind in names(outcomes)) {
  test_that(paste("scores equal a hand-written loop:", kind), {
    table <- toy(180, missing = TRUE)
    job <- toy_brief(kind, table)
    y <- table[[outcomes[[kind]]]]
    cmp <- quiet_run(
      job,
      do.call(candidates, toy_candidates),
      splits = split_kfold(4),
      metrics = metrics_of[[kind]],
      seed = 11
    )
    expect_identical(nrow(failures(cmp)), 0L)
    shown <- standings(cmp)
    scores <- scores_by_split(cmp)
    rows <- rows_by_split(cmp)
    compared <- 0
    for (i in seq_len(nrow(shown))) {
      for (s in seq_along(rows)) {
        p <- loop_predict[[shown$candidate[i]]](
          table, kind, y, rows[[s]]$training, rows[[s]]$validation, as.list(shown[i, ])
        )
        by_hand <- plain_scores(kind, y[rows[[s]]$validation], p)
        ours <- scores[scores$candidate == shown$candidate[i] & scores$setting == shown$setting[i] &
          scores$split == s, ]
        expect_equal(
          stats::setNames(ours$validation, ours$metric), by_hand[ours$metric],
          tolerance = 1e-6
        )
        compared <- compared + 1
      }
    }
    expect_identical(compared, 4 * 11)
  })

  test_that(paste("forest scores equal direct calls of the package with the same seeds:", kind), {
    table <- toy(120)
    job <- toy_brief(kind, table)
    plan <- plan_comparison(
      job,
      candidates(forest = fam_forest(
        trees = among(3, 20), min_node = among(1, 10), columns_tried = 0.5
      )),
      splits = split_kfold(3),
      seed = 5,
      metrics = metrics_of[[kind]]
    )
    cmp <- quiet_run(plan)
    work <- kw("compile_work")(plan$spaces, cmp$results$tables)
    y <- table[[outcomes[[kind]]]]
    x <- table[c("x1", "x2", "x3", "colour")]
    x$colour <- factor(x$colour)
    for (at in seq_len(4)) for (s in 1:3) {
      fit <- work$settings$fit[at]
      key <- paste(
        paste(job$fingerprint, plan$splits[[s]]$key),
        work$nodes[[work$fits$node[fit]]]$key, work$fits$key[fit]
      )
      setting <- cmp$results$tables$forest[at, ]
      rows <- rows_by_split(cmp)[[s]]
      target <- if (kind == "number") y else factor(y, class_order(kind))
      direct <- ranger::ranger(
        x = x[rows$training, ],
        y = target[rows$training],
        num.trees = setting$trees,
        mtry = 2,
        respect.unordered.factors = "order",
        min.node.size = setting$min_node,
        probability = kind != "number",
        num.threads = 1,
        seed = kw("derive_seed")(5, key)
      )
      p <- predict(direct, x[rows$validation, ], num.threads = 1)$predictions
      ours <- vapply(cmp$results$scores, function(m) m[at, s], numeric(1))
      expect_equal(ours, plain_scores(kind, y[rows$validation], p)[names(ours)], tolerance = 1e-9)
    }
  })
}

test_that("weights enter fits and scores", {
  table <- toy(150)
  table$w <- withr::with_seed(2, runif(150, 0.2, 3))
  job <- brief(table, "number", weight = "w", ignore = c("two", "three", "batch"))
  cmp <- quiet_run(
    job,
    candidates(baseline = fam_baseline(), linear = fam_linear()),
    splits = split_kfold(3),
    metrics = "rmse",
    seed = 1
  )
  rows <- rows_by_split(cmp)[[2]]
  centre <- weighted.mean(table$number[rows$training], table$w[rows$training])
  by_hand <- sqrt(weighted.mean(
    (table$number[rows$validation] - centre)^2, table$w[rows$validation]
  ))
  ours <- scores_by_split(cmp)
  expect_equal(ours$validation[ours$candidate == "baseline" & ours$split == 2], by_hand)
})
