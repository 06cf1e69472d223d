# Commands that look at tables, models and parts, and draft plans.

loose_table <- function() {
  table <- toy(160, missing = TRUE)
  table$colour[c(2, 9, 30)] <- "n/r"
  table$twin <- table$x2 * 2
  file <- withr::local_tempfile(fileext = ".csv", .local_envir = parent.frame())
  write.csv(table, file, row.names = FALSE)
  file
}

test_that("inspect names remedies as lines that a plan file understands", {
  file <- loose_table()
  said <- command("inspect", file, "--outcome", "two", "--ignore", "number,three,batch", "--json")
  expect_identical(said$status, 0L, info = said$err)
  found <- jsonlite::fromJSON(paste(said$out, collapse = "\n"))
  ours <- inspect_data(brief(read_data(file), "two", ignore = c("number", "three", "batch")))
  expect_identical(found$code, ours$code)
  twin <- found$plan_file[found$code == "repeated_column"]
  expect_identical(yaml::yaml.load(twin)$brief$ignore, "twin")
  expect_match(found$plan_file, "missing_codes", all = FALSE)
  read <- command("inspect", file, "--outcome", "two")
  expect_match(read$out, "brief: {\"ignore\":[\"twin\"]}", fixed = TRUE, all = FALSE)
  expect_match(command("inspect", file)$err, "--outcome NAME", all = FALSE)
})

test_that("a drafted plan runs as it is, and its model is scored on rows with known outcome", {
  table <- loose_table()
  plan <- withr::local_tempfile(fileext = ".yml")
  drafted <- command(
    "draft", table, "--outcome", "two", "--event", "yes", "--ignore", "number,three,batch",
    "--minutes", "0.1", "--effort", "quick", "--seed", "3", "--out", plan
  )
  expect_identical(drafted$status, 0L, info = drafted$err)
  lines <- readLines(plan)
  expect_match(lines, "^# .*twin: repeated_column", all = FALSE)
  expect_match(lines, "^# what is compared", all = FALSE)
  expect_match(lines, "from: ", all = FALSE)
  expect_false(any(grepl("sensible", lines)))
  read <- read_plan(plan)
  expect_identical(read$seed, 3)
  expect_false("twin" %in% names(read$brief$schema))
  expect_match(command("draft", table, "--outcome", "two", "--out", plan)$err, "exists", all = FALSE)

  cmp <- quiet_run(read$brief, candidates(tree = fam_tree()), splits = split_kfold(5), seed = 1)
  model <- fit_final(select_final(cmp))
  file <- withr::local_tempfile(fileext = ".kilnwright")
  save_model(model, file)
  new <- toy(90, seed = 8, missing = TRUE)
  new$twin <- 0
  new$two <- as.character(new$two)
  new$two[1:5] <- NA
  rows <- withr::local_tempfile(fileext = ".csv")
  write.csv(new, rows, row.names = FALSE, na = "")
  said <- command("score", file, rows, "--by", "colour", "--trust", "--json")
  expect_identical(said$status, 0L, info = said$err)
  scores <- jsonlite::fromJSON(paste(said$out, collapse = "\n"))
  # by hand: the Mann-Whitney statistic of all rows, and of one colour
  by_hand <- function(some) {
    p <- predict(model, new[some, ], type = "probability")$p_yes
    event <- new$two[some] == "yes"
    apart <- outer(p[event], p[!event], "-")
    mean(apart > 0) + mean(apart == 0) / 2
  }
  auc <- scores[scores$metric == "auc", ]
  known <- which(!is.na(new$two))
  expect_equal(auc$score[1], by_hand(known))
  expect_identical(c(auc$rows[1], auc$left_out[1]), c(85L, 5L))
  first <- auc$part[2]
  expect_equal(auc$score[2], by_hand(intersect(known, which(new$colour == first))))
  expect_true(all(auc$low[1] <= auc$score[1], auc$score[1] <= auc$high[1]))
  new$two[7] <- "perhaps"
  expect_error(score_known(model, new), "perhaps", class = "kw_error_data")
  expect_error(score_known(model, new["x1"]), "no column", class = "kw_error_data")
  new$two[7] <- NA
  expect_error(score_known(model, new, weight = "colour"), "at least 0", class = "kw_error_brief")
  expect_match(command("draft", "-", "--outcome", "two")$err, "names its table", all = FALSE)
})

test_that("the parts that there are can be listed and described from the command line", {
  listed <- command("parts", "--json")
  expect_equal(jsonlite::fromJSON(paste(listed$out, collapse = "\n"))$part, list_parts()$part)
  expect_true(all(nzchar(list_parts()$does)))
  expect_match(command("steps", "skew")$out, "Choices: yeo_johnson", all = FALSE)
  expect_match(command("splits")$out, "split_kfold", all = FALSE)
  expect_match(command("metrics", "auc")$out, "better: higher", all = FALSE)
  expect_match(command("families", "forst")$err, "forest", all = FALSE)
})
