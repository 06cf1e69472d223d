# Pages in a real browser.

page_of <- function(x, env = parent.frame()) {
  file <- withr::local_tempfile(fileext = ".html", .local_envir = env)
  write_report(x, file, explain = FALSE)
  paste0("file://", file)
}

pots_comparison <- function() {
  quiet_run(toy_brief(), candidates(
    tree = fam_tree(pruning = among(0.001, 0.01, 0.05), min_leaf = among(2, 10, 30)),
    line = fam_linear(), baseline = fam_baseline()
  ), splits = split_kfold(4), seed = 2, workers = 1)
}

test_that("settings are sorted, searched, filtered, marked and hovered over in a browser", {
  skip_if_not(has_browser(), "chromium and chromedriver")
  cmp <- pots_comparison()
  table <- standings(cmp)
  address <- page_of(cmp)
  page <- open_browser(address)
  until(page, "return document.querySelectorAll('#look .tabulator-row').length > 3")
  said <- function() page$do("return document.querySelector('.look-said').textContent")
  first <- function(field) {
    page$do(paste0(
      "return document.querySelector('#look .tabulator-row [tabulator-field=", field,
      "]').textContent"
    ))
  }
  expect_identical(said(), "11 of 11 settings")
  # what stands there without scripts has gone
  plain <- "return getComputedStyle(document.querySelector('.replaced')).display"
  expect_identical(page$do(plain), "none")
  expect_identical(trimws(first("place")), "1")
  expect_match(first("candidate"), table$candidate[1])

  # of AUC the lowest come first
  page$point("#look [tabulator-field=mean] .tabulator-col-title", press = TRUE)
  expect_identical(trimws(first("place")), as.character(max(table$place)))

  page$keys(".look-search", "min_leaf = 10")
  until(page, "return document.querySelector('.look-said').textContent == '3 of 11 settings'")
  page$do("const s = document.querySelector('.look-search'); s.value = '';
           s.dispatchEvent(new Event('input'))")
  page$point(".look-short", press = TRUE)
  close <- sum(!shortlist(cmp, all = TRUE)$answer %in% "better")
  until(page, paste0(
    "return document.querySelector('.look-said').textContent.startsWith('", close, " of')"
  ))
  page$point(".look-short", press = TRUE)

  # without a candidate neither its rows nor its points are there
  page$point(".look-candidates label:nth-child(1) input", press = TRUE)
  until(page, "return look.scores.getOption().series[0].data.length == 0")
  page$point(".look-candidates label:nth-child(1) input", press = TRUE)
  until(page, "return look.scores.getOption().series[0].data.length > 0")

  # a row marks its setting in both figures, by key as by mouse
  lines <- "return look.splits.getOption().series.length"
  before <- page$do(lines)
  page$do("document.querySelector('#look .tabulator-row:not(.look-marked)').focus()")
  page$keys("#look .tabulator-row:not(.look-marked)", "\ue007")
  until(page, paste0(lines, " == ", before + 1))
  drawn <- page$do("return look.splits.getOption().series[0].data")
  at <- match(table$candidate[1], table$candidate)
  mine <- scores_by_split(cmp)
  mine <- mine[
    mine$candidate == table$candidate[at] & mine$setting == table$setting[at] &
      mine$metric == table$metric[1],
  ]
  expect_equal(unlist(drawn), mine$validation, tolerance = 1e-5)

  # hovering over the leader says what it is; zooming in and back
  at <- page$do("const best = look.state.facts.settings.mean[0];
    const p = look.scores.convertToPixel({gridIndex: 0}, [1, best]);
    const b = document.querySelector('.look-scores').getBoundingClientRect();
    return [p[0] - b.width / 2, p[1] - b.height / 2]")
  page$do("document.querySelector('.look-scores').scrollIntoView({block: 'center'})")
  page$point(".look-scores", x = round(at[[1]]), y = round(at[[2]]))
  until(page, "return document.querySelector('.look-scores').textContent.includes('place 1')")
  page$do("look.scores.dispatchAction({type: 'dataZoom', start: 0, end: 30})")
  expect_equal(page$do("return look.scores.getOption().dataZoom[0].end"), 30)
  page$do("look.scores.dispatchAction({type: 'restore'})")
  expect_equal(page$do("return look.scores.getOption().dataZoom[0].end"), 100)

  # every hyperparameter can be the axis
  page$do("const x = document.querySelector('.look-x'); x.value = 'tree\\nmin_leaf';
           x.dispatchEvent(new Event('change'))")
  expect_identical(page$do("return look.scores.getOption().xAxis[0].name"), "min_leaf")

  # where a search went: the later a setting was proposed, the darker
  page$point(".look-when", press = TRUE)
  drawn <- page$do("
    const {facts, marked} = look.state;
    return look.scores.getOption().series[0].data.map(d =>
      [facts.settings.proposed[d.row], d.itemStyle.opacity, marked.has(d.row)])")
  drawn <- Filter(function(d) !d[[3]], drawn)
  order <- order(vapply(drawn, function(d) as.numeric(d[[1]]), 0))
  shades <- vapply(drawn, function(d) as.numeric(d[[2]]), 0)
  expect_false(is.unsorted(shades[order], strictly = TRUE))
  expect_length(page$log("browser"), 0)
  expect_identical(asked_elsewhere(page, address), character())
})

test_that("hostile names are shown as text, and nothing of theirs is run", {
  skip_if_not(has_browser(), "chromium and chromedriver")
  n <- 60
  table <- withr::with_seed(3, data.frame(a = rnorm(n), b = rnorm(n), y = rnorm(n)))
  bad <- "<img src=x onerror=\"window.planted=1\"></script><script>window.planted=2</script>"
  names(table)[3] <- bad
  rivals <- list(fam_tree(pruning = among(0.01, 0.1)), fam_baseline())
  names(rivals) <- c(bad, "'\"&<b>")
  cmp <- quiet_run(brief(table, bad), do.call(candidates, rivals),
    splits = split_kfold(3), seed = 1, workers = 1
  )
  address <- page_of(cmp)
  page <- open_browser(address, width = 400)
  until(page, "return document.querySelectorAll('#look .tabulator-row').length == 3")
  expect_null(page$do("return window.planted"))
  expect_match(page$do("return document.querySelector('#look').textContent"), bad, fixed = TRUE)
  page$point("#look .tabulator-row:last-child .tabulator-cell", press = TRUE)
  expect_null(page$do("return window.planted"))
  # on a narrow screen nothing is wider than it
  wide <- page$do("return [...document.querySelectorAll('body *')].filter(e =>
    e.getBoundingClientRect().right > innerWidth + 1 &&
    !e.closest('.wide,.look-table,.look-chart,figure,pre'))
    .map(e => e.tagName + '.' + e.className)")
  expect_identical(wide, list())
  expect_length(page$log("browser"), 0)
  expect_identical(asked_elsewhere(page, address), character())
})

test_that("one setting, one split and nothing ranked make a page as well", {
  one <- quiet_run(toy_brief(), candidates(b = fam_baseline()),
    splits = split_holdout(0.3, draws = 1), seed = 1, workers = 1
  )
  facts <- kw("page_facts")(one)
  again <- jsonlite::fromJSON(kw("page_json")(facts), simplifyVector = FALSE)
  expect_length(again$settings$mean, 1)
  expect_length(again$settings$scores[[1]], 1)
  expect_length(again$splits, 1)
})

test_that("of very many settings a page has the best, the chosen, and every so many others", {
  cmp <- quiet_run(toy_brief("number"), candidates(line = fam_penalised(
    penalty = from_to(1e-4, 10, "log", points = 400)
  )), splits = split_kfold(3), seed = 2, workers = 1)
  whole <- kw("page_facts")(cmp)
  expect_identical(length(whole$settings$place), 400L)
  last <- match(standings(cmp)$setting[399], cmp$results$row)
  some <- kw("page_facts")(cmp, at = last, most = 50)
  places <- whole$settings$proposed
  shown <- match(some$settings$proposed, places)
  expect_identical(shown, as.integer(sort(c(1:30, seq(49, 400, 19), 399))))
  expect_identical(unclass(some$settings$proposed)[some$marked + 1L], last)
  expect_identical(some$settings$mean_text, whole$settings$mean_text[shown])
  expect_identical(c(some$best, some$step, some$all), c(30L, 19L, 400L))
})
