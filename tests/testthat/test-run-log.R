# A CSV file that other tools follow while a comparison runs.

logged_run <- function(file, ..., settings = c(2, 5, 10)) {
  quiet_run(toy_brief("number"), candidates(
    base = fam_baseline(), t = fam_tree(min_leaf = among(settings), pruning = among(0.001, 0.1)),
    p = fam_penalised(penalty = among(0.01, 0.1))
  ), splits = split_kfold(4, repeats = 2), metrics = c("rmse", "mae"), seed = 5, log = file, ...)
}

read_log <- function(file) as.data.frame(data.table::fread(file))

test_that("every setting has one line, with the numbers of the standings, for any workers", {
  first <- NULL
  for (workers in 1:2) {
    file <- withr::local_tempfile(fileext = ".csv")
    cmp <- logged_run(file, workers = workers)
    log <- read_log(file)
    expect_identical(nrow(log), 9L)
    for (metric in c("rmse", "mae")) {
      table <- standings(cmp, metric)
      at <- match(paste(table$candidate, table$setting), paste(log$candidate, log$setting))
      expect_equal(log[[paste0(metric, "_mean")]][at], table$mean, tolerance = 1e-8)
      each <- scores_by_split(cmp, metric)
      sds <- tapply(each$validation, paste(each$candidate, each$setting), sd)
      expect_equal(
        log[[paste0(metric, "_sd")]], unname(c(sds[paste(log$candidate, log$setting)])),
        tolerance = 1e-4
      )
      expect_equal(log$min_leaf[at], table$min_leaf)
      expect_equal(log$penalty[at], table$penalty)
    }
    expect_true(all(log$splits == 8 & log$failed == 0 & log$seconds > 0))
    log <- log[order(log$candidate, log$setting), setdiff(names(log), c("time", "seconds"))]
    expect_identical(anyDuplicated(log$key), 0L)
    if (is.null(first)) first <- log else expect_equal(log, first, ignore_attr = TRUE)
  }
})

test_that("a run that goes on goes on with its log; failures are counted; others' files are kept", {
  file <- withr::local_tempfile(fileext = ".csv")
  journal <- withr::local_tempfile(fileext = ".sqlite")
  logged_run(file, journal = journal, limits = limits(settings = 4))
  expect_identical(nrow(read_log(file)), 4L)
  logged_run(file, journal = journal)
  log <- read_log(file)
  expect_identical(nrow(log), 9L)
  expect_false(any(duplicated(log[c("candidate", "setting")])))
  # also where names need quotes
  quoted <- withr::local_tempfile(fileext = ".csv")
  second <- withr::local_tempfile(fileext = ".sqlite")
  for (settings in c(2, 4)) {
    quiet_run(toy_brief("number"), candidates(`a "b", c` = fam_tree(min_leaf = among(2, 5, 9, 20))),
      splits = split_kfold(3), seed = 1, log = quoted, journal = second,
      limits = limits(settings = settings)
    )
  }
  expect_length(readLines(quoted), 5)
  # a process that was killed leaves half a line; another job's log is none of ours
  bytes <- readChar(file, file.size(file))
  cat(substr(bytes, 1, nchar(bytes) - 25), file = file)
  logged_run(file, journal = journal)
  expect_identical(sort(read_log(file)$key), sort(log$key))
  another <- toy_brief("number", toy(80, seed = 3))
  before <- readLines(file)
  expect_error(quiet_run(another, candidates(
    base = fam_baseline(), t = fam_tree(min_leaf = among(2, 5, 10), pruning = among(0.001, 0.1)),
    p = fam_penalised(penalty = among(0.01, 0.1))
  ), splits = split_kfold(4, repeats = 2), metrics = c("rmse", "mae"), seed = 5, log = file),
  "no log of this run", class = "kw_error_log")
  expect_identical(readLines(file), before)
  writeLines("my own notes", other <- withr::local_tempfile())
  expect_error(logged_run(other), "no log of this run", class = "kw_error_log")
  expect_identical(readLines(other), "my own notes")
  expect_error(logged_run("/nowhere/log.csv"), "cannot be written", class = "kw_error")
  breaks <- define_family("breaks",
    kinds = "number", defaults = list(when = 1),
    fit = function(x, y, weights, settings, seed, threads) {
      if (y[1] > stats::median(y)) stop("cold") else mean(y)
    },
    predict = function(model, x) rep(model, nrow(x))
  )
  failing <- withr::local_tempfile(fileext = ".csv")
  cmp <- suppressWarnings(quiet_run(toy_brief("number"),
    candidates(base = fam_baseline(), b = breaks()),
    splits = split_kfold(5), seed = 3, log = failing
  ))
  log <- read_log(failing)
  lost <- nrow(failures(cmp))
  expect_gt(lost, 0)
  expect_identical(log$failed[match(c("base", "b"), log$candidate)], c(0L, lost))
  never <- withr::local_tempfile(fileext = ".csv")
  cold <- define_family("cold",
    kinds = "number", fit = function(x, y, weights, settings, seed, threads) stop("cold"),
    predict = function(model, x) rep(model, nrow(x))
  )
  suppressWarnings(quiet_run(toy_brief("number"), candidates(base = fam_baseline(), c = cold()),
    splits = split_kfold(3), seed = 3, log = never
  ))
  # a log that breaks on the way costs the log, not the run
  gone <- withr::local_tempfile(fileext = ".csv")
  breaker <- define_family("breaker",
    kinds = "number", defaults = list(file = ""),
    fit = function(x, y, weights, settings, seed, threads) {
      unlink(settings$file)
      dir.create(settings$file, showWarnings = FALSE)
      mean(y)
    },
    predict = function(model, x) rep(model, nrow(x))
  )
  expect_warning(
    cmp <- quiet_run(toy_brief("number"),
      candidates(base = fam_baseline(), b = breaker(file = gone)), splits = split_kfold(3),
      seed = 3, log = gone, workers = 1
    ),
    "cannot be written any more", class = "kw_warning"
  )
  expect_identical(nrow(standings(cmp)), 2L)
  row <- grep(",c,", readLines(never), value = TRUE)
  expect_match(row, ",c,1,,,,,0,3,")
})

test_that("what is not believed any more is written anew, and never counted twice", {
  file <- withr::local_tempfile(fileext = ".csv")
  plan <- plan_comparison(toy_brief("number"), candidates(t = fam_tree(min_leaf = among(2, 9))),
    splits = split_kfold(3), seed = 1
  )
  cmp <- run_comparison(plan, quiet = TRUE)
  ledger <- cmp$ledger
  work <- kw("extend_work")(
    kw("new_work")(plan$spaces, TRUE), cmp$rounds[[1]]$tables, cmp$rounds[[1]]$kept
  )
  part <- function(split) {
    kw("take_entries")(ledger, which(ledger$split == split), work$fits$count)
  }
  log <- kw("new_run_log")(file, plan)
  log$grow(work)
  for (split in 1:2) log$take(part(split), work)
  log$forget(unique(part(2)$fit), 2L, work)
  log$take(part(3), work)
  # two of three splits are known again: nothing is complete
  expect_length(readLines(file), 1)
  log$take(part(2), work)
  written <- read_log(file)
  expect_equal(sort(written$rmse_mean), sort(standings(cmp)$mean), tolerance = 1e-8)
  log$forget(unique(part(1)$fit), 1L, work)
  log$take(part(1), work)
  expect_identical(sort(read_log(file)$key), sort(rep(written$key, 2)))
})
