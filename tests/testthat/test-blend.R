job <- pots_brief()
rivals <- candidates(
  base = fam_baseline(), penalised = fam_penalised(penalty = among(0.1, 0.01)),
  tree = fam_tree(pruning = among(0.01, 0.05))
)
cmp <- quiet_run(job, rivals,
  splits = split_kfold(4, repeats = 2), metrics = c("log_loss", "auc"), seed = 5,
  keep = "all_predictions"
)
plan <- cmp$plan

# By hand: predictions of a candidate's best on a split.
predicted <- function(name, split) {
  at <- kw("selection_field")(cmp, name)
  kw("setting_predictions")(cmp, kw("choose_best_mean")(at)$at)[[split]][, 2]
}
truth <- function(split) plan$brief$table$cracked[plan$splits[[split]]$validation] == "yes"

test_that("every split is scored under weights that it had no part in", {
  mixed <- blend(cmp)
  table <- standings(mixed)
  # of two members the least squared error can be found along a line
  share_without <- function(split) {
    others <- setdiff(which(vapply(plan$splits, `[[`, 1, "rep") == plan$splits[[split]]$rep), split)
    error_of <- function(share, s) {
      p <- share * predicted("penalised", s) + (1 - share) * predicted("tree", s)
      sum((truth(s) - p)^2)
    }
    error <- function(share) sum(vapply(others, error_of, 1, share = share))
    optimize(error, c(0, 1), tol = 1e-10)$minimum
  }
  loss <- vapply(seq_along(plan$splits), function(split) {
    share <- share_without(split)
    p <- share * predicted("penalised", split) + (1 - share) * predicted("tree", split)
    -mean(log(ifelse(truth(split), p, 1 - p)))
  }, 1)
  expect_equal(table$mean[table$candidate == "blend"], mean(loss), tolerance = 1e-6)
  expect_equal(table$sd[table$candidate == "blend"], sd(loss), tolerance = 1e-5)
  expect_identical(table[table$candidate != "blend", ]$mean, standings(cmp)$mean)
})

test_that("predictions that were not kept are made again, and said so", {
  bare <- quiet_run(plan)
  expect_message(again <- blend(bare), "16 fits again")
  expect_equal(standings(again)$mean, standings(blend(cmp))$mean, tolerance = 1e-12)
  expect_silent(blend(cmp))
  # the blend alone has predictions there
  expect_identical(optimism(again)$note[3], "needs keep = \"all_predictions\"")
})

test_that("the rule takes a blend only where nothing simpler is as good", {
  mixed <- blend(cmp, by = "mean")
  simplest <- select_final(mixed, "within", margin = 1)
  expect_identical(candidate_of(simplest), "base")
  least <- standings(mixed)
  expect_identical(
    candidate_of(select_final(mixed, "best_mean")), least$candidate[which.min(least$mean)]
  )
})

test_that("a blend refits, predicts, travels, explains and leaves as a script", {
  mixed <- blend(cmp, by = "mean")
  choice <- select_final(mixed, "best_mean", candidate = "blend")
  model <- fit_final(choice, intervals = TRUE)
  alone <- lapply(c("penalised", "tree"), function(name) {
    fit_final(select_final(mixed, "best_mean", candidate = name))
  })
  pots <- demo_pots()[1:40, ]
  each <- vapply(alone, function(one) predict(one, pots)$p_yes, numeric(40))
  expect_equal(predict(model, pots)$p_yes, rowMeans(each), tolerance = 1e-12)
  file <- withr::local_tempfile(fileext = ".kilnwright")
  save_model(model, file)
  opened <- open_model(file, trust = TRUE)
  for (type in c("probability", "interval")) {
    expect_identical(predict(opened, pots, type = type), predict(model, pots, type = type))
  }
  data <- withr::local_tempfile(fileext = ".csv")
  data.table::fwrite(demo_pots(), data)
  script <- withr::local_tempfile(fileext = ".R")
  write_script(model, script, data = data, new_data = data)
  home <- new.env(parent = globalenv())
  withr::with_preserve_seed(sys.source(script, home))
  found <- home$predict_new(home$read_table(data))
  expect_equal(found$p_yes, predict(model, demo_pots())$p_yes, tolerance = 1e-10)
  importance <- column_importance(choice, times = 1)
  expect_setequal(importance$column, names(model$schema))
  printed <- capture.output(print(model))
  expect_match(printed, "0.50 penalised + 0.50 tree", fixed = TRUE, all = FALSE)
})

test_that("numbers, many classes, weights and draws are blended too", {
  table <- toy(160)
  table$w <- rep(1:4, 40)
  for (kind in c("number", "many_class")) {
    used <- setdiff(names(table), setdiff(outcomes, outcomes[[kind]]))
    job <- brief(table[used], outcomes[[kind]], weight = "w")
    two <- quiet_run(job, candidates(linear = fam_linear(), tree = fam_tree()),
      splits = split_bootstrap(6), seed = 2, keep = "all_predictions"
    )
    mixed <- blend(two)
    expect_identical(sum(standings(mixed)$splits == 6L), 3L)
    expect_length(predict(fit_final(select_final(mixed, candidate = "blend")), table)[[1]], 160)
  }
})

test_that("what goes on with a comparison leaves blends behind; nested runs make them anew", {
  expect_message(more <- extend_comparison(blend(cmp), repeats = 1, quiet = TRUE), "left behind")
  without <- extend_comparison(cmp, repeats = 1, quiet = TRUE)
  untimed <- function(cmp) standings(cmp)[setdiff(names(standings(cmp)), "seconds")]
  expect_identical(untimed(more), untimed(without))
  way <- function(cmp) set_threshold(select_final(blend(cmp), candidate = "blend"), best = "f1")
  small <- plan_comparison(job, rivals, splits = split_kfold(3), metrics = "f1", seed = 1)
  judged <- assess_selection(small, split_kfold(2), choose = way, keep = "all_predictions",
    quiet = TRUE)
  expect_identical(judged$choices$candidate, c("blend", "blend"))
  expect_error(assess_selection(small, choose = way, rule = "one_se"), "either `choose`")
  expect_error(assess_selection(small, split_kfold(2), choose = identity, quiet = TRUE),
    "End it with select_final")
})

# A plan file over toy rows that asks for a blend; `lines` come beside it.
planned_blend <- function(lines, env = parent.frame()) {
  folder <- withr::local_tempdir(.local_envir = env)
  data.table::fwrite(toy(90), file.path(folder, "toy.csv"))
  file <- file.path(folder, "plan.yml")
  writeLines(c(
    "brief: {table: toy.csv, outcome: number, ignore: [two, three, batch]}",
    "candidates:", "  base: baseline", "  tree: {tree: {pruning: [0.001, 0.1]}}",
    "  line: [missing, onehot, linear]", "metrics: [rmse]", "seed: 1", lines
  ), file)
  file
}

test_that("a choice blends first where it is asked to, or where the plan says so", {
  by_hand <- select_final(blend(cmp), "best_mean")
  asked <- select_final(cmp, "best_mean", blend = TRUE)
  expect_identical(asked[c("at", "mean", "reason")], by_hand[c("at", "mean", "reason")])
  pair <- select_final(cmp, "best_mean", candidate = "blend", blend = c("base", "tree"))
  expect_identical(pair$mean, select_final(
    blend(cmp, c("base", "tree")), "best_mean", candidate = "blend"
  )$mean)
  expect_identical(select_final(blend(cmp), "one_se", blend = TRUE)$at,
    select_final(blend(cmp), "one_se")$at)
  expect_error(select_final(cmp, blend = c("tree", "penalized")), "penalised")
  expect_error(select_final(cmp, blend = NA), "names of candidates")
  expect_error(select_final(cmp, blend = "tree"), "two settings or more")

  file <- planned_blend(c("splits: {kfold: {k: 4}}", "rule: best_mean", "blend: yes"))
  planned <- read_plan(file)
  expect_output(print(planned), "best_mean, among all and a blend of the best of each\\s+candidate")
  copy <- file.path(dirname(file), "copy.yml")
  write_plan(planned, copy, table = file.path(dirname(file), "toy.csv"))
  expect_true("blend: yes" %in% readLines(copy))
  journal <- file.path(dirname(file), "run.sqlite")
  bare <- quiet_run(planned, journal = journal, workers = 1)
  expect_false("blend" %in% standings(bare)$candidate)
  expect_silent(choice <- select_final(bare))
  expect_identical(choice$mean, select_final(suppressMessages(blend(bare)), "best_mean")$mean)
  expect_identical(select_final(bare, blend = FALSE)$cmp, bare)
  # from the journal, and with what is added; others stay out where one is chosen from them
  reopened <- suppressMessages(select_final(open_comparison(journal)))
  expect_identical(reopened[c("at", "mean")], choice[c("at", "mean")])
  expect_silent(more <- extend_comparison(choice$cmp, repeats = 1, quiet = TRUE))
  expect_true("blend" %in% standings(suppressMessages(select_final(more))$cmp)$candidate)
  expect_silent(one <- select_final(bare, candidate = "tree"))
  expect_false("blend" %in% standings(one$cmp)$candidate)
  # the whole way is judged with it
  judged <- assess_selection(planned, split_kfold(2), quiet = TRUE, workers = 1)
  anew <- assess_selection(planned, split_kfold(2), quiet = TRUE, workers = 1,
    choose = function(cmp) select_final(suppressMessages(blend(cmp)), "best_mean"))
  expect_identical(judged$scores, anew$scores)
  page <- file.path(dirname(file), "report.html")
  suppressMessages(write_report(bare, page))
  expect_match(page_text(page), "\\bblend\\b")
})

test_that("of every candidate several settings are blended, as many as there is time for", {
  many <- quiet_run(toy_brief("number"), candidates(
    near = pipeline(pre_minimal(), pre_scale(), fam_neighbours(
      neighbours = among(3, 9), weighting = among("equal", "inverse"),
      distance = among("euclidean", "manhattan")
    )),
    tree = pipeline(pre_missing(), pre_skew(), fam_tree(
      min_leaf = among(2, 5, 20, 40), pruning = among(0.001, 0.01)
    ))
  ), splits = split_kfold(4), seed = 1)
  table <- standings(many)
  fits <- kw("work_of")(many)$settings$fit
  expect_members <- function(each, ...) {
    members <- function(name) {
      at <- kw("rows_in_standings")(many, table[table$candidate == name, ])
      head(at[!duplicated(fits[at])], each)
    }
    wanted <- sort(c(members("near"), members("tree")))
    mixed <- suppressMessages(blend(many, by = "mean", each = each, ...))
    space <- kw("spaces_of")(mixed)$blend
    expect_setequal(space$pipeline$family$settings$members, wanted)
    # the mean of the members' predictions, and nothing else
    at <- length(mixed$results$candidate)
    apart <- lapply(wanted, function(one) kw("setting_predictions")(many, one)[[2]])
    expect_equal(kw("setting_predictions")(mixed, at)[[2]], Reduce(`+`, apart) / length(apart))
    mixed
  }
  expect_members(1)
  of_one <- suppressMessages(blend(many, "tree"))
  expect_match(tail(kw("setting_label")(of_one, length(fits) + 1L), 1), "tree \\([23] settings\\)")
  # all settings of neighbours come from one fit
  expect_identical(kw("setting_label")(expect_members(3), length(fits) + 1L),
    "weights = 0.75 tree (3 settings) + 0.25 near")
  # what three trees have in common is learned once a split
  learn <- kw("learn_step")
  times <- 0L
  local_stand_in("learn_step", function(...) {
    times <<- times + 1L
    learn(...)
  })
  suppressMessages(blend(many, "tree"))
  expect_identical(times, 2L * 4L)
  # as many as there is time for, the best first; none where there is none
  members <- kw("best_settings")(many, 3)
  takes <- kw("seconds_to_predict_again")(many, members)
  short <- suppressMessages(blend(many, by = "mean", minutes = sum(takes[1:3]) / 60 * 1.001))
  blended <- kw("spaces_of")(short)$blend$pipeline$family$settings$members
  expect_true(all(members[1:3] %in% blended))
  expect_lt(length(blended), length(members))
  expect_error(blend(many, minutes = 0), "no time for a blend", class = "kw_error_argument")
  expect_message(blend(many, each = 1), "Predictions of 2 settings were not kept: 8 fits again")
  expect_error(blend(many, each = 0), "`each`")
  expect_error(blend(many, minutes = -1), "`minutes`")
})

test_that("a run that is to be blended holds what the best of each candidate predicted", {
  plan <- plan_comparison(toy_brief("number"), candidates(
    tree = pipeline(optional(pre_missing()), fam_tree(min_leaf = among(1:20))),
    near = pipeline(pre_minimal(), fam_neighbours(neighbours = from_to(1, 30)))
  ), splits = split_kfold(4), search = search_random(30), seed = 1)
  plan$rule <- list(name = "best_mean", margin = NULL, blend = TRUE)
  journal <- journal_file()
  cmp <- quiet_run(plan, workers = 1, journal = journal)
  whole <- quiet_run(plan, workers = 1, keep = "all_predictions")
  held <- unique(unlist(lapply(cmp$results$held, `[[`, "settings")))
  fits <- kw("work_of")(cmp)$settings$fit
  expect_setequal(unique(cmp$results$candidate[held]), 1:2)
  expect_lt(length(unique(fits[held])), 12)
  expect_true(all(kw("best_settings")(cmp, 3) %in% held))
  for (at in kw("best_settings")(cmp, 3)) {
    expect_identical(kw("kept_predictions")(cmp, at), kw("kept_predictions")(whole, at))
  }
  # they were not asked for
  expect_null(cmp$results$predictions)
  expect_null(cmp$ledger$predictions)
  # of a path the journal has its best value only
  stored <- in_journal(journal, function(con) {
    DBI::dbGetQuery(con, "SELECT count(prediction) AS n FROM fits")$n
  })
  expect_identical(as.integer(stored), length(unique(fits[held])) * 4L)
  chosen <- function(cmp) select_final(cmp)[c("at", "mean", "sd")]
  expect_silent(first <- chosen(cmp))
  expect_equal(chosen(whole), first, tolerance = 1e-12)
  expect_identical(chosen(quiet_run(plan, workers = 2)), first)
  expect_silent(again <- chosen(open_comparison(journal)))
  expect_identical(again, first)
  opened <- open_comparison(journal)
  beside <- setdiff(which(fits %in% fits[held]), kw("best_settings")(cmp, length(fits)))
  expect_gt(length(beside), 0)
  expect_null(kw("kept_predictions")(opened, beside[1]))
  # gone on with, after some of it was lost
  change_rows(journal, "DELETE FROM fits WHERE substr(fit, 1, 1) < '8'")
  resumed <- quiet_run(plan, workers = 1, journal = journal)
  expect_silent(again <- chosen(resumed))
  expect_equal(again, first, tolerance = 1e-12)
  # where they are too many for the memory the best so far are held, then none
  for (most in c(40, 3) * 90 * 8) {
    local_stand_in("most_held_bytes", most)
    little <- quiet_run(plan, workers = 1)
    expect_lte(length(little$results$held), length(cmp$results$held))
    expect_equal(suppressMessages(chosen(little)), first, tolerance = 1e-12)
  }
  expect_lt(length(little$results$held), length(cmp$results$held))
  # settings with some scores only have no say
  short <- quiet_run(plan, workers = 1, limits = limits(settings = 3))
  expect_s3_class(suppressMessages(select_final(short)), "kw_choice")
})

test_that("of equally good values along a path, and under constraints, what is blended is held", {
  held_of <- function(penalty, provided, leads) {
    plan <- plan_comparison(job, candidates(
      tree = pipeline(pre_minimal(), fam_tree(pruning = among(0.005, 0.01))),
      penalised = fam_penalised(penalty = among(penalty))
    ), splits = split_kfold(4), metrics = c("accuracy", "recall"), provided = provided, seed = 1)
    plan$rule <- list(name = "best_mean", margin = NULL, blend = TRUE)
    journal <- journal_file()
    cmp <- quiet_run(plan, workers = 1, journal = journal)
    opened <- open_comparison(journal)
    table <- standings(cmp)
    expect_identical(table$setting[table$candidate == "penalised"][1], leads)
    for (at in kw("best_settings")(cmp, 3)) {
      expect_length(kw("kept_predictions")(opened, at), 4)
      expect_identical(kw("kept_predictions")(opened, at), kw("kept_predictions")(cmp, at))
    }
    expect_silent(chosen <- select_final(opened)[c("at", "mean")])
    expect_identical(chosen, select_final(cmp)[c("at", "mean")])
  }
  # all call every pot sound
  held_of(c(0.1, 1, 10), NULL, 3L)
  # the second is better, and finds too few
  held_of(c(0.001, 0.015), "recall >= 0.17", 1L)
})

test_that("where nothing is scored in full, or meets the constraints, there is nothing to hold", {
  never <- define_family("never", kinds = "number",
    fit = function(x, y, weights, settings, seed, threads) stop("not today"),
    predict = function(model, x) rep(0, nrow(x))
  )
  run <- function(..., provided = NULL) {
    plan <- plan_comparison(toy_brief("number"), candidates(...),
      splits = split_kfold(3), provided = provided, seed = 1
    )
    plan$rule <- list(name = "best_mean", margin = NULL, blend = TRUE)
    quiet_run(plan, workers = 1, journal = journal_file())
  }
  expect_error(run(a = pipeline(pre_minimal(), never())), "not today", class = "kw_error")
  cmp <- run(tree = fam_tree(), base = fam_baseline(), provided = "rmse <= 0")
  expect_true(all(is.na(standings(cmp)$place)))
})

test_that("a blend that is planned and cannot be made says why; unknown names are refused", {
  once <- quiet_run(read_plan(planned_blend(c("splits: {holdout: {draws: 1}}", "blend: yes",
    "rule: best_mean"))), workers = 1)
  choice <- select_final(once)
  expect_match(choice$reason, "Nothing was blended: There is one split only")
  expect_identical(choice$at, select_final(once, blend = FALSE)$at)
  named <- read_plan(planned_blend("blend: [tree, line]"))
  expect_identical(named$rule$blend, c("tree", "line"))
  expect_output(print(named), "one_se, among all and a blend of the best of tree, line")
  expect_error(read_plan(planned_blend("blend: [tree, lien]")), "line")
  expect_error(read_plan(planned_blend("blend: {tree: 1}")), class = "kw_error_plan_file")
})

test_that("bad input says what to do", {
  # values along a path come from one fit
  expect_error(blend(cmp, "tree"), "of two settings or more")
  expect_error(blend(cmp, c("tree", "forrest")), "forrest")
  expect_error(blend(cmp, name = "tree"), "already")
  expect_error(blend(blend(cmp), c("tree", "blend"), name = "more"), "cannot be part of a blend")
  corrected <- quiet_run(job, rivals,
    splits = split_bootstrap(5, "632plus"), seed = 1, metrics = "log_loss"
  )
  expect_error(blend(corrected), "Use folds, or plain draws")
  spread <- quiet_run(brief(toy(), "number", quantiles = c(0.1, 0.9), ignore = c("two", "three")),
    candidates(a = fam_linear(), b = fam_baseline()), splits = split_kfold(3), seed = 1
  )
  expect_error(blend(spread, c("a", "b")), "by = \"mean\"")
  expect_error(blend(cmp, by = "median"), "weights")
  once <- quiet_run(job, rivals, splits = split_holdout(0.3, draws = 1), seed = 1)
  expect_error(blend(once), class = "kw_error_splits")
  expect_true("blend" %in% standings(blend(once, by = "mean", quiet = TRUE))$candidate)
})

test_that("a blend's file says which of its members keep training rows", {
  two <- quiet_run(toy_brief("number"), candidates(
    near = fam_neighbours(), linear = fam_linear()
  ), splits = split_kfold(3), seed = 1, keep = "all_predictions")
  mixed <- blend(two, by = "mean")
  holds <- function(candidate) {
    file <- withr::local_tempfile(fileext = ".kilnwright")
    save_model(fit_final(select_final(mixed, "best_mean", candidate = candidate)), file)
    unlist(jsonlite::fromJSON(unz(file, "manifest.json"))$holds_rows)
  }
  expect_identical(holds("near"), "fam_neighbours")
  expect_identical(holds("blend"), "fam_neighbours")
  expect_length(holds("linear"), 0)
})
