# The comparison that a model comes from, once more.

repeat_case <- function(threshold = FALSE, folder = withr::local_tempdir(.local_envir = env),
                        env = parent.frame()) {
  table <- toy(160, missing = TRUE)
  table$code <- rep(c("007", "0100"), 80)
  file <- file.path(folder, "the table.csv")
  utils::write.csv(table, file, row.names = FALSE, na = "")
  job <- brief(read_data(file), "two",
    event = "yes", ignore = c("number", "three"), group = "batch"
  ) |> set_aside(share = 0.2, seed = 4)
  cmp <- quiet_run(job, candidates(
    tree = pipeline(pre_missing(), fam_tree(pruning = among(0.01, 0.1), min_leaf = among(3, 9))),
    line = pipeline(pre_missing(), pre_onehot(), fam_penalised(
      penalty = from_to(0.001, 1, "log", points = 6)
    )),
    forest = pipeline(pre_missing(), fam_forest(trees = 20))
  ), splits = split_kfold(4, repeats = 2), search = search_random(5), seed = 9, workers = 1,
  metrics = c("log_loss", "accuracy"))
  choice <- select_final(cmp)
  if (threshold) choice <- set_threshold(choice, costs = c(missed = 3, false_alarm = 1))
  model <- fit_final(choice)
  saved <- file.path(folder, "model.kilnwright")
  save_model(model, saved)
  list(model = open_model(saved, trust = TRUE), saved = saved, file = file, table = table)
}

test_that("a saved model's comparison is had again, with all its digits", {
  case <- repeat_case()
  found <- repeat_model(case$model, case$file, workers = 1, quiet = TRUE)
  expect_true(all(found$same))
  scores <- case$model$scores
  row <- found[found$what == "mean log_loss", ]
  expect_identical(as.numeric(row$now), scores$validation[scores$metric == "log_loss"])
  expect_true(all(c("sd of accuracy", "the refit's log_loss") %in% found$what))
  expect_output(print(found), "Repeated: all 8 results are had again.")
  # and on two workers, from a data frame
  again <- repeat_model(case$model, read_data(case$file), workers = 2, quiet = TRUE)
  expect_identical(again, found)
})

test_that("what is not the same is told, and what may have done it", {
  case <- repeat_case()
  other <- case$table
  other$x1[1:20] <- 0
  case$model$facts$versions$packages <- list(kilnwright = "0.0.1")
  found <- repeat_model(case$model, other, workers = 1, quiet = TRUE)
  same <- stats::setNames(found$same, found$what)
  expect_false(same[["fingerprint of them"]])
  expect_false(same[["kilnwright"]])
  expect_true(same[["working rows"]])
  expect_false(same[["mean log_loss"]])
  said <- paste(utils::capture.output(print(found)), collapse = " ")
  expect_match(said, "Not repeated: ", fixed = TRUE)
  expect_match(gsub(" +", " ", said), "What else differs: fingerprint of them", fixed = TRUE)
})

test_that("the choice is made as it was: by its rule and margin, among its candidates", {
  table <- toy(120)
  run <- function(...) {
    quiet_run(toy_brief("number", table), candidates(
      tree = fam_tree(pruning = among(0.01, 0.05, 0.1, 0.2)), line = fam_linear()
    ), splits = split_kfold(4), seed = 2, workers = 1, ...)
  }
  again <- function(choice) {
    repeat_model(fit_final(choice), table, workers = 1, quiet = TRUE)
  }
  cmp <- run()
  expect_true(all(again(select_final(cmp, candidate = "tree"))$same))
  expect_true(all(again(select_final(cmp, rule = "within", margin = 0.3))$same))
  # a run that a limit ended is another run than the whole plan
  found <- again(select_final(run(limits = limits(settings = 2))))
  row <- found[found$what == "what ended the run", ]
  expect_identical(row$recorded, "the limit of 2 settings")
  expect_false(row$same)
  expect_false(found$same[found$what == "settings compared"])
  # a blend by hand that was not chosen is none of the settings compared
  mixed <- blend(cmp, quiet = TRUE)
  expect_true(all(again(select_final(mixed, candidate = c("tree", "line")))$same))
  expect_error(again(select_final(mixed, candidate = "blend")), "made by hand is not repeated",
    class = "kw_error_repeat")
})

test_that("a blend that the plan asks for is made again", {
  folder <- withr::local_tempdir()
  table <- file.path(folder, "toy.csv")
  data.table::fwrite(toy(120), table)
  job <- brief(read_data(table), "number", ignore = c("two", "three"))
  plan <- plan_comparison(job, candidates(
    tree = fam_tree(pruning = among(0.01, 0.05)), line = pipeline(pre_onehot(), fam_linear())
  ), splits = split_kfold(4), seed = 2)
  plan$rule <- list(name = "best_mean", margin = NULL, blend = TRUE)
  cmp <- quiet_run(plan, workers = 1)
  for (candidate in c("blend", "tree")) {
    choice <- select_final(cmp)
    names <- kw("candidate_names")(choice$cmp)
    chosen <- names[choice$at]
    choice$at <- which(names == candidate)[1]
    found <- repeat_model(fit_final(choice), table, workers = 1, quiet = TRUE)
    differs <- found$what[!found$same]
    expect_identical(differs, if (candidate != chosen) "the choice" else character())
  }
})

test_that("metrics that see a threshold are left out, and what cannot be repeated says why", {
  case <- repeat_case(threshold = TRUE)
  found <- repeat_model(case$model, case$file, workers = 1, quiet = TRUE)
  expect_true(all(found$same))
  expect_false(any(grepl("accuracy", found$what)))
  expect_error(repeat_model(case$model, "nowhere.csv"), "no file", class = "kw_error_file")
  expect_error(repeat_model(case$model, case$table[c("x1", "two")]), class = "kw_error")
  expect_error(repeat_model(1, case$file), class = "kw_error_argument")
  fam_own <- define_family("own", "number",
    function(x, y, weights, settings, seed, threads) mean(y),
    function(model, x) rep(model, nrow(x))
  )
  job <- toy_brief("number", toy(60))
  cmp <- quiet_run(job, candidates(a = fam_own()),
    splits = split_kfold(3), seed = 1, workers = 1
  )
  # a family of one's own is not in a plan file
  expect_error(repeat_model(fit_final(select_final(cmp)), toy(60)),
    "plan file cannot hold", class = "kw_error_repeat"
  )
  case$model$facts$plan <- NULL
  expect_error(repeat_model(case$model, case$file), "no plan", class = "kw_error_repeat")
})

test_that("kilnwright repeat says so by its exit status", {
  case <- repeat_case()
  run <- function(...) {
    said <- utils::capture.output(
      status <- kw("run_command")(c("repeat", case$saved, "--quiet", "--workers", "1", ...))
    )
    list(status = status, said = said)
  }
  fine <- run("--table", case$file, "--trust")
  expect_identical(fine$status, 0L)
  expect_match(fine$said[1], "Repeated: all 8 results", fixed = TRUE)
  # what a terminal cannot follow is not advised there
  expect_no_match(fine$said, "tibble")
  expect_match(paste(fine$said, collapse = " "), "Not shown: .*; --json has all[.]$")
  utils::write.csv(case$table[-1, ], case$file, row.names = FALSE, na = "")
  found <- run("--table", case$file, "--trust", "--json")
  expect_identical(found$status, 1L)
  expect_false(all(jsonlite::fromJSON(found$said)$same))
  expect_identical(run("--trust")$status, 2L)
})
