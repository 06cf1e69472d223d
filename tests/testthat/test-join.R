# Workers that join a run from elsewhere.

join_plan <- function() {
  plan_comparison(
    toy_brief(),
    candidates(tree = pipeline(
      pre_missing(), fam_tree(pruning = among(0.001, 0.05), min_leaf = among(2, 10))
    )),
    splits = split_kfold(4),
    metrics = c("auc", "log_loss"),
    seed = 8
  )
}

scores_only <- function(cmp) {
  list(standings(cmp)[setdiff(names(standings(cmp)), "seconds")], cmp$results$failures)
}

start_worker <- function(url, certificate, before = character()) {
  code <- paste0(
    "kilnwright::run_command_line(c('worker', '--url', '", url,
    "', '--certificate', '", certificate, "'))"
  )
  command <- c(before, file.path(R.home("bin"), "Rscript"), "-e", shQuote(code))
  log <- tempfile("worker-")
  withr::with_envvar(
    c(R_LIBS = paste(.libPaths(), collapse = ":")),
    system2(command[1], command[-1], wait = FALSE, stdout = log, stderr = log)
  )
  log
}

says_it_ended <- function(log) {
  eventually(function() any(grepl("The run has ended", readLines(log, warn = FALSE), fixed = TRUE)))
}

test_that(
  "a worker joins over TLS by the command line, asks for the data, and the scores are the same",
  {
    skip_on_os("windows")
    certificate <- withr::local_tempfile(fileext = ".pem")
    url <- paste0("tls+tcp://127.0.0.1:", sample(20000:40000, 1))
    log <- NULL
    at <- workers_at(url, certificate)
    # the worker keeps trying until the address is open
    writeLines("-----BEGIN CERTIFICATE-----", certificate)
    log <- start_worker(url, certificate)
    expect_identical(
      scores_only(quiet_run(join_plan(), workers = at)),
      scores_only(quiet_run(join_plan(), workers = 1))
    )
    expect_true(says_it_ended(log))
    expect_match(readLines(certificate, n = 1), "BEGIN CERTIFICATE")
  }
)

test_that("a worker in a network namespace of its own joins by way of a virtual cable", {
  skip_on_os(c("windows", "mac"))
  ip <- function(...) system2("ip", c(...), stdout = FALSE, stderr = FALSE)
  space <- paste0("kiln", Sys.getpid() %% 10000)
  able <- nzchar(Sys.which("ip")) && ip("netns", "add", space) == 0L
  skip_if_not(able, "making network namespaces is not allowed here")
  withr::defer(ip("netns", "del", space))
  cable <- c(
    "link", "add", paste0(space, "a"), "type", "veth", "peer", "name", paste0(space, "b"),
    "netns", space
  )
  skip_if_not(ip(cable) == 0L, "making virtual cables is not allowed here")
  ip("addr", "add", "10.213.7.1/24", "dev", paste0(space, "a"))
  ip("link", "set", paste0(space, "a"), "up")
  inside <- function(...) ip("netns", "exec", space, "ip", ...)
  inside("addr", "add", "10.213.7.2/24", "dev", paste0(space, "b"))
  inside("link", "set", paste0(space, "b"), "up")
  certificate <- withr::local_tempfile(fileext = ".pem")
  url <- paste0("tls+tcp://10.213.7.1:", sample(20000:40000, 1))
  at <- workers_at(url, certificate)
  writeLines("-----BEGIN CERTIFICATE-----", certificate)
  log <- start_worker(url, certificate, before = c("ip", "netns", "exec", space))
  expect_identical(
    scores_only(quiet_run(join_plan(), workers = at)),
    scores_only(quiet_run(join_plan(), workers = 1))
  )
  expect_true(says_it_ended(log))
})

test_that("a local worker of an open address may die and is replaced", {
  skip_on_os("windows")
  once <- withr::local_tempfile()
  fam_dies_once <- define_family("dies_once", "two_class",
    defaults = list(file = ""),
    fit = function(x, y, weights, settings, seed, threads) {
      if (!file.exists(settings$file)) {
        file.create(settings$file)
        tools::pskill(Sys.getpid(), 6)
      }
      mean(as.integer(y) == 2)
    },
    predict = function(model, x) cbind(rep(1 - model, nrow(x)), model)
  )
  plan <- plan_comparison(
    toy_brief(),
    candidates(a = fam_dies_once(file = once)),
    splits = split_kfold(3),
    metrics = "log_loss",
    seed = 1
  )
  cmp <- quiet_run(
    plan,
    workers = workers_at(free_address(), withr::local_tempfile(), local = 1)
  )
  expect_identical(nrow(failures(cmp)), 0L)
  expect_true(file.exists(once))
})

test_that("addresses that are open to all, unreachable or misspelt are refused", {
  pem <- withr::local_tempfile()
  refused <- function(..., class = "kw_error_argument") expect_error(workers_at(...), class = class)
  refused("tcp://127.0.0.1:7701", pem)
  refused("tls+tcp://0.0.0.0:7701", pem)
  refused("192.168.1.20:7701", pem)
  refused("tls+tcp://127.0.0.1:7701")
  writeLines("my notes", pem)
  refused("tls+tcp://127.0.0.1:7701", pem)
  expect_identical(readLines(pem), "my notes")
  expect_error(be_worker("tls+tcp://127.0.0.1:7701", pem), class = "kw_error_argument")
  expect_error(
    {
      writeLines("-----BEGIN CERTIFICATE-----", pem)
      be_worker("tls+tcp://127.0.0.1:1", pem, wait = 0)
    }, "Nobody answers",
    class = "kw_error_workers"
  )
  blocked <- serverSocket(port <- sample(20000:40000, 1))
  withr::defer(close(blocked))
  expect_error(
    quiet_run(join_plan(), workers = workers_at(paste0("tls+tcp://127.0.0.1:", port), pem)),
    "Nobody can be waited for",
    class = "kw_error_workers"
  )
})

test_that("who has the certificate but not the secret gets no rows and changes no score", {
  skip_on_os("windows")
  certificate <- withr::local_tempfile(fileext = ".pem")
  url <- free_address()
  seen <- withr::local_tempfile()
  # an intruder that takes the certificate only, guesses a secret and notes what it is sent
  intruder <- withr::local_tempfile(fileext = ".R", lines = c(
    sprintf("file <- '%s'", certificate),
    "whole <- function(lines) any(grepl('END KILNWRIGHT SECRET', lines))",
    "while (!file.exists(file) || !whole(lines <- readLines(file))) Sys.sleep(0.05)",
    "pem <- tempfile(); writeLines(lines[seq_len(grep('BEGIN KILN', lines) - 1)], pem)",
    "store <- get('worker_store', asNamespace('kilnwright'))",
    "store$secret <- as.raw(1:32)",
    "home <- asNamespace('kilnwright')",
    "seal <- get('seal_value', home)",
    "unlockBinding('seal_value', home)",
    "assign('seal_value', function(x, secret) {",
    sprintf("  saveRDS(as.list(parent.frame(2)), '%s')", seen),
    "  Sys.sleep(0.02)",
    "  seal(x, secret)",
    "}, home)",
    sprintf("mirai::daemon('%s', dispatcher = TRUE, tlscert = pem)", url)
  ))
  system2(
    file.path(R.home("bin"), "Rscript"), shQuote(intruder),
    wait = FALSE, stdout = FALSE, stderr = FALSE
  )
  # alone it gets nothing and ends the run
  expect_error(
    quiet_run(join_plan(), workers = workers_at(url, certificate)), "no worker of this run",
    class = "kw_error_workers"
  )
  expect_true(file.exists(seen))
  sent <- readRDS(seen)
  expect_null(sent$file)
  expect_null(sent$bytes)
  expect_identical(as.character(file.mode(certificate)), "600")
})

test_that("what is sealed is read with the secret only, and whole only", {
  skip_if_not_installed("openssl")
  secret <- kw("new_secret")()
  expect_identical(kw("secret_of_lines")(c("x", kw("secret_lines")(secret))), as.raw(secret))
  sealed <- kw("seal_value")(list(rows = toy(5)), secret)
  expect_identical(kw("open_sealed")(sealed, secret)$value, list(rows = toy(5)))
  expect_null(kw("open_sealed")(sealed, kw("new_secret")()))
  for (at in c(1, 20, length(sealed))) {
    changed <- sealed
    changed[at] <- xor(changed[at], as.raw(1))
    expect_null(kw("open_sealed")(changed, secret))
  }
  for (odd in list(NULL, 1, "a", raw(10), sealed[1:60])) {
    expect_null(kw("open_sealed")(odd, secret))
  }
  again <- kw("seal_value")(list(rows = toy(5)), secret)
  expect_false(identical(again, sealed))
})

test_that("answers of workers are checked in full", {
  plan <- join_plan()
  work <- kw("compile_work")(plan$spaces, lapply(plan$round, `[[`, "settings"))
  run <- kw("new_run")(plan, work, kw("working_data")(plan$brief), "none", limits())
  unit <- list(split = 1L, fits = 1:2, share = 1)
  good <- kw("timed_unit")(run, 1L, 1:2)
  wrong <- function(change, answer = good) kw("wrong_answer")(change(answer), unit, run)
  expect_null(wrong(identity))
  set <- function(name, value) {
    function(answer) {
      answer$ledger[name] <- list(value)
      answer
    }
  }
  scores <- good$ledger$validation
  for (change in list(
    function(answer) NULL, function(answer) "done", function(answer) answer["took"],
    function(answer) utils::modifyList(answer, list(took = "1")),
    function(answer) c(answer, list(unit = list(split = 2L, fits = 1:2, share = 1))),
    set("fit", 1L), set("fit", c(1L, 1L)), set("fit", "1"), set("fit", 8:9),
    set("split", c(2L, 2L)), set("split", NA), set("share", c(0.5, 0.5)), set("share", 1),
    set("seconds", c(-1, 2)), set("fit_seconds", 1), set("message", 1:2), set("stage", "a"),
    set("validation", NULL), set("validation", scores[-1, , drop = FALSE]),
    set("validation", as.data.frame(scores)),
    set("validation", `colnames<-`(scores, c("a", "b"))), set("warnings", list(list(at = 9))),
    set("why_na", list(1)), set("steps", 3), set("steps", list(list(node = 99))),
    set("predictions", list(1))
  )) {
    expect_type(wrong(change), "character")
  }
})

test_that("workers of this machine meet where only its owner can go", {
  skip_on_os("windows")
  folder <- kw("socket_folder")()
  expect_identical(as.character(file.mode(folder)), "700")
  expect_lt(nchar(paste0(folder, "/s")), 108)
  pool <- kw("worker_pool")(1L, "kiln-test")
  withr::defer(pool$close())
  url <- mirai::status(.compute = "kiln-test")$daemons
  where <- dirname(sub("^ipc://", "", grep("ipc", unlist(c(
    url, mirai::nextget("url", .compute = "kiln-test")
  )), value = TRUE)[1]))
  expect_identical(as.character(file.mode(where)), "700")
  pool$close()
  expect_false(dir.exists(where))
})

test_that("a fit that was drawn for a second look twice is looked at once", {
  plan <- join_plan()
  work <- kw("compile_work")(plan$spaces, lapply(plan$round, `[[`, "settings"))
  run <- kw("new_run")(plan, work, kw("working_data")(plan$brief), "none", limits())
  unit <- list(split = 1L, fits = 1L, share = 1)
  answer <- function(worker) c(kw("timed_unit")(run, 1L, 1L), list(worker = worker))
  doubt <- kw("new_doubt")(1)
  doubt$taken(answer("a"), unit)
  doubt$taken(answer("b"), unit)
  for (turn in 1:2) doubt$settle(answer("c"), doubt$take(), run, NULL, NULL)
  expect_null(doubt$take())
  expect_false(any(vapply(c("a", "b", "c"), doubt$is_out, NA)))
})

test_that("a worker whose scores are wrong is found out, and all that it did is done again", {
  skip_on_os("windows")
  plan <- join_plan()
  plain <- scores_only(quiet_run(plan, workers = 1))
  for (after in c(0, 2)) {
    certificate <- withr::local_tempfile(fileext = ".pem")
    url <- free_address()
    start_rogue(url, certificate, after, "answer$ledger$validation[] <- 0.926")
    at <- workers_at(url, certificate, local = 1, verify = if (after == 0) 0.02 else 1)
    file <- journal_file()
    expect_warning(
      cmp <- quiet_run(plan, workers = at, journal = file), "done again",
      class = "kw_warning_workers"
    )
    expect_identical(scores_only(cmp), plain)
    expect_identical(scores_only(open_comparison(file)), plain)
  }
})
