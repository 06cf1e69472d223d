# Minutes as a budget: what would not be done in time is not begun, and there is a model at any
# stop.

# Four fits of two candidates, `slow` ones and quick ones, on three splits.
timed_schedule <- function(slow = 4, quick = 0.5, splits = 3, hopeful = FALSE) {
  plan <- plan_comparison(
    brief(toy(60)[c("x1", "number")], "number"),
    candidates(quick = fam_tree(min_leaf = among(1, 2)), slow = fam_tree(min_leaf = among(3, 4))),
    splits = split_kfold(splits), seed = 1
  )
  work <- kw("compile_work")(plan$spaces, lapply(plan$round, `[[`, "settings"))
  takes <- c(quick, slow)[work$fits$candidate]
  schedule <- kw("new_schedule")(
    work, matrix(TRUE, 4, splits), timed = TRUE, hopeful = hopeful
  )
  learn <- function(unit) {
    schedule$learn(list(
      steps = kw("new_steps")(), fit = unit$fits, seconds = takes[unit$fits],
      share = rep(unit$share, length(unit$fits))
    ))
    sum(takes[unit$fits])
  }
  list(schedule = schedule, learn = learn, candidate = work$fits$candidate)
}

# What is done within some seconds by one process: fits x splits.
done_within <- function(seconds, ...) {
  made <- timed_schedule(...)
  done <- NULL
  left <- seconds
  while (!is.null(unit <- made$schedule$take(workers = 1L, seconds = left))) {
    left <- left - made$learn(unit)
    done <- rbind(done, cbind(fit = unit$fits, split = unit$split))
  }
  list(
    splits = tabulate(done[, "fit"], 4), left = left, empty = made$schedule$empty(),
    order = made$candidate[done[, "fit"]]
  )
}

test_that("settings that would not be scored in full in time are not begun", {
  all <- done_within(60)
  expect_identical(all$splits, rep(3L, 4))
  expect_true(all$empty)
  # 4.5 s tell what fits take; 2.5 s end the quick ones, the slow ones would need 20 more
  short <- done_within(10)
  expect_identical(sort(short$splits), c(0L, 1L, 3L, 3L))
  expect_false(short$empty)
  expect_gte(short$left, 0)
  # one slow setting, but not both
  some <- done_within(20)
  expect_identical(sort(some$splits), c(0L, 3L, 3L, 3L))
  expect_gte(some$left, 0)
  # for a slow one 8.8 s are left, and 8 expected: begun only by who hopes that it takes no longer
  expect_identical(done_within(14.3)$splits[3:4], c(0L, 1L))
  hopeful <- done_within(14.3, hopeful = TRUE)
  expect_identical(hopeful$splits[3:4], c(0L, 3L))
  expect_gte(hopeful$left, 0)
})

test_that("a fit is not begun where there is no time for the step before it", {
  plan <- plan_comparison(brief(toy(60)[c("x1", "number")], "number"),
    candidates(a = pipeline(pre_scale(), fam_tree(min_leaf = among(1, 2)))),
    splits = split_kfold(3), seed = 1
  )
  work <- kw("compile_work")(plan$spaces, lapply(plan$round, `[[`, "settings"))
  schedule <- kw("new_schedule")(work, matrix(TRUE, 2, 3), timed = TRUE)
  unit <- schedule$take(seconds = 60)
  schedule$learn(list(
    steps = kw("new_steps")(1L, unit$split, 1, 5, "pre_scale", list("")), fit = unit$fits,
    seconds = rep(0.1, length(unit$fits)), share = rep(1, length(unit$fits))
  ))
  expect_null(schedule$take(seconds = 3))
  schedule$learn(list(
    steps = kw("new_steps")(), fit = integer(), seconds = numeric(), share = numeric()
  ))
  expect_false(is.null(schedule$take(seconds = 30)))
})

test_that("one setting of every candidate comes before two more, and cheap ones first", {
  order <- done_within(60)$order
  # a pilot of each, then the first of the quick candidate on the other splits
  expect_identical(order[1:4], c(1L, 2L, 1L, 1L))
  expect_identical(order[5:6], c(2L, 2L))
})

test_that("costs are learned, by share of the rows, and passed on to other fits", {
  plan <- plan_comparison(
    toy_brief(), candidates(f = fam_tree(min_leaf = among(1, 2, 5))), splits = split_kfold(3),
    seed = 1
  )
  work <- kw("compile_work")(plan$spaces, lapply(plan$round, `[[`, "settings"))
  costs <- kw("new_costs")(work)
  expect_identical(costs$of(1:3), rep(NA_real_, 3))
  costs$learn(list(steps = kw("new_steps")(), fit = 1:2, seconds = c(1, 3), share = c(1, 1)))
  expect_equal(costs$of(1:3), c(1, 3, 2))
  expect_true(all(costs$at_most(1:2) > costs$of(1:2)))
  # after few fits the quickest tells, since the first of a process are its slowest
  expect_equal(costs$at_most(3), 1.25)
  # fewer rows take at most the same, more rows more, but less than in proportion
  expect_equal(costs$at_most(1, share = 0.1), costs$at_most(1))
  costs$learn(list(steps = kw("new_steps")(), fit = 3L, seconds = 0.5, share = 0.1))
  expect_equal(costs$of(3, share = 0.1), 0.5)
  more <- costs$at_most(3, share = 0.2) / costs$at_most(3, share = 0.1)
  expect_true(more > 1 && more <= 2)
})

fam_patient <- define_family("patient",
  kinds = "number", defaults = list(turn = 1, pause = 0.05), complexity_rank = 50,
  fit = function(x, y, weights, settings, seed, threads) {
    # one long pause could not be broken off
    for (part in seq_len(settings$pause * 100)) Sys.sleep(0.01)
    mean(y)
  },
  predict = function(model, x) rep(model, nrow(x))
)

test_that("a run ends with settings that are complete, and a fit that time ran out for is none", {
  rivals <- candidates(b = fam_baseline(), p = fam_patient(turn = among(1:40)))
  for (workers in 1:2) {
    cmp <- quiet_run(
      toy_brief("number"), rivals, splits = split_kfold(5), seed = 1, workers = workers,
      limits = limits(minutes = 4 / 60)
    )
    expect_match(cmp$stopped, "the limit of")
    done <- rowSums(cmp$results$done)
    # where the machine falls asleep at the very end, what is in the making is not done in time
    expect_lte(sum(!done %in% c(0, 5)), workers)
    expect_gte(sum(done == 5), 1)
    expect_identical(nrow(failures(cmp)), 0L)
  }
  cmp <- quiet_run(
    toy_brief("number"), candidates(b = fam_baseline(), p = fam_patient(pause = 60)),
    splits = split_kfold(5), seed = 1, workers = 1, limits = limits(minutes = 1 / 60)
  )
  expect_identical(standings(cmp)$candidate[standings(cmp)$place %in% 1L], "b")
  expect_identical(nrow(failures(cmp)), 0L)
})

test_that("where time is too short for anything, the simplest setting is there, and it is said", {
  rivals <- candidates(f = fam_forest(min_node = among(1, 5)), b = fam_baseline())
  for (workers in 1:2) {
    cmp <- quiet_run(
      toy_brief(), rivals, splits = split_kfold(5), seed = 1, workers = workers,
      limits = limits(minutes = 1e-9)
    )
    expect_match(cmp$stopped, "too short for anything but the simplest setting")
    expect_identical(standings(cmp)$candidate[1], "b")
  }
})

# A clock that fits of `fam_ticking()` move, and each look at it a little: no machine is too slow.
fam_ticking <- define_family("ticking",
  kinds = "number", complexity_rank = 50,
  defaults = list(turn = 1, takes = 0.02, off = 0, shaken = 0),
  fit = function(x, y, weights, settings, seed, threads) {
    options(toy_clock = getOption("toy_clock") + settings$takes)
    # by another amount on every split
    mean(y) + settings$off + settings$shaken * sin(1e3 * sum(x))
  },
  predict = function(model, x) rep(model, nrow(x))
)

local_toy_clock <- function(env = parent.frame()) {
  withr::local_options(toy_clock = 0, .local_envir = env)
  clock <- function() {
    options(toy_clock = getOption("toy_clock") + 1e-5)
    getOption("toy_clock")
  }
  local_stand_in("seconds_now", clock, env)
  clock
}

test_that("a screened run that time runs out for scores the best of what was begun in full", {
  clock <- local_toy_clock()
  rivals <- candidates(
    b = fam_baseline(), t = fam_tree(min_leaf = among(2, 5, 20)),
    p = fam_ticking(turn = among(1:400))
  )
  for (screen in list(screen_splits(), screen_rows())) {
    began <- clock()
    cmp <- quiet_run(
      toy_brief("number"), rivals, splits = split_kfold(5, repeats = 2), seed = 1, workers = 1,
      limits = limits(minutes = 5 / 60), screen = screen
    )
    expect_match(cmp$stopped, "minutes")
    expect_lt(clock() - began, 5 + 0.1)
    table <- standings(cmp, level = "all")
    expect_true(all(table$splits[!is.na(table$place)] == 10))
    # of all others it is said why they have no place
    expect_identical(is.na(table$why), !is.na(table$place))
    expect_match(table$why[table$splits == 0 & is.na(table$share)], "stopped by the limit of")
    expect_true(all(c("b", "t") %in% table$candidate[!is.na(table$place)]))
  }
})

test_that("what is dear and bad is dropped soon, also where it could hardly be scored in full", {
  clock <- local_toy_clock()
  # nine tenths of the time for the dear one, whose scores differ much from split to split
  run <- function(off, level = 0.85) {
    began <- clock()
    cmp <- quiet_run(
      toy_brief("number"),
      candidates(
        quick = fam_ticking(off = 40), fair = fam_ticking(off = 40, shaken = 5),
        dear = fam_ticking(off = off, shaken = 20, takes = 1)
      ),
      splits = split_kfold(10, repeats = 3), seed = 1, workers = 1,
      limits = limits(minutes = 32 / 60), screen = screen_splits(level = level, at_least = 1)
    )
    expect_lt(clock() - began, 32)
    table <- standings(cmp, level = "all")
    list(took = clock() - began, dear = table[table$candidate == "dear", ])
  }
  found <- run(off = 50)
  expect_lt(found$took, 16)
  expect_lt(found$dear$splits, 15)
  expect_match(found$dear$why, "clearly worse")
  # where a screen drops nothing it is not finished, since it is behind
  found <- run(off = 50, level = 0.9999)
  expect_lt(found$dear$splits, 30)
  # but it is where it leads
  found <- run(off = 20, level = 0.9999)
  expect_identical(found$dear$place, 1L)
})

# Asks for a setting of the first candidate and one of the second in turn, later of the first only.
search_in_turn <- define_search("in_turn",
  defaults = list(until = 10, strict = FALSE),
  propose = function(field, history, arguments, memory) {
    if (arguments$strict && anyNA(history$dear$mean)) stop("a mean is missing")
    turn <- if (is.null(memory)) 1 else memory + 1
    if (turn > max(10, 4 * arguments$until)) return(NULL)
    name <- field$candidates[if (turn <= arguments$until) 2 - turn %% 2 else 1]
    cube <- matrix(turn / 50, 1, nrow(field$dimensions(name)))
    list(settings = stats::setNames(list(field$from_cube(name, cube)), name), memory = turn)
  }
)

test_that("where there is no time for what a search asks for, it is asked for something else", {
  rivals <- candidates(
    dear = fam_ticking(turn = from_to(1, 9), takes = 1), quick = fam_ticking(turn = from_to(1, 9))
  )
  clock <- local_toy_clock()
  run <- function(search, seconds) {
    began <- clock()
    cmp <- quiet_run(
      toy_brief("number"), rivals, splits = split_kfold(5), search = search, metrics = "rmse",
      seed = 1, workers = 1, limits = limits(minutes = seconds / 60)
    )
    expect_lt(clock() - began, seconds)
    expect_match(cmp$stopped, "minutes")
    cmp
  }
  complete <- function(cmp) {
    tabulate(cmp$results$candidate[rowSums(!cmp$results$done) == 0], 2)
  }
  # two that are dear, and all that are quick
  expect_identical(complete(run(search_in_turn(), 14)), c(2L, 5L))
  expect_identical(complete(run(search_in_turn(), 6.5)), c(1L, 5L))
  # where all is dear that it asks for, it is not asked for ever
  cmp <- run(search_in_turn(until = 3), 14)
  expect_identical(complete(cmp), c(2L, 1L))
  expect_lt(length(cmp$rounds), 10)
  # searches that learn leave alone what there was no time for
  for (search in list(search_guided(30), search_evolve(30))) {
    cmp <- run(search, 14)
    expect_lte(sum(rowSums(cmp$results$done) == 0), 4)
    expect_gt(complete(cmp)[2], 20)
    expect_match(paste(summary(cmp), collapse = " "),
      sprintf("looked at %d of the 30 settings that it asked for",
        sum(rowSums(cmp$results$done) > 0)))
  }
  # a search that cannot do with what was not scored costs nothing of what was
  expect_warning(cmp <- run(search_in_turn(strict = TRUE), 14), "a mean is missing",
    class = "kw_warning_search")
  expect_identical(complete(cmp), c(2L, 2L))
})
