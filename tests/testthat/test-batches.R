# Many fits at a time: what units bring home, and in which order they are done.

# Fits a constant; warns, stops, or predicts nothing usable, as `mood` says.
moods <- c("calm", "warns", "stops", "mute", "short", "stops late", "calm again")
moody_family <- function() {
  define_family("moody",
    kinds = "number", defaults = list(mood = "calm", times = 1),
    fit = function(x, y, weights, settings, seed, threads) {
      if (settings$mood == "warns") {
        warning("careful")
        warning("careful")
        warning(paste("times", settings$times))
      }
      if (settings$mood == "stops") stop("no fit today")
      list(value = mean(y) * settings$times, mood = settings$mood)
    },
    predict = function(model, x) {
      if (model$mood == "stops late") stop("no prediction today")
      rep(if (model$mood == "mute") NaN else model$value, if (model$mood == "short") 1 else nrow(x))
    }
  )
}
moody_plan <- function(...) {
  table <- toy(120)
  plan_comparison(brief(table[c("x1", "x2", "number")], "number"),
    candidates(
      m = moody_family()(mood = among(moods), times = among(0.5, 1, 2)),
      t = fam_tree(pruning = among(0, 0.01, 0.1))
    ),
    splits = split_kfold(3), metrics = c("rmse", "mae"), seed = 4, ...
  )
}

test_that("a fit that fails, warns or predicts nothing touches no other fit of its unit", {
  plan <- moody_plan()
  cmp <- quiet_run(plan, workers = 1, keep = "training_scores")
  table <- plan$brief$table
  rows <- rows_by_split(plan)
  found <- scores_by_split(cmp)
  settings <- standings(cmp)[c("candidate", "setting", "mood", "times")]
  found <- merge(found[found$candidate == "m", ], unique(settings[settings$candidate == "m", ]))
  for (i in which(found$mood %in% c("calm", "warns", "calm again"))) {
    split <- rows[[found$split[i]]]
    p <- mean(table$number[split$training]) * found$times[i]
    plain <- function(rows) {
      if (found$metric[i] == "rmse") {
        sqrt(mean((table$number[rows] - p)^2))
      } else {
        mean(abs(table$number[rows] - p))
      }
    }
    expect_equal(
      c(found$validation[i], found$training[i]),
      c(plain(split$validation), plain(split$training)),
      tolerance = 1e-12
    )
  }
  expect_true(all(is.na(found$validation[!found$mood %in% c("calm", "warns", "calm again")])))
  failed <- merge(failures(cmp), unique(settings[settings$candidate == "m", ]))
  expect_setequal(unique(failed$mood), c("stops", "mute", "short", "stops late"))
  expect_true(all(grepl("no fit today", failed$message[failed$mood == "stops"])))
  expect_identical(unique(failed$stage[failed$mood == "stops late"]), "fam_moody prediction")
  expect_identical(sum(failed$mood == "short"), 3L * 3L)
  warned <- merge(warnings_by_split(cmp), unique(settings[settings$candidate == "m", ]))
  expect_identical(unique(warned$mood), "warns")
  expect_identical(sort(unique(warned$message)), c("careful", "times 0.5", "times 1", "times 2"))
  expect_true(all(warned$count == ifelse(warned$message == "careful", 2L, 1L)))
  expect_true(all(warned$message == "careful" | warned$message == paste("times", warned$times)))
})

test_that("moods come back from workers and from a journal as they were, with their warnings", {
  plan <- moody_plan()
  plain <- quiet_run(plan, workers = 1)
  remarks <- function(cmp) {
    in_order <- function(table) {
      table[do.call(
        order,
        unname(as.list(table[intersect(c("candidate", "setting", "split", "message"),
          names(table))]))
      ), ]
    }
    list(
      in_order(failures(cmp)), in_order(warnings_by_split(cmp)),
      lapply(cmp$results$scores, unname)
    )
  }
  file <- withr::local_tempfile(fileext = ".sqlite")
  expect_identical(remarks(quiet_run(plan, workers = 2, journal = file)), remarks(plain))
  expect_identical(remarks(quiet_run(plan, journal = file)), remarks(plain))
  expect_identical(remarks(open_comparison(file)), remarks(plain))
})

test_that(
  "thousands of settings with a fit each agree with a formula, also when half come from a journal",
  {
    table <- toy(60)
    times <- define_family("times",
      kinds = "number", defaults = list(a = 1, b = 1),
      fit = function(x, y, weights, settings, seed, threads) mean(y) * settings$a + settings$b,
      predict = function(model, x) rep(model, nrow(x))
    )
    plan <- plan_comparison(
      brief(table[c("x1", "number")], "number"),
      candidates(t = times(a = among(1:50), b = among(1:40))),
      splits = split_kfold(2),
      metrics = "rmse",
      seed = 1
    )
    file <- withr::local_tempfile(fileext = ".sqlite")
    cmp <- quiet_run(plan, workers = 1, journal = file)
    scored <- function(cmp) {
      found <- cmp$results$scores$rmse
      list(found, cmp$results$tables$t)
    }
    rows <- rows_by_split(plan)
    tried <- cmp$results$tables$t
    for (s in 1:2) {
      truth <- table$number[rows[[s]]$validation]
      p <- mean(table$number[rows[[s]]$training]) * tried$a + tried$b
      plain <- sqrt(mean(truth^2) - 2 * p * mean(truth) + p^2)
      expect_equal(unname(cmp$results$scores$rmse[, s]), plain, tolerance = 1e-9)
    }
    con <- DBI::dbConnect(RSQLite::SQLite(), file, synchronous = NULL)
    gone <- DBI::dbExecute(
      con, "DELETE FROM fits WHERE substr(fit, 1, 1) IN ('0', '3', '7', 'a', 'c', 'e', 'f')"
    )
    DBI::dbDisconnect(con)
    expect_gt(gone, 1000)
    expect_identical(scored(quiet_run(plan, workers = 1, journal = file)), scored(cmp))
  }
)

test_that(
  "what a journal lacks is fitted again: training scores, predictions, single path values",
  {
    table <- toy(80)
    plan <- plan_comparison(brief(table[c("x1", "x2", "number")], "number"),
      candidates(
        p = fam_penalised(
          penalty = among(0.01, 0.1, 1), lasso_share = among(0, 1)
        ),
        l = fam_linear()
      ),
      splits = split_kfold(3), metrics = c("rmse", "r_squared"), seed = 5
    )
    plain <- quiet_run(plan, keep = c("training_scores", "all_predictions"), workers = 1)
    everything <- function(cmp) {
      kept <- cmp$results$predictions
      kept <- kept[order(vapply(kept, function(one) one$split * 1000 + one$settings[1],
        numeric(1)))]
      list(
        lapply(cmp$results$scores, unname), lapply(cmp$results$training, unname),
        lapply(kept, `[[`, "settings"),
        lapply(kept, function(one) unname(one$values)), lapply(kept, `[[`, "place")
      )
    }
    file <- withr::local_tempfile(fileext = ".sqlite")
    run <- function(...) quiet_run(plan, journal = file, workers = 1, ...)
    expect_null(run()$results$training)
    # time of units is summed up over all runs with the journal
    last <- run()$results$spent[["units"]]
    fitted <- function(cmp) {
      more <- cmp$results$spent[["units"]] > last
      last <<- cmp$results$spent[["units"]]
      more
    }
    expect_false(fitted(run()))
    with_training <- run(keep = "training_scores")
    expect_true(fitted(with_training))
    expect_identical(everything(with_training)[1:2], everything(plain)[1:2])
    expect_identical(
      everything(run(keep = c("training_scores", "all_predictions"))), everything(plain)
    )
    last <- open_comparison(file)$results$spent[["units"]]
    again <- run(keep = c("training_scores", "all_predictions"))
    expect_false(fitted(again))
    expect_identical(everything(again), everything(plain))
    con <- DBI::dbConnect(RSQLite::SQLite(), file, synchronous = NULL)
    DBI::dbExecute(con, "DELETE FROM fits WHERE value = '0.1'")
    DBI::dbDisconnect(con)
    half <- run(keep = c("training_scores", "all_predictions"))
    expect_true(fitted(half))
    expect_identical(everything(half), everything(plain))
  }
)

test_that("validation rows that a family cannot take fail their split only, and say which column", {
  table <- toy(40)[c("x1", "x2", "number")]
  folds <- split_kfold(4, stratify = FALSE)
  # a plan is tried on the training rows of its first split, which must not see it coming
  spoiled <- rows_by_split(plan_comparison(brief(table, "number"), splits = folds,
    seed = 1))[[1]]$validation[1]
  table$x2[spoiled] <- 99
  spoil <- pre_custom(learn = function(columns, outcome) NULL, use = function(columns, state) {
    columns$x1[columns$x2 == 99] <- NA
    columns
  })
  plan <- plan_comparison(
    brief(table, "number"),
    candidates(l = pipeline(spoil, fam_linear()), b = fam_baseline()),
    splits = folds,
    seed = 1
  )
  cmp <- quiet_run(plan, workers = 1)
  found <- failures(cmp)
  expect_true(spoiled %in% rows_by_split(plan)[[1]]$validation)
  expect_identical(found$split[found$stage == "fam_linear prediction"], 1L)
  expect_setequal(found$split[found$stage == "input"], 2:4)
  expect_match(found$message, "missing values, but there are some in 'x1'", all = TRUE)
  expect_true(all(is.finite(standings(cmp)$mean[standings(cmp)$candidate == "b"])))
})

test_that("a matrix of predictors is what base R makes of the columns", {
  columns <- list(a = c(1.5, NA, NaN, Inf), b = c(1L, NA, 3L, -4L), c = c(TRUE, NA, FALSE, TRUE))
  plain <- as.matrix(data.frame(lapply(columns, as.double)))
  expect_identical(kw("filled_matrix")(columns, NULL, 4L), plain)
  expect_identical(kw("filled_matrix")(columns, c(4L, 1L, 1L), 3L), plain[c(4, 1, 1), ])
  expect_identical(kw("filled_matrix")(list(), NULL, 4L), matrix(0, 4, 0))
  expect_error(kw("filled_matrix")(columns, 5L, 1L), "no row 5")
  expect_error(kw("filled_matrix")(columns, NULL, 3L), "4 rows instead of 3")
})

test_that("units take fits in an order that leaves no end of a grid to the last, and loses none", {
  work <- list(fits = list(
    node = c(0, 0, 0, 0, 0, 0, 0, 0, 2, 1, 2, 1),
    candidate = c(1, 1, 1, 1, 1, 1, 1, 1, 3, 2, 3, 3)
  ))
  order <- kw("in_spread_order")(1:12, work)
  expect_setequal(order, 1:12)
  expect_identical(order[1:8], c(8L, 4L, 6L, 2L, 7L, 3L, 5L, 1L))
  expect_identical(
    rle(paste(work$fits$node, work$fits$candidate)[order])$lengths, c(8L, 1L, 1L, 2L)
  )
  expect_equal(kw("radical_inverse")(0:4), c(0, 1 / 2, 1 / 4, 3 / 4, 1 / 8))
})

test_that("what a fit took on one split is expected on the others, and dear fits travel alone", {
  plan <- plan_comparison(
    brief(toy(60)[c("x1", "number")], "number"),
    candidates(n = fam_neural(epochs = among(1, 2, 3, 4))),
    splits = split_kfold(3),
    seed = 1
  )
  work <- kw("compile_work")(plan$spaces, lapply(plan$round, `[[`, "settings"))
  schedule <- kw("new_schedule")(work, matrix(TRUE, 4, 3))
  expect_true(is.na(schedule$left()))
  told <- c(0.001, 0.001, 0.001, 5)
  taken <- NULL
  while (!is.null(unit <- schedule$take())) {
    taken <- rbind(taken, cbind(split = unit$split, fit = unit$fits, of = length(unit$fits)))
    schedule$learn(list(
      steps = kw("new_steps")(), fit = unit$fits, seconds = told[unit$fits],
      share = rep(1, length(unit$fits))
    ))
  }
  expect_identical(nrow(unique(taken[, 1:2])), 12L)
  expect_equal(schedule$left(), 0)
  later <- taken[taken[, "fit"] == 4 & taken[, "split"] > 1, , drop = FALSE]
  expect_true(all(later[, "of"] == 1))
})

test_that("units of a group of thousands hold what is done in their half second, and no more", {
  plan <- plan_comparison(
    brief(toy(40)[c("x1", "number")], "number"),
    candidates(t = fam_tree(min_leaf = among(1:170), depth = among(1:30))),
    splits = split_kfold(2),
    seed = 1
  )
  work <- kw("compile_work")(plan$spaces, lapply(plan$round, `[[`, "settings"))
  n <- length(work$fits$node)
  expect_identical(n, 5100L)
  units_of <- function(takes) {
    costs <- list(
      spent = function() 0, of = function(fits, share) takes[fits], step = function(branch) 0
    )
    schedule <- kw("new_schedule")(work, matrix(TRUE, n, 2), costs = costs)
    found <- list()
    while (!is.null(unit <- schedule$take())) {
      if (unit$split == 2L) found[[length(found) + 1L]] <- unit$fits
    }
    found
  }
  # what is taken from all of them together
  by_hand <- function(takes, fits) {
    found <- list()
    while (length(fits) > 0L) {
      seconds <- cumsum(ifelse(is.na(takes[fits]), Inf, takes[fits]))
      many <- if (is.na(takes[fits[1]])) 1L else max(1L, sum(seconds <= 0.5))
      found[[length(found) + 1L]] <- fits[seq_len(many)]
      fits <- fits[-seq_len(many)]
    }
    found
  }
  for (takes in list(
    rep(2^-12, n), rep(2^-20, n), rep(c(2^-20, 0.4), c(3000, n - 3000)), rep(c(0.4, 0), n / 2),
    replace(rep(2^-20, n), c(1, 1500, 1501, n), NA)
  )) {
    found <- units_of(takes)
    expect_identical(found, by_hand(takes, unlist(found)))
    expect_setequal(unlist(found), seq_len(n))
  }
})

test_that("seconds are added to cells that are named twice, and to none that are not", {
  seconds <- matrix(c(1, NA, 3, NA, 5, NaN), 3)
  at <- rbind(c(1, 1), c(2, 1), c(2, 1), c(3, 2), c(1, 2))
  more <- c(0.5, 1, 2, 4, 8)
  by_hand <- seconds
  for (i in seq_along(more)) {
    old <- by_hand[at[i, 1], at[i, 2]]
    by_hand[at[i, 1], at[i, 2]] <- (if (is.na(old)) 0 else old) + more[i]
  }
  before <- seconds + 0
  expect_identical(kw("added_at")(seconds, at[, 1], at[, 2], more), by_hand)
  expect_identical(seconds, before)
  expect_identical(kw("added_at")(seconds, integer(), integer(), numeric()), before)
  expect_error(kw("added_at")(seconds, 4L, 1L, 1), "no cell 4, 1")
  expect_error(kw("added_at")(seconds, NA_integer_, 1L, 1), "no cell")
})

test_that("workers = 1 is this process, even where workers are set up", {
  mirai::daemons(1, .compute = "kilnwright")
  withr::defer(mirai::daemons(0, .compute = "kilnwright"))
  process <- define_family(
    "process",
    kinds = "number",
    fit = function(x, y, weights, settings, seed, threads) Sys.getpid(),
    predict = function(model, x) rep(model, nrow(x))
  )
  job <- brief(toy(40)[c("x1", "number")], "number")
  run <- function(...) {
    quiet_run(
      job,
      candidates(p = process()),
      splits = split_kfold(2),
      keep = "all_predictions",
      seed = 1,
      ...
    )
  }
  process_of <- function(cmp) unique(unlist(lapply(cmp$results$predictions, `[[`, "values")))
  expect_identical(process_of(run(workers = 1)), Sys.getpid())
  expect_false(Sys.getpid() %in% process_of(run()))
})
