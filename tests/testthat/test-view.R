# The live view: a server on this machine alone, and its page in a real browser.

# Asks the application itself, without a network.
ask_view <- function(x, path, port = 4242, method = "GET", host = "127.0.0.1:4242", query = "") {
  app <- kw("view_app")(kw("view_source")(x, FALSE), "token", port)
  found <- app$call(list(
    REQUEST_METHOD = method, PATH_INFO = path, QUERY_STRING = query, HTTP_HOST = host
  ))
  if (grepl("json", found$headers[["Content-Type"]])) {
    found$json <- jsonlite::fromJSON(found$body, simplifyVector = FALSE)
  }
  found
}

test_that("what a view is asked for is answered from this machine, below its path, and only read", {
  cmp <- toy_comparison()
  expect_identical(ask_view(cmp, "/")$status, 404L)
  expect_identical(ask_view(cmp, "/other/facts")$status, 404L)
  expect_identical(ask_view(cmp, "/token/secrets")$status, 404L)
  expect_identical(ask_view(cmp, "/token/facts", host = "somewhere.example")$status, 403L)
  expect_identical(ask_view(cmp, "/token/facts", method = "POST")$status, 405L)
  page <- ask_view(cmp, "/token/")
  expect_identical(page$status, 200L)
  expect_match(page$body, "view-choose", fixed = TRUE)

  facts <- ask_view(cmp, "/token/facts")$json
  table <- standings(cmp)
  expect_equal(unlist(facts$facts$settings$mean), table$mean, tolerance = 1e-7)
  expect_identical(facts$progress$done, facts$progress$all)
  same <- ask_view(cmp, "/token/facts", query = "?known=1&written=FALSE")$json
  expect_true(same$same)
  other <- ask_view(cmp, "/token/facts", query = "?metric=log_loss")$json
  expect_equal(
    unlist(other$facts$settings$mean), standings(cmp, "log_loss")$mean, tolerance = 1e-7
  )

  within <- ask_view(cmp, "/token/choice", query = "?rule=within&margin=0.05")$json
  choice <- select_final(cmp, "within", margin = 0.05)
  expect_identical(within$reason, choice$reason)
  # the code that is handed over gives the same choice
  expect_identical(eval(parse(text = within$code))$at, choice$at)
  cut <- ask_view(cmp, "/token/threshold", query = "?rule=one_se&missed=5&false_alarm=1")$json
  choice <- select_final(cmp, "one_se")
  expect_equal(eval(parse(text = cut$code))$threshold$value, cut$threshold)
  for (query in c("?rule=nonsense", "?rule=%zz&=&", "?rule=within&margin=x")) {
    expect_type(ask_view(cmp, "/token/choice", query = query)$json$error, "character")
  }
})

test_that("scores that a screen spared are not missed", {
  cmp <- quiet_run(toy_brief(), candidates(
    tree = fam_tree(pruning = among(0.001, 0.01, 0.9), min_leaf = among(2, 20)),
    base = fam_baseline()
  ), splits = split_kfold(5), screen = screen_splits(at_least = 1), seed = 1, workers = 1)
  dropped <- nrow(cmp$results$dropped)
  expect_gt(dropped, 0)
  progress <- ask_view(cmp, "/token/facts")$json$progress
  expect_identical(progress$done, sum(cmp$results$done))
  expect_identical(progress$done, progress$all)
  expect_match(progress$text, sprintf(" scores; 7 settings (%d dropped)", dropped), fixed = TRUE)
})

test_that("a journal is watched while it grows, ends, is damaged and goes", {
  file <- withr::local_tempfile(fileext = ".sqlite")
  plan <- plan_comparison(toy_brief(), candidates(
    tree = fam_tree(pruning = among(0.001, 0.01)), line = fam_linear()
  ), splits = split_kfold(3), seed = 1)
  part <- quiet_run(plan, journal = file, limits = limits(settings = 2), workers = 1)
  source <- kw("view_source")(file, FALSE)
  first <- kw("view_facts")(source$read(), list())
  expect_false(first$written)
  expect_match(first$progress$text, "6 of 6 scores, stopped by the limit of 2 settings;")
  quiet_run(plan, journal = file, workers = 1)
  second <- kw("view_facts")(source$read(), list(known = first$version, written = "FALSE"))
  expect_gt(second$progress$done, first$progress$done)
  expect_identical(second$progress$done, second$progress$all)
  expect_match(second$progress$text, paste(second$progress$all, "scores; 3 settings of 2"))
  before <- unname(tools::md5sum(file))
  source$read()
  expect_identical(unname(tools::md5sum(file)), before)
  # what was read last stays, and what is wrong is said
  writeLines("broken", file)
  third <- kw("view_facts")(source$read(), list())
  expect_identical(third$progress$done, second$progress$done)
  expect_match(third$note, "journal")
  # also to a page that has seen all there was
  known <- list(known = third$version, written = "FALSE")
  expect_match(kw("view_facts")(source$read(), known)$note, "journal")
  unlink(file)
  expect_match(kw("view_facts")(source$read(), list())$note, "journal")
  expect_error(view_comparison(file), "no journal", class = "kw_error_journal")
  expect_error(view_comparison(withr::local_tempdir()), "no journal", class = "kw_error_results")
})

test_that("a blend that is planned is shown once the run is over, and can be chosen", {
  file <- withr::local_tempfile(fileext = ".sqlite")
  plan <- plan_comparison(toy_brief("number"), candidates(
    tree = fam_tree(pruning = among(0.001, 0.01)), line = pipeline(pre_minimal(), fam_linear())
  ), splits = split_kfold(3), seed = 1)
  plan$rule <- list(name = "best_mean", margin = NULL, blend = TRUE)
  cmp <- quiet_run(plan, journal = file, workers = 1)
  choice <- select_final(cmp)
  shown <- function(x) {
    vapply(ask_view(x, "/token/facts")$json$facts$candidates, `[[`, "", "name")
  }
  for (x in list(cmp, file)) {
    expect_true("blend" %in% shown(x))
    asked <- ask_view(x, "/token/choice", query = "?rule=best_mean")$json
    expect_identical(asked$reason, choice$reason)
    expect_identical(eval(parse(text = asked$code))$at, choice$at)
  }
  # a page does not wait for fits
  plan["rule"] <- list(NULL)
  bare <- quiet_run(plan, workers = 1)
  bare$plan$rule <- list(name = "best_mean", margin = NULL, blend = TRUE)
  expect_false("blend" %in% shown(bare))
  expect_match(ask_view(bare, "/token/choice", query = "?rule=one_se")$json$code, "blend = FALSE")
})

test_that("the command watches a run in the browser, and new scores appear by themselves", {
  skip_if_not(has_browser(), "chromium and chromedriver")
  folder <- withr::local_tempdir()
  file <- file.path(folder, "journal.sqlite")
  plan <- plan_comparison(toy_brief(), candidates(
    tree = fam_tree(pruning = among(0.001, 0.01), min_leaf = among(2, 20)), line = fam_linear()
  ), splits = split_kfold(3), seed = 1)
  quiet_run(plan, journal = file, limits = limits(settings = 2), workers = 1)
  out <- withr::local_tempfile()
  command <- system.file("exec", "kilnwright", package = "kilnwright")
  start_r(c(command, "view", folder, "--no-browser"), out = out)
  address <- character()
  eventually(function() {
    address <<- grep("^http", lines_so_far(out), value = TRUE)
    length(address) == 1L
  })
  page <- open_browser(address)
  rows <- "return [...document.querySelectorAll('#look .tabulator-row')].length"
  progress <- "return document.getElementById('view-progress').textContent"
  until(page, paste0(progress, ".startsWith('6 of 6 scores')"))
  quiet_run(plan, journal = file, workers = 1)
  until(page, paste0(progress, ".startsWith('15 of 15 scores')"))
  until(page, paste0(rows, " == 5"))
  cmp <- open_comparison(file)
  shown <- page$do("return document.getElementById('view-best').textContent")
  expect_match(shown, standings(cmp)$candidate[1])

  # the margin's slider asks for another choice; a zoomed range can be taken along
  page$do("const r = document.getElementById('view-rule'); r.value = 'within';
           r.dispatchEvent(new Event('change'))")
  until(page, "return document.getElementById('choice-code').textContent.includes('margin')")
  page$point(".look-near", press = TRUE)
  page$do("const x = document.querySelector('.look-x'); x.value = 'tree\\nmin_leaf';
           x.dispatchEvent(new Event('change'))")
  until(page, "return document.getElementById('look-code').textContent.includes('from_to(2, 20')")
  expect_length(page$log("browser"), 0)
  expect_identical(asked_elsewhere(page, address), character())
})

test_that("a port that is in use is said so", {
  skip_if_not_installed("httpuv")
  view <- view_comparison(toy_comparison(), open = FALSE)
  withr::defer(view$stop())
  port <- as.integer(sub(".*:([0-9]+)/.*", "\\1", view$address))
  expect_error(view_comparison(toy_comparison(), port = port, open = FALSE),
    "port", class = "kw_error_view")
  expect_match(view$address, "^http://127[.]0[.]0[.]1:[0-9]+/[0-9a-f]{32}/$")
})
