# What is handed over: scripts, cards, reports, predictions, set-aside intervals.

every_family <- function(kind) {
  all <- switch(kind,
    number = list(
      baseline = fam_baseline(), linear = fam_linear(),
      penalised = fam_penalised(penalty = among(0.01, 0.1)),
      neighbours = fam_neighbours(neighbours = 5),
      tree = fam_tree(), rules = fam_rules(), forest = fam_forest(trees = 30),
      boosted = fam_boosted(trees = 30), vectors = fam_support_vectors(),
      bends = fam_adaptive_splines(), neural = fam_neural(epochs = 5)
    ),
    two_class = list(
      linear = fam_linear(), penalised = fam_penalised(penalty = among(0.01, 0.1)),
      discriminant = fam_discriminant(), bayes = fam_naive_bayes(),
      neural = fam_neural(epochs = 5),
      counts = pipeline(
        pre_missing(),
        pre_drop(columns = c("x1", "x3", "colour")),
        fam_count_bayes()
      ),
      neighbours = fam_neighbours(neighbours = 5, weighting = "inverse"),
      tree = fam_tree(), rules = fam_rules(), forest = fam_forest(trees = 30),
      boosted = fam_boosted(trees = 30), vectors = fam_support_vectors(),
      bends = fam_adaptive_splines()
    ),
    many_class = list(
      tree = fam_tree(), penalised = fam_penalised(penalty = 0.05),
      boosted = fam_boosted(trees = 20), vectors = fam_support_vectors(),
      discriminant = fam_discriminant(shape = "regularised"), linear = fam_linear()
    )
  )
  Filter(function(family) {
    if (inherits(family, "kw_pipeline")) family <- family$family
    packages <- kw("family_packages")(family$definition, family$settings, kind)
    all(vapply(packages, requireNamespace, logical(1), quietly = TRUE))
  }, all)
}

# Runs scripts in a process without this package; returns what each predicts.
run_scripts <- function(scripts, new) {
  driver <- withr::local_tempfile(fileext = ".R")
  out <- withr::local_tempfile(fileext = ".rds")
  writeLines(c(
    paste0("scripts <- ", paste(deparse(scripts), collapse = "")),
    paste0("new <- utils::read.csv('", new, "', check.names = FALSE)"),
    paste(
      "found <- lapply(scripts, function(script) { home <- new.env(parent = globalenv());",
      "sys.source(script, home); home$predict_new(new) })"
    ),
    "stopifnot(!'kilnwright' %in% loadedNamespaces())", paste0("saveRDS(found, '", out, "')")
  ), driver)
  said <- system2(file.path(R.home("bin"), "Rscript"), driver, stdout = TRUE, stderr = TRUE)
  if (!file.exists(out)) stop(paste(said, collapse = "\n"))
  readRDS(out)
}

test_that("the written script repeats every family's predictions to 1e-10 without the package", {
  table <- toy(120, missing = TRUE)
  data <- withr::local_tempfile(fileext = ".csv")
  new <- withr::local_tempfile(fileext = ".csv")
  write.csv(table, data, row.names = FALSE)
  write.csv(toy(30, seed = 9, missing = TRUE), new, row.names = FALSE)
  for (kind in names(outcomes)) {
    families <- every_family(kind)
    job <- toy_brief(kind, read.csv(data)) |> set_aside(share = 0.2, seed = 1)
    cmp <- quiet_run(
      job,
      do.call(candidates, families),
      splits = split_holdout(0.3, draws = 1),
      seed = 5,
      workers = 1
    )
    models <- lapply(names(families), function(name) {
      fit_final(select_final(cmp, "best_mean", candidate = name))
    })
    scripts <- vapply(models, function(model) {
      file <- withr::local_tempfile(fileext = ".R", .local_envir = parent.frame(2))
      write_script(model, file, data = data)
      file
    }, "")
    found <- run_scripts(scripts, new)
    for (i in seq_along(models)) {
      expect_lt(length(readLines(scripts[i])), 180)
      ours <- predict(models[[i]], read.csv(new))
      numbers <- setdiff(names(ours), "class")
      expect_equal(
        as.matrix(found[[i]][numbers]),
        as.matrix(ours[numbers]),
        tolerance = 1e-10,
        ignore_attr = TRUE,
        info = paste(kind, names(families)[i])
      )
      if ("class" %in% names(ours)) {
        expect_identical(as.character(found[[i]]$class), as.character(ours$class))
      }
    }
  }
})

# Pipelines with every shipped step among them.
step_cases <- function() {
  derive <- pre_derive(slim = height_mm / foot_mm, odd = log(wall_mm - 6))
  double <- pre_custom(function(columns, state) columns * state,
    learn = function(columns, outcome) nrow(columns), columns = "foot_mm")
  rank <- define_step("rank",
    learn = function(frame, target, settings, seed) {
      list(state = lapply(frame$columns[settings$columns], sort), training = NULL)
    },
    use = function(state, frame) {
      for (name in names(state)) {
        frame$columns[[name]] <- findInterval(frame$columns[[name]], state[[name]])
      }
      frame
    }, columns = "number"
  )
  list(
    text = pipeline(
      pre_text(top = 20), pre_dates(), pre_missing(fill = "nearest"), pre_rare_levels(20),
      pre_target_mean(columns = "glaze"), pre_onehot(), pre_scale(),
      fam_penalised(penalty = 0.01)
    ),
    phrases = pipeline(
      pre_text(phrases = 1:2, top = 30, count_as = "tfidf", drop_common = FALSE),
      pre_missing("mode", flag = TRUE), pre_dates("elapsed"), pre_onehot(drop_one = TRUE),
      pre_scale("iqr"), pre_drop_constant(0.9), fam_penalised(penalty = 0.01)
    ),
    bend = pipeline(
      pre_drop(columns = "notes"), derive, pre_missing(), pre_outliers(), pre_skew(),
      pre_onehot(), pre_splines(columns = "wall_mm"), pre_interactions(columns = c("odd", "slim")),
      pre_balance(), pre_components(), fam_linear()
    ),
    levels = pipeline(
      pre_missing(fill = "model"), pre_bins(columns = "ramp_c_per_h"),
      pre_frequency(columns = "kiln"), pre_hash(buckets = 8, columns = "glaze"),
      pre_ordinal(order = list(shelf = c("top", "upper", "middle", "lower", "bottom")),
        columns = "shelf"), pre_onehot(), pre_drop_constant(), pre_drop_correlated(),
      pre_keep_top(10), fam_tree()
    ),
    own = pipeline(
      pre_missing("mean"), double, rank(), pre_polynomial(columns = "wall_mm"),
      pre_skew("log", columns = "weight_g"), pre_outliers("quantile"), pre_balance("repeat"),
      pre_onehot(), pre_scale("range"), pre_keep_top(0.5, by = "importance"), fam_linear()
    )
  )
}

test_that("a script says every step in lines that a person reads, and predicts alike", {
  pots <- demo_pots()
  pots <- pots[pots$firing_id %in% unique(pots$firing_id)[1:50], ]
  data <- withr::local_tempfile(fileext = ".csv")
  write.csv(pots, data, row.names = FALSE)
  job <- brief(pots, "cracked",
    event = "yes", id = "pot_id", group = "firing_id", ignore = c("shrinkage_pct", "grade"),
    missing_codes = list(glaze = "n/r", drying_days = -999)
  ) |> set_aside(share = 0.2, seed = 7)
  steps <- step_cases()
  # the scale of an outcome is for numbers, recalibration has tests of its own
  used <- unlist(lapply(steps, function(one) {
    vapply(one$steps, function(node) node$part$definition$name, "")
  }))
  expect_setequal(
    c(used, "minimal", "outcome_scale", "recalibrate"),
    c(names(kw("shipped_members")("step")), "rank")
  )
  cmp <- quiet_run(job, do.call(candidates, steps),
    splits = split_holdout(0.3, draws = 1), metrics = "log_loss", seed = 5, workers = 1
  )
  expect_identical(nrow(failures(cmp)), 0L)
  models <- lapply(names(steps), function(name) {
    fit_final(select_final(cmp, "best_mean", candidate = name))
  })
  scripts <- file.path(withr::local_tempdir(), paste0(names(steps), ".R"))
  for (i in seq_along(steps)) write_script(models[[i]], scripts[i], data = data)
  found <- run_scripts(scripts, data)
  for (i in seq_along(steps)) {
    lines <- readLines(scripts[i])
    # named in the head alone, among the versions
    code <- grep("^#", lines, value = TRUE, invert = TRUE)
    expect_false(any(grepl("kilnwright|kw_", code)), info = names(steps)[i])
    expect_lt(length(lines), 340)
    # what one part keeps, no other takes the name of
    kept <- grep("^[a-z_0-9]+ <- ", lines, value = TRUE)
    kept <- setdiff(sub(" <-.*", "", kept), c("x", "y", "table", "class_rows"))
    expect_identical(kept[duplicated(kept)], character(), info = names(steps)[i])
    expect_equal(found[[i]]$p_yes, predict(models[[i]], pots)$p_yes,
      tolerance = 1e-10, info = names(steps)[i]
    )
  }
})

test_that("steps of one's own that change rows leave with a script, weights and groups right", {
  twice <- define_step("twice",
    learn = function(frame, target, settings, seed) {
      columns <- rbind(frame$columns, frame$columns)
      for (part in c("outcome", "weights", "group", "source_row")) {
        if (!is.null(target[[part]])) target[[part]] <- rep(target[[part]], 2)
      }
      list(state = NULL, training = list(
        frame = list(columns = columns, sparse = NULL, n = nrow(columns)), target = target
      ))
    },
    use = function(state, frame) frame, changes_rows = TRUE
  )
  weigh <- define_step("weigh",
    learn = function(frame, target, settings, seed) {
      rows <- length(target$outcome) + length(target$group)
      list(state = rows + sum(target$weights), training = NULL)
    },
    use = function(state, frame) {
      frame$columns$x1 <- frame$columns$x1 * state
      frame
    }
  )
  table <- transform(toy(90), w = rep(1:3, 30))
  for (role in c("none", "group", "weight")) {
    job <- brief(table, "number",
      ignore = c("two", "three", if (role != "group") "batch", if (role != "weight") "w"),
      group = if (role == "group") "batch", weight = if (role == "weight") "w"
    )
    cmp <- quiet_run(job, candidates(
      first = pipeline(weigh(), twice(), fam_tree()), last = pipeline(twice(), weigh(), fam_tree())
    ), splits = split_holdout(0.3, draws = 1), seed = 1, workers = 1)
    for (name in c("first", "last")) {
      model <- fit_final(select_final(cmp, "best_mean", candidate = name))
      file <- withr::local_tempfile(fileext = ".R")
      write_script(model, file)
      expect_equal(run_script(file, table)$predict_new(table)$value, predict(model, table)$value,
        tolerance = 1e-10, info = paste(role, name)
      )
    }
  }
})

handed_over <- function() {
  if (is.null(store$model)) {
    pots <- demo_pots()
    pots$glaze[3] <- "<b>loud</b>"
    job <- brief(
      pots,
      "cracked",
      event = "yes",
      id = "pot_id",
      group = "firing_id",
      ignore = c("shrinkage_pct", "grade", "notes")
    ) |>
      set_aside(share = 0.2, seed = 11)
    cmp <- quiet_run(
      job,
      candidates(
        baseline = fam_baseline(),
        "tree <i>" = fam_tree(pruning = among(0.001, 0.01), min_leaf = among(5, 20))
      ),
      splits = split_kfold(5),
      seed = 2,
      workers = 1
    )
    store$model <- fit_final(select_final(cmp, "best_mean"))
    store$opened <- score_set_aside(store$model)
  }
  store$model
}

test_that("set-aside intervals cover the score and keep groups whole", {
  model <- handed_over()
  opened <- store$opened
  expect_true(all(opened$low <= opened$set_aside & opened$set_aside <= opened$high))
  # by rows alone the interval of rows that are all alike within groups would be too narrow
  target <- kw("new_target")(rep(c(0, 1), each = 50), NULL, rep(1:4, each = 25))
  score <- function(at) mean(target$outcome[at])
  by_group <- kw("bootstrap_interval")(score, target, 400, 1)
  by_row <- kw("bootstrap_interval")(score, kw("new_target")(target$outcome, NULL, NULL), 400, 1)
  expect_gt(diff(by_group[, 1]), 2 * diff(by_row[, 1]))
})

test_that(
  "the report is one file in reading order, with everything escaped and nothing from outside",
  {
    model <- handed_over()
    file <- withr::local_tempfile(fileext = ".html")
    write_report(model, file)
    page <- paste(readLines(file, warn = FALSE), collapse = "\n")
    titles <- regmatches(page, gregexpr("<h2>[^<]+", page, perl = TRUE))[[1]]
    expect_identical(
      sub("<h2>", "", titles),
      c(
        "Question and data", "What was tried, and what it cost", "Standings and ties",
        "Spread by split", "Scores against hyperparameters",
        "The choice, and why", "An honest estimate",
        "Rows set aside", "What the model looks at",
        "Failures", "How to repeat it"
      )
    )
    expect_false(grepl("tree <i>", page, fixed = TRUE))
    expect_true(grepl("tree &lt;i&gt;", page, fixed = TRUE))
    expect_false(grepl("(src|href)=\"(http|//)", page, perl = TRUE))
    expect_false(grepl("not drawn", page, fixed = TRUE))
    expect_gt(length(gregexpr("data:image/png;base64", page, fixed = TRUE)[[1]]), 8)
    local_no_pictures()
    expect_identical(write_report(model$origin$choice$cmp, file), file)
    expect_error(write_report(model, "/nowhere/report.html"), class = "kw_error")
  }
)

test_that("the card says what the model is, and a model from a file says what it cannot do", {
  model <- handed_over()
  card <- withr::local_tempfile(fileext = ".md")
  write_card(model, card)
  text <- paste(readLines(card), collapse = "\n")
  for (said in c(
    "# Model card: cracked", "tree \\\\<i\\\\>", "opened once",
    "## Columns that it needs", "| wall\\_mm | number |"
  )) {
    expect_match(text, said, fixed = said != "tree \\\\<i\\\\>")
  }
  saved <- withr::local_tempfile(fileext = ".kilnwright")
  save_model(model, saved)
  again <- open_model(saved, trust = TRUE)
  write_card(again, card)
  expect_match(paste(readLines(card), collapse = "\n"), "Opened once")
  for (call in list(write_report, write_script)) {
    expect_error(call(again, withr::local_tempfile()), "opened from a file", class = "kw_error")
  }
  expect_error(column_effect(again, "wall_mm"), "from a file", class = "kw_error_select")
  again$facts$versions$packages[["kilnwright"]] <- "0.0.1"
  again$family$model <- "nonsense"
  expect_error(predict(again, demo_pots()[1:2, ]), "fitted with 0.0.1", class = "kw_error_versions")
})

test_that("predictions go to CSV and Parquet with their ids; no rows give no predictions", {
  model <- handed_over()
  pots <- demo_pots()[1:7, ]
  file <- withr::local_tempfile(fileext = ".csv")
  write_predictions(model, pots, file)
  written <- read.csv(file)
  expect_identical(written$pot_id, pots$pot_id)
  expect_equal(written$p_yes, predict(model, pots)$p_yes)
  expect_identical(nrow(predict(model, pots[0, ])), 0L)
  expect_named(predict(model, pots[0, ]), c("class", "p_no", "p_yes"))
  parquet <- withr::local_tempfile(fileext = ".parquet")
  if (requireNamespace("nanoparquet", quietly = TRUE)) {
    write_predictions(model, pots, parquet, type = "probability")
    expect_equal(nanoparquet::read_parquet(parquet)$p_yes, written$p_yes)
  }
  expect_error(
    write_predictions(model, pots, "a.xlsx"), ".csv or .parquet",
    class = "kw_error_argument"
  )
  expect_error(
    write_predictions(model, pots, file, id = "nothing"), "nothing",
    class = "kw_error_brief"
  )
})

test_that("a comparison that was stopped before anything was ranked is reported all the same", {
  local_interruption()
  cmp <- suppressWarnings(quiet_run(
    toy_brief(), candidates(t = fam_tree(min_leaf = among(2, 5, 10))), splits = split_kfold(5),
    seed = 1, workers = 1
  ))
  expect_true(all(is.na(standings(cmp)$place)))
  file <- withr::local_tempfile(fileext = ".html")
  write_report(cmp, file)
  expect_match(page_text(file), "nothing to estimate")
  expect_error(select_final(cmp), class = "kw_error_select")
  expect_error(shortlist(cmp), class = "kw_error_select")
  expect_output(print(summary(cmp)), "No setting is ranked")
})

test_that("what other rules would choose is told among the same candidates", {
  choice <- select_final(toy_comparison(), "best_mean", candidate = "tree")
  explained <- explain_choice(choice)
  expect_identical(unique(explained$candidate), "tree")
  expect_true(explained$picked[explained$rule == "best_mean"])
})

test_that("a file that cannot be written is refused before any work, and nothing is left behind", {
  cmp <- quiet_run(
    toy_brief("number", toy(60)), candidates(t = fam_tree()),
    splits = split_kfold(3), seed = 1
  )
  model <- fit_final(select_final(cmp))
  folder <- withr::local_tempdir()
  absent <- file.path(folder, "absent", "file")
  writers <- list(
    model = function(file) save_model(model, file),
    script = function(file) write_script(model, file),
    card = function(file) write_card(model, file),
    report = function(file) write_report(model, file),
    predictions = function(file) write_predictions(model, toy(5), file)
  )
  for (name in names(writers)) {
    expect_error(writers[[name]](paste0(absent, ".csv")), "no folder", class = "kw_error_file")
    dir.create(file.path(folder, "taken.csv"), showWarnings = FALSE)
    expect_error(
      writers[[name]](file.path(folder, "taken.csv")), "is a folder",
      class = "kw_error_file"
    )
  }
  expect_identical(list.files(folder, recursive = TRUE), character())
})
