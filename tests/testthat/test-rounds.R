# Searches of several rounds, and the one record that all rounds write into.

# Two rounds: three penalties, then two between the best and its neighbours.
search_two_rounds <- define_search("two_rounds", propose = function(field, history, arguments,
                                                                    memory) {
  if (!is.null(memory)) return(NULL)
  if (is.null(history)) {
    cube <- matrix(c(0.1, 0.5, 0.9), 3, 1)
    return(list(settings = list(p = field$from_cube("p", cube))))
  }
  known <- history$p
  best <- field$to_cube("p", known$settings[which.min(known$mean), , drop = FALSE])
  near <- pmin(pmax(rbind(best - 0.2, best + 0.2), 0), 1)
  list(settings = list(p = field$from_cube("p", near)), memory = "done")
})

rounds_plan <- function(search = search_two_rounds(), seed = 3, ...) {
  table <- toy(90)[c("x1", "x2", "number")]
  plan_comparison(brief(table, "number"),
    candidates(
      p = pipeline(pre_scale(), fam_penalised(penalty = from_to(0.001, 1, "log")))
    ),
    splits = split_kfold(4), search = search, metrics = c("rmse", "mae"), seed = seed, ...
  )
}

test_that("a second round sees the scores of the first, and both are in the standings", {
  cmp <- quiet_run(rounds_plan(), workers = 1)
  expect_identical(cmp$results$round, rep(1:2, c(3, 2)))
  found <- standings(cmp)
  expect_identical(sort(found$place), 1:5)
  first <- found[found$setting <= 3, ]
  best <- log(first$penalty[which.min(first$mean)] / 0.001) / log(1000)
  later <- log(found$penalty[found$setting > 3] / 0.001) / log(1000)
  expect_equal(sort(later), sort(pmin(pmax(best + c(-0.2, 0.2), 0), 1)), tolerance = 1e-4)
})

test_that("a path's values mean what the path of their own round makes of them, in a refit too", {
  plan <- rounds_plan()
  cmp <- quiet_run(plan, workers = 1, keep = "all_predictions")
  rows <- rows_by_split(cmp)
  table <- plan$brief$table
  for (at in seq_along(cmp$results$candidate)) {
    kept <- kw("setting_predictions")(cmp, at)
    again <- kw("new_refit")(cmp, at)
    for (s in seq_along(rows)) {
      split <- plan$splits[[s]]
      refitted <- suppressWarnings(again$fit(split$training, split$key))
      expect_identical(
        refitted$predict(kw("frame_rows")(again$data$frame, split$validation)), kept[[s]]
      )
    }
    # by hand: glmnet along the penalties of this round alone
    mine <- cmp$results$tables$p$penalty[cmp$results$round == cmp$results$round[at]]
    s <- rows[[1]]
    x <- scale(as.matrix(table[s$training, c("x1", "x2")]))
    new <- scale(
      as.matrix(table[s$validation, c("x1", "x2")]), attr(x, "scaled:center"),
      attr(x, "scaled:scale")
    )
    y <- table$number[s$training]
    unit <- sqrt(mean((y - mean(y))^2))
    fit <- glmnet::glmnet(x, y,
      alpha = 0.5, standardize = FALSE, lambda = sort(mine, decreasing = TRUE) * unit
    )
    value <- cmp$results$tables$p$penalty[at]
    column <- match(value, sort(mine, decreasing = TRUE))
    expect_equal(
      kept[[1]], as.vector(predict(fit, new)[, column]), tolerance = 1e-10
    )
  }
})

test_that("rounds are the same on workers, from a journal, after a break, and on opening", {
  plan <- rounds_plan()
  plain <- quiet_run(plan, workers = 1)
  same_numbers(quiet_run(plan, workers = 2), plain)
  file <- journal_file()
  cmp <- quiet_run(plan, workers = 1, journal = file)
  same_numbers(cmp, plain)
  opened <- open_comparison(file, trust = TRUE)
  same_numbers(opened, cmp)
  expect_null(opened$stopped)
  expect_identical(opened$results$round, cmp$results$round)
  expect_identical(opened$rounds, cmp$rounds)
  expect_equal(time_spent(opened), time_spent(cmp), tolerance = 1e-9)
  expect_gt(time_spent(opened)$seconds[1], 0)
  # the search's own code is not needed to read what it tried
  same_numbers(open_comparison(file), plain)
  change_rows(file, "DELETE FROM fits WHERE split IN (SELECT split FROM fits LIMIT 1)")
  same_numbers(quiet_run(plan, workers = 1, journal = file), plain)
  same_numbers(open_comparison(file), plain)
})

test_that("a journal of which a round is lost says so, and is mended by the same call", {
  plan <- rounds_plan()
  file <- journal_file()
  cmp <- quiet_run(plan, workers = 1, journal = file)
  for (damage in c(
    "UPDATE rounds SET round = replace(round, '0', '1') WHERE number = 2",
    "DELETE FROM rounds WHERE number = 2", "DELETE FROM rounds WHERE number = 1"
  )) {
    copy <- journal_file()
    file.copy(file, copy)
    change_rows(copy, damage)
    expect_warning(opened <- open_comparison(copy), "is lost", class = "kw_warning_journal")
    expect_match(opened$stopped, "journal's state")
    expect_identical(nrow(standings(opened)), 3L)
    same_numbers(quiet_run(plan, workers = 1, journal = copy), cmp)
    same_numbers(open_comparison(copy), cmp)
  }
})

test_that("all of a round is in the journal while a search thinks of the next one", {
  file <- journal_file()
  seen <- withr::local_tempfile()
  withr::local_options(rounds_file = file, rounds_seen = seen)
  looking <- define_search("looking", propose = function(field, history, arguments, memory) {
    turn <- length(memory) + 1L
    if (!is.null(history)) {
      con <- DBI::dbConnect(RSQLite::SQLite(), getOption("rounds_file"), synchronous = NULL)
      on.exit(DBI::dbDisconnect(con))
      rows <- DBI::dbGetQuery(con, "SELECT count(*) AS n FROM fits")$n
      cat(rows, "\n", file = getOption("rounds_seen"), append = TRUE)
    }
    if (turn > 3L) return(NULL)
    settings <- field$from_cube("p", matrix(turn / 4, 1, 1))
    list(settings = list(p = settings), memory = seq_len(turn))
  })
  cmp <- quiet_run(rounds_plan(looking()), workers = 1, journal = file)
  splits <- length(cmp$plan$splits)
  expect_identical(scan(seen, quiet = TRUE), c(1, 2, 3) * splits)
})

test_that("what later rounds have in common with earlier ones is learned once for the run", {
  rounds <- define_search("six", defaults = list(n = 6), propose = function(field, history,
                                                                           arguments, memory) {
    turn <- if (is.null(memory)) 1 else memory + 1
    if (turn > arguments$n) return(NULL)
    settings <- field$from_cube("t", matrix((turn - 0.5) / arguments$n, 1, 1))
    list(settings = list(t = settings), memory = turn)
  })
  plan <- plan_comparison(
    toy_brief(), candidates(t = pipeline(
      pre_missing(), pre_onehot(), fam_tree(min_leaf = among(2, 4, 6, 8, 10, 12))
    )),
    splits = split_kfold(3), search = rounds(), metrics = "auc", seed = 5
  )
  grid <- kw("plan_like")(plan, search = search_grid())
  several <- quiet_run(plan, workers = 1)
  once <- quiet_run(grid, workers = 1)
  expect_identical(max(several$results$round), 6L)
  expect_length(once$ledger$steps$node, 2L * 3L)
  expect_length(several$ledger$steps$node, 2L * 3L)
  scores <- function(cmp) unname(cmp$results$scores$auc[order(cmp$results$tables$t$min_leaf), ])
  expect_identical(scores(several), scores(once))
})

test_that("a limit of settings comes back from the journal as it was, and can be lifted", {
  table <- toy(90)[c("x1", "x2", "number")]
  plan <- plan_comparison(
    brief(table, "number"),
    candidates(p = fam_penalised(penalty = from_to(0.001, 1, "log", points = 20))),
    splits = split_kfold(3), metrics = "rmse", seed = 4
  )
  file <- journal_file()
  part <- quiet_run(plan, workers = 1, journal = file, limits = limits(settings = 8))
  opened <- open_comparison(file)
  same_numbers(opened, part)
  expect_identical(nrow(standings(opened)), 8L)
  expect_identical(opened$stopped, part$stopped)
  expect_match(opened$stopped, "limit of 8 settings")
  whole <- quiet_run(plan, workers = 1)
  # the path is that of all declared values, so that a limit changes no score
  expect_identical(part$results$scores$rmse, whole$results$scores$rmse[1:8, ])
  same_numbers(quiet_run(plan, workers = 1, journal = file), whole)
  same_numbers(open_comparison(file), whole)
})

test_that("a journal can be extended, and holds the whole then", {
  table <- toy(90)[c("x1", "x2", "number")]
  job <- brief(table, "number")
  plan <- plan_comparison(
    job, candidates(b = fam_baseline(), t = fam_tree(pruning = among(0, 0.1))),
    splits = split_kfold(3), metrics = "rmse", seed = 4
  )
  more <- candidates(p = pipeline(pre_scale(), fam_penalised(penalty = among(0.01, 0.1))))
  file <- journal_file()
  cmp <- quiet_run(plan, workers = 1, journal = file)
  took <- system.time(
    both <- extend_comparison(cmp, more, journal = file, workers = 1, quiet = TRUE)
  )[["elapsed"]]
  opened <- open_comparison(file)
  same_numbers(opened, both)
  expect_null(opened$stopped)
  expect_equal(time_spent(opened), time_spent(both), tolerance = 1e-9)
  other <- journal_file()
  again <- extend_comparison(cmp, more, journal = other, workers = 1, quiet = TRUE)
  same_numbers(again, both)
  same_numbers(open_comparison(other), both)
  together <- quiet_run(plan_comparison(job, do.call(c, list(plan$candidates, more)),
    splits = split_kfold(3), metrics = "rmse", seed = 4
  ), workers = 1)
  expect_identical(standings(both)$mean, standings(together)$mean)
  # the time that the first run took counts once
  expect_lte(both$seconds, cmp$seconds + took + 0.1)
  expect_gte(both$results$spent[["units"]], cmp$results$spent[["units"]])
  expect_gte(both$seconds, cmp$seconds)
  # twice
  third <- extend_comparison(both, candidates(l = fam_linear()), journal = file, quiet = TRUE)
  same_numbers(open_comparison(file), third)
  expect_identical(nrow(standings(third)), 6L)
})

test_that("what is forgotten is gone from the record and the journal, and done again on resume", {
  plan <- rounds_plan(search_grid(4))
  file <- journal_file()
  journal <- kw("open_journal")(file, plan)
  sink <- kw("new_sink")(plan, function(event) NULL, journal)
  work <- kw("compile_work")(plan$spaces, lapply(plan$round, `[[`, "settings"))
  run <- kw("new_run")(plan, work, kw("working_data")(plan$brief), "none", limits())
  journal$round(list(tables = work$tables), 1L, plan)
  sink$grow(work)
  for (split in 1:4) sink$take(kw("timed_unit")(run, split, 1L)$ledger)
  sink$take(kw("run_unit")(run, 2L, 1L, share = 0.5))
  sink$take(kw("run_unit")(run, 3L, 1L, share = 0.5))
  sink$forget(list(fits = 1L, split = 3L, share = 0.5))
  expect_identical(sink$ledger()$split[sink$ledger()$share < 1], 2L)
  sink$forget(list(fits = 1L, split = 2L, share = 1))
  expect_identical(sort(sink$ledger()$split[sink$ledger()$share == 1]), c(1L, 3L, 4L))
  expect_true(all(is.na(sink$results()$scores$rmse[, 2])))
  expect_true(all(is.finite(sink$results()$scores$rmse[, -2])))
  journal$close()
  expect_identical(count_rows(file), (3L + 1L) * 4L)
  same_numbers(quiet_run(plan, workers = 1, journal = file), quiet_run(plan, workers = 1))
})

test_that("searches that go wrong say what they did", {
  search <- function(propose) define_search("mine", propose)()
  refused <- function(propose, text) {
    expect_error(quiet_run(rounds_plan(search(propose))), text, class = "kw_error_search")
  }
  refused(function(field, history, arguments, memory) stop("no idea"), "no idea")
  refused(function(field, history, arguments, memory) 3, "a list by candidate")
  refused(function(field, history, arguments, memory) list(settings = list(q = 1)), "'q'")
  refused(
    function(field, history, arguments, memory) list(settings = list(p = 1)), "no table"
  )
  refused(function(field, history, arguments, memory) {
    list(settings = list(p = data.frame(penalty = 7)))
  }, "penalty = 7, which is not among")
  refused(function(field, history, arguments, memory) {
    list(settings = list(p = data.frame(penalty = 0.1, depth = 2)))
  }, "with 'depth'")
  refused(function(field, history, arguments, memory) NULL, "proposes nothing")
  # one and the same for ever
  same <- search(function(field, history, arguments, memory) {
    list(settings = list(p = data.frame(penalty = c(0.1, 0.1))))
  })
  cmp <- quiet_run(rounds_plan(same), workers = 1)
  expect_identical(nrow(standings(cmp)), 1L)
  # never ends by itself
  endless <- search(function(field, history, arguments, memory) {
    list(settings = list(p = field$from_cube("p", matrix(stats::runif(2)))))
  })
  for (n in c(7L, 8L)) {
    cmp <- quiet_run(rounds_plan(endless), workers = 1, limits = limits(settings = n))
    expect_identical(nrow(standings(cmp)), n)
    expect_identical(max(cmp$results$round), 4L)
    expect_match(cmp$stopped, paste("limit of", n))
  }
})

# Nine settings on two splits; the best four on a half of the rows of the others; the best one of
# those in full. What it was told is kept in `memory`.
search_narrowing <- define_search("narrowing",
  defaults = list(finish = TRUE),
  propose = function(field, history, arguments, memory) {
    splits <- field$splits
    if (is.null(history)) {
      cube <- matrix(seq(0.05, 0.95, length.out = 9), 9, nrow(field$dimensions("tree")))
      settings <- list(tree = field$from_cube("tree", cube))
      return(list(settings = settings, splits = splits[1:2], memory = 1))
    }
    known <- history$tree
    part <- known$partial
    if (memory == 1) {
      best <- order(rowMeans(known$scores[, 1:2]))[1:4]
      settings <- list(tree = known$settings[best, , drop = FALSE])
      last <- tail(splits, 2)
      each <- list(tree = list(last, last, last[1], last[2]))
      return(list(settings = settings, splits = each, share = 0.5, memory = 2))
    }
    if (memory == 2 && arguments$finish) {
      both <- names(which(table(part$setting) == 2))
      means <- vapply(both, function(i) mean(part$score[part$setting == i]), 1)
      at <- as.integer(both[which.min(means)])
      settings <- list(tree = known$settings[at, , drop = FALSE])
      return(list(settings = settings, splits = splits, memory = 3))
    }
    NULL
  }
)

narrowing_plan <- function(seed = 3, ...) {
  table <- toy(90)[c("x1", "x2", "number")]
  plan_comparison(brief(table, "number"),
    candidates(base = fam_baseline(), tree = fam_tree(min_leaf = from_to(2, 30))),
    splits = split_kfold(4),
    search = list(tree = search_narrowing(...), search_grid()), metrics = "rmse", seed = seed
  )
}

test_that("a search asks for single splits and shares of the rows, and for more where it wants", {
  plan <- narrowing_plan()
  # the baseline on 4 splits, 9 trees on 2
  seen <- preview(plan)
  expect_equal(c(seen$settings, seen$fits, seen$scores), c(10, 22, 22))
  expect_equal(seen$candidates$seconds, seen$candidates$fit_seconds * c(4, 18))
  expect_output(print(seen), "4 splits, in part at first: 22 scores", fixed = TRUE)
  cmp <- quiet_run(plan, workers = 1)
  ledger <- cmp$ledger
  # the only fit of the baseline is the first one
  mine <- ledger$fit > 1L
  expect_identical(sum(mine & ledger$share == 0.5), 6L)
  found <- standings(cmp, level = "all")
  whole <- found[!is.na(found$place), ]
  expect_setequal(whole$candidate, c("base", "tree"))
  # nine on two splits, and one of them on the other two
  expect_identical(sum(mine & ledger$share == 1), 9L * 2L + 2L)
  rest <- found[is.na(found$place), ]
  expect_identical(nrow(rest), 8L)
  expect_match(rest$why, "asked for no more", all = TRUE)
  expect_true(all(rest$splits == 2))
  # what it cost to stop there, by hand
  scores <- cmp$results$scores$rmse
  leader <- which(rowSums(is.na(scores)) == 0)
  leader <- leader[which.min(rowMeans(scores[leader, ]))]
  at <- match(rest$setting, cmp$results$row * (cmp$results$candidate == 2))
  known <- !is.na(scores[at[1], ])
  expect_equal(rest$behind[1], mean(scores[at[1], known] - scores[leader, known]))
  expect_equal(
    standings(quiet_run(plan, workers = 1, keep = "training_scores"))$mean, standings(cmp)$mean
  )
})

test_that("what was asked for in part is the same on workers, from a journal, after a break", {
  plan <- narrowing_plan()
  plain <- quiet_run(plan, workers = 1)
  same_numbers(quiet_run(plan, workers = 2), plain)
  file <- journal_file()
  same_numbers(quiet_run(plan, workers = 1, journal = file), plain)
  opened <- open_comparison(file, trust = TRUE)
  same_numbers(opened, plain)
  expect_null(opened$stopped)
  about <- c("place", "candidate", "setting", "so_far", "share", "behind", "why")
  expect_identical(standings(opened, level = "all")[about], standings(plain, level = "all")[about])
  change_rows(file, "DELETE FROM fits WHERE substr(fit, 1, 1) < '8'")
  same_numbers(quiet_run(plan, workers = 2, journal = file), plain)
})

test_that("what a screen dropped and what a search left are told apart, and told once", {
  mixed <- define_search("mixed", propose = function(field, history, arguments, memory) {
    cubes <- list(seq(0.02, 0.98, length.out = 12), seq(0.05, 0.95, length.out = 4))
    turn <- if (is.null(memory)) 1 else memory + 1
    if (turn > 2) return(NULL)
    settings <- list(tree = field$from_cube("tree", matrix(cubes[[turn]])))
    c(list(settings = settings, memory = turn), if (turn == 2) list(splits = field$splits[1:3]))
  })
  table <- toy(120)[c("x1", "x2", "number")]
  cmp <- quiet_run(plan_comparison(brief(table, "number"),
    candidates(tree = fam_tree(min_leaf = from_to(2, 60))), splits = split_kfold(6),
    search = mixed(), screen = screen_splits(level = 0.6, at_least = 2), metrics = "rmse", seed = 2
  ), workers = 1)
  gone <- cmp$results$dropped
  expect_false(anyDuplicated(gone$at) > 0)
  asked <- grepl("asked for no more", gone$why)
  expect_true(any(asked) && any(!asked))
  expect_identical(cmp$results$round[gone$at], ifelse(asked, 2L, 1L))
})

test_that("a limit of settings does not keep a search from more splits of what it knows", {
  full <- quiet_run(narrowing_plan(), workers = 1)
  limited <- quiet_run(narrowing_plan(), workers = 1, limits = limits(settings = 10))
  same_numbers(limited, full)
})

test_that("a search that wants nothing in full leaves a model all the same", {
  cmp <- quiet_run(narrowing_plan(finish = FALSE), workers = 1)
  expect_identical(select_final(cmp)$at, 1L)
  only <- search_narrowing(finish = FALSE)
  table <- toy(90)[c("x1", "x2", "number")]
  alone <- quiet_run(plan_comparison(brief(table, "number"),
    candidates(tree = fam_tree(min_leaf = from_to(2, 30))),
    splits = split_kfold(4), search = only, metrics = "rmse", seed = 3
  ), workers = 1)
  expect_identical(sum(!is.na(standings(alone, level = "all")$place)), 1L)
})

test_that("what a search may not ask for is said", {
  asks <- function(...) {
    given <- list(...)
    search <- define_search("asks", defaults = list(splits = NULL, share = NULL),
      propose = function(field, history, arguments, memory) {
        if (!is.null(history)) return(NULL)
        settings <- list(p = field$from_cube("p", matrix(c(0.2, 0.8), 2, 1)))
        c(list(settings = settings), arguments)
      }
    )
    rounds_plan(do.call(search, given))
  }
  expect_error(asks(splits = 11), "split 11", class = "kw_error_search")
  expect_error(asks(splits = "1"), "split 1", class = "kw_error_search")
  expect_error(asks(splits = list(p = list(1))), "for 1 setting", class = "kw_error_search")
  expect_error(asks(share = 0), "share", class = "kw_error_search")
  expect_error(asks(share = list(p = c(0.5, 0.7, 1))), "share", class = "kw_error_search")
  expect_error(asks(splits = integer()), "no split", class = "kw_error_search")
})

test_that("a search of parts keeps to its contract, and to the minutes", {
  checks <- try_out(search_narrowing(), brief(toy(90)[c("x1", "x2", "number")], "number"))
  expect_true(all(checks$passed), info = toString(checks$detail[!checks$passed]))
  timed <- quiet_run(narrowing_plan(), workers = 1, limits = limits(minutes = 5))
  expect_equal(standings(timed)$mean, standings(quiet_run(narrowing_plan(), workers = 1))$mean)
})
