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
  expect_identical(as.character(prepared(list(pre_missing(fill = "level")), table)$columns$b[4]), "missing")
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
  expect_identical(names(prepared(list(pre_onehot(drop_one = TRUE)), table)$columns), c("z", "colour_red"))
})

test_that("more than a hundred 0/1 columns are kept sparse, with the same values", {
  levels <- sprintf("level%03d", 1:120)
  table <- data.frame(many = c(levels, levels), z = 1)
  out <- prepared(list(pre_onehot()), table)
  expect_s4_class(out$sparse, "dgCMatrix")
  expect_equal(unname(as.matrix(out$sparse)), unname(model.matrix(~ many - 1, table)), ignore_attr = TRUE)
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
  expect_identical(as.character(prepared(list(pre_rare_levels(3)), table, new = new)$columns$glaze), c("ash", "other", "other", NA))
  expect_identical(as.character(prepared(list(pre_rare_levels(0.4)), table)$columns$glaze), c(rep("ash", 5), rep("other", 4)))
})

test_that("ordered categories become their rank", {
  table <- data.frame(size = factor(c("s", "l", "m", NA), c("s", "m", "l"), ordered = TRUE), kiln = c("b", "a", "b", "a"))
  expect_identical(prepared(list(pre_ordinal()), table)$columns$size, c(1, 3, 2, NA))
  out <- prepared(list(pre_ordinal(order = list(kiln = c("b", "a")), columns = "kiln")), table)$columns
  expect_identical(out$kiln, c(1, 2, 1, 2))
  expect_error(prepared(list(pre_ordinal(order = list(kiln = "b"), columns = "kiln")), table), class = "kw_error_columns")
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
  filled <- function(step) names(which(!vapply(prepared(list(step), table)$columns, anyNA, logical(1))))
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
pre_double <- define_step("double", columns = "number", changes_rows = TRUE,
  learn = function(frame, target, settings, seed) {
    rows <- rep(seq_len(frame$n), 2)
    made <- list(columns = frame$columns[rows, , drop = FALSE], sparse = NULL, n = length(rows))
    doubled <- lapply(unclass(target), function(x) if (is.null(x)) NULL else x[rows])
    list(state = list(), training = list(frame = structure(made, class = "kw_frame"), target = structure(doubled, class = "kw_target")))
  },
  use = function(state, frame) frame)

# Mean outcome of the other half of the rows, whole units kept on one side.
pre_mean_of_others <- define_step("mean_of_others", columns = "category", cross_fitted = TRUE, random = TRUE,
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
    list(state = list(column = settings$columns, table = means(rep(TRUE, frame$n))), training = list(frame = inside, target = target))
  },
  use = function(state, frame) {
    coded <- state$table[as.character(frame$columns[[state$column]])]
    frame$columns[[state$column]] <- as.numeric(ifelse(is.na(coded), 0.5, coded))
    frame
  })

test_that("a step may change the number of training rows, but no others", {
  table <- toy(90)
  job <- toy_brief("number", table)
  numbers <- function(...) pipeline(..., pre_onehot(), fam_linear())
  cmp <- quiet_run(job, candidates(plain = numbers(), doubled = numbers(pre_double())), splits = split_kfold(3), metrics = "rmse", seed = 1)
  expect_identical(nrow(failures(cmp)), 0L)
  scores <- standings(cmp)
  expect_equal(scores$mean[1], scores$mean[2])
  expect_error(define_step("bad", learn = function(frame, target, settings, seed) outside(frame), use = function(state, frame) frame),
               class = "kw_error_definition")
})

test_that("a step that changes rows without saying so fails, and says why", {
  pre_sneaky <- define_step("sneaky",
    learn = function(frame, target, settings, seed) {
      part <- structure(list(columns = frame$columns[1:5, ], sparse = NULL, n = 5L), class = "kw_frame")
      list(state = NULL, training = list(frame = part, target = structure(lapply(unclass(target), function(x) x[1:5]), class = "kw_target")))
    }, use = function(state, frame) frame)
  expect_error(quiet_run(toy_brief(), candidates(a = pipeline(pre_sneaky(), fam_tree())), splits = split_kfold(2), seed = 1), "without saying so")
})

test_that("a cross-fitted target encoding of pure noise scores 0.5, also under the bootstrap", {
  noise <- withr::with_seed(6, data.frame(level = sample(sprintf("l%03d", 1:150), 600, TRUE), y = sample(c("a", "b"), 600, TRUE)))
  job <- brief(noise, "y", event = "b")
  for (splits in list(split_kfold(5, repeats = 4), split_bootstrap(15))) {
    cmp <- quiet_run(job, candidates(coded = pipeline(pre_mean_of_others(), fam_linear())), splits = splits, metrics = "auc", seed = 2)
    found <- standings(cmp)
    expect_lt(abs(found$mean - 0.5), 3 * max(found$se, 0.02))
  }
})

test_that("inner divisions keep groups, and a bootstrap's copies of a row, on one side", {
  new_target <- kw("new_target")
  copies <- c(1, 1, 1, 2, 3, 3, 4, 5, 5, 6, 7, 8, 8, NA, NA)
  parts <- withr::with_seed(1, kw("inner_parts")(new_target(rnorm(15), source_row = copies), 3))
  expect_true(all(tapply(parts[1:13], copies[1:13], function(p) length(unique(p)) == 1)))
  grouped <- new_target(factor(rep(c("a", "b"), 30)), group = rep(1:12, each = 5), source_row = 1:60)
  parts <- withr::with_seed(1, kw("inner_parts")(grouped, 4))
  expect_true(all(tapply(parts, grouped$group, function(p) length(unique(p)) == 1)))
  expect_setequal(parts, 1:4)
})

test_that("pre_minimal() gives each family what it needs, and no more", {
  cmp <- plan_comparison(toy_brief("two_class", toy(missing = TRUE)),
                         candidates(tree = fam_tree(), forest = fam_forest(trees = 5), linear = fam_linear(), base = fam_baseline()),
                         splits = split_kfold(2), seed = 1)
  steps <- lapply(cmp$spaces, function(s) vapply(s$pipeline$steps, function(n) n$part$definition$name, ""))
  expect_identical(lapply(steps, as.character), list(tree = character(), forest = c("missing", "onehot"),
                                                     linear = c("missing", "onehot", "scale"), base = character()))
  expect_match(paste(cmp$notes, collapse = " "), "minimal steps added: missing, onehot, scale")
})
