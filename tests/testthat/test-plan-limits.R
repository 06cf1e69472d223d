# Plan files and command lines that ask for too much, or for nothing there is: an error in the
# file's or the command's own words, at once.

plan_with <- function(..., env = parent.frame()) {
  folder <- withr::local_tempdir(.local_envir = env)
  data.table::fwrite(toy(60)[c("x1", "x2", "colour", "number")], file.path(folder, "toy.csv"))
  lines <- c(
    "brief: {table: toy.csv, outcome: number}",
    "candidates: {tree: {tree: {pruning: [0.01, 0.1]}}}",
    "splits: {kfold: {k: 3}}", "metrics: [rmse]", "seed: 1"
  )
  new <- c(...)
  keys <- sub(":.*", "", new)
  file <- file.path(folder, "plan.yml")
  writeLines(c(lines[!sub(":.*", "", lines) %in% keys], new), file)
  file
}

test_that("bombs, depths and sizes are refused before they cost anything", {
  bomb <- c("shared:", "  a0: &a0 [missing, missing]")
  for (i in 1:30) bomb <- c(bomb, sprintf("  a%d: &a%d [*a%d, *a%d]", i, i, i - 1L, i - 1L))
  dashes <- c("rule_out:", paste0("  ", strrep("- ", 1e5), "x"))
  indents <- c("rule_out:", vapply(1:1000, function(i) paste0(strrep(" ", i), "a:"), ""))
  refused <- list(
    "stands for more than" = bomb,
    "nested more than" = paste0("rule_out: ", strrep("[", 1000)),
    "nested more than" = paste0("rule_out: ", strrep("[", 1e5), strrep("]", 1e5)),
    "nested more than" = paste0("rule_out: ", strrep("{a: ", 1000)),
    "nested more than" = dashes, "nested more than" = indents,
    "larger than" = paste0("rule_out: ", strrep("x", 6e6)),
    "`settings` must be .* at most 1,000,000" = "search: {random: {settings: 1e9}}",
    "`points` must be .* at most 10,000" = "search: {grid: {points: 1e8}}",
    "`repeats` must be .* at most 10,000" = "splits: {kfold: {k: 3, repeats: 1e8}}",
    "`draws` must be .* at most 10,000" = "splits: {bootstrap: {draws: 1e12}}",
    "`draws` must be .* at most 10,000" = "splits: {holdout: {draws: 1e12}}",
    "`points` must be .* at most 10,000" =
      "candidates: {t: {tree: {pruning: {from: 0.001, to: 0.1, points: 1e8}}}}",
    "as_is takes nothing" = "candidates: {t: [{as_is: 3}, {tree: {}}]}"
  )
  for (i in seq_along(refused)) {
    file <- plan_with(refused[[i]])
    seconds <- system.time(
      expect_error(read_plan(file), names(refused)[i], class = "kw_error")
    )[["elapsed"]]
    # a reader that recursed or expanded would take minutes or all memory
    expect_lt(seconds, 20)
  }
})

test_that("a member's first argument may stand by itself, also the columns that divide", {
  expect_length(read_plan(plan_with("splits: {kfold: 4}"))$splits, 4)
  file <- plan_with("splits: {columns: [one, two]}")
  table <- toy(60)[c("x1", "x2", "colour", "number")]
  table$one <- rep(c("training", "validation"), 30)
  table$two <- rep(c("validation", "training"), 30)
  data.table::fwrite(table, file.path(dirname(file), "toy.csv"))
  plan <- read_plan(file)
  expect_identical(plan$splits[[1]]$training, seq(1L, 59L, 2L))
  expect_identical(plan$splits[[2]]$validation, seq(1L, 59L, 2L))
})

test_that("the command line speaks of its options, reads - and names what varied", {
  file <- plan_with()
  said <- command_here("preview", file, "--seed", "1.5")$err
  expect_match(said, "--seed must be one whole number")
  out <- file.path(dirname(file), "res")
  ran <- withr::with_dir(dirname(file), {
    output <- tempfile()
    status <- system2(
      file.path(R.home("bin"), "Rscript"),
      shQuote(c(exec_file(), "run", "-", "--out", "res", "--fit-seconds", "60", "--quiet",
        "--no-report")),
      stdin = file, stdout = output, stderr = output
    )
    list(status = status, out = readLines(output, warn = FALSE))
  })
  expect_identical(ran$status, 0L, info = paste(ran$out, collapse = "\n"))
  expect_identical(readLines(file.path(out, "plan.yml")), readLines(file))
  shown <- command_here("standings", out)
  expect_match(shown$out, "pruning = 0.01", all = FALSE)
  top <- command_here("standings", out, "--top", "-1")
  expect_identical(top$status, 1L)
  expect_match(top$err, "--top must be one whole number at least 1")
  distrusted <- command_here("predict", file.path(out, "model.kilnwright"), file.path(out, "x.csv"))
  expect_match(distrusted$err, "--trust")
  expect_no_match <- function(text, what) expect_false(grepl(what, text, fixed = TRUE))
  expect_no_match(distrusted$err, "trust = TRUE")
})
