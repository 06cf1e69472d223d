# The command line is driven as a user drives it: in a process of its own.

small_plan <- function(...) {
  file <- withr::local_tempfile(fileext = ".yml", .local_envir = parent.frame())
  writeLines(c(
    paste0("brief: {table: ", system.file("extdata", "pots.csv.gz", package = "kilnwright"), ","),
    paste(
      "  outcome: cracked, event: yes, id: pot_id, group: firing_id, ignore: [shrinkage_pct,",
      "grade, notes],"
    ),
    "  missing_codes: {glaze: n/r, drying_days: -999}}",
    "set_aside: {share: 0.2, seed: 7}",
    "candidates: {baseline: baseline, tree: {tree: {pruning: [1e-3, 0.01, 0.1]}}}",
    "splits: {kfold: {k: 4}}", "seed: 41", ...
  ), file)
  file
}

test_that("run, standings and predict work together, and agree with the R functions", {
  plan <- small_plan("rule: best_mean")
  folder <- file.path(withr::local_tempdir(), "results")
  ran <- command("run", plan, "--out", folder, "--quiet")
  expect_identical(ran$status, 0L, info = ran$err)
  expect_match(ran$out, "set-aside rows, opened once", all = FALSE)
  # the last word: what, how good on rows that nothing had seen, what is as good
  last <- paste(trimws(ran$out[cumsum(grepl("^In one sentence", ran$out)) > 0]), collapse = " ")
  expect_match(last, "was chosen; on rows that nothing had seen its .* is [0-9.]+ \\(95 % interval")
  aside <- as.data.frame(data.table::fread(file.path(folder, "set_aside.csv")))
  row <- strsplit(trimws(ran$out[grep("set-aside rows, opened once", ran$out) + 2L]), " +")[[1]]
  expect_identical(row[1], aside$metric[1])
  expect_equal(
    as.numeric(row[5:7]),
    unname(unlist(aside[1, c("set_aside", "low", "high")])),
    tolerance = 0.02
  )
  expect_setequal(
    list.files(folder),
    c(
      "README.txt", "choice.json", "comparison.json", "failures.csv", "figures", "journal.sqlite",
      "model.kilnwright", "plan.yml", "report.html",
      "scores_by_split.csv", "set_aside.csv", "standings.csv",
      "summary.txt"
    )
  )
  expect_setequal(list.files(file.path(folder, "figures")), c("standings.png", "tuning-tree.png"))
  expect_gt(min(file.size(list.files(file.path(folder, "figures"), full.names = TRUE))), 10000)
  # every column and key that is written is explained
  about <- paste(readLines(file.path(folder, "README.txt")), collapse = "\n")
  for (name in setdiff(list.files(folder, "csv$"), "figures")) {
    expect_match(about, name, fixed = TRUE)
    for (column in setdiff(names(data.table::fread(file.path(folder, name))), "pruning")) {
      expect_match(about, paste0("\\b", column, "\\b"))
    }
  }
  for (key in names(jsonlite::read_json(file.path(folder, "choice.json")))) {
    expect_match(about, paste0("\\b", key, "\\b"))
  }
  expect_match(ran$out, "^Open this page first: .*report.html$", all = FALSE)
  # a report that is made of the folder knows what was found on rows set aside, if that is chosen
  reported <- file.path(dirname(folder), "later.html")
  local_no_pictures()
  later <- command_here("report", folder, "--rule", "best_mean", "--out", reported)
  expect_identical(later$status, 0L, info = later$err)
  text <- page_text(reported)
  expect_match(text, "rows were opened once")
  expect_match(text, "on rows that nothing had seen its")
  expect_match(page_text(file.path(folder, "report.html")), "on rows that nothing had seen its")

  cmp <- quiet_run(read_plan(plan))
  saved <- as.data.frame(data.table::fread(file.path(folder, "standings.csv")))
  deciding <- saved[saved$metric == "auc", ]
  expect_equal(deciding$mean, standings(cmp)$mean)
  expect_equal(deciding$pruning, standings(cmp)$pruning)
  model <- fit_final(select_final(cmp, "best_mean"))
  expect_equal(jsonlite::read_json(file.path(folder, "choice.json"))$values$pruning, model$value)

  shown <- command("standings", folder, "--metric", "log_loss", "--top", "2")
  expect_match(shown$out[1], "Standings by log_loss \\(lower is better\\)")
  expect_length(shown$out, 5)
  chosen <- command_here("select", folder, "--rule", "one_se")
  expect_identical(chosen$status, 0L, info = chosen$err)
  wanted <- capture.output(print(select_final(cmp, "one_se")))
  expect_identical(chosen$out[seq_along(wanted)], wanted)
  # a run that was broken off has its journal only: the same call goes on, and ends alike
  broken <- file.path(withr::local_tempdir(), "broken")
  dir.create(broken)
  file.copy(file.path(folder, "journal.sqlite"), broken)
  expect_match(command_here("standings", broken)$out, "tree", all = FALSE)
  ran <- command_here("run", plan, "--out", broken, "--quiet", "--no-report")
  expect_identical(ran$status, 0L, info = ran$err)
  again <- as.data.frame(data.table::fread(file.path(broken, "standings.csv")))
  timed <- setdiff(names(saved), "seconds")
  expect_equal(again[timed], saved[timed])
  listed <- command_here("standings", folder, "--csv")
  expect_equal(data.table::fread(text = listed$out)$mean, deciding$mean)

  out <- withr::local_tempfile(fileext = ".csv")
  table <- system.file("extdata", "pots.csv.gz", package = "kilnwright")
  expect_identical(
    command(
      "predict",
      file.path(folder, "model.kilnwright"),
      table,
      "--out",
      out,
      "--id",
      "pot_id",
      "--trust"
    )$status,
    0L
  )
  predicted <- as.data.frame(data.table::fread(out))
  expect_equal(predicted$p_yes, predict(model, demo_pots())$p_yes)
  expect_identical(predicted$pot_id, demo_pots()$pot_id)
  first <- withr::local_tempfile(lines = readLines(table, 3L))
  piped <- system2(
    "sh",
    c(
      "-c",
      shQuote(paste(
        "cat", shQuote(first), "|", file.path(R.home("bin"), "Rscript"),
        shQuote(exec_file()),
        "predict",
        shQuote(file.path(folder, "model.kilnwright")),
        "- --trust"
      ))
    ),
    stdout = TRUE
  )
  expect_equal(data.table::fread(text = piped)$p_yes, predicted$p_yes[1:2])

  distrusted <- command_here("predict", file.path(folder, "model.kilnwright"), table)
  expect_identical(distrusted$status, 1L)
  expect_match(distrusted$err, "can run code")
  expect_length(distrusted$out, 0)

  again <- command_here("run", plan, "--out", folder, "--no-report")
  expect_identical(again$status, 1L)
  expect_match(again$err, "results already.*--replace")
})

test_that("preview shows the counts and runs nothing", {
  shown <- command("preview", small_plan())
  expect_identical(shown$status, 0L)
  expect_match(shown$out[1], "4 settings x 4 splits = 16 scores")
  expect_match(shown$out[2], "Needed: 8 fits for 16 scores")
})

test_that("mistakes go to standard error with a non-zero status, and leave nothing behind", {
  folder <- withr::local_tempdir()
  out <- file.path(folder, "results")
  broken <- command("run", small_plan("decide: aucc"), "--out", out)
  expect_identical(broken$status, 1L)
  expect_match(broken$err, "aucc.*auc")
  expect_length(broken$out, 0)
  expect_length(list.files(folder, all.files = TRUE, no.. = TRUE), 0)
  expect_match(command_here("run", "absent.yml", "--out", out)$err, "no plan file 'absent.yml'")
  nowhere <- file.path(folder, "no", "where")
  expect_match(command_here("run", small_plan(), "--out", nowhere)$err, "cannot be made")
  writeLines("precious", file.path(folder, "letter.txt"))
  refused <- command_here("run", small_plan(), "--out", folder, "--replace")
  expect_match(refused$err, "something else")
  expect_identical(list.files(folder), "letter.txt")
  expect_match(command_here("standings", folder)$err, "no folder of results")
  expect_identical(command("rum", "x")$status, 2L)
  expect_match(command_here("rum", "x")$err, "Did you mean 'run'")
  expect_identical(command_here("run")$status, 2L)
  expect_match(command_here("run", "a", "--nonsense")$err, "nonsense")
  expect_match(command_here("run", "a", "--wrokers", "2")$err, "Did you mean --workers?",
    fixed = TRUE)
  expect_match(command_here("run", "a", "--workers")$err, "^--workers requires an argument[.]\n")
})

test_that("help is there for every command", {
  listed <- command("--help")
  expect_identical(listed$status, 0L)
  for (name in c("demo", "preview", "run", "standings", "predict")) {
    expect_match(listed$out, name, all = FALSE)
    helped <- command_here(name, "--help")
    expect_identical(helped$status, 0L)
    expect_match(helped$out[1], paste("Usage: kilnwright", name))
  }
})

test_that("the command installs, and runs from where it was put", {
  folder <- withr::local_tempdir()
  file <- install_command(folder)
  withr::local_path(R.home("bin"), action = "prefix")
  expect_match(system2(file, "--version", stdout = TRUE), "^kilnwright [0-9.]+$")
})

test_that("a run with a journal can be gone on with, and looked at from outside", {
  short <- small_plan()
  journal <- withr::local_tempfile(fileext = ".sqlite")
  out <- withr::local_tempdir()
  first <- command(
    "run", short, "--out", file.path(out, "a"), "--journal", journal, "--workers", "1", "--quiet",
    "--no-report"
  )
  expect_identical(first$status, 0L, info = first$err)
  local_no_pictures()
  again <- command_here(
    "run", short, "--out", file.path(out, "b"), "--journal", journal, "--quiet", "--no-report"
  )
  drop_seconds <- function(folder) {
    table <- read.csv(file.path(out, folder, "standings.csv"))
    table[setdiff(names(table), "seconds")]
  }
  expect_identical(drop_seconds("a"), drop_seconds("b"))
  shown <- command_here("standings", journal, "--follow", "--top", "3")
  expect_identical(shown$status, 0L, info = shown$err)
  expect_match(shown$out, "have all their scores", all = FALSE)
  wrong <- command_here("run", short, "--workers", "some", "--out", file.path(out, "c"))
  expect_identical(wrong$status, 2L)
  expect_match(wrong$err, "not 'some'", all = FALSE)
  # before anything is planned or made
  expect_match(command_here("run", short, "--minutes", "0", "--out", file.path(out, "c"))$err[1],
    "--minutes must be")
  expect_false(file.exists(file.path(out, "c")))
})

test_that("time_spent accounts for the whole time", {
  cmp <- quiet_run(
    toy_brief(),
    candidates(f = fam_forest(trees = among(20, 50))),
    splits = split_kfold(4),
    seed = 1,
    workers = 1
  )
  spent <- time_spent(cmp)
  expect_identical(
    spent$what, c("steps", "fits", "predictions", "scoring", "waiting", "overhead", "elapsed")
  )
  expect_equal(sum(spent$seconds[1:6]), spent$seconds[7], tolerance = 0.01)
  expect_true(all(spent$seconds[c(2, 3, 4, 6)] > 0))
  two <- time_spent(quiet_run(cmp$plan, workers = 2))
  expect_gt(two$seconds[5], 0)
  expect_equal(sum(two$seconds[1:6]), 2 * two$seconds[7], tolerance = 0.01)
})

test_that("select chooses again from a journal by another rule, and report writes one page", {
  folder <- withr::local_tempdir()
  local_no_pictures()
  table <- file.path(folder, "toy.csv")
  write.csv(toy(100), table, row.names = FALSE)
  plan <- file.path(folder, "plan.yml")
  writeLines(
    c(
      "brief: {table: toy.csv, outcome: two, event: \"yes\", ignore: [number, three, batch]}",
      "candidates:", "  b: [{baseline: {}}]", "  t: [missing, {tree: {pruning: [0.001, 0.01]}}]",
      "  p: [missing, onehot, {penalised: {penalty: [0.1, 0.01]}}]",
      "splits: {kfold: {k: 5}}", "seed: 4", "blend: yes"
    ),
    plan
  )
  journal <- file.path(folder, "run.sqlite")
  ran <- command_here(
    "run",
    plan,
    "--out",
    file.path(folder, "out"),
    "--journal",
    journal,
    "--workers",
    "1",
    "--quiet",
    "--no-report"
  )
  expect_identical(ran$status, 0L, info = ran$err)
  model <- file.path(folder, "steady.kilnwright")
  chosen <- command_here("select", journal, "--rule", "steady", "--model", model, "--intervals")
  expect_identical(chosen$status, 0L, info = chosen$err)
  expect_match(chosen$out, "Rule: steady", all = FALSE)
  expect_named(
    predict(open_model(model, trust = TRUE), toy()[1:2, ], type = "interval"),
    c("class", "may_be_no", "may_be_yes")
  )
  # the plan's blend is among the results, and in every choice that does not leave it out
  expect_true("blend" %in% read.csv(file.path(folder, "out", "standings.csv"))$candidate)
  of_blend <- function(...) {
    command_here("select", journal, "--candidate", "blend", "--rule", "best_mean", "--json", ...)
  }
  planned <- jsonlite::fromJSON(of_blend()$out)
  expect_identical(planned$candidate, "blend")
  expect_identical(jsonlite::fromJSON(of_blend("--blend", "t,p")$out)$mean, planned$mean)
  expect_match(of_blend("--blend", "none")$err, "candidate.*blend", all = FALSE)
  expect_identical(command_here("select", journal, "--rule", "luck")$status, 1L)
  page <- file.path(folder, "report.html")
  reported <- command_here("report", journal, "--out", page)
  expect_identical(reported$status, 0L, info = reported$err)
  expect_match(page_text(page), "The choice, and why")
  expect_identical(command_here("report", journal, "--out", "/nowhere/a.html")$status, 1L)
  expect_identical(command_here("worker")$status, 2L)
})
