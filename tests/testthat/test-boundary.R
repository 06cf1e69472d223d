# What leaves the session: neither sealed rows, nor what happens to be around a call.

# A plan made inside a function that holds a brief, sealed rows and a large value. The planted
# texts must not be found in anything that travels or is kept.
planted_plan <- function() {
  table <- toy(120)
  table$remark <- "aside"
  large <- rep("planted value", 1e4)
  force(large)
  job <- brief(table, "two", event = "yes", ignore = c("number", "three", "batch"))
  job <- set_aside(job, share = 0.25, seed = 3)
  sealed <- job$sealed$table
  sealed$remark <- "planted sealed row"
  assign("table", sealed, envir = job$sealed)
  most <- 0.05
  wide <- function(x) is.numeric(x) && max(x) > 4
  candidates <- candidates(
    t = pipeline(pre_scale(columns = where(wide)), fam_tree(pruning = among(0.01, 0.1))),
    l = pipeline(pre_onehot(), fam_linear())
  ) |> rule_out(pruning > most, candidate = "t")
  plan_comparison(job, candidates,
    splits = split_kfold(3), metrics = list("log_loss", metric_cost(2, 1)), seed = 1
  )
}

holds <- function(x, text) {
  bytes <- serialize(x, NULL)
  bytes[bytes == as.raw(0)] <- as.raw(1)
  grepl(text, rawToChar(bytes), fixed = TRUE, useBytes = TRUE)
}

test_that("sealed rows and the caller's values are in nothing that travels or is kept", {
  plan <- planted_plan()
  file <- withr::local_tempfile(fileext = ".sqlite")
  cmp <- run_comparison(plan, journal = file, quiet = TRUE, workers = 1)
  choice <- select_final(cmp)
  model <- fit_final(choice)
  saved <- withr::local_tempfile(fileext = ".kilnwright")
  save_model(model, saved)
  unzipped <- withr::local_tempdir()
  files <- utils::unzip(saved, exdir = unzipped)
  work <- kw("compile_work")(plan$spaces, lapply(plan$round, `[[`, "settings"))
  run <- kw("new_run")(plan, work, kw("working_data")(plan$brief), "none", limits())
  for (planted in c("planted value", "planted sealed row")) {
    for (what in list(plan, cmp, choice, model, run)) expect_false(holds(what, planted))
    for (path in c(file, files)) {
      bytes <- readBin(path, raw(), file.size(path))
      bytes[bytes == as.raw(0)] <- as.raw(1)
      expect_false(grepl(planted, rawToChar(bytes), fixed = TRUE, useBytes = TRUE))
    }
  }
  # found where it must be
  expect_true(holds(as.list(kw("sealed_part")(plan$brief)), "planted sealed row"))
})

test_that("the session that sealed rows opens them, another one asks for the brief", {
  job <- set_aside(toy_brief("number"), share = 0.2, seed = 8)
  model <- fit_final(select_final(quiet_run(
    job, candidates(b = fam_baseline()),
    splits = split_kfold(3), seed = 1
  )))
  found <- score_set_aside(model)
  expect_identical(found$rows[1], job$sealed$n)
  vault <- kw("seal_vault")
  rm(list = job$sealed$fingerprint, envir = vault)
  expect_error(score_set_aside(model), "Give the brief", class = "kw_error_set_aside")
  expect_equal(
    suppressWarnings(score_set_aside(model, job))$set_aside, found$set_aside
  )
})

test_that("a variable of the workspace that is called like a column changes nothing", {
  home <- new.env(parent = globalenv())
  scores <- function() {
    eval(quote(standings(kilnwright::run_comparison(job, kilnwright::candidates(
      f = kilnwright::pipeline(
        kilnwright::pre_scale(columns = c(x1, x2)),
        kilnwright::pre_polynomial(columns = x2),
        kilnwright::pre_scale(columns = c(x2_power2, x3)),
        kilnwright::fam_forest(trees = 20)
      )
    ), splits = kilnwright::split_kfold(3), seed = 1, quiet = TRUE, workers = 1))$mean), home)
  }
  home$job <- brief(toy(100)[c("x1", "x2", "x3", "number")], "number")
  home$standings <- standings
  names_after <- names(show_prepared(pipeline(pre_polynomial(columns = x2), fam_tree()),
    home$job)[[2]])
  expect_true("x2_power2" %in% names_after)
  before <- scores()
  home$x1 <- 5
  home$x2_power2 <- c("x1", "x3")
  expect_identical(scores(), before)
})

test_that("values and functions that a rule or a selection needs come along, and count", {
  few <- c("x1", "x2")
  is_wide <- function(x) is.numeric(x) && stats::sd(x) > limit
  limit <- 2
  job <- brief(toy(80)[c("x1", "x2", "x3", "number")], "number")
  steps_of <- function(...) names(show_prepared(pipeline(pre_drop(...), fam_tree()), job)[[2]])
  expect_setequal(steps_of(columns = all_of(few)), "x3")
  expect_setequal(steps_of(columns = where(is_wide)), c("x1", "x2"))
  key <- function(step) kw("step_key")(step)
  first <- key(pre_drop(columns = where(is_wide)))
  limit <- 50
  expect_false(identical(key(pre_drop(columns = where(is_wide))), first))
  limit <- 2
  expect_identical(key(pre_drop(columns = where(is_wide))), first)
})

test_that("functions of the user's that call one another travel together", {
  limit <- 4
  high <- function(x) any(x > limit)
  either_way <- function(x) is.numeric(x) && (low(x) || high(x))
  low <- function(x) high(-x)
  step <- pre_drop(columns = where(either_way))
  rm(limit, high, low)
  job <- brief(toy(80)[c("x1", "x2", "x3", "number")], "number")
  expect_setequal(names(show_prepared(pipeline(step, fam_tree()), job)[[2]]), "x1")
})
