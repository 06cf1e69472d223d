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

eventually <- function(what, seconds = 30) {
  until <- Sys.time() + seconds
  while (Sys.time() < until) {
    if (what()) return(TRUE)
    Sys.sleep(0.1)
  }
  FALSE
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
    workers = workers_at(paste0("tcp://127.0.0.1:", sample(20000:40000, 1)), local = 1)
  )
  expect_identical(nrow(failures(cmp)), 0L)
  expect_true(file.exists(once))
})

test_that("addresses that are open to all, unreachable or misspelt are refused", {
  pem <- withr::local_tempfile()
  refused <- function(..., class = "kw_error_argument") expect_error(workers_at(...), class = class)
  refused("tcp://192.168.1.20:7701")
  refused("tls+tcp://0.0.0.0:7701", pem)
  refused("192.168.1.20:7701", pem)
  refused("tls+tcp://127.0.0.1:7701")
  writeLines("my notes", pem)
  refused("tls+tcp://127.0.0.1:7701", pem)
  expect_identical(readLines(pem), "my notes")
  expect_error(be_worker("tls+tcp://127.0.0.1:7701", pem), class = "kw_error_argument")
  expect_error(
    be_worker("tcp://127.0.0.1:1", wait = 0), "Nobody answers",
    class = "kw_error_workers"
  )
  blocked <- serverSocket(port <- sample(20000:40000, 1))
  withr::defer(close(blocked))
  expect_error(
    quiet_run(join_plan(), workers = workers_at(paste0("tcp://127.0.0.1:", port))),
    "Nobody can be waited for",
    class = "kw_error_workers"
  )
})
