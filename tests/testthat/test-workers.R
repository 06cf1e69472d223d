# Runs on worker processes: the same scores, whatever happens to the workers.

numbers <- function(cmp) {
  table <- standings(cmp)
  table$seconds <- NULL
  list(table, lapply(cmp$results$scores, unname), cmp$results$failures)
}

worker_plan <- function(...) {
  plan_comparison(
    toy_brief(), candidates(
      tree = pipeline(
        pre_missing(),
        optional(pre_skew()),
        fam_tree(pruning = among(0.001, 0.05), min_leaf = among(2, 10))
      ),
      forest = fam_forest(trees = among(10, 40), min_node = among(2, 10)),
      near = fam_neighbours(neighbours = among(1, 5, 20))
    ),
    splits = split_kfold(4), metrics = c("auc", "log_loss"), seed = 8, ...
  )
}

test_that("1, 2 and 5 workers, any order and any cut into units give the same", {
  skip_on_os("windows")
  plan <- worker_plan()
  here <- numbers(quiet_run(plan, workers = 1))
  expect_identical(numbers(quiet_run(plan, workers = 2)), here)
  expect_identical(numbers(quiet_run(plan, workers = 5)), here)
  expect_identical(numbers(kw("execute_plan")(plan, shuffle = TRUE)), here)
})

test_that(
  paste(
    "workers that the user has set up are used and left running; data are pulled where there",
    "is no common file"
  ),
  {
    skip_on_os("windows")
    mirai::daemons(1, .compute = "kilnwright")
    withr::defer(mirai::daemons(0, .compute = "kilnwright"))
    plan <- worker_plan()
    first <- mirai::mirai(Sys.getpid(), .compute = "kilnwright")[]
    expect_identical(numbers(quiet_run(plan)), numbers(quiet_run(plan, workers = 1)))
    expect_identical(mirai::mirai(Sys.getpid(), .compute = "kilnwright")[], first)
    unit <- list(split = 1L, fits = 1L, share = 1)
    expect_true(kw("worker_task")("new", tempfile(), unit)$need_data)
    run <- list(
      id = "new",
      work = kw("compile_work")(plan$spaces, lapply(plan$round, `[[`, "settings")),
      splits = plan$splits, metrics = plan$metrics,
      data = list(
        frame = kw("frame_columns")(plan$brief$table, plan$brief$schema),
        target = kw("brief_target")(plan$brief), fingerprint = plan$brief$fingerprint
      ),
      seed = 8,
      wanted = list(training = FALSE, predictions = FALSE, held = FALSE, no_information = FALSE)
    )
    bytes <- serialize(kw("packed_run")(run), NULL)
    part <- kw("worker_task")("new", tempfile(), unit, bytes)$ledger
    expect_identical(part$message, NA_character_)
  }
)

test_that("workers are sent every step's definition once, and have the steps that the run has", {
  plan <- plan_comparison(toy_brief(), candidates(tree = pipeline(
    pre_missing(), pre_onehot(), either(a = as_is(), b = pre_skew(), c = pre_outliers()),
    pre_polynomial(), pre_keep_top(top = among(1:15)), fam_tree()
  )), splits = split_kfold(4), seed = 8)
  work <- kw("compile_work")(plan$spaces, lapply(plan$round, `[[`, "settings"))
  bytes <- serialize(kw("packed_run")(list(work = work)), NULL)
  expect_lt(length(bytes), length(serialize(work, NULL)) / 3)
  sent <- kw("unpacked_run")(unserialize(bytes))$work
  steps <- function(work) {
    lapply(work$nodes, function(node) c(node$parent, node$key, kw("step_key")(node$step)))
  }
  expect_gt(length(work$nodes), 45)
  expect_identical(steps(sent), steps(work))
  expect_identical(sent$nodes[[7]]$step$definition, work$nodes[[7]]$step$definition)
})

# A family whose fit does something to its process when `what` is told to, on the rows of
# one fold only: the first row's x1 marks the fold.
troubled <- function() {
  define_family(
    "troubled",
    kinds = "two_class",
    defaults = list(what = "nothing", mark = 0, file = ""),
    fit = function(x, y, weights, settings, seed, threads) {
      if (!any(abs(x[, 1] - settings$mark) < 1e-12)) {
        if (settings$what == "die") tools::pskill(Sys.getpid(), 9)
        if (settings$what == "die_once" && !file.exists(settings$file)) {
          file.create(settings$file)
          tools::pskill(Sys.getpid(), 9)
        }
        if (settings$what == "hang") repeat Sys.sleep(0.1)
        if (settings$what == "hang_native") base::system("sleep 60")
        if (settings$what == "nan") return(NaN)
        if (settings$what == "fail") stop("broken on purpose")
      }
      if (settings$what == "warn") warning("careful")
      mean(as.integer(y) == 2)
    },
    predict = function(model, x) {
      if (identical(model, "short")) 1 else cbind(rep(1 - model, nrow(x)), model)
    }
  )
}

trouble <- function(what, workers = 2, ...) {
  table <- toy(80)
  rivals <- candidates(
    b = fam_baseline(),
    t = pipeline(
      pre_drop(columns = "colour"),
      troubled()(what = what, mark = table$x1[1], file = tempfile())
    )
  )
  quiet_run(
    toy_brief(table = table),
    rivals,
    splits = split_kfold(4),
    metrics = "log_loss",
    seed = 2,
    workers = workers,
    ...
  )
}

test_that(
  "a fit that kills its worker once is repeated; one that always does is failed on its fold alone",
  {
    skip_on_os("windows")
    calm <- trouble("nothing", workers = 1)
    once <- trouble("die_once")
    expect_identical(nrow(failures(once)), 0L)
    expect_equal(standings(once)$mean, standings(calm)$mean)
    always <- trouble("die")
    gone <- failures(always)
    expect_identical(gone$candidate, "t")
    expect_match(gone$message, "died while fitting this, twice")
    expect_equal(
      scores_by_split(always)$validation[-match(NA, scores_by_split(always)$validation)],
      scores_by_split(calm)$validation[-match(NA, scores_by_split(always)$validation)]
    )
  }
)

test_that("what died with its worker is tried again when its journal goes on", {
  skip_on_os("windows")
  file <- journal_file()
  mark <- withr::local_tempfile()
  moody <- define_family("moody", "number",
    fit = function(x, y, weights, settings, seed, threads) {
      if (file.exists(settings$mark)) tools::pskill(Sys.getpid(), 9)
      mean(y)
    },
    predict = function(model, x) rep(model, nrow(x)), defaults = list(mark = "")
  )
  plan <- plan_comparison(
    toy_brief("number", toy(60)), candidates(b = fam_baseline(), m = moody(mark = mark)),
    splits = split_kfold(2), metrics = "rmse", seed = 1
  )
  file.create(mark)
  killed <- quiet_run(plan, journal = file, workers = 2)
  expect_match(failures(killed)$message, "died", all = TRUE)
  unlink(mark)
  same_numbers(quiet_run(plan, journal = file, workers = 1), quiet_run(plan, workers = 1))
})

test_that("every worker killed at once does not lose a score", {
  skip_on_os("windows")
  file <- withr::local_tempfile()
  slow <- define_family(
    "slow",
    kinds = "two_class",
    defaults = list(by = 1, file = ""),
    packages = "stats",
    fit = function(x, y, weights, settings, seed, threads) {
      cat(Sys.getpid(), "\n", file = settings$file, append = TRUE)
      Sys.sleep(0.15)
      mean(as.integer(y) == 2)
    },
    predict = function(model, x) cbind(rep(1 - model, nrow(x)), model)
  )
  plan <- plan_comparison(
    toy_brief(table = toy(60)),
    candidates(s = pipeline(pre_drop(columns = "colour"), slow(by = among(1:6), file = file))),
    splits = split_kfold(4),
    metrics = "log_loss",
    seed = 2
  )
  killed <- FALSE
  listener <- function(event) {
    pids <- unique(as.integer(lines_so_far(file)))
    if (event$type == "progress" && !killed && length(pids) > 0L) {
      killed <<- TRUE
      tools::pskill(pids, 9)
    }
  }
  cmp <- kw("execute_plan")(plan, workers = 2, listener = listener)
  expect_true(killed)
  expect_identical(nrow(failures(cmp)), 0L)
  expect_false(anyNA(standings(cmp)$mean))
})

test_that("a fit past fit_seconds is stopped and recorded, in R and in compiled code", {
  skip_on_os("windows")
  for (what in c("hang", "hang_native")) {
    cmp <- trouble(what, limits = limits(fit_seconds = 3))
    expect_identical(failures(cmp)$candidate, "t")
    expect_match(failures(cmp)$message, "limit of 3 s")
  }
  here <- trouble("hang", workers = 1, limits = limits(fit_seconds = 1))
  expect_match(failures(here)$message, "limit of 1 s")
})

test_that("errors, warnings and NaN on a worker are recorded as in this process", {
  skip_on_os("windows")
  for (what in c("fail", "nan", "warn")) {
    expect_identical(numbers(trouble(what)), numbers(trouble(what, workers = 1)))
  }
  expect_match(failures(trouble("fail"))$message, "broken on purpose")
  expect_match(warnings_by_split(trouble("warn"))$message, "careful")
})

test_that("limits end a run with a valid comparison that says so", {
  job <- toy_brief()
  rivals <- candidates(b = fam_baseline(), f = fam_forest(min_node = among(1:40), trees = 300))
  cmp <- quiet_run(
    job,
    rivals,
    splits = split_kfold(4),
    seed = 1,
    workers = 1,
    limits = limits(minutes = 0.5 / 60)
  )
  expect_match(cmp$stopped, "minutes")
  table <- standings(cmp)
  expect_true(any(is.na(table$place)) && any(!is.na(table$place)))
  expect_output(print(cmp), "Stopped by the limit")
  expect_s3_class(select_final(cmp), "kw_choice")
  whole <- standings(quiet_run(
    job, rivals,
    splits = split_kfold(4), seed = 1, limits = limits(settings = 5)
  ))
  expect_identical(nrow(whole), 5L)
  expect_setequal(whole$candidate, c("b", "f"))
  expect_error(limits(minutes = 0), "minutes", class = "kw_error_argument")
})

test_that("an interruption gives what is done", {
  skip_on_os("windows")
  script <- withr::local_tempfile(fileext = ".R")
  fits <- withr::local_tempfile()
  out <- withr::local_tempfile()
  writeLines(c(
    "library(kilnwright)", "table <- data.frame(x = rnorm(300), y = rnorm(300))",
    "job <- brief(table, 'y')",
    "slow <- define_family('slow', 'number', defaults = list(by = 1),",
    "  fit = function(x, y, weights, settings, seed, threads) {",
    sprintf("    cat('fit\\n', file = '%s', append = TRUE)", fits),
    "    Sys.sleep(0.05)",
    "    mean(y)",
    "  },",
    "  predict = function(model, x) rep(model, nrow(x)))",
    "cmp <- run_comparison(job, candidates(s = slow(by = among(1:400))),",
    "  splits = split_kfold(3), metrics = 'mae', seed = 1, workers = 1, quiet = TRUE)",
    "cat('stopped by', cmp$stopped, sum(!is.na(standings(cmp)$place)) > 0, '\\n')"
  ), script)
  run <- start_r(script, out = out)
  # far enough for a setting to be scored on all splits, and far from the end, however busy the
  # machine is
  expect_true(eventually(function() length(lines_so_far(fits)) > 60))
  run$interrupt()
  expect_true(eventually(function() !run$is_alive()))
  expect_match(readLines(out), "stopped by an interruption TRUE", all = FALSE)
})

# A family that stops its process, once for every file in `marks` that is not there yet.
stopping_plan <- function(marks, pids) {
  stops <- define_family("stops", "number",
    fit = function(x, y, weights, settings, seed, threads) {
      cat(Sys.getpid(), "\n", file = settings$pids, append = TRUE)
      mark <- Find(function(file) !file.exists(file), strsplit(settings$marks, " ")[[1]])
      if (settings$at > 2 && !is.null(mark) && file.create(mark)) {
        tools::pskill(Sys.getpid(), tools::SIGSTOP)
      }
      mean(y)
    },
    predict = function(model, x) rep(model, nrow(x)),
    defaults = list(at = 1, pids = "", marks = "")
  )
  plan_comparison(
    toy_brief("number", toy(60)), candidates(
      s = pipeline(
        pre_drop(columns = "colour"),
        stops(at = among(1:6), pids = pids, marks = paste(marks, collapse = " "))
      )
    ),
    splits = split_kfold(2), metrics = "rmse", seed = 1
  )
}

test_that("a stopped worker's fit is done by another one, and if all are stopped by new ones", {
  skip_on_os("windows")
  local_stand_in("lagging_seconds", 1)
  for (n in 1:2) {
    pids <- withr::local_tempfile()
    folder <- withr::local_tempdir()
    plan <- stopping_plan(file.path(folder, seq_len(n)), pids)
    cmp <- quiet_run(plan, workers = 2)
    tools::pskill(unique(as.integer(readLines(pids))), 9)
    expect_length(list.files(folder), n)
    expect_identical(nrow(failures(cmp)), 0L)
    expect_false(anyNA(standings(cmp)$place))
    expect_identical(length(cmp$ledger$fit), 12L)
  }
})

test_that("a worker that was stopped is given up after the limit, and the rest goes on", {
  skip_on_os("windows")
  # long enough for new workers to be there, however busy the machine is
  local_stand_in("unanswered_grace", 8)
  pids <- withr::local_tempfile()
  stops <- define_family("stops", "number",
    fit = function(x, y, weights, settings, seed, threads) {
      cat(Sys.getpid(), "\n", file = settings$pids, append = TRUE)
      if (settings$at == 2) tools::pskill(Sys.getpid(), tools::SIGSTOP)
      mean(y)
    },
    predict = function(model, x) rep(model, nrow(x)), defaults = list(at = 1, pids = "")
  )
  plan <- plan_comparison(
    toy_brief("number", toy(60)), candidates(
      s = pipeline(pre_drop(columns = "colour"), stops(at = among(1:2), pids = pids))
    ),
    splits = split_kfold(2), metrics = "rmse", seed = 1
  )
  withr::defer(tools::pskill(unique(as.integer(readLines(pids))), 9))
  cmp <- quiet_run(plan, workers = 2, limits = limits(fit_seconds = 3))
  expect_identical(is.na(standings(cmp)$place), c(FALSE, TRUE))
  expect_match(failures(cmp)$message, "stopped after the limit of 3 s", all = TRUE)
})

test_that("a unit and its twin that are back at the same time count once", {
  mirai::daemons(1, .compute = "twins")
  withr::defer(mirai::daemons(0, .compute = "twins"))
  flying <- kw("new_flights")("twins")
  run <- list(id = "a", work = list(rounds = 1))
  unit <- list(split = 1L, fits = 1:2, share = 1)
  for (twin in c(FALSE, TRUE)) flying$send(run, "nowhere", unit, twin = twin)
  flying$send(run, "nowhere", list(split = 2L, fits = 1:2, share = 1))
  # all three are back before they are looked at
  later <- mirai::mirai(TRUE, .compute = "twins")
  mirai::call_mirai(later)
  first <- flying$landed()
  expect_identical(vapply(first, function(flight) flight$unit$split, 1L), 1:2)
  expect_identical(flying$count(), 1L)
  # the answer was taken
  flying$drop(unit)
  expect_length(flying$landed(), 0)
  expect_identical(flying$count(), 0L)
})

test_that("workers are sent home when they have answered, and those in a long fit all the same", {
  skip_on_os("windows")
  # a worker that answers as soon as there is the file `go`
  answered <- function(go, patience) {
    done <- withr::local_tempfile()
    profile <- paste0("home-", basename(done))
    mirai::daemons(1, dispatcher = TRUE, .compute = profile)
    task <- mirai::mirai({
      while (!file.exists(go)) Sys.sleep(0.05)
      Sys.sleep(0.3)
      file.create(done)
    }, go = go, done = done, .compute = profile)
    expect_true(eventually(function() kw("tasks_out")(profile) > 0))
    kw("send_home")(profile, patience)
    mirai::call_mirai(task)
    file.exists(done)
  }
  # longer than a run waits, since a new worker takes its time on a busy machine
  expect_true(answered(tempdir(), patience = 120))
  expect_false(answered(file.path(tempdir(), "never"), patience = 0.2))
})

test_that("a run begins in this process and goes on with workers once that is worth it", {
  plan <- plan_comparison(toy_brief(), candidates(t = fam_tree(min_leaf = among(2:6))),
    splits = split_kfold(3), seed = 1)
  here <- quiet_run(plan, workers = 1)
  started <- 0
  pool <- kw("worker_pool")
  local_stand_in("worker_pool", function(...) {
    started <<- started + 1
    pool(...)
  })
  withr::local_options(mc.cores = 2L)
  same_numbers(quiet_run(plan), here)
  expect_identical(started, 0)
  local_stand_in("worth_workers", 0)
  same_numbers(quiet_run(plan), here)
  expect_identical(started, 1)
})
