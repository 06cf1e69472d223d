# Scripts hold names and values of any kind, and run nothing but themselves.

test_that("a script of hostile names and levels is ASCII, parses, and predicts alike", {
  made <- 0
  for (seed in 1:30) {
    job <- hostile_brief(seed)
    if (is.null(job)) next
    model <- hostile_model(job$brief)
    file <- withr::local_tempfile(fileext = ".R")
    write_script(model, file, data = names(job$table)[1], new_data = "nowhere")
    expect_false(any(grepl("[^ -~\t]", readLines(file))))
    scripted <- run_script(file, job$table)$predict_new(job$table)
    ours <- as.data.frame(predict(model, job$table))
    numbers <- function(x) unname(Filter(is.numeric, as.list(x)))
    expect_equal(numbers(scripted), numbers(ours), tolerance = 1e-10)
    made <- made + 1
  }
  expect_gt(made, 20)
})

test_that("scripts read separators, quotes and missing values as the package does", {
  # kept with two spaces: a level that looks like a missing value, blanks, doubled quotes
  cells <- c("NA in quotes" = "\"NA\"", plain = "b", quoted = "\"say \"\"hi\"\"\"", none = "")
  read <- function(file) {
    home <- new.env()
    home$schema <- list(k = list(kind = "category"), t = list(kind = "category"))
    home$outcome <- "y"
    home$levels <- NULL
    for (expr in parse(system.file("script", "read-table.R", package = "kilnwright"))) {
      eval(expr, home)
    }
    home$read_table(file)
  }
  for (between in c(",", ";", "\t")) {
    file <- withr::local_tempfile(fileext = ".csv")
    lines <- c(
      paste("k", "\"t\"", "y", sep = between),
      paste(cells, "\"two, words\"", c("1", "2.5", "", "NA"), sep = between),
      paste("  a  ", "\"x,y;z\"", "7", sep = between)
    )
    writeLines(lines, file, sep = "\r\n")
    ours <- as.data.frame(read_data(file))
    theirs <- read(file)
    expect_identical(theirs$k, ours$k, info = between)
    expect_identical(theirs$t, ours$t, info = between)
    expect_equal(theirs$y, ours$y, info = between)
  }
})

# Numbers, levels, dates and points in time with gaps, words, and names that steps would like.
odd_table <- function(n = 150) {
  withr::with_seed(3, {
    gaps <- function(x) replace(x, sample(n, 12), NA)
    table <- data.frame(
      a = gaps(round(stats::rnorm(n, 5), 2)), b = gaps(round(stats::rexp(n), 3)),
      flat = rep(1, n), kiln = gaps(sample(c("A", "B c", "D"), n, TRUE)), kiln_A = stats::rnorm(n),
      a_power2 = stats::rnorm(n), component1 = stats::rnorm(n),
      on = gaps(as.Date("2031-01-01") + sample(300, n, TRUE)),
      at = gaps(as.POSIXct("2031-01-01", tz = "UTC") + sample(3e7, n)),
      says = sample(c("hot shelf", "slow cooling", "thin shelf", ""), n, TRUE),
      w = round(stats::runif(n, 0.2, 3), 2)
    )
    table$says_shelf <- stats::rnorm(n)
    table$y <- round(exp(ifelse(is.na(table$a), 5, table$a) / 3 + stats::rnorm(n) / 4), 3)
    table$grade <- c("low", "mid", "top")[cut(table$y, c(0, 4, 7, Inf))]
    table
  })
}

test_that("scripts say what rests on weights, rarer settings, points in time and taken names", {
  table <- odd_table()
  ready <- list(pre_missing(), pre_dates())
  pipelines <- list(
    weighted = pipeline(
      pre_missing("nearest", flag = TRUE), pre_dates(), pre_outliers(), pre_skew("box_cox"),
      pre_rare_levels(0.2), pre_target_mean(), pre_text(top = 3), pre_scale(), fam_linear()
    ),
    turned = pipeline(
      pre_missing("model"), pre_dates(cyclic = TRUE), pre_ordinal(by = "frequency"),
      pre_splines(columns = c("b", "flat")), pre_bins("tree", columns = "a"), pre_scale("iqr"),
      pre_components(number = 3, columns = c("kiln_A", "a_power2", "component1")),
      fam_tree()
    ),
    taken = pipeline(
      ready, pre_polynomial(columns = c("a", "b")), pre_interactions(columns = c("a", "b")),
      pre_onehot(), pre_text(top = 3), pre_drop_constant(), pre_keep_top(8, by = "information"),
      fam_tree()
    ),
    normal = pipeline(
      ready, pre_skew("normal", columns = c("a", "b")), pre_ordinal(by = "outcome"),
      pre_outcome_scale("yeo_johnson"), fam_tree()
    ),
    made_up = pipeline(ready, pre_balance("synthetic"), pre_target_mean(), fam_tree()),
    stopped = pipeline(
      ready, pre_onehot(), fam_neural(epochs = 30, package = "nnet", early_stop = TRUE)
    )
  )
  for (weight in list(NULL, "w")) for (name in names(pipelines)) {
    classes <- name == "made_up"
    job <- brief(table, if (classes) "grade" else "y",
      ignore = c(if (classes) "y" else "grade", setdiff("w", weight)), weight = weight
    )
    cmp <- quiet_run(job, candidates(one = pipelines[[name]]),
      splits = split_holdout(0.3, draws = 1), seed = 4, workers = 1
    )
    model <- fit_final(select_final(cmp, "best_mean"))
    file <- withr::local_tempfile(fileext = ".R")
    write_script(model, file)
    texts <- as.data.frame(lapply(table, as.character), check.names = FALSE)
    scripted <- run_script(file, texts)$predict_new(texts)
    numbers <- function(x) unname(unlist(Filter(is.numeric, as.list(x))))
    expect_equal(numbers(scripted), numbers(predict(model, table)),
      tolerance = 1e-10, info = paste(name, weight)
    )
    expect_lt(length(readLines(file)), 420)
  }
})

test_that("scripts of the ledger's usual pipelines have at most a hundred lines of code", {
  pots <- demo_pots()
  job <- brief(pots,
    outcome = "cracked", event = "yes", id = "pot_id", group = "firing_id",
    ignore = c("shrinkage_pct", "grade"), missing_codes = list(glaze = "n/r", drying_days = -999),
    ordered = list(shelf = c("bottom", "lower", "middle", "upper", "top"))
  ) |> set_aside(share = 0.2, seed = 7)
  ready <- function(...) pipeline(pre_missing(), pre_rare_levels(at_least = 20), pre_onehot(), ...)
  cmp <- quiet_run(job, candidates(
    penalised = ready(pre_scale(), fam_penalised(penalty = among(0.1, 0.02))),
    tree = pipeline(pre_missing(), fam_tree()), forest = ready(fam_forest(trees = 20))
  ), splits = split_holdout(0.3, draws = 1), seed = 4, workers = 1)
  texts <- as.data.frame(lapply(pots, as.character))
  for (name in c("penalised", "tree", "forest")) {
    model <- fit_final(select_final(cmp, "best_mean", candidate = name))
    file <- withr::local_tempfile(fileext = ".R")
    write_script(model, file)
    code <- grep("^\\s*(#|$)", readLines(file), value = TRUE, invert = TRUE)
    expect_gte(length(code), 30)
    expect_lte(length(code), 100)
    scripted <- run_script(file, texts)$predict_new(texts)
    expect_equal(scripted$p_yes, predict(model, pots)$p_yes, tolerance = 1e-10, info = name)
  }
})
