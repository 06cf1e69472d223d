# Families on tables that bite: every family either scores, or says what is wrong.

installed_families <- function(kind) {
  made <- lapply(setdiff(names(kw("shipped_members")("fam")), "count_bayes"), function(name) {
    family <- kw("new_family")(
      kw("shipped_members")("fam")[[name]](),
      if (name == "boosted") list(min_leaf = 3) else list()
    )
    packages <- kw("family_packages")(family$definition, family$settings, kind)
    if (kind %in% family$definition$kinds &&
      all(vapply(packages, requireNamespace, logical(1), quietly = TRUE))) {
      family
    }
  })
  names(made) <- setdiff(names(kw("shipped_members")("fam")), "count_bayes")
  do.call(candidates, Filter(Negate(is.null), made))
}

run_all <- function(job, metrics = NULL, k = 3) {
  quiet_run(
    job,
    installed_families(job$kind),
    splits = split_kfold(k, stratify = FALSE),
    metrics = metrics,
    seed = 1
  )
}

test_that("more columns than rows", {
  table <- cbind(toy(60), withr::with_seed(1, as.data.frame(matrix(rnorm(60 * 90), 60))))
  for (kind in c("two_class", "number")) {
    cmp <- run_all(toy_brief(kind, table))
    expect_identical(failures(cmp)$message, character())
    expect_true(all(is.finite(standings(cmp)$mean)))
  }
  expect_error(
    quiet_run(toy_brief(table = table), candidates(q = fam_discriminant("quadratic")), seed = 1),
    "more rows in every class",
    class = "kw_error_rule"
  )
})

test_that("perfectly separable data warn of fits that did not converge, with their setting", {
  table <- toy(120)
  table$x1 <- ifelse(table$two == "yes", 5, -5) + table$x1
  cmp <- run_all(toy_brief(table = table), "log_loss")
  expect_identical(failures(cmp)$message, character())
  warned <- warnings_by_split(cmp)
  expect_true(any(warned$candidate == "linear" & grepl("converge", warned$message)))
  expect_output(print(cmp), "warned")
  choice <- select_final(cmp, candidate = "linear")
  said <- capture_warnings(fit_final(choice))
  expect_match(said, "final fit .*converge", all = FALSE)
  expect_warning(suppressWarnings(fit_final(choice), "kw_warning_fit"), NA)
})

test_that("huge and tiny scales change little", {
  table <- toy(150)
  plain <- standings(run_all(toy_brief("number", table), "r_squared"))
  table <- transform(table, x1 = x1 * 1e12, x2 = x2 * 1e-12, number = number * 1e9)
  scaled <- standings(run_all(toy_brief("number", table), "r_squared"))
  expect_identical(failures(run_all(toy_brief(table = table)))$message, character())
  both <- merge(plain, scaled, by = "candidate")
  # other data, other seeds: a net starts from other weights
  expect_lt(max(abs(both$mean.x - both$mean.y)[both$candidate != "neural"]), 0.05)
  expect_lt(abs(both$mean.x - both$mean.y)[both$candidate == "neural"], 0.2)
})

test_that("weights of zero, classes that training lacks and a constant column are survived", {
  table <- toy(120)
  table$w <- rep(0:1, 60)
  table$same <- 3
  job <- brief(table, outcome = "three", weight = "w", ignore = c("number", "two", "batch"))
  cmp <- run_all(job, "log_loss")
  expect_identical(failures(cmp)$message, character())
  plan <- plan_comparison(job, candidates(s = fam_neighbours(), d = fam_discriminant()), seed = 1)
  expect_output(print(plan), "d: fam_discriminant takes no case weights")
  rare <- toy(90)
  rare$three[rare$three == "high"] <- "mid"
  rare$three[c(1, 50)] <- "odd"
  sorted <- brief(
    rare[order(rare$three != "odd"), ],
    outcome = "three", ignore = c("number", "two", "batch")
  )
  cmp <- run_all(sorted, "accuracy")
  expect_true(all(is.finite(standings(cmp)$mean[standings(cmp)$candidate %in% c(
    "tree", "forest",
    "linear", "neighbours", "naive_bayes"
  )])))
})

test_that("one class only in training fails that split with the reason", {
  table <- toy(40)
  table$two <- rep(c("no", "yes"), c(38, 2))
  table$fold <- rep(c("training", "validation"), c(30, 10))
  table$other <- rep(c("validation", "training"), c(20, 20))
  job <- brief(
    table,
    outcome = "two",
    event = "yes",
    ignore = c("number", "three", "batch", "fold", "other")
  )
  cmp <- quiet_run(
    job,
    installed_families("two_class"),
    splits = split_columns(c("fold", "other")),
    metrics = "log_loss",
    seed = 1
  )
  gone <- failures(cmp)
  expect_match(gone$message[gone$split == 1], "one class only")
  expect_true(all(is.na(standings(cmp)$place)))
})

test_that("two hundred classes run, and what cannot cope says so", {
  table <- toy(900)
  table$many <- withr::with_seed(1, paste0("c", sample(200, 900, TRUE)))
  job <- brief(table, outcome = "many", ignore = c("number", "two", "three", "batch"))
  rivals <- installed_families("many_class")
  rivals$pipelines <- rivals$pipelines[intersect(
    names(rivals$pipelines),
    c("baseline", "tree", "neighbours", "naive_bayes", "support_vectors", "discriminant")
  )]
  cmp <- quiet_run(
    job, rivals,
    splits = split_kfold(2, stratify = FALSE), metrics = "log_loss", seed = 1
  )
  expect_match(failures(cmp)$message, "too few rows of a class|constant within")
  expect_true(all(c("baseline", "tree", "neighbours") %in% standings(cmp)$candidate[!is.na(
    standings(cmp)$place
  )]))
})

test_that("families without their package say which to install", {
  absent <- define_family(
    "absent",
    "number",
    fit = function(x, y, weights, settings, seed, threads) 1,
    predict = function(model, x) rep(1, nrow(x)),
    packages = "not.a.package"
  )
  expect_error(
    plan_comparison(toy_brief("number"), candidates(a = absent()), seed = 1),
    "install.packages\\(\"not.a.package\"\\)",
    class = "kw_error_package"
  )
})

test_that("a runaway neural net and a negative count say what to do", {
  skip_if_not_installed("ANN2")
  cmp <- quiet_run(
    toy_brief("number"),
    candidates(b = fam_baseline(), n = fam_neural(package = "ANN2", rate = 1e6)),
    splits = split_kfold(2),
    seed = 1
  )
  expect_match(failures(cmp)$message, "lower `rate`")
  cmp <- quiet_run(
    toy_brief(),
    candidates(b = fam_baseline(), n = pipeline(pre_drop(columns = "colour"), fam_count_bayes())),
    splits = split_kfold(2),
    seed = 1
  )
  expect_match(failures(cmp)$message, "fam_naive_bayes")
})

test_that("every family runs on every outcome of the ledger that it claims", {
  # half of the firings, of which every family has learned something
  pots <- demo_pots()
  pots <- if (in_full()) pots else pots[pots$firing_id %in% unique(pots$firing_id)[1:60], ]
  for (outcome in c("cracked", "grade", "shrinkage_pct")) {
    job <- brief(
      pots,
      outcome = outcome,
      event = if (outcome == "cracked") "yes",
      id = "pot_id",
      group = "firing_id",
      ignore = setdiff(c("cracked", "grade", "shrinkage_pct"), outcome),
      missing_codes = list(glaze = "n/r", drying_days = -999)
    )
    rivals <- installed_families(job$kind)
    if (job$kind != "number") {
      rivals <- c(
        rivals,
        candidates(words = pipeline(
          pre_drop(columns = of_kind("number", "category", "ordered", "date")),
          pre_text(),
          fam_count_bayes()
        ))
      )
    }
    cmp <- quiet_run(job, rivals, splits = split_kfold(2), seed = 3)
    expect_identical(failures(cmp)$message, character())
    expect_true(all(is.finite(standings(cmp)$mean)))
    expect_gt(which(standings(cmp)$candidate == "baseline"), 1)
  }
})
