prepared <- function(steps, table, rows = seq_len(nrow(table)), new = table) {
  job <- brief(cbind(table[rows, , drop = FALSE], y = seq_along(rows) / 7), "y")
  states <- list()
  frame <- kw("frame_columns")(job$table, job$schema)
  target <- kw("brief_target")(job)
  out <- kw("frame_from_new")(new, job$schema, NULL)
  for (step in steps) {
    learned <- kw("learn_step")(step, frame, target, 1)
    frame <- learned$frame
    target <- learned$target
    out <- kw("use_step")(learned$state, out)
  }
  out
}

test_that("missing values are filled by what the training rows say", {
  table <- data.frame(a = c(1, 2, 2, 9, NA), b = c("u", "u", "v", NA, NA))
  expect_identical(prepared(list(pre_missing()), table)$columns$a[5], 2)
  expect_identical(prepared(list(pre_missing(fill = "mean")), table)$columns$a[5], 3.5)
  expect_identical(prepared(list(pre_missing(fill = "mode")), table)$columns$a[5], 2)
  expect_identical(prepared(list(pre_missing(fill = "value", value = -1)), table)$columns$a[5], -1)
  expect_identical(as.character(prepared(list(pre_missing()), table)$columns$b[4:5]), c("u", "u"))
  expect_identical(
    as.character(prepared(list(pre_missing(fill = "level")), table)$columns$b[4]), "missing"
  )
  flagged <- prepared(list(pre_missing(flag = TRUE)), table)
  expect_identical(flagged$columns$a_missing, c(0, 0, 0, 0, 1))
  expect_identical(flagged$columns$b_missing, c(0, 0, 0, 1, 1))
})

test_that("fills come from training rows only", {
  table <- data.frame(a = c(1, 1, 1, 100, NA), b = 1:5)
  expect_identical(prepared(list(pre_missing()), table, rows = c(1:3, 5))$columns$a[5], 1)
})

test_that("a level never seen in training becomes all zeros, a missing one too", {
  table <- data.frame(colour = c("red", "blue", "red"), z = 1:3)
  new <- data.frame(colour = c("red", "green", NA), z = 1:3)
  out <- prepared(list(pre_onehot()), table, new = new)$columns
  expect_identical(out$colour_red, c(1, 0, 0))
  expect_identical(out$colour_blue, c(0, 0, 0))
  expect_identical(
    names(prepared(list(pre_onehot(drop_one = TRUE)), table)$columns), c("z", "colour_red")
  )
})

test_that("more than a hundred 0/1 columns are kept sparse, with the same values", {
  levels <- sprintf("level%03d", 1:120)
  table <- data.frame(many = c(levels, levels), z = 1)
  out <- prepared(list(pre_onehot()), table)
  expect_s4_class(out$sparse, "dgCMatrix")
  expect_equal(
    unname(as.matrix(out$sparse)), unname(model.matrix(~ many - 1, table)),
    ignore_attr = TRUE
  )
  scaled <- prepared(list(pre_onehot(), pre_scale()), table)$sparse
  expect_equal(unname(apply(as.matrix(scaled), 2, sd)), rep(1, 120))
})

test_that("new columns never overwrite old ones of the same name", {
  table <- data.frame(colour = c("red", "blue", "red"), colour_red = 7:9)
  out <- prepared(list(pre_onehot()), table)$columns
  expect_identical(out$colour_red, c(7, 8, 9))
  expect_identical(out$colour_red_1, c(1, 0, 1))
})

test_that("rare and unseen levels become 'other'", {
  table <- data.frame(glaze = c(rep("ash", 5), rep("chun", 3), "oribe"), z = 1:9)
  new <- data.frame(glaze = c("ash", "oribe", "tenmoku", NA), z = 1:4)
  expect_identical(
    as.character(prepared(list(pre_rare_levels(3)), table, new = new)$columns$glaze),
    c("ash", "other", "other", NA)
  )
  expect_identical(
    as.character(prepared(list(pre_rare_levels(0.4)), table)$columns$glaze),
    c(rep("ash", 5), rep("other", 4))
  )
})

test_that("ordered categories become their rank", {
  table <- data.frame(
    size = factor(c("s", "l", "m", NA), c("s", "m", "l"), ordered = TRUE),
    kiln = c("b", "a", "b", "a")
  )
  expect_identical(prepared(list(pre_ordinal()), table)$columns$size, c(1, 3, 2, NA))
  out <- prepared(list(pre_ordinal(order = list(kiln = c("b", "a")), columns = "kiln")),
    table)$columns
  expect_identical(out$kiln, c(1, 2, 1, 2))
  expect_error(
    prepared(list(pre_ordinal(order = list(kiln = "b"), columns = "kiln")), table),
    class = "kw_error_columns"
  )
})

test_that("scaling uses the training rows' centre and spread", {
  table <- data.frame(a = c(1, 2, 3, 4, 100), b = 5)
  out <- function(by) prepared(list(pre_scale(by = by)), table, rows = 1:4)$columns
  expect_equal(out("sd")$a, (table$a - 2.5) / sd(1:4))
  expect_equal(out("range")$a, (table$a - 1) / 3)
  expect_equal(out("iqr")$a, (table$a - 2.5) / IQR(1:4))
  expect_identical(out("sd")$b, rep(0, 5))
})

test_that("columns are selected by name, kind, predicate and outside variable", {
  table <- data.frame(a = c(1, NA, 3), b = c(4, 5, NA), k = c("x", NA, "x"))
  filled <- function(step) {
    names(which(!vapply(prepared(list(step), table)$columns, anyNA, logical(1))))
  }
  wanted <- "b"
  expect_identical(filled(pre_missing(columns = a)), "a")
  expect_identical(filled(pre_missing(columns = "k")), "k")
  expect_identical(filled(pre_missing(columns = of_kind("number"))), c("a", "b"))
  expect_identical(filled(pre_missing(columns = where(function(x) !is.numeric(x)))), "k")
  expect_identical(filled(pre_missing(columns = all_of(wanted))), "b")
  expect_identical(filled(pre_missing(columns = wanted)), "b")
  expect_identical(filled(pre_missing(columns = !k)), c("a", "b"))
  expect_error(prepared(list(pre_missing(columns = absent)), table), class = "kw_error_columns")
})

# Test-only members of the contract's harder parts.
pre_double <- define_step("double",
  columns = "number", changes_rows = TRUE,
  learn = function(frame, target, settings, seed) {
    rows <- rep(seq_len(frame$n), 2)
    made <- list(columns = frame$columns[rows, , drop = FALSE], sparse = NULL, n = length(rows))
    doubled <- lapply(unclass(target), function(x) if (is.null(x)) NULL else x[rows])
    list(
      state = list(),
      training = list(
        frame = structure(made, class = "kw_frame"),
        target = structure(doubled, class = "kw_target")
      )
    )
  },
  use = function(state, frame) frame
)

# Mean outcome of the other half of the rows, whole units kept on one side.
pre_mean_of_others <- define_step(
  "mean_of_others",
  columns = "category",
  cross_fitted = TRUE,
  random = TRUE,
  learn = function(frame, target, settings, seed) {
    column <- as.character(frame$columns[[settings$columns]])
    y <- if (is.factor(target$outcome)) as.integer(target$outcome) - 1 else target$outcome
    unit <- if (is.null(target$group)) target$source_row else target$group
    units <- unique(unit)
    half <- sample(rep(1:2, length.out = length(units)))[match(unit, units)]
    means <- function(rows) tapply(y[rows], column[rows], mean)
    value <- function(table, x) ifelse(is.na(table[x]), 0.5, table[x])
    coded <- ifelse(half == 1, value(means(half == 2), column), value(means(half == 1), column))
    inside <- frame
    inside$columns[[settings$columns]] <- as.numeric(coded)
    list(
      state = list(column = settings$columns, table = means(rep(TRUE, frame$n))),
      training = list(frame = inside, target = target)
    )
  },
  use = function(state, frame) {
    coded <- state$table[as.character(frame$columns[[state$column]])]
    frame$columns[[state$column]] <- as.numeric(ifelse(is.na(coded), 0.5, coded))
    frame
  }
)

test_that("a step may change the number of training rows, but no others", {
  table <- toy(90)
  job <- toy_brief("number", table)
  numbers <- function(...) pipeline(..., pre_onehot(), fam_linear())
  cmp <- quiet_run(
    job,
    candidates(plain = numbers(), doubled = numbers(pre_double())),
    splits = split_kfold(3),
    metrics = "rmse",
    seed = 1
  )
  expect_identical(nrow(failures(cmp)), 0L)
  scores <- standings(cmp)
  expect_equal(scores$mean[1], scores$mean[2])
  expect_error(
    define_step(
      "bad",
      learn = function(frame, target, settings, seed) outside(frame),
      use = function(state, frame) frame
    ),
    class = "kw_error_definition"
  )
})

test_that("a step that changes rows without saying so fails, and says why", {
  pre_sneaky <- define_step("sneaky",
    learn = function(frame, target, settings, seed) {
      part <- structure(
        list(columns = frame$columns[1:5, ], sparse = NULL, n = 5L),
        class = "kw_frame"
      )
      list(
        state = NULL,
        training = list(
          frame = part,
          target = structure(lapply(unclass(target), function(x) x[1:5]), class = "kw_target")
        )
      )
    }, use = function(state, frame) frame
  )
  expect_error(
    quiet_run(
      toy_brief(),
      candidates(a = pipeline(pre_sneaky(), fam_tree())),
      splits = split_kfold(2),
      seed = 1
    ),
    "without saying so"
  )
})

test_that("a cross-fitted target encoding of pure noise scores 0.5, also under the bootstrap", {
  noise <- withr::with_seed(
    6,
    data.frame(
      level = sample(sprintf("l%03d", 1:150), 600, TRUE),
      y = sample(c("a", "b"), 600, TRUE)
    )
  )
  job <- brief(noise, "y", event = "b")
  for (splits in list(split_kfold(5, repeats = 4), split_bootstrap(15))) {
    cmp <- quiet_run(
      job,
      candidates(coded = pipeline(pre_mean_of_others(), fam_linear())),
      splits = splits,
      metrics = "auc",
      seed = 2
    )
    found <- standings(cmp)
    expect_lt(abs(found$mean - 0.5), 3 * max(found$se, 0.02))
  }
})

test_that("inner divisions keep groups, and a bootstrap's copies of a row, on one side", {
  new_target <- kw("new_target")
  copies <- c(1, 1, 1, 2, 3, 3, 4, 5, 5, 6, 7, 8, 8, NA, NA)
  parts <- withr::with_seed(1, kw("inner_parts")(new_target(rnorm(15), source_row = copies), 3))
  expect_true(all(tapply(parts[1:13], copies[1:13], function(p) length(unique(p)) == 1)))
  grouped <- new_target(
    factor(rep(c("a", "b"), 30)),
    group = rep(1:12, each = 5), source_row = 1:60
  )
  parts <- withr::with_seed(1, kw("inner_parts")(grouped, 4))
  expect_true(all(tapply(parts, grouped$group, function(p) length(unique(p)) == 1)))
  expect_setequal(parts, 1:4)
})

test_that("pre_minimal() gives each family what it needs, and no more", {
  cmp <- plan_comparison(toy_brief("two_class", toy(missing = TRUE)),
    candidates(
      tree = fam_tree(),
      forest = fam_forest(trees = 5),
      linear = fam_linear(),
      base = fam_baseline()
    ),
    splits = split_kfold(2), seed = 1
  )
  steps <- lapply(cmp$spaces, function(s) {
    vapply(s$pipeline$steps, function(n) n$part$definition$name, "")
  })
  expect_identical(
    lapply(steps, as.character),
    list(
      tree = character(), forest = "missing",
      linear = c("missing", "onehot"),
      base = character()
    )
  )
  expect_match(paste(cmp$notes, collapse = " "), "minimal steps added: missing, onehot")
})

test_that("fills by nearest rows ask the rows that are nearest", {
  table <- withr::with_seed(
    1,
    data.frame(
      a = c(rnorm(40), rnorm(40, 20)), b = c(rnorm(40), rnorm(40, 20)),
      k = rep(c("low", "high"), each = 40)
    )
  )
  gaps <- c(3, 50)
  holed <- table
  holed$b[gaps] <- NA
  holed$k[c(5, 60)] <- NA
  out <- prepared(list(pre_missing(fill = "nearest", neighbours = 3)), holed)$columns
  distance <- function(i) {
    (abs(holed$a[i] - holed$a) / IQR(holed$a) + ifelse(holed$k == holed$k[i], 0, 1)) / 2
  }
  for (i in gaps) {
    d <- distance(i)
    d[is.na(holed$k)] <- (abs(holed$a[i] - holed$a) / IQR(holed$a))[is.na(holed$k)]
    d[is.na(holed$b)] <- Inf
    expect_equal(out$b[i], median(holed$b[order(d)[1:3]]))
  }
  expect_identical(as.character(out$k[c(5, 60)]), c("low", "high"))
})

test_that("fills by a model are those of the package's own tree", {
  table <- withr::with_seed(2, data.frame(a = rnorm(200), b = rnorm(200)))
  table$c <- table$a * 2 + rnorm(200, 0, 0.1)
  holed <- table
  holed$c[1:20] <- NA
  out <- prepared(list(pre_missing(fill = "model")), holed)$columns$c[1:20]
  grown <- rpart::rpart(
    c ~ a + b,
    holed[-(1:20), ],
    control = rpart::rpart.control(cp = 0, minsplit = 20, minbucket = 7, xval = 0, maxsurrogate = 0)
  )
  expect_equal(out, unname(predict(rpart::prune(grown, 0.001), holed[1:20, ])))
  expect_gt(cor(out, table$c[1:20]), 0.95)
})

learned <- function(step, table, outcome, group = NULL, rows = seq_len(nrow(table))) {
  frame <- kw("frame_from_new")(
    table, kw("learn_schema")(kw("clean_table")(table, list(), NULL, NULL), list()), NULL
  )
  target <- kw("new_target")(outcome[rows], group = group[rows], source_row = rows)
  kw("learn_step")(step, kw("frame_rows")(frame, rows), target, 4)
}

test_that("target means are smoothed means of the level; training rows get those of other parts", {
  table <- withr::with_seed(3, data.frame(k = sample(c("a", "b", "c"), 300, TRUE)))
  y <- withr::with_seed(4, rnorm(300) + (table$k == "a"))
  out <- learned(pre_target_mean(smoothing = 7), table, y)
  state <- kw("use_step")(out$state,
    kw("new_frame")(data.frame(k = factor(c("a", "never")))))$columns$k_mean
  expect_equal(
    state, c((sum(y[table$k == "a"]) + 7 * mean(y)) / (sum(table$k == "a") + 7), mean(y))
  )
  inside <- out$frame$columns$k_mean
  expect_gt(length(unique(round(inside[table$k == "a"], 10))), 1)
  expect_lte(length(unique(round(inside, 10))), 15)
  many <- learned(pre_target_mean(), table, factor(sample(c("x", "y", "z"), 300, TRUE)))
  expect_named(many$frame$columns, c("k_mean_y", "k_mean_z"))
})

test_that("a row's own outcome, and its bootstrap copies', never enter its own target mean", {
  table <- data.frame(k = rep(sprintf("l%02d", 1:30), 4))
  y <- withr::with_seed(6, rnorm(120))
  rows <- withr::with_seed(7, sample(120, replace = TRUE))
  for (i in c(1, 50)) {
    moved <- y
    moved[rows[i]] <- moved[rows[i]] + 1000
    before <- learned(pre_target_mean(smoothing = 1), table, y, rows = rows)$frame$columns$k_mean
    after <- learned(pre_target_mean(smoothing = 1), table, moved, rows = rows)$frame$columns$k_mean
    expect_equal(after[rows == rows[i]], before[rows == rows[i]])
    expect_false(isTRUE(all.equal(after, before)))
  }
})

test_that("encodings, filters and balancing on pure noise leave the AUC at 0.5", {
  noise <- withr::with_seed(
    9,
    data.frame(matrix(rnorm(400 * 30), 400),
      level = sample(sprintf("l%03d", 1:120), 400, TRUE),
      y = sample(c("a", "b"), 400, TRUE, c(0.7, 0.3))
    )
  )
  job <- brief(noise, "y", event = "b")
  rivals <- candidates(
    coded = pipeline(pre_target_mean(smoothing = 1), fam_linear()),
    ordered = pipeline(pre_ordinal(by = "outcome", columns = level), fam_linear()),
    filtered = pipeline(pre_onehot(), pre_keep_top(top = 3), fam_linear()),
    binned = pipeline(
      pre_drop(columns = level), pre_bins(by = "tree"), pre_onehot(drop_one = TRUE), fam_tree()
    ),
    made_up = pipeline(pre_balance(by = "synthetic"), pre_onehot(), fam_forest(trees = 60))
  )
  for (splits in list(split_kfold(5, repeats = 2), split_bootstrap(8))) {
    cmp <- quiet_run(job, rivals, splits = splits, metrics = "auc", seed = 3)
    expect_identical(nrow(failures(cmp)), 0L)
    table <- standings(cmp)
    expect_true(
      all(abs(table$mean - 0.5) < pmax(3 * table$se, 0.05)),
      info = paste(table$candidate, round(table$mean, 3), collapse = ", ")
    )
  }
})

test_that("frequencies, hashes and outlier limits are what they say", {
  table <- data.frame(k = c("a", "a", "b", NA), x = c(1, 2, 3, 100))
  expect_equal(
    prepared(list(pre_frequency()), table,
      new = data.frame(k = c("a", "b", "c", NA), x = 1))$columns$k,
    c(0.5, 0.25, 0, 0)
  )
  hashed <- prepared(
    list(pre_hash(buckets = 8)), table,
    new = data.frame(k = c("a", "never seen", NA), x = 1)
  )$columns
  expect_equal(
    rowSums(as.data.frame(hashed[startsWith(names(hashed), "k_hash")])),
    c(1, 1, 0),
    ignore_attr = TRUE
  )
  x <- c(1:99, 1000)
  clipped <- prepared(list(pre_outliers(fence = 1.5)), data.frame(x = x, z = 1))$columns$x
  expect_equal(max(clipped), unname(quantile(x, 0.75) + 1.5 * IQR(x)))
  expect_equal(
    range(prepared(list(pre_outliers(by = "quantile", share = 0.05)),
      data.frame(x = x, z = 1))$columns$x),
    unname(quantile(x, c(0.05, 0.95)))
  )
})

test_that("powers of skew transformations maximise the published likelihoods", {
  x <- withr::with_seed(5, rlnorm(400, 1, 0.8))
  likelihood <- function(p, f, jacobian) {
    z <- f(p)
    -200 * log(mean((z - mean(z))^2)) + (p - 1) * jacobian
  }
  box <- function(p) if (abs(p) < 1e-8) log(x) else (x^p - 1) / p
  best <- optimize(function(p) likelihood(p, box, sum(log(x))), c(-5, 5), maximum = TRUE)$maximum
  expect_equal(
    prepared(list(pre_skew(by = "box_cox")), data.frame(x = x, z = 1))$columns$x,
    box(best),
    tolerance = 1e-3
  )
  yeo <- function(p) ((x + 1)^p - 1) / p
  best <- optimize(function(p) likelihood(p, yeo, sum(log1p(x))), c(-5, 5), maximum = TRUE)$maximum
  expect_equal(
    prepared(list(pre_skew()), data.frame(x = x, z = 1))$columns$x, yeo(best),
    tolerance = 1e-3
  )
  expect_equal(kw("yeo_johnson")(c(-3, -0.5, 0, 2), 1), c(-3, -0.5, 0, 2))
  normal <- prepared(
    list(pre_skew(by = "normal")),
    data.frame(x = x, z = 1),
    new = data.frame(x = c(x, 1e9, -1e9), z = 1)
  )$columns$x
  expect_gt(cor(normal[1:400], qnorm(ppoints(400))[rank(x)]), 0.999)
  expect_true(all(is.finite(normal)))
  expect_true(all(is.finite(prepared(
    list(pre_skew(by = "log")), data.frame(x = x - 5, z = 1),
    new = data.frame(x = -1e6, z = 1)
  )$columns$x)))
})

test_that("bins cut where they say", {
  x <- c(1:99, NA)
  binned <- function(...) prepared(list(pre_bins(...)), data.frame(x = x, z = 1))$columns$x
  expect_equal(
    as.vector(table(binned(bins = 4))),
    as.vector(table(findInterval(1:99, quantile(1:99, 1:3 / 4))))
  )
  expect_equal(as.vector(table(binned(by = "width", bins = 2))), c(49, 50))
  expect_true(is.na(binned()[100]))
  step <- learned(
    pre_bins(by = "tree", bins = 3), data.frame(x = 1:90 + 0), rep(c(0, 5, 1), each = 30)
  )
  expect_equal(step$state$state$x, c(30.5, 60.5))
})

test_that("splines, powers, products and components equal their base-R forms", {
  table <- withr::with_seed(6, data.frame(a = rnorm(80), b = runif(80), c = rexp(80)))
  train <- 1:60
  spline <- prepared(list(pre_splines(pieces = 4, columns = a)), table, rows = train)$columns
  basis <- splines::ns(
    table$a[train],
    knots = quantile(table$a[train], 1:3 / 4),
    Boundary.knots = range(table$a[train])
  )
  expect_equal(
    as.matrix(as.data.frame(spline[paste0("a_spline", 1:4)])),
    predict(basis, table$a),
    ignore_attr = TRUE
  )
  power <- prepared(list(pre_polynomial(degree = 3, columns = b)), table, rows = train)$columns
  z <- (table$b - mean(table$b[train])) / sd(table$b[train])
  expect_equal(power$b_power3, z^3)
  product <- prepared(list(pre_interactions()), table, rows = train)$columns
  expect_equal(product$a_x_c, (table$a - mean(table$a[train])) * (table$c - mean(table$c[train])))
  expect_length(product, 6)
  parts <- prepared(list(pre_components(number = 2)), table, rows = train)$columns
  pca <- prcomp(table[train, ], scale. = TRUE)
  expect_equal(abs(parts$component2), abs(unname(predict(pca, table)[, 2])))
  share <- prepared(list(pre_components(number = 0.7)), table, rows = train)$columns
  expect_length(share, which(cumsum(pca$sdev^2) / 3 >= 0.7)[1])
})

test_that("formulas are worked out row by row; what is no number becomes missing", {
  scale <- 2
  step <- pre_derive(ratio = a / b * scale, big = a > 1)
  scale <- 100
  out <- prepared(list(step), data.frame(a = c(1, 2, 3), b = c(1, 0, 4)))$columns
  expect_identical(out$ratio, c(2, NA, 1.5))
  expect_identical(out$big, c(0, 1, 1))
  expect_error(
    pre_derive(x = mean(a)),
    "mean\\(\\), which is not worked out row by row",
    class = "kw_error_argument"
  )
  expect_error(
    prepared(list(pre_derive(x = absent + 1)), data.frame(a = 1:3)),
    "absent",
    class = "kw_error_columns"
  )
})

test_that("dates become parts, before 1970 and with time zones too", {
  days <- as.Date(c("1960-02-29", "2031-12-31", NA))
  out <- prepared(
    list(pre_dates(parts = c("elapsed", "year", "month", "weekday", "day_of_year"),
      cyclic = FALSE)),
    data.frame(d = days, z = 1)
  )$columns
  expect_identical(out$d_year, c(1960, 2031, NA))
  expect_identical(out$d_weekday, c(1, 3, NA))
  expect_identical(out$d_day_of_year, c(60, 365, NA))
  expect_identical(out$d_elapsed[2], as.numeric(days[2] - days[1]))
  cyclic <- prepared(list(pre_dates(parts = "month")), data.frame(d = days, z = 1))$columns
  expect_equal(cyclic$d_month_sin[1:2], sin(2 * pi * c(2, 12) / 12))
  times <- as.POSIXct(c("2031-05-17 23:30:00", "2031-05-18 01:00:00"), tz = "Asia/Tokyo")
  hours <- prepared(
    list(pre_dates(parts = c("hour", "day"), cyclic = FALSE)),
    data.frame(d = times[c(1, 2, 2)], z = 1)
  )$columns
  expect_identical(hours$d_hour, c(23.5, 1, 1))
  expect_identical(hours$d_day, c(17, 18, 18))
})

test_that("terms are counted and weighted as a plain count does", {
  text <- c(
    "The dry rim, the DRY foot", "dry foot trimmed", NA, "rim and foot and rim", "",
    "caf\u00e9 dry rim"
  )
  job_text <- function(...) {
    frame <- kw("new_frame")(data.frame(t = text, stringsAsFactors = FALSE))
    out <- kw("learn_step")(kw("pre_text")(...), frame, kw("new_target")(rnorm(6)), 1)
    m <- as.matrix(out$frame$sparse)
    colnames(m) <- sub("^t_", "", colnames(m))
    m
  }
  words <- lapply(strsplit(tolower(ifelse(is.na(text), "", text)), "[^[:alnum:]']+"), function(w) {
    w[nzchar(w) & !w %in% kw("common_words")]
  })
  pairs <- lapply(words, function(w) if (length(w) > 1) paste(head(w, -1), w[-1]))
  all <- Map(c, words, pairs)
  found <- job_text(phrases = 1:2, in_at_least = 2, in_at_most = 1)
  by_hand <- vapply(
    colnames(found), function(term) vapply(all, function(w) sum(w == term), 1), numeric(6)
  )
  expect_equal(found, by_hand, ignore_attr = TRUE)
  in_rows <- table(unlist(lapply(all, unique)))
  expect_setequal(colnames(found), names(in_rows)[in_rows >= 2])
  weighted <- job_text(in_at_least = 1, in_at_most = 1, count_as = "tfidf")
  expect_equal(
    weighted[, "foot"],
    vapply(words, function(w) sum(w == "foot"), 1) * log(6 / in_rows[["foot"]]),
    ignore_attr = TRUE
  )
  expect_true("caf\u00e9" %in% colnames(weighted))
  expect_identical(ncol(job_text(in_at_least = 1, in_at_most = 1, top = 2)), 2L)
  expect_false("dry" %in% colnames(job_text(in_at_least = 1, in_at_most = 0.4)))
  expect_true("the" %in% colnames(job_text(in_at_least = 1, in_at_most = 1, drop_common = FALSE)))
})

test_that("text stays sparse up to the families that take it so, with the same scores as dense", {
  job <- pots_brief()
  sparse <- pipeline(
    pre_drop(columns = !notes),
    pre_text(in_at_least = 10, top = 30),
    fam_penalised(penalty = among(0.001, 0.01))
  )
  dense <- pipeline(
    pre_drop(columns = !notes), pre_text(in_at_least = 10, top = 30),
    define_step(
      "unfold",
      learn = function(frame, target, settings, seed) {
        list(state = NULL, training = NULL)
      },
      use = function(state, frame) {
        frame$columns <- as.data.frame(as.matrix(frame$sparse))
        frame["sparse"] <- list(NULL)
        frame
      }
    )(), fam_penalised(penalty = among(0.001, 0.01))
  )
  cmp <- quiet_run(
    job,
    candidates(sparse = sparse, dense = dense),
    splits = split_kfold(3),
    metrics = "log_loss",
    seed = 1
  )
  table <- standings(cmp)
  expect_equal(
    table$mean[table$candidate == "sparse"],
    table$mean[table$candidate == "dense"],
    tolerance = 1e-5
  )
  expect_lt(max(table$mean), 0.46)
})

test_that("drops drop what they say", {
  table <- withr::with_seed(1, data.frame(a = rnorm(50), k = 7, z = rnorm(50)))
  table$twin <- table$a + rnorm(50, 0, 0.01)
  table$rare <- c(1, rep(0, 49))
  expect_identical(
    names(prepared(list(pre_drop(columns = c(a, z))), table)$columns), c("k", "twin", "rare")
  )
  expect_identical(
    names(prepared(list(pre_drop_constant()), table)$columns), c("a", "z", "twin", "rare")
  )
  expect_false("rare" %in% names(prepared(list(pre_drop_constant(share = 0.95)), table)$columns))
  expect_identical(
    names(prepared(list(pre_drop_correlated()), table)$columns), c("a", "k", "z", "rare")
  )
})

test_that(
  "filters keep the columns with the highest statistic, sparse ones judged like dense ones",
  {
    table <- withr::with_seed(2, data.frame(matrix(rpois(150 * 8, 1), 150)))
    y <- withr::with_seed(3, factor(ifelse(table$X3 + table$X6 + rnorm(150) > 2, "b", "a")))
    sparse <- methods::as(methods::as(as.matrix(table), "CsparseMatrix"), "generalMatrix")
    for (by in c("p_value", "information", "importance")) {
      kept <- names(learned(pre_keep_top(top = 2, by = by), table, y)$frame$columns)
      expect_setequal(kept, c("X3", "X6"))
    }
    for (outcome in list(y, as.numeric(y) + rnorm(150))) {
      expect_equal(
        kw("judge_sparse")(sparse, outcome, "p_value"),
        vapply(table, function(x) {
          -log(anova(if (is.factor(outcome)) lm(x ~ outcome) else lm(outcome ~ x))[1, 5])
        }, 1)
      )
    }
    expect_identical(
      names(which.max(kw("judge_sparse")(sparse, y, "information"))),
      names(which.max(vapply(
        table, function(x) kw("mutual_information")((x > 0) + 1L, as.integer(y)), 1
      )))
    )
  }
)

test_that("balancing evens out the training rows and leaves others alone", {
  table <- withr::with_seed(1, data.frame(a = rnorm(100), k = sample(c("u", "v"), 100, TRUE)))
  y <- factor(rep(c("common", "rare"), c(80, 20)))
  sizes <- function(...) as.vector(table(learned(pre_balance(...), table, y)$target$outcome))
  expect_identical(sizes(by = "thin"), c(20L, 20L))
  expect_identical(sizes(by = "repeat", ratio = 0.5), c(80L, 40L))
  made <- learned(pre_balance(by = "synthetic"), table, y)
  expect_identical(as.vector(table(made$target$outcome)), c(80L, 80L))
  expect_identical(is.na(made$target$source_row), rep(c(FALSE, TRUE), c(100, 60)))
  rare <- range(table$a[81:100])
  expect_true(all(made$frame$columns$a[101:160] >= rare[1] &
    made$frame$columns$a[101:160] <= rare[2]))
  expect_identical(made$frame$columns$a[1:100], table$a)
  frame <- kw("new_frame")(table)
  expect_identical(kw("use_step")(made$state, frame), frame)
})

test_that("a custom step learns from training rows and must keep the rows", {
  half <- pre_custom(
    learn = function(columns, outcome) max(columns$a),
    use = function(columns, state) {
      columns$a <- columns$a / state
      columns
    },
    columns = a
  )
  expect_equal(
    prepared(list(half), data.frame(a = c(1, 2, 4, 8), b = 1), rows = 1:3)$columns$a,
    c(0.25, 0.5, 1, 2)
  )
  short <- pre_custom(use = function(columns, state) columns[1, , drop = FALSE])
  expect_error(
    prepared(list(short), data.frame(a = 1:3, b = 1)),
    "data frame of 3 rows",
    class = "kw_error_step"
  )
})

test_that("a category of 100,000 levels goes through the steps made for it", {
  table <- data.frame(k = sprintf("l%06d", 1:1e5), z = 1:1e5)
  y <- (1:1e5) / 3
  for (step in list(
    pre_hash(buckets = 200), pre_frequency(), pre_target_mean(), pre_rare_levels(),
    pre_onehot()
  )) {
    out <- learned(step, table, y)$frame
    expect_identical(out$n, 100000L)
  }
  expect_identical(dim(out$sparse), c(100000L, 100000L))
  expect_error(
    kw("check_dense_size")(out$sparse, list(name = "tree")),
    "sparse input",
    class = "kw_error_input"
  )
})

test_that("text that is empty, missing or not UTF-8 has no terms", {
  latin <- "caf\xe9 dry"
  text <- c("dry dry rim", "", NA, latin, "dry foot", "dry")
  frame <- kw("new_frame")(data.frame(t = text, stringsAsFactors = FALSE))
  out <- kw("learn_step")(
    pre_text(in_at_least = 1, in_at_most = 1), frame, kw("new_target")(1:6), 1
  )$frame
  expect_equal(unname(Matrix::rowSums(out$sparse)), c(3, 0, 0, 0, 2, 1))
})
