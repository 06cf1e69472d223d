poison <- function(job) {
  trap <- new.env()
  for (name in ls(job$sealed)) assign(name, get(name, job$sealed), trap)
  rm("table", envir = trap)
  makeActiveBinding("table", function() stop("the sealed rows were read"), trap)
  job$sealed <- trap
  job
}

test_that("nothing reads the sealed rows before score_set_aside()", {
  job <- poison(set_aside(pots_brief(), share = 0.25, seed = 3))
  plan <- plan_comparison(
    job,
    candidates(tree = fam_tree(pruning = sensible()), linear = fam_linear()),
    splits = split_kfold(3),
    seed = 1
  )
  capture.output(print(job), print(plan), print(preview(plan)))
  cmp <- quiet_run(plan)
  choice <- select_final(cmp)
  model <- fit_final(choice)
  file <- withr::local_tempfile()
  save_model(model, file)
  capture.output(print(cmp), print(choice), print(model))
  ggplot2::ggplot_build(draw_standings(cmp))
  predict(model, demo_pots()[1:5, ])
  expect_error(score_set_aside(model), "the sealed rows were read")
})

test_that("values in the set-aside rows change nothing about the comparison", {
  table <- as.data.frame(demo_pots())
  seal <- set_aside(
    brief(
      table, "shrinkage_pct",
      id = "pot_id", ignore = c("cracked", "grade", "notes", "firing_id")
    ),
    0.2,
    seed = 5
  )
  other <- table
  other[seal$sealed$rows, c("wall_mm", "weight_g")] <- 1e6
  other$glaze[seal$sealed$rows] <- "glaze never seen"
  changed <- set_aside(
    brief(
      other, "shrinkage_pct",
      id = "pot_id", ignore = c("cracked", "grade", "notes", "firing_id")
    ),
    0.2,
    seed = 5
  )
  expect_identical(changed$rows, seal$rows)
  run <- function(job) {
    cmp <- quiet_run(
      job,
      candidates(tree = fam_tree(), linear = fam_linear()),
      splits = split_kfold(3),
      seed = 1
    )
    standings(cmp)[c("candidate", "mean", "sd")]
  }
  expect_identical(run(seal), run(changed))
})

test_that("the set-aside score equals predicting those rows by hand, and openings are counted", {
  local_nothing_opened()
  job <- set_aside(pots_brief(), share = 0.2, seed = 7)
  cmp <- quiet_run(
    job,
    candidates(tree = fam_tree()),
    splits = split_kfold(3),
    metrics = c("auc", "log_loss"),
    seed = 1
  )
  model <- fit_final(select_final(cmp))
  aside <- demo_pots()[job$sealed$rows, ]
  p <- predict(model, aside, type = "probability")$p_yes
  found <- score_set_aside(model)
  expect_equal(found$set_aside[1], plain_auc(aside$cracked == "yes", p))
  expect_equal(found$set_aside[2], -mean(log(ifelse(aside$cracked == "yes", p, 1 - p))))
  expect_identical(found$openings, c(1L, 1L))
  expect_warning(again <- score_set_aside(model), class = "kw_warning_opened_again")
  expect_identical(again$openings, c(2L, 2L))
  file <- withr::local_tempfile()
  save_model(model, file)
  reopened <- open_model(file, trust = TRUE)
  expect_error(score_set_aside(reopened), class = "kw_error_set_aside")
  expect_warning(third <- score_set_aside(reopened, job), class = "kw_warning_opened_again")
  expect_identical(third$openings[1], 3L)
  expect_error(
    score_set_aside(model, set_aside(pots_brief(), share = 0.2, seed = 8)),
    class = "kw_error_set_aside"
  )
})

test_that("set_aside() keeps groups whole and classes in proportion", {
  job <- set_aside(pots_brief(), share = 0.2, seed = 7)
  pots <- demo_pots()
  expect_length(intersect(pots$firing_id[job$rows], pots$firing_id[job$sealed$rows]), 0)
  expect_setequal(c(job$rows, job$sealed$rows), seq_len(nrow(pots)))
  expect_lt(abs(job$sealed$n / nrow(pots) - 0.2), 0.01)
  expect_lt(abs(mean(job$sealed$table$cracked == "yes") - mean(pots$cracked == "yes")), 0.02)
  loose <- set_aside(pots_brief(), share = 0.2, seed = 7, keep_groups = FALSE)
  expect_gt(length(intersect(pots$firing_id[loose$rows], pots$firing_id[loose$sealed$rows])), 10)
})

test_that("with a time role the latest rows are set aside", {
  pots <- demo_pots()
  job <- brief(
    pots,
    "shrinkage_pct",
    id = "pot_id",
    time = "fired_on",
    ignore = c("cracked", "grade", "notes", "firing_id")
  )
  late <- set_aside(job, share = 0.25, seed = 1)
  expect_gte(min(late$sealed$table$fired_on), max(late$table$fired_on))
  after <- set_aside(job, after = "2033-01-01")
  expect_identical(after$sealed$n, sum(pots$fired_on > as.Date("2033-01-01")))
  grouped <- brief(
    pots,
    "shrinkage_pct",
    id = "pot_id",
    time = "fired_on",
    group = "firing_id",
    ignore = c("cracked", "grade", "notes")
  )
  expect_length(
    intersect(
      unique(set_aside(grouped, 0.3)$table$firing_id),
      pots$firing_id[set_aside(grouped, 0.3)$sealed$rows]
    ),
    0
  )
})
