# What the package knows about its own families, and families of the user's own.

test_that("list_families and describe_family tell everything a family declares", {
  table <- list_families()
  expect_identical(nrow(table), length(kw("shipped_members")("fam")))
  expect_identical(table$path[table$family == "fam_neighbours"], "neighbours, weighting, distance")
  out <- paste(capture.output(print(describe_family("forest"))), collapse = "\n")
  for (word in c(
    "trees \\(whole, default 500\\)", "Sensible:", "Going up:",
    "Cannot work: cut_rule", "One fit serves every value of trees"
  )) {
    expect_match(out, word)
  }
  expect_error(describe_family("forrest"), "forest", class = "kw_error_argument")
  expect_true(all(nchar(strsplit(out, "\n")[[1]]) <= 80))
})

test_that("a described range is the one that sensible() uses for this brief", {
  job <- toy_brief(table = toy(150))
  described <- describe_family("forest", job)
  range <- described$hyperparameters$columns_tried$sensible(
    described$sizes$rows, described$sizes$columns, described$sizes$classes
  )
  plan <- plan_comparison(
    job,
    candidates(f = fam_forest(columns_tried = sensible())),
    splits = split_kfold(150 / 15),
    seed = 1
  )
  expect_equal(plan$spaces$f$dimensions$columns_tried$varying$from, range$from)
})

test_that("every help page of a family lists its hyperparameters as the definition has them", {
  folder <- file.path(source_folder(), "man")
  for (make in kw("shipped_members")("fam")) {
    definition <- make()
    page <- paste(readLines(file.path(folder, paste0("fam_", definition$name, ".Rd"))),
      collapse = " "
    )
    for (h in definition$arguments) {
      expect_match(
        gsub("\\s+", " ", page), gsub("\\s+", " ", gsub("\"", "", h$meaning)),
        fixed = TRUE
      )
    }
  }
})

test_that("names of steps and families differ, so that a plan file can tell them apart", {
  expect_length(
    intersect(names(kw("shipped_members")("step")), names(kw("shipped_members")("fam"))), 0
  )
})

test_that("combinations that cannot work are left out before anything runs, counted and listed", {
  job <- toy_brief()
  rivals <- candidates(
    f = fam_forest(cut_rule = among("usual", "hellinger", "rank"), min_node = among(1, 5)),
    s = fam_support_vectors(
      kernel = among("linear", "polynomial"), degree = among(2, 3)
    )
  )
  seen <- preview(job, rivals, seed = 1)
  expect_identical(unname(seen$candidates$impossible), c(2, 0))
  expect_identical(unname(seen$candidates$merged), c(0, 1))
  expect_identical(unname(seen$candidates$settings), c(4L, 3L))
  gone <- list_ruled_out(job, rule_out(rivals, kernel == "linear"), seed = 1)
  expect_identical(gone$candidate, c("f", "f", "s", "s"))
  expect_match(gone$why[1], "numeric outcomes")
  expect_match(gone$values[1], "min_node = 1, cut_rule = rank")
  expect_match(gone$why[3], "ruled out")
  expect_output(print(seen), "2 cannot work")
  expect_error(
    plan_comparison(job, candidates(b = fam_boosted(min_leaf = 100)), seed = 1),
    "cannot work",
    class = "kw_error_rule"
  )
})

test_that("a family of one's own is compared, saved and checked like any other", {
  fam_nearest_mean <- define_family("nearest_mean",
    kinds = c("two_class", "many_class"),
    fit = function(x, y, weights, settings, seed, threads) {
      list(means = rowsum(x, y) / as.vector(table(y)), sharp = settings$sharp)
    },
    predict = function(model, x) {
      d <- sapply(seq_len(nrow(model$means)), function(k) {
        -model$sharp * rowSums(sweep(x, 2, model$means[k, ])^2)
      })
      p <- exp(matrix(d, nrow(x)))
      p / rowSums(p)
    }, defaults = list(sharp = 1), wants_scaling = TRUE
  )
  job <- toy_brief("many_class")
  expect_true(all(try_out(fam_nearest_mean, job)$passed))
  cmp <- quiet_run(
    job,
    candidates(own = fam_nearest_mean(sharp = among(0.1, 1)), b = fam_baseline()),
    splits = split_kfold(4),
    seed = 1
  )
  expect_identical(standings(cmp)$candidate[1], "own")
  model <- fit_final(select_final(cmp))
  file <- withr::local_tempfile(fileext = ".kilnwright")
  save_model(model, file)
  expect_equal(
    predict(open_model(file, trust = TRUE), toy(20, seed = 2)), predict(model, toy(20, seed = 2))
  )
  expect_match(describe_family(fam_nearest_mean)$does, "user")
})

test_that("a path of one's own shares fits and gives what single fits give", {
  fam_shrunk <- define_family("shrunk",
    kinds = "number", path = "by",
    fit = function(x, y, weights, settings, seed, threads) mean(y),
    predict = function(model, x, values) matrix(rep(model * values, each = nrow(x)), nrow(x)),
    defaults = list(by = 1)
  )
  job <- toy_brief("number")
  rivals <- candidates(s = fam_shrunk(by = among(0.5, 0.9, 1)))
  expect_identical(preview(job, rivals, splits = split_kfold(5), seed = 1)$fits, 5L)
  table <- standings(quiet_run(job, rivals, splits = split_kfold(5), metrics = "mae", seed = 1))
  expect_identical(nrow(table), 3L)
  expect_true(all(try_out(fam_shrunk, job)$passed))
})

test_that("try_out finds what is wrong with a part", {
  wrong <- define_family(
    "wrong",
    kinds = "number",
    fit = function(x, y, weights, settings, seed, threads) 1,
    predict = function(model, x) stats::runif(nrow(x))
  )
  checks <- try_out(wrong, toy_brief("number"))
  expect_identical(checks$passed[checks$check == "one row alone is predicted as among many"], FALSE)
  short <- define_family(
    "short",
    kinds = "number",
    fit = function(x, y, weights, settings, seed, threads) 1,
    predict = function(model, x) 1
  )
  expect_match(try_out(short, toy_brief("number"))$detail, "1 values where 30", all = FALSE)
  centred <- define_step(
    "centred",
    columns = "number",
    learn = function(frame, target, settings, seed) list(state = settings$columns, training = NULL),
    use = function(state, frame) {
      for (name in state) {
        frame$columns[[name]] <- frame$columns[[name]] -
          mean(frame$columns[[name]])
      }
      frame
    }
  )
  checks <- try_out(centred, toy_brief("number"))
  expect_identical(checks$check[!checks$passed], "one row alone is used as among many")
  expect_output(print(checks), "FAIL one row alone")
  expect_error(try_out(3, toy_brief()), "must be a family, step", class = "kw_error_argument")
})

test_that("preview times pilots: a candidate that waits is seen to, and what its fits add up to", {
  fam_slow <- define_family("slow", "number", function(x, y, weights, settings, seed, threads) {
    Sys.sleep(settings$wait)
    mean(y)
  }, function(model, x) rep(model, nrow(x)), defaults = list(wait = 0))
  seen <- preview(
    toy_brief("number"),
    candidates(slow = fam_slow(wait = among(0.02, 0.04, 0.06)), b = fam_baseline()),
    splits = split_kfold(10),
    seed = 1
  )
  slow <- seen$candidates[1, ]
  expect_gt(slow$fit_seconds, 0.04)
  expect_equal(slow$seconds, slow$fit_seconds * 30)
  expect_gte(seen$seconds, slow$seconds)
  expect_gt(seen$megabytes, 10)
  expect_output(print(seen), "Time: about .* peak memory about")
  uncounted <- preview(seen$plan, pilots = FALSE)
  expect_identical(uncounted$candidates$fit_seconds, c(NA_real_, NA_real_))
  expect_identical(uncounted$fits, seen$fits)
})
