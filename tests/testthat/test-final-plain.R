# What a model is in plain numbers and texts: read by a script of base R alone, and by another
# language.

plain_table <- function(n = 240) {
  withr::with_seed(5, {
    gaps <- function(x) replace(x, sample(n, 15), NA)
    table <- data.frame(
      a = gaps(round(stats::rnorm(n, 5), 2)), b = gaps(round(stats::rexp(n), 3)),
      `c d` = round(stats::rnorm(n), 2), kiln = gaps(sample(c("A", "B c", "it's", "D"), n, TRUE)),
      size = factor(sample(c("small", "middle", "large"), n, TRUE), c("small", "middle", "large"),
        ordered = TRUE),
      on = as.Date("2031-01-01") + sample(700, n, TRUE), check.names = FALSE
    )
    table$number <- exp(table[["c d"]] / 3 + (table$kiln %in% "A") + stats::rnorm(n) / 5)
    table$count <- stats::rpois(n, table$number)
    table$two <- ifelse(table$number > 1.5, "yes", "no")
    table$three <- ifelse(table$number > 2, "p", ifelse(table$number > 1, "q", "r"))
    table
  })
}

plain_briefs <- function() {
  table <- plain_table()
  left <- function(outcome) setdiff(c("number", "count", "two", "three"), outcome)
  list(
    number = brief(table, "number", ignore = left("number")),
    count = brief(table, "count", outcome_kind = "count", ignore = left("count")),
    two = brief(table, "two", event = "yes", ignore = left("two")),
    three = brief(table, "three", ignore = left("three")),
    ordered = brief(table, "three",
      ordered = list(three = c("r", "q", "p")), ignore = left("three")
    )
  )
}

plain_pipelines <- function(kind) {
  filled <- list(pre_missing(flag = TRUE), pre_rare_levels(at_least = 5))
  hot <- c(filled, list(pre_onehot()))
  all <- list(
    baseline = fam_baseline(), tree = fam_tree(pruning = 0.002, min_leaf = 3),
    linear = pipeline(pre_dates(), pre_outliers(), hot, pre_polynomial(columns = a), fam_linear()),
    penalised = pipeline(hot, pre_skew(), pre_interactions(columns = c(a, b)), pre_scale(),
      fam_penalised()),
    forest = pipeline(filled, pre_bins(columns = a), pre_ordinal(columns = size),
      fam_forest(trees = 7)),
    boosted = pipeline(pre_target_mean(columns = kiln), fam_boosted(trees = 15)),
    splines = pipeline(hot, pre_skew(by = "normal", columns = b),
      pre_components(columns = c(a, `c d`), number = 1), fam_adaptive_splines(degree = 2)),
    cumulative = pipeline(hot, pre_frequency(), fam_cumulative()),
    scaled = pipeline(pre_outcome_scale(by = "log"), hot, pre_drop_correlated(), fam_linear()),
    mended = pipeline(
      pre_recalibrate(by = "beta"), hot, pre_keep_top(top = 4), fam_forest(trees = 5)
    ),
    stepwise = pipeline(pre_recalibrate(by = "isotonic"), hot, fam_penalised()),
    platt = pipeline(pre_recalibrate(by = "platt"), hot, fam_tree())
  )
  wanted <- switch(kind,
    number = setdiff(names(all), c("cumulative", "mended", "stepwise", "platt")),
    count = c("baseline", "tree", "linear", "penalised", "boosted"),
    two = setdiff(names(all), c("cumulative", "scaled")),
    three = c("tree", "linear", "penalised", "forest", "boosted", "splines", "mended", "stepwise"),
    ordered = "cumulative"
  )
  all[wanted]
}

# New rows with gaps, and a level that no row had, read from their file as anyone would.
new_rows_file <- function(env = parent.frame()) {
  rows <- plain_table()[c(1:40, 3), 1:6]
  rows$kiln[1:2] <- c("never", NA)
  rows[["c d"]][3] <- NA
  file <- withr::local_tempfile(fileext = ".csv", .local_envir = env)
  data.table::fwrite(rows, file, quote = TRUE, na = "")
  file
}

numbers_in <- function(table) unname(Filter(is.numeric, as.list(table)))

test_that("scripts that only predict, and another language, predict what the model does", {
  file <- new_rows_file()
  new <- read_data(file)
  python <- Sys.which("python3")
  reader <- system.file("script", "read_model.py", package = "kilnwright", mustWork = TRUE)
  script <- withr::local_tempfile(fileext = ".R")
  saved <- withr::local_tempfile(fileext = ".kilnwright")
  for (kind in names(plain_briefs())) {
    job <- plain_briefs()[[kind]]
    rivals <- do.call(candidates, plain_pipelines(kind))
    cmp <- suppressWarnings(
      quiet_run(job, rivals, splits = split_holdout(0.3, draws = 1), seed = 1)
    )
    for (name in names(plain_pipelines(kind))) {
      model <- suppressWarnings(fit_final(select_final(cmp, "best_mean", candidate = name)))
      ours <- suppressWarnings(predict(model, new))
      write_script(model, script, new_data = file, only_predicts = TRUE)
      home <- new.env(parent = globalenv())
      sys.source(script, home)
      theirs <- home$predict_new(home$read_table(file))
      expect_equal(numbers_in(theirs), numbers_in(ours), tolerance = 1e-12, info = c(kind, name))
      expect_false(any(grepl("::", grep("^ *#", readLines(script), value = TRUE, invert = TRUE))))
      if (!nzchar(python)) next
      save_model(model, saved)
      read <- system2(python, shQuote(c(reader, saved, file)), stdout = TRUE)
      read <- utils::read.csv(text = read, check.names = FALSE)
      expect_equal(numbers_in(read), numbers_in(ours), tolerance = 1e-12, info = c(kind, name))
      if ("class" %in% names(ours)) expect_identical(read$class, as.character(ours$class))
    }
  }
  if (!nzchar(python)) skip("no python3: plain.json was not read by another language")
})

test_that("a blend and a threshold travel in plain form, and base R alone runs the script", {
  job <- plain_briefs()$two
  pair <- candidates(
    tree = fam_tree(), line = pipeline(pre_missing(), pre_onehot(), fam_penalised())
  )
  cmp <- quiet_run(job, pair, splits = split_kfold(5), seed = 1, keep = "all_predictions")
  choice <- select_final(blend(cmp, c("tree", "line"), by = "mean"), candidate = "blend")
  choice <- set_threshold(choice, best = "f1")
  model <- fit_final(choice)
  file <- new_rows_file()
  script <- withr::local_tempfile(fileext = ".R")
  write_script(model, script, new_data = file, only_predicts = TRUE)
  alone <- system2(file.path(R.home("bin"), "Rscript"), c("--vanilla", shQuote(script)),
    env = c("R_LIBS=", "R_LIBS_USER=", "R_LIBS_SITE="), stdout = TRUE, stderr = TRUE
  )
  expect_null(attr(alone, "status"), info = alone)
  made <- file.path(dirname(file), "predictions.csv")
  withr::defer(unlink(made))
  theirs <- utils::read.csv(made, check.names = FALSE)
  ours <- suppressWarnings(predict(model, read_data(file)))
  expect_equal(numbers_in(theirs), numbers_in(ours), tolerance = 1e-12)
  expect_identical(theirs$class, as.character(ours$class))
})

test_that("what has no plain form is said, in the file and by the script's error", {
  job <- plain_briefs()$two
  hot <- list(pre_missing(), pre_onehot())
  cases <- list(
    list(pipeline(hot, fam_neighbours()), "cannot predict without training rows", "fam_neighbours"),
    list(pipeline(pre_missing(fill = "nearest"), pre_onehot(), fam_linear()), "pre_missing",
      "pre_missing"),
    list(pipeline(hot, fam_naive_bayes()), "no plain form", "fam_naive_bayes")
  )
  script <- withr::local_tempfile(fileext = ".R")
  saved <- withr::local_tempfile(fileext = ".kilnwright")
  for (case in cases) {
    cmp <- quiet_run(job, candidates(a = case[[1]]), splits = split_kfold(3), seed = 1)
    model <- fit_final(select_final(cmp))
    expect_error(write_script(model, script, only_predicts = TRUE), case[[2]],
      class = "kw_error_select"
    )
    expect_false(file.exists(script))
    save_model(model, saved)
    folder <- withr::local_tempdir()
    zip::unzip(saved, exdir = folder)
    plain <- jsonlite::read_json(file.path(folder, "plain.json"))
    expect_false(plain$plain)
    expect_match(plain$why, case[[3]])
  }
  expect_error(write_script(model, script, only_predicts = "yes"), class = "kw_error_argument")
})
