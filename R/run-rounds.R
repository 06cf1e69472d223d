# The conversation with searches: which settings are tried together, in which stages, and what
# searches are told of them.

with_round <- function(rounds, round, plan, journal) {
  if (!is.null(journal)) journal$round(round, length(rounds) + 1L, plan)
  c(rounds, list(round))
}

# Settings that are tried together: tables by candidate; the rows of them that a limit allows,
# or NULL for all; what a screen dropped.
new_round <- function(tables, kept = NULL, dropped = NULL) {
  list(tables = tables, kept = kept, dropped = dropped)
}

# Which settings come next: the plan's first ones, then what the searches propose.
new_round_state <- function(plan, asked, most) {
  seats <- Filter(function(seat) any(seat$candidates %in% asked), plan$seats)
  room <- most
  stopped <- NULL
  first <- TRUE
  list(
    following = function(work, results) {
      if (first) {
        tables <- lapply(plan$round[asked], `[[`, "settings")
        first <<- FALSE
      } else {
        found <- ask_searches(seats, plan, work, results)
        seats <<- found$seats
        tables <- found$tables
      }
      if (all(vapply(tables, nrow, integer(1)) == 0L)) return(NULL)
      kept <- limit_settings(tables, room)
      if (!is.null(kept)) stopped <<- paste0("the limit of ", count_of(most, "setting"))
      if (isTRUE(room == 0)) return(NULL)
      if (!is.null(room)) room <<- room - sum(vapply(tables, nrow, integer(1)))
      new_round(tables, kept)
    },
    stopped = function() stopped
  )
}

# Tells every search how all its settings scored, and asks for more: list(tables, seats).
ask_searches <- function(seats, plan, work, results) {
  history <- search_history(results(), plan)
  found <- propose_all(seats, plan$spaces, plan$metrics[[plan$decide]], history)
  found$tables <- lapply(found$round, `[[`, "settings")
  found
}

# What searches are told, by candidate.
search_history <- function(results, plan) {
  scores <- round_scores(results, plan)
  splits <- if (plan$pooled) seq_len(ncol(scores)) else which(is.na(plan$undefined[[plan$decide]]))
  failed <- logical(length(results$candidate))
  for (one in c(results$failures, results$unscored)) failed[one$settings] <- TRUE
  spread <- spread_of(scores)
  expected <- expected_means(scores, spread$mean)
  lapply(stats::setNames(seq_along(plan$spaces), names(plan$spaces)), function(i) {
    mine <- which(results$candidate == i)
    list(
      settings = results$tables[[i]], mean = spread$mean[mine], sd = spread$sd[mine],
      expected = expected[mine],
      scores = scores[mine, , drop = FALSE], splits = splits,
      seconds = rowSums(results$seconds[mine, , drop = FALSE], na.rm = TRUE),
      failed = failed[mine]
    )
  })
}

# Means; of settings that have some of their scores only, what they would be if the setting went on
# being as far from the others as it was.
expected_means <- function(scores, mean) {
  usual <- colMeans(scores[!is.na(mean), , drop = FALSE])
  apart <- rowMeans(sweep(scores, 2L, usual), na.rm = TRUE)
  expected <- ifelse(is.na(mean), mean(usual) + apart, mean)
  ifelse(is.nan(expected), NA, expected)
}

# What a search learns from: scores by the deciding metric, settings x splits (or
# repeats).
round_scores <- function(results, plan) {
  if (plan$pooled) return(results$pooled[[plan$decide]]$scores)
  results$scores[[plan$decide]][, is.na(plan$undefined[[plan$decide]]), drop = FALSE]
}

# What is new in a round, in the stages of the plan's screen: list(stopped, dropped), NULL or why
# it was stopped, and what the screen dropped.
run_round <- function(
  plan, run, new, earlier_nodes, sink, pool, deadline, limits, journal, shuffle
) {
  sink$grow(run$work)
  if (!is.null(journal)) {
    steps <- steps_of_rows(journal$steps(), run$work, plan$splits)
    fresh <- vapply(steps, function(step) step$node > earlier_nodes, logical(1))
    sink$take(empty_ledger(plan$metrics, steps[fresh]), write = FALSE)
  }
  about <- screen_about(plan, run$work, new)
  screen <- (plan$screen %||% no_screen())$begin(about)
  stopped <- NULL
  dropped <- integer()
  while (is.null(stopped)) {
    stage <- screen$following(if (!is.null(plan$screen)) screen_view(sink$results(), plan))
    gone <- which_settings(about, screen$dropped())
    sink$drop(setdiff(gone, dropped))
    dropped <- gone
    if (is.null(stage)) break
    stopped <- run_stage(plan, run, stage, sink, pool, deadline, journal, shuffle)
  }
  if (identical(stopped, "minutes")) {
    stopped <- paste0("the limit of ", format(limits$minutes), " minutes")
  }
  list(stopped = stopped, dropped = screen$dropped())
}

# Some fits on some splits, on a share of the training rows.
run_stage <- function(plan, run, stage, sink, pool, deadline, journal, shuffle) {
  pending <- matrix(FALSE, length(run$work$fits$node), length(plan$splits))
  pending[stage$fits, stage$splits] <- TRUE
  if (!is.null(journal)) {
    known <- journal_parts(journal$rows(), run$work, sink$names(), pending, stage$share, plan,
      run$wanted)
    for (part in known) {
      sink$take(part, write = FALSE)
      pending[cbind(part$fit, part$split)] <- FALSE
    }
  }
  schedule <- new_schedule(run$work, pending, shuffle, stage$share)
  sink$start(schedule$share_left)
  tryCatch(pool$run(run, schedule, sink, deadline), interrupt = function(e) {
    pool$abandon()
    "an interruption"
  })
}
