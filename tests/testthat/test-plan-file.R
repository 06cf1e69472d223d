yaml <- function(..., brief = "ignore: [notes, pot_id, shrinkage_pct, grade]") {
  file <- withr::local_tempfile(fileext = ".yml", .local_envir = parent.frame())
  table <- system.file("extdata", "pots.csv.gz", package = "kilnwright")
  writeLines(
    c(
      paste0("brief: {table: ", table, ", outcome: cracked, event: yes, ", brief, "}"), "seed: 41",
      "splits: {kfold: {k: 2}}", ...
    ),
    file
  )
  file
}

test_that("the demo's plan file says the same as the R call", {
  plan <- read_plan(system.file("extdata", "pots-plan.yml", package = "kilnwright"))
  ready <- list(pre_missing(), pre_rare_levels(at_least = 20), pre_onehot())
  rivals <- candidates(
    baseline = fam_baseline(),
    penalised = pipeline(
      ready,
      pre_scale(),
      fam_penalised(penalty = from_to(1e-4, 1, "log", 30), lasso_share = among(0, 0.5, 1))
    ),
    tree = pipeline(
      pre_missing(),
      fam_tree(pruning = from_to(1e-4, 0.1, "log", 40), impurity = among("gini", "information"))
    ),
    forest = pipeline(
      ready,
      fam_forest(
        trees = among(50, 100, 200),
        columns_tried = from_to(0.1, 0.6, points = 3),
        min_node = among(2, 10)
      )
    )
  ) |> rule_out(trees < 100 & min_node == 2, candidate = "forest")
  same <- plan_comparison(
    set_aside(pots_brief(), 0.2, seed = 7),
    rivals,
    splits = split_kfold(10),
    search = search_grid(5),
    metrics = c("auc", "log_loss", "balanced_accuracy"),
    decide = "auc", margin = 0.01,
    seed = 41
  )
  expect_identical(plan$margin, same$margin)
  expect_identical(plan$brief$fingerprint, same$brief$fingerprint)
  expect_identical(plan$splits, same$splits)
  expect_identical(lapply(plan$round, `[[`, "settings"), lapply(same$round, `[[`, "settings"))
  keys <- function(p) {
    kw("compile_work")(p$spaces, lapply(p$round, `[[`, "settings"))[c("settings", "fits")]
  }
  expect_identical(keys(plan)$settings$key, keys(same)$settings$key)
  expect_identical(plan$rule$name, "one_se")
})

test_that("a plan says what does not matter, and by which rule to choose", {
  folder <- withr::local_tempdir()
  lines <- "candidates: {t: {tree: {pruning: [0.001, 0.05, 0.5]}}, b: baseline}"
  said <- function(...) read_plan(yaml(paste(c(lines, ...), collapse = "\n")))
  plan <- said("margin: 0.3", "rule: {steady: {margin: 2}}")
  journal <- file.path(folder, "run.sqlite")
  cmp <- quiet_run(plan, journal = journal)
  plain <- quiet_run(said())
  expect_equal(attr(shortlist(cmp), "about")$margin, 0.3)
  expect_equal(attr(compare_pairs(cmp), "margin"), 0.3)
  expect_lt(attr(shortlist(cmp, "log_loss"), "about")$margin, 0.3)
  expect_identical(standings(cmp)$mean, standings(plain)$mean)
  # the plan's rule with its margin is the default, also from a journal
  for (known in list(cmp, open_comparison(journal))) {
    expect_identical(select_final(known)$rule, "steady")
    expect_identical(select_final(known)$margin, 2)
    expect_identical(select_final(known)$at, select_final(plain, "steady", margin = 2)$at)
    expect_identical(select_final(known, "within")$at, select_final(plain, "within", 0.3)$at)
  }
  expect_identical(select_final(plain)$rule, "one_se")
  # written and read again
  file <- file.path(folder, "again.yml")
  write_plan(plan, file)
  again <- read_plan(file)
  expect_identical(again$rule, list(name = "steady", margin = 2))
  expect_identical(again$margin, 0.3)
  expect_output(print(again), "steady with margin 2; differences up to 0.3 in auc")
  wrong <- c(
    "margin: -1" = "margin", "rule: {one_se: 1}" = "takes no margin", "margin: much" = "number",
    "rule: {steady: {times: 2}}" = "times", "rule: {steady: -2}" = "steady", "rule: best" = "best"
  )
  for (line in names(wrong)) expect_error(said(line), wrong[[line]], class = "kw_error")
})

test_that("words stay words and numbers become numbers, however YAML spells them", {
  plan <- read_plan(yaml("candidates: {t: {tree: {pruning: [1e-4, 010, .5], min_leaf: 1e1}}}" |>
    sub(pattern = "010", replacement = "0.10")))
  expect_identical(plan$round$t$settings$pruning, c(1e-4, 0.1, 0.5))
  expect_identical(plan$brief$event, "yes")
  expect_identical(plan$spaces$t$pipeline$family$settings$min_leaf, 10)
  octal <- read_plan(yaml("candidates: {t: {tree: {min_leaf: 010}}}"))
  expect_identical(octal$spaces$t$pipeline$family$settings$min_leaf, 10)
})

test_that("levels and codes that look like numbers stay as they are in a plan file", {
  table <- withr::with_seed(2, data.frame(
    code = sample(c("007", "7", "011", "0"), 90, TRUE), mark = sample(c("no", "1.", "~"), 90, TRUE),
    heat = sample(c(-9, 1:40 / 7), 90, TRUE), y = rnorm(90)
  ))
  folder <- withr::local_tempdir()
  file <- file.path(folder, "table.csv")
  utils::write.csv(table, file, row.names = FALSE)
  order <- list(code = c("011", "007", "0"), mark = c("~", "no", "1."))
  job <- brief(read_data(file), "y", missing_codes = list(code = "7", heat = -9))
  written <- function(job, ...) {
    plan <- plan_comparison(job, candidates(...), splits = split_kfold(3), seed = 1)
    read_plan(write_plan(plan, file.path(folder, "plan.yml"), table = file, replace = TRUE))
  }
  plan <- written(job,
    ranks = pipeline(pre_ordinal(order, columns = c(code, mark)), fam_tree()),
    other = pipeline(pre_missing(fill = "value", value = "0", columns = mark), fam_tree())
  )
  steps <- plan$spaces$ranks$pipeline$steps
  expect_identical(steps[[1]]$part$settings$order, order)
  expect_identical(plan$spaces$other$pipeline$steps[[1]]$part$settings$value, "0")
  expect_identical(plan$brief$table$heat, job$table$heat)
  job <- brief(read_data(file), "y", missing_codes = list(code = c("007", "011"), mark = "1."))
  expect_identical(
    written(job, tree = fam_tree())$brief$table[c("code", "mark")], job$table[c("code", "mark")]
  )
  by_hand <- file.path(folder, "by-hand.yml")
  writeLines(c(
    "brief: {table: table.csv, outcome: 'y', missing_codes: {code: 007, heat: -9}}",
    "candidates: {t: [{ordinal: {order: {code: [011, 7, 0]}, columns: code}}, tree]}",
    "splits: {kfold: {k: 3}}"
  ), by_hand)
  plan <- read_plan(by_hand)
  expect_equal(plan$brief$table$heat, ifelse(table$heat == -9, NA, table$heat), tolerance = 1e-12)
  expect_identical(sum(is.na(plan$brief$table$code)), sum(table$code == "007"))
  expect_identical(plan$spaces$t$pipeline$steps[[1]]$part$settings$order$code, c("011", "7", "0"))
})

test_that("choices, options, names, kinds of columns and per-candidate searches can be said", {
  plan <- read_plan(yaml(
    "shared: {ready: [missing, onehot]}",
    "candidates:",
    paste(
      "  a: [{missing: {columns: {kind: [number, ordered]}}}, {missing: {fill: level,",
      paste(
        "columns: {kind: category}}}, {optional: {rare_levels: {at_least: [5, 50]}}}, onehot,",
        "{either: {plain: as_is, scaled: {scale: {by: [sd, iqr]}}}}, linear]"
      )
    ),
    paste(
      "  b: [ready, {scale: {by: [sd, range], called: first}}, {forest: {trees: 5,",
      "columns_tried: sensible}}]"
    ),
    "search: {b: {random: {settings: 4}}, others: grid}"
  ))
  expect_identical(names(plan$round$a$settings), c("rare_levels", "at_least", "scale", "by"))
  expect_identical(nrow(plan$round$a$settings), 9L)
  expect_identical(names(plan$round$b$settings), c("first_by", "columns_tried"))
  expect_identical(nrow(plan$round$b$settings), 4L)
  kinds <- plan$spaces$a$pipeline$steps[[1]]$part
  frame <- kw("frame_columns")(plan$brief$table, plan$brief$schema)
  expect_false(any(c("glaze", "fired_on") %in% kw("select_columns")(kinds, frame)))
})

test_that("rules in text are worked out without evaluating code", {
  plan <- read_plan(yaml(
    "candidates: {t: {tree: {min_leaf: [1, 5, 20], impurity: [gini, information]}}}",
    paste(
      "rule_out: ['impurity == \"gini\" & (min_leaf < 5 | min_leaf >= 20)', '!(min_leaf != 1)",
      "& impurity == \"information\"']"
    )
  ))
  expect_identical(
    paste(plan$round$t$settings$min_leaf, plan$round$t$settings$impurity),
    c("5 gini", "5 information", "20 information")
  )
})

test_that("a table beside the plan file is found from anywhere", {
  folder <- withr::local_tempdir()
  shipped <- c("pots.csv.gz", "pots-plan.yml")
  file.copy(system.file("extdata", shipped, package = "kilnwright"), folder)
  withr::with_dir("/", expect_s3_class(read_plan(file.path(folder, "pots-plan.yml")), "kw_plan"))
})

test_that("every plan file that comes with the package can be read and planned", {
  files <- list.files(system.file("extdata", package = "kilnwright"), "[.]yml$", full.names = TRUE)
  expect_gte(length(files), 2L)
  for (file in files) {
    plan <- kw("plan_from_file")(file, NULL, absent = function(...) NULL)
    expect_s3_class(plan, "kw_plan")
  }
})

test_that("arguments whose default is nothing are written and read as what they are", {
  folder <- withr::local_tempdir()
  file <- file.path(folder, "table.csv")
  table <- withr::with_seed(3, data.frame(x = rnorm(120), y = rnorm(120)))
  table[["2020"]] <- rep(sprintf("farm %d", 1:12), 10)
  utils::write.csv(table, file, row.names = FALSE)
  again <- function(...) {
    plan <- plan_comparison(brief(read_data(file), "y"),
      candidates(t = fam_tree(depth = among(2, 5), min_leaf = from_to(2, 20))), seed = 1, ...)
    read <- read_plan(write_plan(plan, file.path(folder, "p.yml"), table = file, replace = TRUE))
    search <- function(plan) plan$seats[[1]]$search$arguments
    expect_equal(search(read), search(plan))
    expect_equal(read$screen$arguments, plan$screen$arguments)
    expect_identical(lapply(read$splits, `[[`, "key"), lapply(plan$splits, `[[`, "key"))
  }
  again(search = search_guided(30, first = 10))
  again(search = search_evolve(30, at_once = 3, first_splits = 2))
  again(search = search_random(9), screen = screen_splits(margin = 0.01))
  again(splits = split_leave_group(group = "2020"))
})
