# Damaged, forged and foreign journals: nothing wrong is taken over, nothing runs.

small_plan <- function(candidates = NULL, ...) {
  plan_comparison(
    toy_brief("number", toy(90)),
    candidates %||% candidates(
      tree = fam_tree(pruning = among(0.001, 0.05)), near = fam_neighbours(neighbours = among(1, 5))
    ),
    splits = split_kfold(3), metrics = c("rmse", "mae"), seed = 2, ...
  )
}

finished <- function(plan, ..., env = parent.frame()) {
  file <- journal_file(env)
  quiet_run(plan, journal = file, workers = 1, ...)
  file
}

copy_of <- function(file, env = parent.frame()) {
  copy <- journal_file(env)
  file.copy(file, copy)
  copy
}

test_that("a row whose number, text or prediction was changed is left out, said and fitted again", {
  plan <- small_plan()
  file <- finished(plan, keep = "all_predictions")
  whole <- quiet_run(plan, workers = 1)
  for (change in c(
    "validation_1 = validation_1 + 1e-9", "seconds = -1", "status = 'failed'",
    "message = 'other'", "value = value || '9'", "prediction = substr(prediction, 1, 8)",
    "prediction = zeroblob(240)", "sum = 'x'", "sum = NULL"
  )) {
    copy <- copy_of(file)
    one <- "(SELECT min(fit) FROM fits)"
    change_rows(copy, paste("UPDATE fits SET", change, "WHERE fit =", one))
    expect_warning(half <- open_comparison(copy), "damaged", class = "kw_warning_journal")
    expect_true(anyNA(standings(half)$place), info = change)
    expect_warning(again <- quiet_run(plan, journal = copy, workers = 1), "fits them again")
    expect_identical(numbers_of(again), numbers_of(whole), info = change)
    expect_identical(numbers_of(open_comparison(copy)), numbers_of(whole), info = change)
  }
})

test_that("flipped bits anywhere give the true scores, or a refusal", {
  plan <- small_plan()
  file <- finished(plan)
  bytes <- readBin(file, "raw", file.size(file))
  whole <- numbers_of(quiet_run(plan, workers = 1))
  where <- withr::with_seed(11, sample(length(bytes), if (in_full()) 30 else 15))
  ends <- vapply(where, function(at) {
    flipped <- bytes
    flipped[at] <- xor(flipped[at], as.raw(2^(at %% 8)))
    broken <- journal_file()
    writeBin(flipped, broken)
    opened <- tryCatch(suppressWarnings(open_comparison(broken)), kw_error = function(e) NULL)
    if (!is.null(opened)) {
      ranked <- numbers_of(opened)[[1]]
      ranked <- ranked[!is.na(ranked$place), ]
      true <- whole[[1]][match(paste(ranked$candidate, ranked$setting),
        paste(whole[[1]]$candidate, whole[[1]]$setting)), ]
      expect_identical(ranked$mean, true$mean)
    }
    resumed <- tryCatch(
      suppressWarnings(quiet_run(plan, journal = broken, workers = 1)),
      kw_error_journal = function(e) NULL
    )
    if (is.null(resumed)) return("refused")
    expect_identical(numbers_of(resumed), whole)
    "right"
  }, "")
  expect_true(all(c("refused", "right") %in% ends))
})

test_that("damaged facts and plans are mended by the same call, and opening says so", {
  plan <- small_plan()
  file <- finished(plan)
  whole <- quiet_run(plan, workers = 1)
  steps <- open_comparison(file)$results$spent[["steps"]]
  for (damage in c(
    "UPDATE facts SET value = 'x' WHERE name = 'data'", "DELETE FROM facts WHERE name = 'seed'",
    "UPDATE plan SET plan = replace(plan, 'rmse', 'mape')", "DELETE FROM plan",
    "UPDATE rows_1 SET c1 = c1 + 1 WHERE rowid = 3"
  )) {
    copy <- copy_of(file)
    change_rows(copy, damage)
    expect_error(open_comparison(copy), "damaged", class = "kw_error_journal")
    journal <- kw("open_journal")(copy, plan)
    again <- kw("execute_plan")(plan, journal = journal)
    journal$close()
    same_numbers(again, whole)
    expect_identical(again$results$spent[["steps"]], steps)
    same_numbers(open_comparison(copy), whole)
  }
})

test_that("what is in the file beside our tables is refused before anything is read", {
  plan <- small_plan()
  file <- finished(plan)
  for (planted in list(
    "CREATE TRIGGER t AFTER UPDATE ON facts BEGIN UPDATE fits SET validation_1 = 0; END",
    c("ALTER TABLE fits RENAME TO kept", "CREATE VIEW fits AS SELECT * FROM kept"),
    "CREATE TABLE more (x TEXT)", "CREATE INDEX i ON fits (seconds)",
    "ALTER TABLE fits ADD COLUMN more TEXT",
    "ALTER TABLE rows_1 ADD COLUMN more INTEGER GENERATED ALWAYS AS (1) VIRTUAL"
  )) {
    copy <- copy_of(file)
    for (statement in planted) change_rows(copy, statement)
    bytes <- readBin(copy, "raw", file.size(copy))
    expect_error(open_comparison(copy), "not ours", class = "kw_error_journal")
    expect_error(quiet_run(plan, journal = copy), "not ours", class = "kw_error_journal")
    expect_identical(readBin(copy, "raw", file.size(copy)), bytes)
  }
})

test_that("results are read without trust; what needs a user's own functions says so", {
  worst <- define_metric("worst", "number", "lower", function(truth, prediction, weights) {
    max(abs(truth - prediction))
  })
  flat <- define_family("flat", "number",
    fit = function(x, y, weights, settings, seed, threads) mean(y) + settings$add,
    predict = function(model, x) rep(model, nrow(x)), defaults = list(add = 0)
  )
  wide <- function(x) is.numeric(x) && stats::sd(x) > 2
  plan <- plan_comparison(
    toy_brief("number", toy(90)), candidates(
      flat = flat(add = among(0, 1)),
      tree = pipeline(
        pre_custom(function(columns, state) columns), pre_drop(columns = where(wide)),
        pre_derive(r = x1 * x2), pre_scale(columns = c("x1", "x2") & where(is.numeric)),
        fam_tree(pruning = among(0.001, 0.1))
      )
    ) |> rule_out(pruning > 0.05, candidate = "tree"),
    splits = split_kfold(3), metrics = list("rmse", worst()), seed = 2
  )
  file <- finished(plan)
  whole <- quiet_run(plan, workers = 1)
  read <- open_comparison(file)
  same_numbers(read, whole)
  expect_output(print(summary(read)), "flat")
  choice <- select_final(read, candidate = "tree")
  expect_error(fit_final(choice), "trust = TRUE", class = "kw_error_fit")
  trusted <- open_comparison(file, trust = TRUE)
  expect_identical(
    predict(fit_final(select_final(trusted, candidate = "tree")), toy(20)),
    predict(fit_final(select_final(whole, candidate = "tree")), toy(20))
  )
  # an object that cannot even be read does no harm where it is not to be read
  in_journal(file, function(con) {
    broken <- list(list(as.raw(1:9)))
    sum <- kw("row_sums_of")(broken, "own")
    DBI::dbExecute(con, "UPDATE own SET own = ?, sum = ?", c(broken, sum))
  })
  same_numbers(open_comparison(file), whole)
  expect_error(open_comparison(file, trust = TRUE), "cannot be read", class = "kw_error_journal")
})

test_that("a forged plan text runs nothing", {
  plan <- small_plan(candidates(tree = pipeline(
    pre_drop(columns = x3), pre_derive(r = x1 + 1), fam_tree(pruning = among(0.001, 0.1))
  )))
  file <- finished(plan)
  # texts of parts of that name, which have to be there
  forge <- function(...) {
    copy <- copy_of(file, parent.frame())
    in_journal(copy, function(con) {
      flat <- jsonlite::fromJSON(DBI::dbGetQuery(con, "SELECT plan FROM plan")$plan)
      for (one in list(...)) {
        at <- which(flat$name == one[1] & flat$text %in% one[2])
        if (length(at) == 0L) stop("nothing to forge")
        flat$text[at] <- one[3]
      }
      forged <- as.character(jsonlite::toJSON(flat, na = "null"))
      DBI::dbExecute(
        con, "UPDATE plan SET plan = ?, sum = ?",
        list(forged, kw("row_sums_of")(list(forged), "plan"))
      )
    })
    copy
  }
  # written once more without a change it is what it was
  expect_no_error(open_comparison(forge(c("code", "x3", "x3"))))
  mark <- withr::local_tempfile()
  code <- paste0("file.create('", mark, "')")
  for (one in list(
    list(c("code", "x3", code)), list(c("code", "x1 + 1", paste0("x1 + ", code))),
    list(c("code", "x3", "where(quit)")), list(c("code", "x3", "(function() 1)()")),
    list(c("kind", "split_", "install_"), c("name", "kfold", "command")),
    list(c("name", "kfold", "nowhere")), list(c("code", "x3", "((((("))
  )) {
    expect_error(open_comparison(do.call(forge, one)), class = "kw_error_journal")
  }
  # a bare name is never called
  opened <- open_comparison(forge(c("code", "x3", "getwd")))
  expect_true(all(is.na(standings(opened)$place)))
  expect_error(
    run_comparison(opened$plan, quiet = TRUE), "no column 'getwd'", class = "kw_error_run"
  )
  expect_false(file.exists(mark))
})

test_that("a journal can be read by its owner only, and while it is being written", {
  skip_on_os("windows")
  plan <- small_plan()
  file <- journal_file()
  journal <- kw("open_journal")(file, plan)
  files <- paste0(file, c("", "-wal", "-shm", "-lock"))
  expect_true(all(file.exists(files)))
  expect_identical(as.character(file.mode(files)), rep("600", 4))
  expect_true(all(is.na(standings(open_comparison(file))$place)))
  journal$close()
  expect_identical(file.exists(files), c(TRUE, FALSE, FALSE, FALSE))
})

test_that("a journal that cannot be made leaves nothing, and the same call goes on later", {
  plan <- small_plan()
  file <- journal_file()
  withr::with_options(list(kilnwright.journal_pages = 3), {
    expect_error(quiet_run(plan, journal = file), "full", class = "kw_error_journal")
  })
  expect_length(Sys.glob(paste0(file, "*")), 0)
  same_numbers(quiet_run(plan, journal = file, workers = 1), quiet_run(plan, workers = 1))
})

test_that("durations and deadlines do not follow the time of day", {
  now <- kw("seconds_now")()
  expect_gt(abs(as.double(Sys.time()) - now), 1e6)
  Sys.sleep(0.02)
  expect_gt(kw("seconds_now")(), now)
})

test_that("a plan comes back from its journal as it was, with columns of every kind", {
  n <- 60
  table <- toy(n, missing = TRUE)
  table$number[3] <- 1e-300
  table$gone <- c(NaN, NA, -0.1, 1e300, 0.1 + 0.2, runif(n - 5))
  table$flag <- rep(c(TRUE, FALSE, NA), n / 3)
  table$whole <- c(NA, seq_len(n - 1))
  table$rank <- factor(rep(c("low", "h\u00f6her, \"x\"", "a\tb"), n / 3), ordered = TRUE)
  table$day <- as.Date("2031-01-01") + seq_len(n)
  table$moment <- as.POSIXct("2031-01-01", tz = "Pacific/Auckland") + seq_len(n)
  table[["odd 'name', \u00e4"]] <- rep(c("1", NA, " "), n / 3)
  wide <- stats::setNames(as.data.frame(matrix(seq_len(n * 520), n)), paste0("w", 1:520))
  job <- brief(cbind(table, wide), "number", ignore = c("two", "three"), group = "batch")
  job <- set_aside(job, share = 0.2, seed = 3)
  plan <- plan_comparison(job, candidates(
    b = fam_baseline(), t = pipeline(
      either(a = pre_missing(columns = of_kind("number")), b = as_is()),
      scaled = pre_scale(columns = !c("x1", x2) & starts_with("x"), by = among("sd", "iqr")),
      fam_tree(pruning = from_to(1e-4, 0.1, "log"))
    )
  ), splits = split_bootstrap(3, score = "632plus"),
  search = list(b = search_grid(), search_random(4)), metrics = "mae", seed = 12)
  written <- kw("plan_as_text")(plan)
  expect_length(written$own, 0)
  file <- journal_file()
  quiet_run(plan, journal = file, workers = 1)
  expect_true(identical(
    open_comparison(file)$plan, plan,
    ignore.environment = TRUE, ignore.bytecode = TRUE, ignore.srcref = TRUE
  ))
})
