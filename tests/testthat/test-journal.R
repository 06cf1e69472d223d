# The journal: resumed = uninterrupted, whatever happened in between.

journal_plan <- function(table = toy(), seed = 8, metrics = c("auc", "log_loss"), k = 4) {
  plan_comparison(
    toy_brief(table = table), candidates(
      tree = pipeline(
        pre_missing(),
        optional(pre_skew()),
        fam_tree(pruning = among(0.001, 0.05), min_leaf = among(2, 10))
      ),
      forest = fam_forest(trees = among(10, 40)),
      near = fam_neighbours(neighbours = among(1, 5, 20), weighting = among("equal", "inverse"))
    ),
    splits = split_kfold(k), metrics = metrics, seed = seed
  )
}

test_that(
  "a finished journal gives the comparison back, fits nothing again and keeps training scores",
  {
    plan <- journal_plan()
    plain <- quiet_run(plan, keep = "training_scores")
    file <- journal_file()
    same_numbers(quiet_run(plan, journal = file, keep = "training_scores"), plain)
    opened <- open_comparison(file)
    expect_identical(count_rows(file), 16L * 4L)
    journal <- kw("open_journal")(file, plan)
    again <- kw("execute_plan")(plan, keep = "training_scores", journal = journal)
    journal$close()
    same_numbers(again, plain)
    expect_identical(again$results$spent, opened$results$spent)
    same_numbers(opened, plain)
    expect_null(opened$stopped)
  }
)

test_that("a journal of part of the fits is completed, by workers too", {
  plan <- journal_plan()
  plain <- quiet_run(plan)
  file <- journal_file()
  quiet_run(plan, journal = file)
  change_rows(file, "DELETE FROM fits WHERE substr(fit, 1, 1) < '8'")
  change_rows(file, "DELETE FROM fits WHERE value = '5|inverse'")
  left <- count_rows(file)
  half <- open_comparison(file)
  expect_match(half$stopped, "state")
  expect_true(anyNA(standings(half)$place))
  same_numbers(quiet_run(plan, journal = file, workers = 2), plain)
  expect_gt(count_rows(file), left)
})

test_that("what workers bring home close together is written down while the next fits go on", {
  slow <- define_family("slow", "number",
    defaults = list(a = 1),
    fit = function(x, y, weights, settings, seed, threads) {
      Sys.sleep(1.8)
      settings$a
    },
    predict = function(model, x) rep(model, nrow(x))
  )
  plan <- plan_comparison(toy_brief("number"), candidates(slow = slow()),
    splits = split_kfold(6), metrics = "rmse", seed = 1
  )
  file <- journal_file()
  journal <- kw("open_journal")(file, plan)
  # after every event: since when nothing came, how much had come, how much is in the file
  seen <- list()
  look <- function(event) {
    before <- seen[length(seen)]
    same <- length(before) == 1L && before[[1]]$done == event$done
    since <- if (same) before[[1]]$since else event$seconds
    seen[[length(seen) + 1L]] <<- list(
      since = since, quiet = event$seconds - since, done = event$done, rows = rows_so_far(file)
    )
  }
  kw("execute_plan")(plan, listener = look, journal = journal, workers = 2)
  journal$close()
  settled <- Filter(function(one) one$quiet > 1, seen)
  expect_gt(length(settled), 1)
  for (one in settled) expect_identical(one$rows, as.integer(one$done))
})

test_that("repeats that deal few rows alike are splits of their own, in a journal too", {
  few <- plan_comparison(
    toy_brief("number", toy(6)),
    candidates(
      b = fam_baseline(), f = pipeline(pre_drop(columns = "colour"), fam_forest(trees = 5))
    ),
    splits = split_kfold(3, repeats = 8), metrics = "rmse", seed = 1
  )
  held_out <- lapply(few$splits, `[[`, "validation")
  expect_true(anyDuplicated(held_out) > 0L)
  expect_identical(anyDuplicated(vapply(few$splits, `[[`, "", "key")), 0L)
  plain <- quiet_run(few, workers = 1)
  # what is random differs between splits that are the same
  pairs <- which(duplicated(held_out))[1]
  twin <- match(held_out[pairs], held_out)
  forest <- which(kw("candidate_names")(plain) == "f")
  found <- kw("setting_predictions")(plain, forest)
  expect_false(identical(found[[pairs]], found[[twin]]))
  file <- journal_file()
  same_numbers(quiet_run(few, journal = file, workers = 1), plain)
  change_rows(file, "DELETE FROM fits WHERE substr(split, 1, 1) < '8'")
  same_numbers(quiet_run(few, journal = file, workers = 2), plain)
  same_numbers(open_comparison(file), plain)
})

test_that(
  paste(
    "failures, undefined scores and pooled predictions come back as they were; fits past",
    "their limit are tried again"
  ),
  {
    table <- toy(60)
    moody <- define_family("moody",
      kinds = "two_class", defaults = list(by = 1),
      fit = function(x, y, weights, settings, seed, threads) {
        if (settings$by == 2) stop("no twos") else mean(as.integer(y) == 2)
      },
      predict = function(model, x) cbind(rep(1 - model, nrow(x)), model)
    )
    plan <- plan_comparison(
      toy_brief(table = table),
      candidates(m = pipeline(pre_drop(columns = "colour"), moody(by = among(1, 2)))),
      splits = split_kfold(4),
      metrics = c("log_loss", "precision"),
      seed = 2
    )
    plain <- quiet_run(plan)
    file <- journal_file()
    quiet_run(plan, journal = file)
    same_numbers(quiet_run(plan, journal = file), plain)
    expect_match(
      failures(open_comparison(file))$message, "no twos|no row is called",
      all = TRUE
    )
    change_rows(file, "UPDATE fits SET status = 'stopped' WHERE status = 'failed'", sums = TRUE)
    same_numbers(quiet_run(plan, journal = file), plain)

    rows <- plan_comparison(
      toy_brief("number", table),
      candidates(t = fam_tree(pruning = among(0.001, 0.1))),
      splits = split_leave_row(),
      metrics = "rmse",
      seed = 1
    )
    pooled <- journal_file()
    quiet_run(rows, journal = pooled)
    same_numbers(quiet_run(rows, journal = pooled), quiet_run(rows))
    same_numbers(open_comparison(pooled), quiet_run(rows))
  }
)

test_that("another data set, seed, split, metric or version is refused, saying what differs", {
  file <- journal_file()
  quiet_run(journal_plan(), journal = file)
  expect_error(
    quiet_run(journal_plan(table = toy(seed = 2)), journal = file),
    "the data",
    class = "kw_error_journal"
  )
  expect_error(
    quiet_run(journal_plan(seed = 9), journal = file),
    "the seed: 8 there, 9 here",
    class = "kw_error_journal"
  )
  expect_error(
    quiet_run(journal_plan(k = 5), journal = file), "the splits",
    class = "kw_error_journal"
  )
  expect_error(
    quiet_run(journal_plan(metrics = "auc"), journal = file),
    "the metrics",
    class = "kw_error_journal"
  )
  in_journal(file, function(con) kw("write_journal_facts")(con, list(versions = "r 3.0")))
  expect_error(
    quiet_run(journal_plan(), journal = file), "accept_versions",
    class = "kw_error_journal"
  )
  expect_s3_class(
    quiet_run(journal_plan(), journal = file, accept_versions = TRUE), "kw_comparison"
  )
})

test_that("a damaged, truncated or foreign file is refused and left as it is", {
  file <- journal_file()
  quiet_run(journal_plan(), journal = file)
  con <- DBI::dbConnect(RSQLite::SQLite(), file, synchronous = NULL)
  DBI::dbGetQuery(con, "PRAGMA wal_checkpoint(TRUNCATE)")
  DBI::dbGetQuery(con, "PRAGMA journal_mode = DELETE")
  DBI::dbDisconnect(con)
  bytes <- readBin(file, "raw", file.size(file))
  torn <- journal_file()
  writeBin(bytes[seq_len(length(bytes) %/% 2)], torn)
  noise <- journal_file()
  writeBin(as.raw(1:255), noise)
  for (bad in c(torn, noise)) {
    before <- readBin(bad, "raw", 1e7)
    expect_error(
      quiet_run(journal_plan(), journal = bad), "was left as it is",
      class = "kw_error_journal"
    )
    expect_error(open_comparison(bad), "cannot be used", class = "kw_error_journal")
    expect_identical(readBin(bad, "raw", 1e7), before)
  }
  other <- journal_file()
  con <- DBI::dbConnect(RSQLite::SQLite(), other)
  DBI::dbExecute(con, "CREATE TABLE cats (name TEXT)")
  DBI::dbDisconnect(con)
  expect_error(quiet_run(journal_plan(), journal = other), "no journal", class = "kw_error_journal")
  expect_error(
    quiet_run(journal_plan(), journal = file.path(tempdir(), "no", "such.sqlite")),
    "no folder",
    class = "kw_error_journal"
  )
})

test_that("a second writer is refused while the first one lives, a reader is not", {
  file <- journal_file()
  plan <- journal_plan()
  first <- kw("open_journal")(file, plan)
  expect_error(quiet_run(plan, journal = file), "another process", class = "kw_error_journal")
  first$flush()
  expect_s3_class(open_comparison(file), "kw_comparison")
  # what a reader holds open is left beside the file, and lost by nobody
  reader <- DBI::dbConnect(RSQLite::SQLite(), file, synchronous = NULL)
  DBI::dbExecute(reader, "BEGIN")
  DBI::dbGetQuery(reader, "SELECT count(*) FROM fits")
  kw("execute_plan")(plan, journal = first)
  first$close()
  DBI::dbDisconnect(reader)
  same_numbers(open_comparison(file), quiet_run(plan))
  expect_s3_class(quiet_run(plan, journal = file), "kw_comparison")
  # a reader looks whether somebody writes, and holds the lock meanwhile
  begun <- withr::local_tempfile()
  looking <- start_r(c("-e", sprintf(paste0(
    "con <- DBI::dbConnect(RSQLite::SQLite(), '%s'); ",
    "invisible(DBI::dbExecute(con, 'BEGIN IMMEDIATE')); invisible(file.create('%s')); ",
    "Sys.sleep(0.2)"
  ), paste0(file, "-lock"), begun)))
  withr::defer(looking$kill())
  expect_true(eventually(function() file.exists(begun)))
  expect_s3_class(quiet_run(plan, journal = file), "kw_comparison")
})

test_that("a full disk is said at once, and the run goes on in memory", {
  file <- journal_file()
  plan <- journal_plan()
  quiet_run(plan, journal = file, limits = limits(settings = 1))
  con <- DBI::dbConnect(RSQLite::SQLite(), file, synchronous = NULL)
  pages <- DBI::dbGetQuery(con, "PRAGMA page_count")[[1]]
  DBI::dbDisconnect(con)
  withr::local_options(kilnwright.journal_pages = pages)
  expect_warning(cmp <- quiet_run(plan, journal = file), "full", class = "kw_warning_journal")
  same_numbers(cmp, quiet_run(plan))
  expect_output(print(cmp), "journal is not complete")
})

test_that("killed at random moments and resumed ends as if nothing had happened", {
  skip_on_os("windows")
  file <- journal_file()
  plan_file <- withr::local_tempfile(fileext = ".rds")
  plan <- plan_comparison(toy_brief(table = toy(400)), candidates(
    f = fam_forest(min_node = among(1:30), trees = 60),
    near = fam_neighbours(neighbours = among(1:5))
  ), splits = split_kfold(5), seed = 3)
  saveRDS(plan, plan_file)
  begun <- withr::local_tempfile()
  code <- sprintf(paste0(
    "suppressMessages(library(kilnwright)); plan <- readRDS('%s'); file.create('%s'); ",
    "run_comparison(plan, journal = '%s', workers = 1, quiet = TRUE)"
  ), plan_file, begun, file)
  moments <- withr::with_seed(5, runif(if (in_full()) 12 else 3, 0, 0.7))
  kept <- 0
  for (moment in moments) {
    unlink(begun)
    run <- start_r(c("-e", code))
    expect_true(eventually(function() file.exists(begun)))
    # every other time it gets somewhere first
    if (moment > 0.35) eventually(function() !run$is_alive() || rows_so_far(file) > kept)
    Sys.sleep(moment)
    run$kill()
    now <- rows_so_far(file)
    expect_gte(now, kept)
    kept <- now
    if (now > 0) expect_gt(time_spent(open_comparison(file))$seconds[1], 0)
  }
  expect_gt(kept, 0)
  same_numbers(quiet_run(plan, journal = file), quiet_run(plan))
})
