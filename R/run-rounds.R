# The conversation with searches: which settings are tried together, in which stages, and what
# searches are told of them.

with_round <- function(rounds, round, plan, journal) {
  if (!is.null(journal)) journal$round(round, length(rounds) + 1L, plan)
  c(rounds, list(round))
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
        round <- plan$round[asked]
        first <<- FALSE
      } else {
        found <- ask_searches(seats, plan, results)
        seats <<- found$seats
        round <- found$round
      }
      if (!has_proposals(round)) return(NULL)
      tables <- lapply(round, `[[`, "settings")
      kept <- limit_settings(tables, room)
      if (!is.null(kept)) stopped <<- paste0("the limit of ", count_of(most, "setting"))
      # of settings that are known more may be wanted
      if (!is.null(kept) && sum(lengths(kept)) == 0L) return(NULL)
      if (!is.null(room)) room <<- room - sum(vapply(tables, nrow, integer(1)))
      new_round(tables, kept, tasks = tasks_of_round(round))
    },
    stopped = function() stopped
  )
}

# Tells every search how all its settings scored, and asks for more: list(round, seats).
ask_searches <- function(seats, plan, results) {
  seconds <- any(vapply(seats, function(seat) isTRUE(seat$search$asks_seconds), NA))
  propose_all(
    seats, plan$spaces, plan$metrics[[plan$decide]], search_history(results(seconds), plan),
    single_splits(plan$pooled, plan$undefined[[plan$decide]]), screened = !is.null(plan$screen)
  )
}

# What searches are told, by candidate.
search_history <- function(results, plan) {
  scores <- round_scores(results, plan)
  splits <- if (plan$pooled) seq_len(ncol(scores)) else which(is.na(plan$undefined[[plan$decide]]))
  failed <- logical(length(results$candidate))
  for (one in c(results$failures, results$unscored)) failed[one$settings] <- TRUE
  spread <- spread_of(scores)
  expected <- expected_means(scores, spread$mean)
  meets <- meet_so_far(results, plan)
  lapply(stats::setNames(seq_along(plan$spaces), names(plan$spaces)), function(i) {
    mine <- which(results$candidate == i)
    part <- frame_of_rows(results$partial, results$partial$setting %in% mine)
    part$setting <- match(part$setting, mine)
    list(
      settings = results$tables[[i]], mean = spread$mean[mine], sd = spread$sd[mine],
      expected = expected[mine],
      scores = scores[mine, , drop = FALSE], splits = splits,
      seconds = rowSums(results$seconds[mine, , drop = FALSE], na.rm = TRUE),
      failed = failed[mine], meets = meets[mine], partial = part
    )
  })
}

# Means; of settings that have some of their scores only, what they would be if the setting went on
# being as far from the others as it was. What diverged is no measure of the others.
expected_means <- function(scores, mean) {
  complete <- is.finite(mean)
  if (!any(complete)) complete[] <- TRUE
  others <- scores[complete, , drop = FALSE]
  others[!is.finite(others)] <- NA
  usual <- colMeans(others, na.rm = TRUE)
  apart <- rowMeans(sweep(scores, 2L, usual), na.rm = TRUE)
  expected <- ifelse(is.na(mean), mean(usual, na.rm = TRUE) + apart, mean)
  ifelse(is.nan(expected), NA, expected)
}

# What a search learns from: scores by the deciding metric, settings x splits (or
# repeats).
round_scores <- function(results, plan) {
  if (plan$pooled) return(results$pooled[[plan$decide]]$scores)
  results$scores[[plan$decide]][, is.na(plan$undefined[[plan$decide]]), drop = FALSE]
}

# Has any setting all the scores that are wanted of every one?
any_scored <- function(results, plan) {
  scores <- round_scores(results, plan)
  if (!is.null(plan$everywhere)) {
    counted <- which(is.na(plan$undefined[[plan$decide]]))
    scores <- scores[, counted %in% plan$everywhere, drop = FALSE]
  }
  any(!is.na(rowMeans(scores)))
}

# What is new in a round, in the stages of the plan's screen, and what searches ask for in parts:
# list(stopped, dropped), NULL or why it was stopped, and what the screen dropped. Before anything
# is looked at in part the simplest setting is scored in full, so that there is a model at any stop,
# and something to compare with. `crew`: who does it and who is told: pool, sink, costs
# (new_costs()), journal, shuffle, deadline.
run_round <- function(plan, run, new, earlier_nodes, crew, tasks = NULL) {
  crew$sink$grow(run$work)
  if (!is.null(crew$journal)) {
    steps <- steps_of_rows(crew$journal$steps(), run$work, plan$splits)
    fresh <- take_steps(steps, steps$node > earlier_nodes)
    crew$sink$take(empty_ledger(plan$metrics, fresh), write = FALSE)
  }
  stopped <- NULL
  if (run$work$rounds == 1L && !(is.null(plan$screen) && is.null(tasks))) {
    first <- simplest_fit(run$work)
    stopped <- run_stage(plan, run, full_stage(first, plan), crew)
    new[first] <- FALSE
  }
  if (!is.null(tasks)) {
    stages <- stages_of_tasks(tasks, run$work, new)
    stopped <- stopped %||% run_parts(plan, run, stages, crew)
    new <- stages$new
  }
  if (!is.null(plan$screen)) return(screen_round(plan, run, new, crew, stopped))
  stopped <- stopped %||% run_stage(plan, run, full_stage(which(new), plan), crew)
  list(stopped = stopped, dropped = NULL)
}

full_stage <- function(fits, plan) list(fits = fits, splits = seq_along(plan$splits), share = 1)

# What a search wants to be scored on some splits or rows, and then what it wants more of.
run_parts <- function(plan, run, stages, crew) {
  for (stage in stages$parts) {
    if (length(stage$splits) == 0L) stage$splits <- seq_along(plan$splits)
    stopped <- run_stage(plan, run, stage, crew, stage_deadline(stage, crew))
    if (!is.null(stopped)) {
      begun <- unique(unlist(lapply(stages$parts, `[[`, "fits")))
      if (stopped == "minutes") finish_best(plan, run, crew, begun)
      return(stopped)
    }
  }
  run_stage(plan, run, full_stage(stages$again, plan), crew)
}

# A first stage may use a part of the time that is left; where there is no time to score in full
# all that it leaves, the best of them are, and nothing else.
screen_round <- function(plan, run, new, crew, stopped) {
  about <- screen_about(plan, run$work, new)
  screen <- plan$screen$begin(about)
  dropped <- integer()
  while (is.null(stopped)) {
    stage <- screen$following(screen_view(crew$sink$results(), plan))
    gone <- which_settings(about, screen$dropped())
    crew$sink$drop(setdiff(gone, dropped))
    dropped <- gone
    if (is.null(stage)) break
    stage <- stage_in_time(stage, plan, run, crew)
    stopped <- if (is.null(stage)) {
      "minutes"
    } else {
      run_stage(plan, run, stage, crew, stage_deadline(stage, crew))
    }
  }
  if (identical(stopped, "minutes")) {
    gone <- run$work$settings$fit[which_settings(about, screen$dropped())]
    finish_best(plan, run, crew, setdiff(about$fits, gone))
  }
  list(stopped = stopped, dropped = screen$dropped())
}

# A stage, or NULL where there is no time for it. There is where all that it leaves can be scored in
# full; else, since it may drop what is dear, where it takes at most half of the time that is left
# once the most promising of it is scored in full.
stage_in_time <- function(stage, plan, run, crew) {
  if (!is.null(stage$part)) return(stage)
  best <- in_budget(stage$fits, plan, run, crew)
  if (length(best) == length(stage$fits)) return(stage)
  if (length(best) == 0L) return(NULL)
  takes <- crew$costs$at_most(stage$fits)
  needs <- max(sum(takes) * length(stage$splits) / crew$pool$processes(), max(takes))
  room <- crew$deadline - seconds_now() - seconds_missing(best[1], plan, run, crew)
  stage$part <- 0.5
  # not where that is unknown of any
  if (isTRUE(needs <= stage$part * room)) stage
}

# Until when fits of a stage are begun.
stage_deadline <- function(stage, crew) {
  now <- seconds_now()
  now + (stage$part %||% 1) * (crew$deadline - now)
}

# Some fits on some splits, on a share of the training rows, but for what is done; `hopeful`: also
# what has no time for any error in what it is expected to take.
run_stage <- function(plan, run, stage, crew, until = crew$deadline) {
  pending <- matrix(FALSE, length(run$work$fits$node), length(plan$splits))
  pending[stage$fits, stage$splits] <- TRUE
  pending[crew$sink$done(stage$share)] <- FALSE
  if (!is.null(crew$journal)) {
    known <- journal_parts(crew$journal$rows(), run$work, crew$sink$names(), pending, stage$share,
      plan, run$wanted)
    for (part in known) {
      crew$sink$take(part, write = FALSE)
      crew$costs$learn(part)
      pending[cbind(part$fit, part$split)] <- FALSE
    }
  }
  if (!any(pending)) return(NULL)
  schedule <- new_schedule(
    run$work, pending, crew$shuffle, stage$share, crew$costs, is.finite(crew$deadline),
    isTRUE(stage$hopeful)
  )
  crew$sink$start(schedule$share_left)
  tryCatch(crew$pool$run(run, schedule, crew$sink, until, crew$deadline), interrupt = function(e) {
    crew$pool$abandon()
    "an interruption"
  })
}

# Where the time is short ------------------------------------------------------------------

simplest_fit <- function(work) {
  which.min(complexity_ranks(work$spaces)[work$fits$candidate])
}

# Scores some fits on all splits: the best of what was begun, as long as there is time for any of
# them; what is left of the time goes to those that were not looked at yet, and then to what may be
# done in time if it takes no longer than expected.
finish_best <- function(plan, run, crew, fits) {
  score <- function(fits, hopeful = FALSE) {
    run_stage(plan, run, c(full_stage(fits, plan), hopeful = hopeful), crew)
  }
  # why it was stopped, or NULL
  score_best <- function(hopeful) {
    repeat {
      done <- tabulate(crew$sink$done(1)[, 1], length(run$work$fits$node))
      fits <<- fits[done[fits] < length(plan$splits)]
      best <- in_budget(fits, plan, run, crew, hopeful)
      # what is behind is not worth the risk: searches may have better to do with the time
      if (hopeful) best <- intersect(best, may_lead(plan, run, crew))
      if (length(best) == 0L) return(NULL)
      if (!is.null(stopped <- score(best, hopeful))) return(stopped)
    }
  }
  stopped <- score_best(FALSE) %||% score(fits)
  if (is.null(stopped) || stopped == "minutes") score_best(TRUE)
}

# A round for which there was no time, whole or in part, may have asked for what is dear: as long as
# a setting that takes as little as the quickest so far would be done in time, the searches are
# asked again, but not for ever where all that they ask for is dear. `after` gives why a run ends
# after a round, or NULL; `stopped`, after all rounds, if there was no time for any of them.
new_patience <- function() {
  short <- FALSE
  in_vain <- 0L
  list(
    after = function(stopped, any_done, plan, run, crew) {
      if (!identical(stopped, "minutes")) return(stopped)
      short <<- TRUE
      in_vain <<- if (any_done) 0L else in_vain + 1L
      if (in_vain >= most_in_vain || !time_for_any(plan, run, crew)) stopped
    },
    # a search that cannot do with settings that were not scored
    forgive = function(error) {
      if (!short) stop(error)
      warn_kw("search", c(
        "The time was too short for settings that were asked for, and nothing else could be tried.",
        x = plain_message(error)
      ))
      NULL
    },
    stopped = function() if (short) "minutes"
  )
}

most_in_vain <- 5L

time_for_any <- function(plan, run, crew) {
  varies <- lengths(lapply(plan$spaces, `[[`, "dimensions")) > 0L
  takes <- crew$costs$of(which(varies[run$work$fits$candidate]))
  if (all(is.na(takes))) return(FALSE)
  turns <- ceiling(length(plan$splits) / crew$pool$processes())
  min(takes, na.rm = TRUE) * turns <= crew$deadline - seconds_now()
}

# Of some fits the most promising, as many as can be scored on all splits in the time that is
# left; all of them where there is no deadline. `hopeful`: without room for error.
in_budget <- function(fits, plan, run, crew, hopeful = FALSE) {
  if (is.infinite(crew$deadline)) return(fits)
  promising <- run$work$settings$fit[most_promising(crew$sink$results(), plan)]
  fits <- intersect(unique(promising), fits)
  takes <- seconds_missing(fits, plan, run, crew, hopeful)
  room <- crew$deadline - seconds_now()
  kept <- logical(length(fits))
  for (i in which(!is.na(takes))) {
    kept[i] <- takes[i] <= room
    if (kept[i]) room <- room - takes[i]
  }
  fits[kept]
}

# Seconds that fits take on the splits on which they are not done.
seconds_missing <- function(fits, plan, run, crew, hopeful = FALSE) {
  done <- tabulate(crew$sink$done(1)[, 1], length(run$work$fits$node))
  missing <- ceiling((length(plan$splits) - done[fits]) / crew$pool$processes())
  (if (hopeful) crew$costs$of(fits) else crew$costs$at_most(fits)) * missing
}

# Fits with a setting that is expected to be better than all that are scored in full, or of which
# that is not known.
may_lead <- function(plan, run, crew) {
  results <- crew$sink$results()
  good <- expected_goods(results, plan)
  ranked <- !is.na(rowMeans(round_scores(results, plan))) & meet_so_far(results, plan)
  unique(run$work$settings$fit[is.na(good) | good > max(good[ranked], -Inf)])
}

expected_goods <- function(results, plan) {
  scores <- round_scores(results, plan)
  goodness(expected_means(scores, rowMeans(scores)), plan$metrics[[plan$decide]])
}

# Settings in the order of what is known of them, by scores on all training rows, or else on a
# share of them.
most_promising <- function(results, plan) {
  whole <- order(-expected_goods(results, plan), na.last = NA)
  part <- tapply(results$partial$score, results$partial$setting, mean)
  good <- goodness(as.vector(part), plan$metrics[[plan$decide]])
  part <- as.integer(names(part))[order(-good)]
  union(whole, part)
}

# The rounds, after the searches had all that they wanted: of what they looked at only in part it is
# said so, and the most promising of it is scored in full where nothing else was.
end_in_part <- function(rounds, plan, run, crew) {
  if (all(vapply(rounds, function(round) is.null(round$tasks), NA))) return(rounds)
  repeat {
    results <- crew$sink$results()
    begun <- setdiff(most_promising(results, plan), which(rowSums(!results$done) == 0L))
    if (any_scored(results, plan) || length(begun) == 0L) break
    fit <- run$work$settings$fit[begun[1]]
    if (!is.null(run_stage(plan, run, full_stage(fit, plan), crew))) break
  }
  last <- length(rounds)
  left <- left_in_part(results, plan, dropped_settings(rounds, run$work)$at)
  rounds[[last]]$dropped <- rbind(rounds[[last]]$dropped, left)
  with_round(utils::head(rounds, -1L), rounds[[last]], plan, crew$journal)
}

# Why a run was stopped, or NULL. Where there was no time for any model, the simplest one is made
# all the same.
last_resort <- function(stopped, limits, plan, run, crew) {
  if (!identical(stopped, "minutes")) return(stopped)
  said <- paste0("the limit of ", format(signif(limits$minutes, 3)), " minutes")
  if (any_scored(crew$sink$results(), plan)) return(said)
  crew$deadline <- Inf
  # workers may still be in what there was no time for
  crew$pool <- process_pool()
  on.exit(crew$pool$close())
  run_stage(plan, run, full_stage(simplest_fit(run$work), plan), crew)
  paste0(said, ", too short for anything but the simplest setting")
}
