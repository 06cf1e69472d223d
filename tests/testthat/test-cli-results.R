# The folder of results: nothing foreign is touched, and what was found is kept.

results_of <- function(folder, ..., out = "results", replace = FALSE, journal = NULL,
                       minutes = NULL, report = FALSE) {
  plan <- file.path(folder, "plan.yml")
  if (!file.exists(plan)) {
    data.table::fwrite(toy(90), file.path(folder, "toy.csv"))
    writeLines(c(
      "brief: {table: toy.csv, outcome: number, ignore: [two, three, batch]}",
      "candidates: {tree: {tree: {pruning: [0.001, 0.1]}}}", "splits: {kfold: {k: 3}}",
      "metrics: [rmse]", "seed: 1"
    ), plan)
  }
  utils::capture.output(suppressMessages(kw("run_plan_file")(plan, list(
    out = file.path(folder, out), replace = replace, journal = journal, workers = "1",
    quiet = TRUE, minutes = minutes, "no-report" = !report
  ))), type = "output")
}

local_quiet_stderr <- function(env = parent.frame()) {
  local_stand_in("complain", function(...) invisible(), env)
}

test_that("the journal may lie in the folder, and foreign files there are left alone", {
  local_quiet_stderr()
  local_no_pictures()
  folder <- withr::local_tempdir()
  journal <- file.path(folder, "results", "run.sqlite")
  results_of(folder, journal = journal)
  expect_gt(nrow(standings(open_comparison(journal))), 1)
  foreign <- file.path(folder, "results", c("letter.txt", "figures/mine.jpg"))
  for (file in foreign) writeLines("dear", file)
  old <- file.path(folder, "results", "figures", "tuning-gone.png")
  marker <- file.path(folder, "results", "comparison.json")
  facts <- jsonlite::read_json(marker)
  facts$files <- c(facts$files, "figures/tuning-gone.png", "../plan.yml", "letter.txt")
  writeLines("png", old)
  jsonlite::write_json(facts, marker, auto_unbox = TRUE)
  expect_error(results_of(folder), "--replace", class = "kw_error_results")
  results_of(folder, replace = TRUE, journal = journal)
  expect_true(all(file.exists(c(foreign, journal, file.path(folder, "plan.yml")))))
  expect_false(file.exists(old))
  results_of(folder, out = "bare", journal = "none")
  expect_false(file.exists(file.path(folder, "bare", "journal.sqlite")))
  skip_on_os("windows")
  kept <- file.path(folder, "results", unlist(jsonlite::read_json(marker)$files))
  expect_true(all(file.exists(kept)))
  expect_true(all(as.character(file.mode(kept)) == "600"))
})

test_that("a journal of another plan in the folder is refused, and replaced when asked to", {
  local_quiet_stderr()
  local_no_pictures()
  folder <- withr::local_tempdir()
  results_of(folder, out = "first")
  half <- file.path(folder, "half")
  dir.create(half)
  file.copy(file.path(folder, "first", "journal.sqlite"), half)
  plan <- file.path(folder, "plan.yml")
  writeLines(sub("seed: 1", "seed: 2", readLines(plan)), plan)
  expect_error(results_of(folder, out = "half"), "--replace", class = "kw_error_journal")
  results_of(folder, out = "half", replace = TRUE)
  expect_identical(open_comparison(file.path(half, "journal.sqlite"))$plan$seed, 2)
})

test_that("a killed run is gone on with by the same call; one that lives is not replaced", {
  skip_on_os("windows")
  folder <- withr::local_tempdir()
  data.table::fwrite(toy(300), file.path(folder, "toy.csv"))
  plan <- file.path(folder, "plan.yml")
  writeLines(c(
    "brief: {table: toy.csv, outcome: number, ignore: [two, three, batch]}",
    "candidates: {forest: {forest: {trees: 200, min_node: {from: 1, to: 40, points: 10}}}}",
    "splits: {kfold: {k: 5}}", "metrics: [rmse]", "search: {grid: {points: 10}}", "seed: 1"
  ), plan)
  out <- file.path(folder, "out")
  journal <- file.path(out, "journal.sqlite")
  arguments <- c("run", plan, "--out", out, "--workers", "1", "--quiet", "--no-report")
  run <- start_r(c(exec_file(), arguments))
  expect_true(eventually(function() rows_so_far(journal) > 0))
  run$kill()
  before <- rows_so_far(journal)
  expect_true(before > 0 && before < 50)
  lock <- kw("lock_journal")(journal)
  refused <- do.call(command, as.list(c(arguments, "--replace")))
  kw("unlock_journal")(lock)
  expect_identical(refused$status, 1L)
  expect_match(refused$err, "being written by another process")
  expect_identical(rows_so_far(journal), before)
  again <- do.call(command, as.list(arguments))
  expect_identical(again$status, 0L, info = again$err)
  expect_identical(rows_so_far(journal), 50L)
  expect_length(list.files(out, "-lock|-wal|-shm"), 0)
})

test_that("where results cannot go is said before anything is run", {
  local_quiet_stderr()
  local_no_pictures()
  local_stand_in("run_comparison", function(...) stop("it was run"))
  folder <- withr::local_tempdir()
  expect_error(results_of(folder, out = "."), "something else", class = "kw_error_results")
  expect_error(results_of(folder, out = ".", replace = TRUE), class = "kw_error_results")
  expect_error(results_of(folder, out = "plan.yml"), "is a file", class = "kw_error_results")
  expect_error(results_of(folder, out = "no/where"), "does not exist", class = "kw_error_results")
  skip_on_os("windows")
  file.symlink(file.path(folder, "gone"), file.path(folder, "link"))
  expect_error(results_of(folder, out = "link"), "leads nowhere", class = "kw_error_results")
})

test_that("a run stopped before anything is ranked, and a figure that fails, leave the tables", {
  local_quiet_stderr()
  local_no_pictures()
  folder <- withr::local_tempdir()
  local({
    local_interruption()
    said <- results_of(folder, report = TRUE)
    expect_true(any(grepl("Nothing is chosen", said)))
    there <- list.files(file.path(folder, "results"))
    wanted <- c("standings.csv", "summary.txt", "comparison.json", "plan.yml", "report.html")
    expect_true(all(wanted %in% there))
    expect_false("model.kilnwright" %in% there)
  })
  # where time is too short for anything there is the simplest model all the same
  results_of(folder, out = "hasty", minutes = 1e-9)
  expect_true("model.kilnwright" %in% list.files(file.path(folder, "hasty")))
  nothing <- local({
    local_interruption()
    quiet_run(
      toy_brief("number"), candidates(t = fam_tree(pruning = among(0.001, 0.1))), seed = 1,
      workers = 1
    )
  })
  for (draw in list(draw_standings, draw_tuning)) {
    expect_error(draw(nothing), "all its scores", class = "kw_error_draw")
  }
  local_stand_in("draw_tuning", function(...) stop("no ink"))
  expect_error(results_of(folder, out = "second"), "no ink", class = "kw_error_results")
  there <- list.files(file.path(folder, "second"), recursive = TRUE)
  expect_true(all(c("model.kilnwright", "standings.csv", "figures/standings.png") %in% there))
})

test_that("the command keeps to the minutes of the plan file", {
  local_quiet_stderr()
  local_no_pictures()
  folder <- withr::local_tempdir()
  results_of(folder, out = "first")
  cat("minutes: 1e-9\n", file = file.path(folder, "plan.yml"), append = TRUE)
  said <- results_of(folder, out = "second")
  expect_true(any(grepl("Stopped by the limit of 1e-09 minutes", said)))
  said <- results_of(folder, out = "third", minutes = 9)
  expect_false(any(grepl("Stopped", said)))
})

test_that("a choice that fails costs no table, and is an error", {
  local_quiet_stderr()
  local_no_pictures()
  folder <- withr::local_tempdir()
  results_of(folder, out = "first")
  cat("provided: \"r_squared >= 0.9999\"\n", file = file.path(folder, "plan.yml"), append = TRUE)
  expect_error(results_of(folder, out = "second"), "0.9999", class = "kw_error_results")
  there <- list.files(file.path(folder, "second"))
  expect_true(all(c("standings.csv", "summary.txt", "comparison.json") %in% there))
  expect_false("choice.json" %in% there)
})

test_that("output that cannot be written ends with an error; a reader that has left does not", {
  skip_if_not(file.exists("/dev/full"))
  run <- function(to) {
    system2(
      "sh", c("-c", shQuote(paste(
        shQuote(file.path(R.home("bin"), "Rscript")), shQuote(exec_file()), "--help", to
      ))),
      stderr = FALSE
    )
  }
  expect_identical(run("> /dev/full"), 1L)
  expect_identical(run("> /dev/null"), 0L)
  expect_identical(run("| true"), 0L)
})

test_that("set-aside rows that cannot be scored are said, also after a run ended by its minutes", {
  cmp <- quiet_run(set_aside(toy_brief(), 0.2, seed = 1), candidates(t = fam_tree()),
    splits = split_kfold(3), seed = 1)
  local_stand_in("score_set_aside", function(...) kw("stop_kw")("set_aside", "It broke."))
  for (stopped in list(NULL, "the limit of 1 minute")) {
    cmp["stopped"] <- list(stopped)
    chosen <- kw("choose_if_any")(cmp, FALSE)
    expect_match(chosen$said, "could not be scored", all = FALSE)
    expect_identical(chosen$trouble, "It broke.")
    expect_s3_class(chosen$model, "kw_model")
  }
})
