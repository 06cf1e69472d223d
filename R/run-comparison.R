#' Run a comparison
#'
#' Fits every setting on the training rows of every split and scores it on the
#' validation rows. Steps that settings have in common are learned once a split,
#' and settings that differ only along a family's path come from one fit. An error
#' in one fit fails that setting on that split only; see [failures()].
#'
#' @param plan A plan from [plan_comparison()], or a [brief()] (then the other
#'   arguments of [plan_comparison()] may follow). A brief alone gives the quick look:
#'   baseline, penalised regression, tree and forest with the least preparation that the
#'   table needs; a fit of each on the first split tells what that would take, and the field
#'   and the folds are cut until it is about a minute.
#' @param ... Arguments of [plan_comparison()] when the first one is a brief.
#' @param keep `"training_scores"` also scores the training rows of each split:
#'   the standings then show the gap. `"all_predictions"` keeps every setting's
#'   predictions of every validation part, `"none"` validation scores only. Both of
#'   the first may be asked for at once.
#' @param workers `1` runs in this process. A larger number runs on so many local
#'   worker processes; `"auto"` uses this process for a short run and as many workers
#'   as there are cores for a longer one. Workers that were set up with
#'   `mirai::daemons(..., .compute = "kilnwright")`, on this machine or others, are used
#'   as they are and left running, unless `workers = 1`. [workers_at()] lets workers join
#'   from elsewhere. The scores are the same whatever is chosen.
#' @param journal Path of an SQLite file in which every finished fit is written down
#'   within a second. The same call with the same journal goes on where it was broken
#'   off; see also [open_comparison()].
#' @param accept_versions Go on with a journal that other versions of R or of packages
#'   wrote?
#' @param limits See [limits()]. A plan's own minutes hold unless others are given here.
#' @param quiet Say nothing while running?
#' @param log Path of a CSV file that gets a line for every setting as soon as it has its scores on
#'   all splits, for other tools to follow: time, candidate, number of the setting, hyperparameters,
#'   every metric's mean and standard deviation over the splits (not corrected, as some bootstrap
#'   schemes are in [standings()]), splits, failures, seconds, and `key`, what the setting is by its
#'   content. A run that goes on with a journal goes on with its log as well; where a setting had
#'   to be done again its last line counts.
#' @return A `kw_comparison`: read it with [standings()], [scores_by_split()],
#'   [rows_by_split()], [failures()], choose with [select_final()].
#' @section Errors:
#' `kw_error_run` when every fit failed, showing the commonest message; `kw_error_log` when `log` is
#' there already and no log of this run.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline(), tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1, quiet = TRUE
#' )
#' standings(cmp)
#' @export
run_comparison <- function(
  plan, ..., keep = "none", workers = "auto", journal = NULL,
  accept_versions = FALSE,
  limits = NULL, quiet = FALSE, log = NULL
) {
  alone <- inherits(plan, "kw_brief") && ...length() == 0L
  check_flag(quiet, "quiet")
  plan <- if (alone) quick_plan(plan) else as_plan(plan, ...)
  carry_out(plan, keep, workers, journal, accept_versions, limits, quiet, log = log)
}

# What those hand on to it that go on with a comparison.
run_arguments <- c("workers", "journal", "accept_versions", "limits", "quiet", "log")

# `before`, `asked` and `more`: see execute_plan().
carry_out <- function(
  plan, keep = "none", workers = "auto", journal = NULL, accept_versions = FALSE, limits = NULL,
  quiet = FALSE, before = NULL, asked = names(plan$spaces), more = NULL, log = NULL
) {
  for (one in keep) check_choice(one, c("none", "training_scores", "all_predictions"), "keep")
  check_flag(quiet, "quiet")
  if (!identical(workers, "auto") && !inherits(workers, "kw_workers_at")) {
    check_number(workers, "workers", min = 1, whole = TRUE)
  }
  if (!is.null(limits)) check_class(limits, "kw_limits", "limits", "Make them with limits().")
  check_flag(accept_versions, "accept_versions")
  if (!is.null(log)) log <- new_run_log(log, plan)
  if (!is.null(journal)) {
    journal <- open_journal(journal, plan, accept_versions)
    on.exit(journal$close())
  }
  without_rng_trace(
    execute_plan(
      plan,
      keep = keep,
      listener = choose_listener(quiet),
      workers = workers,
      limits = with_plan_minutes(limits %||% no_limits, plan),
      journal = journal, before = before, asked = asked, more = more, log = log
    )
  )
}

no_limits <- structure(list(), class = "kw_limits")

with_plan_minutes <- function(limits, plan) {
  limits$minutes <- limits$minutes %||% plan$minutes
  limits
}

# `share = FALSE` and `shuffle` exist for tests: they change what is shared and in
# which order units run, never a score. `before`: a comparison that is gone on with; its rounds
# come first, and only the candidates `asked` are searched. `more(plan, run, crew)`: what is done
# after all rounds, such as further splits; it gives NULL or why it was stopped.
execute_plan <- function(
  plan, keep = "none", listener = function(event) invisible(), workers = 1,
  limits = no_limits,
  journal = NULL, share = TRUE, shuffle = FALSE, before = NULL, asked = names(plan$spaces),
  more = NULL, log = NULL
) {
  started <- seconds_now()
  pool <- new_pool(workers, plan)
  on.exit(pool$close())
  run <- new_run(plan, new_work(plan$spaces, share), working_data(plan$brief), keep, limits)
  # of a comparison that is gone on with the journal may know as well
  earlier <- if (is.null(journal)) list(seconds = 0, units = 0) else journal$earlier()
  units <- max(earlier$units, before$results$spent[["units"]])
  sink <- new_sink(plan, listener, journal, units, log, run$wanted$held)
  crew <- list(
    pool = pool, sink = sink, costs = new_costs(run$work), journal = journal, shuffle = shuffle,
    deadline = started + 60 * (limits$minutes %||% Inf) * (if (plan$pooled) before_judging else 1)
  )
  state <- new_round_state(plan, asked, limits$settings)
  rounds <- list()
  for (round in before$rounds) {
    rounds <- with_round(rounds, round, plan, journal)
    run$work <- extend_work(run$work, round$tables, round$kept)
  }
  if (!is.null(before)) {
    sink$known(before$ledger, run$work)
    crew$costs$grow(run$work)
  }
  stopped <- NULL
  patience <- new_patience()
  repeat {
    round <- tryCatch(
      state$following(run$work, sink$results),
      interrupt = function(e) {
        stopped <<- "an interruption"
        NULL
      },
      kw_error_search = patience$forgive
    )
    if (is.null(round)) break
    rounds <- with_round(rounds, round, plan, journal)
    from <- length(run$work$fits$node)
    earlier_nodes <- length(run$work$nodes)
    run$work <- extend_work(run$work, round$tables, round$kept)
    new <- seq_along(run$work$fits$node) > from
    crew$costs$grow(run$work)
    known <- length(sink$ledger()$fit)
    done <- run_round(plan, run, new, earlier_nodes, crew, round$tasks)
    stopped <- patience$after(done$stopped, length(sink$ledger()$fit) > known, plan, run, crew)
    sink$thin()
    # nobody knows how long a search thinks
    sink$rest(Inf)
    if (!is.null(done$dropped)) {
      round$dropped <- done$dropped
      rounds <- with_round(utils::head(rounds, -1L), round, plan, journal)
    }
    if (!is.null(stopped) || !is.null(state$stopped())) break
  }
  stopped <- stopped %||% patience$stopped()
  if (!is.null(more)) {
    stopped <- stopped %||% more(plan, run, crew)
  }
  stopped <- last_resort(stopped, limits, plan, run, crew) %||% state$stopped()
  if (is.null(stopped)) rounds <- end_in_part(rounds, plan, run, crew)
  sink$thin()
  sink$end()
  took <- list(
    seconds = seconds_now() - started + max(before$seconds, earlier$seconds),
    processes = pool$processes(), stopped = stopped
  )
  if (!is.null(journal)) journal$finish(took, sink$names(), sink$ledger(), plan)
  finish_comparison(
    plan, rounds, sink$ledger(), run$work, took, sink$units(),
    if (!is.null(journal)) journal$failure(), run$wanted$held
  )
}

# The share of a run's time after which nothing is fitted any more: where predictions are scored
# together their errors are worked out at the end, which takes longer the more settings there are.
before_judging <- 0.94

# What all units of a run have in common.
new_run <- function(plan, work, data, keep, limits) {
  keeps <- plan$pooled || "all_predictions" %in% keep
  wanted <- list(
    training = "training_scores" %in% keep, predictions = keeps, held = !keeps && will_blend(plan),
    no_information = identical(plan$splitter$summary, "632plus")
  )
  list(
    id = short_hash(paste(Sys.getpid(), format(Sys.time(), "%s"), seconds_now())), work = work,
    data = data, kind = plan$brief$kind,
    splits = plan$splits, metrics = forgiving_metrics(plan), seed = plan$seed, wanted = wanted,
    fit_seconds = limits$fit_seconds, stop_at = NULL, alarm = NULL
  )
}

# An error in a user's metric that neither decides nor is a condition costs that metric alone.
forgiving_metrics <- function(plan) {
  strict <- c(plan$decide, vapply(plan$provided, `[[`, "", "metric"))
  for (name in setdiff(names(plan$metrics), strict)) {
    metric <- plan$metrics[[name]]
    if (is.null(named_member(metric))) {
      plan$metrics[[name]]$score <- forgiving_score(metric$score, name)
    }
  }
  plan$metrics
}

forgiving_score <- function(score, name) {
  force(score)
  function(truth, prediction, weights) {
    tryCatch(score(truth, prediction, weights), error = function(e) {
      warning("the metric ", quoted(name), " failed: ", plain_message(e), call. = FALSE)
      rep(NA_real_, dim(prediction)[length(dim(prediction))])
    })
  }
}

working_data <- function(brief) {
  list(
    frame = frame_columns(brief$table, brief$schema), target = brief_target(brief),
    fingerprint = brief$fingerprint
  )
}

data_rows <- function(data, rows) {
  list(frame = frame_rows(data$frame, rows), target = target_rows(data$target, rows))
}

finish_comparison <- function(
  plan, rounds, ledger, work, took, units = 0, journal_failure = NULL, held = FALSE
) {
  results <- results_of(ledger, work, plan, units, rounds)
  # of some fits is not what was asked for
  if (held) {
    results$held <- results$predictions
    results["predictions"] <- ledger["predictions"] <- list(NULL)
  }
  if (is.null(took$stopped) && all(is.na(round_scores(results, plan)))) refuse_all_failed(results)
  new_comparison(plan, results, rounds, ledger,
    stopped = took$stopped, journal_failure = journal_failure, processes = took$processes,
    seconds = took$seconds, versions = software_versions(plan)
  )
}

# What many rooms ask of a comparison.
brief_of <- function(cmp) cmp$plan$brief
all_splits <- function(cmp) cmp$plan$splits
splitter_of <- function(cmp) cmp$plan$splitter
spaces_of <- function(cmp) cmp$plan$spaces
metrics_of <- function(cmp) cmp$plan$metrics
# Its name.
deciding_metric <- function(cmp) cmp$plan$decide
has_pooled_scores <- function(cmp) cmp$plan$pooled
seed_of <- function(cmp) cmp$plan$seed
# What candidates must meet, if anything.
constraints_of <- function(cmp) cmp$plan$provided

# While it runs, a comparison has its plan and results only.
new_comparison <- function(
  plan, results, rounds = NULL, ledger = NULL, stopped = NULL, journal_failure = NULL,
  processes = NULL, seconds = NULL, versions = NULL
) {
  new_record("kw_comparison",
    plan = plan, results = results, rounds = rounds, ledger = ledger, stopped = stopped,
    journal_failure = journal_failure, processes = processes, seconds = seconds,
    versions = versions
  )
}

refuse_all_failed <- function(results) {
  messages <- vapply(results$failures, function(f) paste0(f$stage, ": ", f$message), character(1))
  commonest <- if (length(messages) > 0L) names(sort(table(messages), decreasing = TRUE))[1]
  stop_kw("run", "Every setting failed on every split.",
    where = if (!is.null(commonest)) paste0("Commonest message, from ", commonest),
    remedy = "Try one candidate with its defaults first."
  )
}
