# Candidates and plans that are made from the table, and plans written as plan files.

wide_table <- function(n = 160) {
  withr::with_seed(4, {
    table <- toy(n, missing = TRUE)
    table$town <- sprintf("t%02d", sample(30, n, replace = TRUE))
    table$money <- exp(rnorm(n, sd = 2))
    table
  })
}

# What it prints is meant to be pasted.
by_code <- function(made) {
  eval(parse(text = utils::capture.output(print(made))), envir = asNamespace("kilnwright"))
}

code_of <- function(candidates) kw("candidates_code")(candidates)

# What is too dear is for the machine to say: here nothing is, however slow it is. Pilots are made.
local_fast_machine <- function(env = parent.frame()) {
  timed <- kw("timed_unit")
  local_stand_in("timed_unit", function(...) utils::modifyList(timed(...), list(took = 0.001)), env)
}

test_that("sensible candidates fit outcome and table, and print as code that makes them again", {
  local_fast_machine()
  varied <- list()
  for (kind in names(outcomes)) {
    job <- toy_brief(kind, wide_table())
    for (effort in c(if (kind == "number") c("quick", "usual"), "thorough")) {
      made <- sensible_candidates(job, effort)
      families <- vapply(made$pipelines, function(p) p$family$definition$name, "")
      expect_true(all(c("baseline", "penalised", "tree", "forest") %in% families))
      kinds <- lapply(made$pipelines, function(p) p$family$definition$kinds)
      expect_true(all(vapply(kinds, function(k) kind %in% k, NA)))
      expect_identical(code_of(by_code(made)), code_of(made))
      expect_lt(max(nchar(utils::capture.output(print(made)))), 100)
    }
    varied[[kind]] <- lapply(made$pipelines, function(p) {
      names(Filter(kw("is_varying"), p$family$settings))
    })
  }
  # nothing varies that does nothing for such an outcome
  expect_false("impurity" %in% varied$number$tree)
  expect_true("impurity" %in% varied$two_class$tree)
  expect_true("tube" %in% varied$number$support_vectors)
  expect_false("tube" %in% varied$two_class$support_vectors)
  expect_true("width" %in% varied$two_class$support_vectors)
  # what is found in the table is a choice
  usual <- paste(trimws(code_of(sensible_candidates(toy_brief("number", wide_table())))),
    collapse = "")
  expect_match(usual, "either(indicators = pre_onehot(),means = list(pre_target_mean(",
    fixed = TRUE)
  tail <- transform(toy(120), number = exp(number))
  tried <- code_of(sensible_candidates(toy_brief("number", tail)))
  expect_match(tried, "outcome_scale\\(by = among\\(\"none\", \"log\"\\)\\)", all = FALSE)
  # a sum of curves is a candidate beside the sum of slopes
  has_curves <- function(pipelines) {
    vapply(pipelines, function(p) "pre_splines" %in% vapply(p$steps, kw("short_node"), ""), NA)
  }
  curves <- has_curves(sensible_candidates(toy_brief("number", wide_table()))$pipelines)
  expect_identical(names(which(curves)), "penalised_splines")
  many <- cbind(toy(60)["number"], matrix(rnorm(60 * 41), 60))
  expect_false(any(has_curves(sensible_candidates(brief(many, "number"))$pipelines)))
  quick <- sensible_candidates(toy_brief("number", wide_table()), "quick")
  expect_length(quick$pipelines, 4)
  # weights: only families that take them
  weighted <- brief(transform(toy(80)[c("x1", "x2", "number")], w = runif(80)), "number",
    weight = "w")
  left <- attr(sensible_candidates(weighted, "thorough"), "left_out")
  expect_match(left$neural, "takes no weights")
  expect_match(left$discriminant, "does not predict")
  wide <- brief(transform(wide_table()[c("x1", "town", "number")], w = runif(160)), "number",
    weight = "w")
  expect_match(attr(sensible_candidates(wide), "left_out")$adaptive_splines, "too long.*weights")
  # so few rows that no setting of a family can work
  few <- sensible_candidates(toy_brief("number", toy(10)))
  expect_match(attr(few, "left_out")$boosted, "more rows than twice its smallest leaf")
  expect_false("boosted" %in% names(few$pipelines))
})

test_that("what pilots show to be too dear is left out, and it is said", {
  # part of what takes time does not grow with the rows
  seconds <- c(baseline = 0, penalised = 0.1, tree = 0.5, forest = 60)
  shares <- numeric()
  local_stand_in("timed_unit", function(run, split, fits, cache, share) {
    shares <<- c(shares, share)
    held <- length(run$splits[[split]]$validation) / 150
    candidate <- run$work$fits$candidate[fits]
    list(ledger = NULL, took = seconds[[candidate]] * (0.03 + (share + held) / 2))
  })
  job <- toy_brief("number", toy(1500))
  made <- sensible_candidates(job, "quick")
  expect_identical(names(made$pipelines), c("baseline", "penalised", "tree"))
  said <- attr(made, "left_out")$forest
  expect_match(said, "a setting would take about [0-9.]+ minutes on 10 splits")
  minutes <- as.numeric(sub(".*about ([0-9.]+) minutes.*", "\\1", said))
  expect_equal(minutes, 10 * 60 * 1.03 / 60, tolerance = 0.1)
  # of the forest a whole fit was never needed
  expect_lt(max(utils::tail(shares, 2)), 1)
  plan <- plan_by_itself(job, effort = "quick", seed = 1)
  expect_output(print(plan), "left out: forest, a setting would take")
  # more time makes more of them worth it, and a baseline alone is no comparison
  more <- plan_by_itself(job, minutes = 60, effort = "quick", seed = 1)
  expect_identical(names(more$spaces), names(seconds))
  # half a second on five splits is more than a fifth of 0.2 minutes
  less <- plan_by_itself(job, minutes = 0.2, effort = "quick", seed = 1)
  expect_identical(names(less$spaces), c("baseline", "penalised"))
  seconds[2:4] <- c(700, 300, 900)
  expect_identical(names(sensible_candidates(job, "quick")$pipelines), c("baseline", "tree"))
})

test_that("no more splits are planned than there is time for a few settings to have all of them", {
  seconds <- 0.5
  local_stand_in("timed_unit", function(...) list(ledger = NULL, took = seconds))
  job <- toy_brief("number", toy(120))
  folds <- function(minutes) {
    plan <- plan_by_itself(job, minutes = minutes, effort = "quick", seed = 1)
    unlist(plan$splitter$arguments[c("k", "repeats")])
  }
  expect_identical(unname(folds(10)), c(10, 5))
  # 5 settings x 24 splits x half a second
  expect_identical(unname(folds(1)), c(10, 2))
  expect_identical(unname(folds(0.42)), c(10, 1))
  expect_identical(unname(folds(0.4)), c(5, 1))
  expect_identical(unname(folds(0.01)), c(5, 1))
  # of very many rows a few draws
  local_stand_in("splits_for", function(brief) split_holdout(0.2, draws = 5))
  draws <- function(minutes) {
    plan_by_itself(job, minutes = minutes, effort = "quick", seed = 1)$splitter$arguments$draws
  }
  expect_identical(c(draws(10), draws(0.2), draws(0.01)), c(5, 4, 3))
})

test_that("a fit that the machine held up once is not taken for dear", {
  job <- toy_brief("number", toy(150))
  calls <- c(forest = 0, tree = 0)
  local_stand_in("timed_unit", function(run, split, fits, ...) {
    name <- c("baseline", "penalised", "tree", "forest")[run$work$fits$candidate[fits]]
    if (name %in% names(calls)) calls[name] <<- calls[name] + 1
    held_up <- name == "forest" && calls["forest"] == 1
    list(ledger = NULL, took = if (name == "tree" || held_up) 40 else 0.1)
  })
  made <- sensible_candidates(job, "quick")
  expect_identical(names(made$pipelines), c("baseline", "penalised", "forest"))
  expect_identical(names(attr(made, "left_out")), "tree")
  expect_identical(calls, c(forest = 2, tree = 2))
})

test_that("of a table of more columns than a family can do with, the best are kept", {
  local_fast_machine()
  many <- withr::with_seed(2, as.data.frame(matrix(rnorm(60 * 320), 60)))
  many$y <- many$V7 - many$V11 + rnorm(60) / 4
  made <- sensible_candidates(brief(many, "y"))
  steps <- lapply(made$pipelines, function(p) lapply(p$steps, function(s) s$part$definition$name))
  expect_setequal(names(Filter(function(one) "keep_top" %in% one, steps)),
    c("neighbours", "adaptive_splines"))
  # many levels are no columns to families that take them as they are
  few <- data.frame(
    town = sprintf("t\"%03d", seq_len(1200)), flag = rep(0:1, 600), size = c(NA, seq_len(1199)),
    y = withr::with_seed(3, rnorm(1200))
  )
  boosted <- sensible_candidates(brief(rbind(few, few), "y"))$pipelines$boosted
  expect_s3_class(boosted, "kw_pipeline")
  expect_false("keep_top" %in% lapply(boosted$steps, function(s) s$part$definition$name))
  near <- unlist(steps$neighbours)
  expect_lt(match("missing", near), match("keep_top", near))
  expect_lt(match("keep_top", near), match("scale", near))
  plan <- plan_comparison(brief(many, "y"), made, splits = split_kfold(3),
    search = search_random(2), seed = 1)
  cmp <- quiet_run(plan, workers = 1)
  table <- standings(cmp, level = "candidates")
  expect_lt(table$mean[table$candidate == "adaptive_splines"],
    table$mean[table$candidate == "baseline"])
})

test_that("texts are always used where nothing else tells anything", {
  local_fast_machine()
  words <- withr::with_seed(3, replicate(60, paste(sample(c("cold", "hot", "wet", "dry"), 3, TRUE),
    collapse = " ")))
  hot <- lengths(regmatches(words, gregexpr("hot", words)))
  table <- data.frame(note = words, same = 3, y = hot + withr::with_seed(4, rnorm(60) / 4))
  for (ignored in list("same", NULL)) {
    job <- brief(table, "y", text = "note", ignore = ignored)
    plan <- plan_by_itself(job, minutes = 0.1, seed = 1)
    expect_true("penalised" %in% names(plan$spaces))
    expect_false("text" %in% names(plan$spaces$penalised$dimensions))
  }
  cmp <- quiet_run(plan, limits = limits(settings = 8, minutes = 10), workers = 1)
  expect_identical(nrow(failures(cmp)), 0L)
  expect_gt(which(standings(cmp)$candidate == "baseline"), 1)
  # words of one row each: the families are named, the baseline stays
  rare <- data.frame(note = paste0("w", 1:60, " v", 60:1), y = table$y)
  empty <- sensible_candidates(brief(rare, "y", text = "note"))
  expect_identical(names(empty$pipelines), "baseline")
  expect_match(attr(empty, "left_out")$penalised, "its steps leave no column")
})

test_that("groups that reach over all times are kept whole, and times give way, which is said", {
  local_fast_machine()
  table <- withr::with_seed(5, data.frame(
    potter = sample(letters[1:3], 90, TRUE), day = as.Date("2030-01-01") + 1:90, x = rnorm(90),
    y = rnorm(90)
  ))
  plan <- plan_by_itself(brief(table, "y", group = "potter", time = "day"), 0.1, "quick", seed = 1)
  expect_identical(plan$splitter$name, "kfold")
  expect_match(plan$notes, "splits in time cannot be made: In split", all = FALSE)
  for (rows in rows_by_split(plan)) {
    expect_length(intersect(table$potter[rows$training], table$potter[rows$validation]), 0)
  }
})

few_settings <- function(plan, limits) quiet_run(plan, workers = 1, limits = limits)

planned_fast <- function(...) {
  local_fast_machine()
  plan_by_itself(..., effort = "quick", seed = 1)
}

test_that("plan_by_itself() gives a plan that runs, within its minutes, to a model", {
  job <- toy_brief(table = wide_table(120))
  plan <- planned_fast(job, minutes = 0.05)
  expect_identical(plan$screen$name, "splits")
  expect_identical(plan$minutes, 0.05)
  expect_output(print(plan), "at most 0.05 minutes")
  cmp <- quiet_run(plan, workers = 1)
  expect_s3_class(select_final(cmp), "kw_choice")
  expect_match(paste(summary(cmp), collapse = " "), "The search .guided, 30 settings. looked at")
  # the best that can be had: a twentieth of the minutes is left for a blend
  best <- planned_fast(job, minutes = 0.05, blend = TRUE)
  expect_identical(best$minutes, 0.0475)
  expect_identical(best$rule, list(name = "best_mean", margin = NULL, blend = TRUE))
  expect_identical(best$round, plan$round)
  expect_error(plan_by_itself(job, blend = "all"), "`blend`")
  # other limits stand beside the plan's minutes, others of minutes win
  plan$minutes <- 5
  expect_match(few_settings(plan, limits(settings = 3))$stopped, "3 settings")
  plan$minutes <- 1e-9
  expect_match(few_settings(plan, limits(fit_seconds = 60))$stopped, "1e-09 minutes")
  expect_match(few_settings(plan, limits(minutes = 9, settings = 3))$stopped, "3 settings")
  timed <- brief(transform(toy(100)[c("x1", "number")], day = as.Date("2020-01-01") + 1:100),
    "number", time = "day")
  expect_identical(plan_by_itself(timed, effort = "quick", seed = 1)$splitter$name, "time")
  few <- plan_by_itself(toy_brief("number", toy(30)), effort = "quick", seed = 1)
  expect_true(is.null(few$screen) || !few$pooled)
})

test_that("a plan goes into a plan file and comes back with the same keys", {
  folder <- withr::local_tempdir()
  table <- wide_table(90)
  table$code <- sprintf("%03d", seq_len(90) %% 7)
  table$'odd "name", yes' <- rnorm(90)
  table$day <- as.Date("2021-03-01") + seq_len(90)
  table$size <- sample(factor(c("s", "m", "l"), c("s", "m", "l"), ordered = TRUE), 90, TRUE)
  job <- brief(table, "two",
    event = "yes", ignore = c("number", "three"), group = "batch", missing_codes = list(x2 = -1)
  )
  rivals <- candidates(
    base = fam_baseline(),
    bare = pipeline(fam_tree(min_leaf = among(2, 5))),
    near = pipeline(
      pre_missing(fill = "mean", columns = of_kind("number")), pre_missing(),
      pre_drop(columns = c("day", "odd \"name\", yes")),
      optional(pre_skew()), either(a = pre_onehot(), b = list(pre_frequency(), pre_onehot())),
      width = pre_scale(by = among("sd", "range")), fam_neighbours(neighbours = from_to(1, 9))
    ),
    lasso = pipeline(
      pre_missing(), pre_drop(columns = day), pre_onehot(), pre_scale(),
      fam_penalised(penalty = from_to(1 / 3, 2 / 3, "log", points = 4), lasso_share = sensible())
    )
  ) |> rule_out(penalty < 0.4 & lasso_share == 1, candidate = "lasso")
  plan <- plan_comparison(job, rivals,
    splits = split_kfold(6, repeats = 2), decide = "auc",
    metrics = list("auc", metric_cost(missed = 3, false_alarm = 1)),
    search = list(near = search_random(5), search_grid(3)), screen = screen_splits(level = 0.9),
    provided = c("auc >= 0.2", "recall >= 0.1"), seed = 12345
  )
  file <- file.path(folder, "all.yml")
  write_plan(plan, file)
  expect_setequal(list.files(folder), c("all.csv", "all.yml"))
  read <- read_plan(file)
  expect_identical(kw("plan_differences")(plan, read), character())
  # a journal of the one is a journal of the other
  journal <- journal_file()
  cmp <- quiet_run(plan, journal = journal, workers = 1)
  same_numbers(quiet_run(read, journal = journal, workers = 1), cmp)
  expect_error(write_plan(plan, file), "exists", class = "kw_error_file")
  # from the table that the brief was made of, with rows set aside
  data.table::fwrite(toy(100), file.path(folder, "toy.csv"))
  aside <- set_aside(
    brief(read_data(file.path(folder, "toy.csv")), "number", group = "batch"), 0.3, seed = 4
  )
  small <- plan_comparison(aside, candidates(t = sensible(fam_tree(depth = 3))), seed = 2)
  write_plan(small, file, table = file.path(folder, "toy.csv"), replace = TRUE)
  # both can be moved together
  expect_match(readLines(file), "^  table: toy.csv$", all = FALSE)
  expect_identical(kw("plan_differences")(small, read_plan(file)), character())
  expect_true(any(grepl("share: 0.3", readLines(file), fixed = TRUE)))
})

test_that("one column and few groups: a plan file, no repeats that are all the same, and a model", {
  local_fast_machine()
  folder <- withr::local_tempdir()
  table <- withr::with_seed(1, data.frame(
    potter = rep(letters[1:6], each = 12), wheel = rep(c("a", "b", "c"), 24), score = rnorm(72, 60)
  ))
  data.table::fwrite(table, file.path(folder, "wheels.csv"))
  job <- brief(read_data(file.path(folder, "wheels.csv")), "score", group = "potter")
  plan <- plan_by_itself(job, minutes = 0.05, effort = "quick", seed = 1)
  expect_identical(plan$splitter$arguments[c("k", "repeats")], list(k = 6, repeats = 1L))
  file <- file.path(folder, "wheels.yml")
  write_plan(plan, file, table = file.path(folder, "wheels.csv"))
  expect_identical(kw("plan_differences")(plan, read_plan(file)), character())
  expect_s3_class(fit_final(select_final(quiet_run(plan, workers = 1))), "kw_model")
  again <- plan_comparison(job, candidates(b = fam_baseline()),
    splits = split_kfold(6, repeats = 3), metrics = "rmse", seed = 1)
  expect_match(again$notes, "all repeats hold out the same parts", all = FALSE)
  expect_error(extend_comparison(quiet_run(again, workers = 1), repeats = 1),
    "Every repeat holds out the same", class = "kw_error_splits")
  # an outer split leaves fewer groups than the plan has folds: one after the other is left out
  judged <- assess_selection(again, split_kfold(3), quiet = TRUE, workers = 1)
  expect_output(print(judged), "Inner splits: 4 folds instead of 6")
  fewer <- plan_comparison(job, candidates(b = fam_baseline()),
    splits = split_kfold(4, repeats = 3), metrics = "rmse", seed = 1)
  expect_identical(judged$scores,
    assess_selection(fewer, split_kfold(3), quiet = TRUE, workers = 1)$scores)
  expect_error(assess_selection(again, split_holdout(0.8, draws = 2), quiet = TRUE, workers = 1),
    "outer split 1 trains on.*1 group", class = "kw_error_splits")
  few <- plan_comparison(job, candidates(b = fam_baseline()), metrics = "rmse", seed = 1,
    splits = split_kfold(3, repeats = 3, stratify = FALSE))
  expect_false(any(grepl("all repeats", few$notes)))
})

test_that("what a plan file cannot hold is said, and nothing is written", {
  folder <- withr::local_tempdir()
  file <- file.path(folder, "p.yml")
  refused <- function(candidates, says, job = toy_brief(), ...) {
    plan <- plan_comparison(job, candidates, splits = split_kfold(3), seed = 1, ...)
    expect_error(write_plan(plan, file), says, class = "kw_error_plan_file")
    expect_identical(list.files(folder), character())
  }
  own <- define_family("own", "two_class",
    fit = function(x, y, weights, settings, seed, threads) 0.5,
    predict = function(model, x) cbind(rep(0.5, nrow(x)), 0.5)
  )
  refused(candidates(o = own()), "fam_own, which is your own")
  refused(candidates(t = pipeline(
    pre_missing(columns = where(is.numeric)), pre_missing(), fam_tree()
  )), "columns = where")
  own_search <- define_search("mine", function(field, history, arguments, memory) {
    list(settings = list(t = field$from_cube("t", matrix(0.5))), memory = NULL)
  })
  refused(
    candidates(t = fam_tree(min_leaf = among(2, 5))), "search .mine.", search = own_search()
  )
  plan <- plan_comparison(toy_brief(), candidates(t = fam_tree()), seed = 1)
  data.table::fwrite(toy(20), file.path(folder, "other.csv"))
  expect_error(write_plan(plan, file, table = file.path(folder, "other.csv")), "not be the same",
    class = "kw_error_plan_file")
  expect_error(write_plan(plan, "p.txt"), "file", class = "kw_error_argument")
  expect_error(write_plan(plan, file.path(folder, "no", "p.yml")), class = "kw_error_file")
  expect_identical(list.files(folder), "other.csv")
})
