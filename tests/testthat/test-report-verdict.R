# Without pictures; of a model, a choice's comparison or a comparison alone.
first_screen <- function(x) {
  choice <- x$origin$choice
  cmp <- if (is.null(choice)) x else choice$cmp
  html <- as.character(kw("report_verdict")(cmp, choice, if (!is.null(choice)) x)$body)
  gsub("src=\"[^\"]*\"", "", html)
}

test_that("the verdict stands first: choice, worth, set-aside score, reason, worries", {
  local_nothing_opened()
  job <- set_aside(pots_brief(), share = 0.25, seed = 7193)
  cmp <- quiet_run(job, candidates(
    baseline = fam_baseline(), tree = fam_tree(pruning = among(0.005, 0.02, 0.05))
  ), splits = split_kfold(5), metrics = "auc", seed = 2)
  choice <- select_final(cmp)
  model <- fit_final(choice)
  score_set_aside(model, job, draws = 50)
  screen <- first_screen(model)
  aside <- model$origin$set_aside
  expect_match(screen, "tree (pruning", fixed = TRUE)
  expect_match(screen, "on rows that nothing had seen its AUC is")
  expect_match(screen, kw("round_to")(aside$set_aside, (aside$high - aside$low) / 4), fixed = TRUE)
  expect_match(screen, "Rule one_se")
  expect_match(screen, "cannot be told apart|worse for sure|practically the same")
  expect_match(screen, "What to worry about")
  expect_lte(lengths(regmatches(screen, gregexpr("<li>", screen))), 3L)
  moved <- fit_final(set_threshold(choice, best = "f1"))
  expect_match(first_screen(moved), "is called from a probability of")
  suppressWarnings(score_set_aside(model, job, draws = 50))
  expect_match(first_screen(model), "were opened 2 times")
})

test_that("a comparison without a choice, with one split or without a ranked setting has one too", {
  plan <- function(splits, ...) {
    plan_comparison(toy_brief(), candidates(...), splits = splits, metrics = "log_loss", seed = 1)
  }
  open <- first_screen(quiet_run(plan(split_kfold(3), base = fam_baseline())))
  expect_match(open, "What its rule would choose")
  one <- first_screen(quiet_run(plan(split_holdout(0.3, draws = 1), base = fam_baseline())))
  expect_match(one, "one split only")
  expect_match(one, "Rule best_mean")
})

test_that("the figure has the numbers of choice, honest score, set-aside rows and rivals", {
  cmp <- quiet_run(toy_brief("number"), candidates(
    base = fam_baseline(), linear = fam_linear(), tree = fam_tree(), near = fam_neighbours()
  ), splits = split_kfold(5), metrics = "rmse", seed = 4)
  choice <- select_final(cmp)
  data <- kw("verdict_data")(choice, cmp$plan$metrics$rmse, NULL, 2)
  honest <- honest_score(choice)
  expect_equal(data$rows$score[1:2], c(choice$mean, honest$score))
  interval <- unlist(data$rows[2, c("low", "high")], use.names = FALSE)
  expect_equal(interval, c(honest$low, honest$high))
  others <- as.character(data$rows$line[-(1:2)])
  expect_length(others, 2L)
  expect_true("base" %in% others)
  table <- standings(cmp)
  expect_equal(data$rows$score[-(1:2)], table$mean[match(others, table$candidate)])
  expect_identical(sum(data$splits$line == "base"), 5L)
  built <- ggplot2::ggplot_build(draw_verdict(choice))
  expect_identical(built$layout$panel_params[[1]]$y$get_labels(),
    c("worth on new rows", "mean over the splits"))
  expect_error(draw_verdict(cmp), class = "kw_error_argument")
})

test_that("names that are code stay text", {
  table <- toy()
  names(table)[names(table) == "two"] <- "<b>\"x\"</b>"
  job <- brief(table, "<b>\"x\"</b>", event = "yes", ignore = c("number", "three"))
  cmp <- quiet_run(job, candidates(`<i>t</i>` = fam_tree(), base = fam_baseline()),
    splits = split_kfold(3), metrics = "log_loss", seed = 1
  )
  file <- withr::local_tempfile(fileext = ".html")
  write_report(fit_final(select_final(cmp)), file, explain = FALSE)
  page <- paste(readLines(file, warn = FALSE), collapse = "\n")
  for (code in c("<b>\"x\"", "<i>t</i>")) expect_no_match(page, code, fixed = TRUE)
  at <- regexpr("<section id=\"verdict\">", page, fixed = TRUE)
  verdict <- strsplit(substring(page, at), "</section>", fixed = TRUE)[[1]][1]
  expect_match(verdict, "&lt;i&gt;t&lt;/i&gt;|&lt;b&gt;")
  expect_lt(at, regexpr("id=\"question\"", page, fixed = TRUE))
})

test_that("a report fits anew what it shows once at most, and not if predictions were kept", {
  skip_if_not_installed("htmltools")
  local_no_pictures()
  fits <- withr::local_tempfile()
  fam_noted <- define_family("noted", "two_class",
    fit = function(x, y, weights, settings, seed, threads) {
      cat("fit\n", file = settings$file, append = TRUE)
      stats::glm.fit(cbind(1, x[, "x1"]), as.integer(y) - 1, family = stats::binomial())
    },
    predict = function(model, x) {
      p <- stats::plogis(drop(cbind(1, x[, "x1"]) %*% model$coefficients))
      cbind(1 - p, p)
    },
    defaults = list(file = "")
  )
  fits_of_report <- function(keep) {
    cmp <- quiet_run(toy_brief(table = toy(80)), candidates(
      base = fam_baseline(), noted = pipeline(pre_drop(columns = "colour"), fam_noted(file = fits))
    ), splits = split_kfold(4), seed = 1, keep = keep, workers = 1)
    model <- fit_final(select_final(cmp, "best_mean"))
    unlink(fits)
    write_report(model, withr::local_tempfile(fileext = ".html"))
    length(lines_so_far(fits))
  }
  expect_identical(fits_of_report("none") - fits_of_report("all_predictions"), 4L)
})

test_that("what was tried is what was done, also where a search proposed it as it went", {
  cmp <- quiet_run(toy_brief(table = toy(80)), candidates(
    base = fam_baseline(), tree = fam_tree(depth = among(2:4)),
    near = fam_neighbours(neighbours = among(1:5), weighting = among("equal", "inverse"))
  ), splits = split_kfold(3), search = search_guided(8), seed = 1, workers = 1)
  file <- withr::local_tempfile(fileext = ".html")
  local_no_pictures()
  write_report(cmp, file)
  page <- paste(readLines(file, warn = FALSE), collapse = "\n")
  part <- strsplit(sub(".*<section id=\"tried\">", "", page), "</section>", fixed = TRUE)[[1]][1]
  tried <- strsplit(sub("</table>.*", "", part), "<tr>", fixed = TRUE)[[1]][-(1:2)]
  tried <- lapply(strsplit(gsub("<[^>]*>", "|", tried), "[|\n ]+"), function(row) row[nzchar(row)])
  expect_identical(vapply(tried, `[`, "", 1), c("base", "tree", "near"))
  expect_identical(as.integer(vapply(tried, `[`, "", 2)), tabulate(cmp$results$candidate))
  fits <- as.integer(vapply(tried, `[`, "", 3))
  expect_true(all(fits >= 3))
  expect_identical(sum(fits), length(cmp$ledger$fit))
  weighted <- length(unique(cmp$results$tables$near$weighting))
  expect_match(part, paste0("weighting (", weighted, ")"), fixed = TRUE)
})
