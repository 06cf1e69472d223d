test_that("leaving groups, a column's values or given parts out does just that", {
  table <- toy(90)
  table$fold <- rep(c("training", "validation", NA), 30)
  table$other <- rep(c("validation", "training"), 45)
  job <- brief(
    table,
    outcome = "number", group = "batch", ignore = c("two", "three", "fold", "other")
  )
  groups <- places(job, split_leave_group())
  expect_length(groups, 18)
  expect_true(all(sapply(groups, function(r) length(unique(table$batch[r$validation])) == 1)))
  colours <- places(job, split_leave_group(group = "colour"))
  expect_setequal(
    sapply(colours, function(r) unique(table$colour[r$validation])), unique(table$colour)
  )
  given <- places(job, split_columns(c("fold", "other")))
  expect_identical(
    given[[1]],
    list(
      training = which(table$fold %in% "training"),
      validation = which(table$fold %in% "validation")
    )
  )
  expect_error(places(job, split_columns("colour")), "holds", class = "kw_error_splits")
  expect_error(places(job, split_leave_row()), "batch", class = "kw_error_splits")
})

test_that(
  "leaving single rows out scores all held-out predictions together, with the jackknife's error",
  {
    table <- toy(60)
    job <- toy_brief("two_class", table)
    cmp <- quiet_run(
      job,
      candidates(l = pipeline(pre_onehot(drop_one = TRUE), fam_linear()), b = fam_baseline()),
      splits = split_leave_row(),
      metrics = c("log_loss", "accuracy"),
      seed = 1
    )
    table$y <- as.integer(table$two == "yes")
    p <- sapply(1:60, function(i) {
      predict(
        suppressWarnings(glm(y ~ x1 + x2 + x3 + colour, binomial, table[-i, ])),
        table[i, ],
        type = "response"
      )
    })
    row <- standings(cmp)[standings(cmp)$candidate == "l", ]
    loss <- -log(ifelse(table$y == 1, p, 1 - p))
    expect_equal(row$mean, mean(loss), tolerance = 1e-6)
    without <- sapply(1:60, function(i) mean(loss[-i]))
    expect_equal(row$se, sqrt(59 / 60 * sum((without - mean(without))^2)), tolerance = 1e-6)
    expect_equal(
      standings(cmp, metric = "accuracy")$mean[standings(cmp,
        metric = "accuracy")$candidate == "l"],
      mean((p > 0.5) == table$y)
    )
    expect_output(print(cmp$plan), "scored together")
    expect_s3_class(select_final(cmp, rule = "one_se"), "kw_choice")
    small <- quiet_run(
      toy_brief("number", table),
      candidates(b = fam_baseline()),
      splits = split_kfold(10),
      metrics = "rmse",
      seed = 1
    )
    held <- unlist(lapply(rows_by_split(small), function(r) {
      table$number[r$validation] - mean(table$number[r$training])
    }))
    expect_equal(standings(small)$mean, sqrt(mean(held^2)))
  }
)

test_that("where predictions are scored together, a failed fit costs no other setting a score", {
  table <- toy(48)
  table$count <- rep_len(c(1, 3, 2), 48)
  table$rank <- factor(table$three, c("low", "mid", "high"), ordered = TRUE)
  own <- define_metric("strict", kinds = c("number", "two_class", "ordered"), direction = "lower",
    score = function(truth, prediction, weights) {
      stopifnot(!anyNA(prediction))
      mean(prediction)
    }
  )
  metrics <- list(
    number = c("rmse", "mae", "r_squared"), two_class = c("accuracy", "log_loss", "auc", "brier"),
    ordered = c("quadratic_kappa", "ranked_probability", "class_error", "log_loss")
  )
  outcome <- c(number = "number", two_class = "two", ordered = "rank")
  for (kind in names(metrics)) {
    job <- brief(table[c("x1", "x2", "count", outcome[[kind]])], outcome[[kind]],
      event = if (kind == "two_class") "yes", weight = "count"
    )
    fragile <- define_family("fragile", kind,
      fit = function(x, y, weights, settings, seed, threads) {
        if (!any(abs(x[, 1] - settings$mark) < 1e-12)) stop("broken on purpose")
        list(levels = nlevels(y))
      },
      predict = function(model, x) {
        if (model$levels == 0) rep(0, nrow(x)) else matrix(1 / model$levels, nrow(x), model$levels)
      },
      defaults = list(mark = 0), weights = TRUE
    )
    whole <- candidates(b = fam_baseline(), t = fam_tree(min_leaf = among(2, 8)))
    run <- function(...) {
      quiet_run(job, c(whole, ...),
        splits = split_kfold(6, repeats = 2), seed = 1, workers = 1,
        metrics = c(as.list(metrics[[kind]]), list(own()))
      )
    }
    cmp <- run(candidates(f = pipeline(fragile(mark = table$x1[1]))))
    expect_true(cmp$plan$pooled)
    expect_identical(unique(failures(cmp)$candidate), "f")
    expect_identical(is.na(standings(cmp)$place), standings(cmp)$candidate == "f")
    calm <- run()
    for (metric in c(metrics[[kind]], "strict")) {
      found <- standings(cmp, metric = metric)
      expect_identical(found$mean[found$candidate != "f"], standings(calm, metric = metric)$mean)
      expect_identical(found$se[found$candidate != "f"], standings(calm, metric = metric)$se)
    }
  }
})

test_that("scores without a block of rows are those of the other rows, for every metric", {
  n <- 40
  table <- toy(n)
  kinds <- list(
    number = exp(table$number), two_class = factor(table$two), many_class = factor(table$three),
    ordered = factor(table$three, c("low", "mid", "high"), ordered = TRUE),
    count = rep_len(c(0, 2, 5, 1, 1), n), positive = exp(table$number)
  )
  for (kind in names(kinds)) {
    truth <- kinds[[kind]]
    values <- withr::with_seed(3, if (is.factor(truth)) {
      p <- array(runif(n * nlevels(truth) * 3), c(n, nlevels(truth), 3))
      for (i in 1:3) p[, , i] <- p[, , i] / rowSums(p[, , i])
      p
    } else {
      matrix(runif(n * 3, 0.5, 4), n)
    })
    weights <- rep_len(c(1, 0.5, 3), n)
    target <- kw("new_target")(truth, weights = weights)
    # a part of the second setting's predictions is missing
    if (is.factor(truth)) values[1:8, , 2] <- NA else values[1:8, 2] <- NA
    prediction <- list(
      rows = seq_len(n), part = rep(1:5, each = 8), values = values,
      complete = c(TRUE, FALSE, TRUE)
    )
    # the first is a whole part, the others are within one or two
    blocks <- c(rep(1, 8), sort(rep(2:8, length.out = 32)))
    fits <- vapply(strsplit(list_metrics()$for_outcome, ", "), function(words) {
      kw("kind_words")(kind) %in% words
    }, NA)
    names <- list_metrics()$metric[fits]
    expect_gt(length(names), 0)
    for (metric in kw("find_metrics")(names, kind)) {
      if (metric$compares_rows && is.null(metric$score_in_parts)) next
      # costs of single cases are part of the brief
      if (!is.null(metric$undefined(truth, weights))) next
      found <- kw("pooled_metric")(metric, list(prediction), target, blocks)
      by_hand <- t(vapply(1:8, function(block) {
        others <- blocks != block
        rest <- if (is.factor(truth)) values[others, , -2] else values[others, -2]
        if (is.null(metric$score_in_parts)) {
          return(metric$score(truth[others], rest, weights[others]))
        }
        metric$score_in_parts(truth[others], rest, weights[others], prediction$part[others])
      }, numeric(2)))
      expect_true(all(is.na(found$without[, 2])))
      expect_equal(found$without[, -2], by_hand, tolerance = 1e-12, info = metric$name)
    }
  }
})
