# Parts of others: made by define_...(), registered, and then known like the package's own.

# What others registered is forgotten when the test ends.
local_registry <- function(env = parent.frame()) {
  store <- kw("others_store")
  kept <- as.list(store)
  withr::defer({
    # reason: names of the registry
    rm(list = ls(store), envir = store)
    list2env(kept, store)
  }, envir = env)
}

test_that("an add-on package's parts are known in R, plan files, the command line and help", {
  folder <- withr::local_tempdir()
  utils::install.packages(test_path("addon"),
    lib = folder, repos = NULL, type = "source", quiet = TRUE, INSTALL_opts = "--no-test-load"
  )
  skip_if_not(dir.exists(file.path(folder, "kilnparts")), "the add-on package was not installed")
  withr::local_envvar(R_LIBS = paste(c(folder, .libPaths()), collapse = .Platform$path.sep))
  withr::local_dir(folder)
  withr::with_seed(1, {
    table <- data.frame(a = rexp(90), b = rnorm(90))
    table$a[7] <- 900
    table$y <- rexp(90) + pmin(table$a, 3)
  })
  utils::write.csv(table, "table.csv", row.names = FALSE)
  writeLines(c(
    "brief: {table: table.csv, outcome: y}",
    "candidates:",
    "  base: baseline",
    "  half: {halfway: {pull: {from: 0, to: 1, points: 3}, wing: [left, right]}}",
    "  tree: [{cap: {share: 0.9}}, {tree: {pruning: [0.01, 0.1]}}]",
    "splits: {turns: {turns: 5}}",
    "search: {half: {corners: {far: 0.5}}, others: grid}",
    "screen: {upper: {share: 0}}",
    "metrics: [rmse, worst]",
    "rule: second",
    "seed: 3"
  ), "plan.yml")
  script <- c(
    "library(kilnparts)",
    "library(kilnwright)",
    "stopifnot('fam_halfway' %in% list_families()$family, 'pre_cap' %in% list_steps()$step)",
    "stopifnot('worst' %in% list_metrics('number')$metric)",
    "job <- brief(read_data('table.csv'), 'y')",
    "print(describe_family('halfway', job))",
    "found <- inspect_data(job)",
    "print(found$remedy[found$code == 'far_values'])",
    "print(names(apply_remedies(job, found)$steps))",
    "for (part in list(fam_halfway(), pre_cap(share = 0.9), metric_worst(), split_turns(),",
    "  search_corners(), screen_upper(share = 0), rule_second, finding_far)) {",
    "  tried <- try_out(part, job)",
    "  if (!all(tried$passed)) print(as.data.frame(tried[!tried$passed, ]))",
    "}",
    "plan <- read_plan('plan.yml')",
    "write_plan(plan, 'again.yml')",
    "cmp <- run_comparison(plan, quiet = TRUE, journal = 'run.sqlite')",
    "print(nrow(standings(cmp)))",
    "model <- fit_final(select_final(cmp, 'second', margin = 10))",
    "save_model(model, 'model.kilnwright')",
    "print(select_final(cmp, rule_second, margin = 0)$at == select_final(cmp, 'best_mean')$at)",
    "print(explain_choice(select_final(cmp, 'second', margin = 10))$rule)",
    "print(tryCatch(pre_cap(), kw_error_argument = function(e) 'required'))"
  )
  writeLines(script, "all.R")
  rscript <- file.path(R.home("bin"), "Rscript")
  said <- suppressWarnings(system2(rscript, "all.R", stdout = TRUE, stderr = TRUE))
  info <- paste(said, collapse = "\n")
  expect_null(attr(said, "status"), info = info)
  expect_match(said, "How far the prediction is from the mean to the", all = FALSE, info = info)
  expect_true('[1] "pre_cap(share = 0.99, columns = \\"a\\")"' %in% said, info = info)
  expect_false(any(grepl("passed", said)), info = info)
  # two corners of halfway, of which 0.5 and left or right; the baseline; two trees
  expect_true("[1] 5" %in% said, info = info)
  expect_true("[1] TRUE" %in% said, info = info)
  expect_match(said, "\"second\"", all = FALSE, info = info)
  expect_true('[1] "required"' %in% said, info = info)
  # the journal and the model need no add-on
  expect_identical(nrow(standings(open_comparison("run.sqlite", trust = TRUE))), 5L)
  expect_length(predict(open_model("model.kilnwright", trust = TRUE), table)$value, 90)
  command <- function(...) {
    suppressWarnings(system2(rscript, c(
      shQuote(system.file("exec", "kilnwright", package = "kilnwright")), ...
    ), stdout = TRUE, stderr = TRUE))
  }
  expect_match(command("preview", "plan.yml"), "There is no step or family 'halfway'", all = FALSE)
  expect_match(command("--with", "kilnparts", "preview", "plan.yml"), "half", all = FALSE)
  expect_match(command("--with", "nosuch", "preview", "plan.yml"), "not installed", all = FALSE)
})

test_that("names that are taken are refused; the same source may register anew", {
  local_registry()
  home <- new.env()
  tree <- define_metric("mae", "number", "lower", function(truth, prediction, weights) 1)
  assign("anything", tree, home)
  expect_error(register_members(home), "'metric_mae' of kilnwright", class = "kw_error_definition")
  home <- new.env()
  home$halves <- define_split("kfold", function(about, arguments) list())
  expect_error(register_members(home), "'split_kfold' of kilnwright")
  home <- new.env()
  home$odd <- define_metric("odd", "number", "lower", function(truth, prediction, weights) 1)
  expect_identical(register_members(home), "metric_odd")
  expect_identical(register_members(home), "metric_odd")
  expect_true("odd" %in% list_metrics()$metric)
  expect_error(register_members(3), class = "kw_error_argument")
  expect_error(register_members("nosuchpackage"), class = "kw_error_package")
  # what others call a member is none of ours
  home <- new.env()
  home$other <- structure(1, member = "of a club")
  expect_length(register_members(home), 0)
})

test_that("a splitter of one's own gives rows that there are, and none on both sides", {
  job <- brief(toy(40)[c("x1", "number")], "number")
  made <- function(rows) {
    divide <- eval(bquote(function(about, arguments) .(rows)))
    plan_comparison(job, candidates(a = fam_baseline()), splits = define_split("own", divide)(),
      seed = 1)
  }
  expect_error(made(quote(list())), "gives no splits", class = "kw_error_splits")
  expect_error(made(quote(list(list(training = 1:20, validation = 20:40)))), "holds out, 20")
  expect_error(made(quote(list(list(training = 1:20, validation = 39:41)))), "row 41 in split 1")
  expect_error(made(quote(list(list(training = 1:20)))), "no validation rows in split 1")
  own <- define_split("own", function(about, arguments) {
    list(list(training = seq_len(arguments$upto), validation = 31:40))
  }, defaults = list(upto = 30), paired = FALSE)
  expect_error(own(up = 3), "has no argument 'up'", class = "kw_error_argument")
  cmp <- quiet_run(plan_comparison(job, candidates(a = fam_baseline(), b = fam_tree()),
    splits = own(upto = 20), seed = 1))
  expect_identical(rows_by_split(cmp)[[1]]$training, 1:20)
  expect_error(shortlist(cmp), "depend on one another", class = "kw_error_select")
})

test_that("a screen of one's own drops what it says, and never the best", {
  job <- brief(toy(120)[c("x1", "x2", "x3", "number")], "number")
  plan_with <- function(screen) {
    plan_comparison(job,
      candidates(a = fam_baseline(), t = fam_tree(min_leaf = among(2, 5, 10, 20, 30))),
      splits = split_kfold(8), screen = screen, seed = 1)
  }
  upper <- define_screen("upper", function(scores, arguments) {
    mean <- rowMeans(scores)
    mean >= stats::quantile(mean, arguments$share, na.rm = TRUE)
  }, defaults = list(share = 0.5))
  cmp <- quiet_run(plan_with(upper()))
  full <- quiet_run(plan_with(NULL))
  all <- standings(cmp, level = "all")
  dropped <- all[is.na(all$place), ]
  expect_gte(nrow(dropped), 3)
  expect_true(all(dropped$splits < 8))
  expect_identical(as.data.frame(standings(cmp))[1, 1:3], as.data.frame(standings(full))[1, 1:3])
  # by hand: after three splits the lower half goes
  first <- -full$results$scores$rmse[, 1:3]
  low <- rowMeans(first) < stats::median(rowMeans(first))
  gone <- cmp$results$dropped
  expect_setequal(
    paste(gone$candidate, gone$setting)[gone$splits == 3],
    setdiff(paste(full$results$candidate, full$results$row)[low], "1 1")
  )
  same_numbers(quiet_run(plan_with(upper()), workers = 2), cmp)
  # nobody stays: the best does
  none <- define_screen("none", function(scores, arguments) rep(FALSE, nrow(scores)))
  expect_gte(nrow(standings(quiet_run(plan_with(none())))), 1)
  mad <- define_screen("mad", function(scores, arguments) TRUE)
  expect_error(quiet_run(plan_with(mad())), "TRUE or FALSE for each of", class = "kw_error_search")
})

test_that("rules say whether they take a margin", {
  job <- brief(toy(60)[c("x1", "x2", "number")], "number")
  cmp <- quiet_run(plan_comparison(job, candidates(a = fam_baseline(), b = fam_tree()),
    splits = split_kfold(3), seed = 1))
  last <- define_rule("last", function(table, margin) nrow(table))
  expect_error(select_final(cmp, last, margin = 1), "'last' takes no margin.*\n.*'within'")
  needing <- define_rule("needing", function(table, margin) 1, margin = "needed")
  expect_error(select_final(cmp, needing), "needs a margin", class = "kw_error_argument")
  usual <- define_rule("usual", function(table, margin) list(row = 1, reason = format(margin)),
    margin = 0.25)
  expect_identical(select_final(cmp, usual)$reason, "0.25")
  expect_identical(select_final(cmp, usual, margin = 2)$reason, "2")
  expect_error(select_final(cmp, "no_such"), class = "kw_error_argument")
  mad <- define_rule("mad", function(table, margin) 99)
  expect_error(select_final(cmp, mad), "number of one of the 2 rows", class = "kw_error_select")
})

test_that("parts of one's own print in a line", {
  rule <- define_rule("second", function(table, margin) 1, margin = 0.5, does = "Takes the second.")
  expect_output(print(rule), "Rule second, margin 0.5 unless another is given. Takes the second.",
    fixed = TRUE)
  expect_output(print(define_rule("r", function(table, margin) 1)), "takes no margin")
  expect_output(print(define_finding("odd", function(columns, outcome) NULL)), "Finding odd")
  expect_output(print(hyperparameter("whole", 5, meaning = "How many.")),
    "Hyperparameter (whole), default 5: How many.", fixed = TRUE)
  expect_output(print(cannot_work("no", function(settings, kind, about) FALSE)), "Cannot work: no.")
})

test_that("parts have names of one word", {
  for (define in list(
    function(name) {
      define_step(name, function(frame, target, settings, seed) 1, function(state, frame) 1)
    },
    function(name) define_rule(name, function(table, margin) 1L),
    function(name) define_finding(name, function(columns, outcome) NULL),
    function(name) define_split(name, function(table, seed, arguments) list())
  )) {
    for (name in c("two words", "a-b", "1st", "")) {
      expect_error(define(name), "one word", class = "kw_error_argument")
    }
  }
})
