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
#' @param limits See [limits()].
#' @param quiet Say nothing while running?
#' @return A `kw_comparison`: read it with [standings()], [scores_by_split()],
#'   [rows_by_split()], [failures()], choose with [select_final()].
#' @section Errors:
#' `kw_error_run` when every fit failed, showing the commonest message.
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
  limits = NULL, quiet = FALSE
) {
  for (one in keep) check_choice(one, c("none", "training_scores", "all_predictions"), "keep")
  check_flag(quiet, "quiet")
  if (!identical(workers, "auto") && !inherits(workers, "kw_workers_at")) {
    check_number(workers, "workers", min = 1, whole = TRUE)
  }
  if (!is.null(limits)) check_class(limits, "kw_limits", "limits", "Make them with limits().")
  check_flag(accept_versions, "accept_versions")
  alone <- inherits(plan, "kw_brief") && ...length() == 0L
  plan <- if (alone) quick_plan(plan) else as_plan(plan, ...)
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
      limits = limits %||% no_limits,
      journal = journal
    )
  )
}

no_limits <- structure(list(), class = "kw_limits")

# `share = FALSE` and `shuffle` exist for tests: they change what is shared and in
# which order units run, never a score.
execute_plan <- function(
  plan, keep = "none", listener = function(event) invisible(), workers = 1,
  limits = no_limits,
  journal = NULL, share = TRUE, shuffle = FALSE
) {
  started <- seconds_now()
  data <- working_data(plan$brief)
  pool <- new_pool(workers, plan)
  on.exit(pool$close())
  deadline <- if (is.null(limits$minutes)) Inf else seconds_now() + 60 * limits$minutes
  states <- lapply(plan$round, `[[`, "state")
  tables <- lapply(plan$round, `[[`, "settings")
  rounds <- list()
  stopped <- NULL
  room <- limits$settings
  repeat {
    wanted <- sum(vapply(tables, nrow, integer(1)))
    tables <- limit_settings(tables, room)
    asked <- sum(vapply(tables, nrow, integer(1)))
    if (asked < wanted) stopped <- paste0("the limit of ", count_of(limits$settings, "setting"))
    if (!is.null(room)) room <- room - asked
    done <- run_round(
      plan, tables, data, keep, listener, pool, deadline, limits, journal, share,
      shuffle
    )
    rounds[[length(rounds) + 1L]] <- done$results
    stopped <- done$stopped %||% stopped
    if (!is.null(stopped)) break
    following <- next_round(plan, states, tables, done$results)
    if (all(vapply(following$tables, nrow, integer(1)) == 0L)) break
    states <- following$states
    tables <- following$tables
  }
  if (!is.null(journal)) {
    journal$finish(if (is.null(stopped)) "finished" else paste("stopped by", stopped))
  }
  finish_comparison(
    plan,
    rounds,
    seconds_now() - started,
    stopped,
    journal_failure = if (!is.null(journal)) journal$failure(),
    processes = pool$processes()
  )
}

# Tells every search how its settings scored, and asks for more.
next_round <- function(plan, states, tables, results) {
  proposals <- lapply(names(states), function(name) {
    search <- plan$searches[[name]]
    mine <- results$candidate == match(name, names(states))
    told <- list(
      settings = tables[[name]],
      mean = rowMeans(round_scores(results, plan)[mine, , drop = FALSE])
    )
    search$propose(search$take_in(states[[name]], told))
  })
  names(proposals) <- names(states)
  list(states = lapply(proposals, `[[`, "state"), tables = lapply(proposals, `[[`, "settings"))
}

# What a search learns from: scores by the deciding metric, settings x splits (or
# repeats).
round_scores <- function(results, plan) {
  if (plan$pooled) return(results$pooled[[plan$decide]]$scores)
  results$scores[[plan$decide]][, is.na(plan$undefined[[plan$decide]]), drop = FALSE]
}

run_round <- function(
  plan, tables, data, keep, listener, pool, deadline, limits, journal, share,
  shuffle
) {
  work <- compile_work(plan$spaces, tables, share)
  run <- new_run(plan, work, data, keep, limits)
  wanted <- run$wanted
  names <- if (!is.null(journal)) row_names_of_fits(work)
  sink <- new_sink(plan, work, wanted, listener, journal, names)
  pending <- matrix(TRUE, length(work$fits$node), length(plan$splits))
  if (!is.null(journal)) {
    known <- journal_batches(journal$rows(), work, names, plan, wanted)
    for (split in seq_along(known)) {
      sink$take(known[[split]], split, write = FALSE)
      pending[known[[split]]$fit, split] <- FALSE
    }
  }
  schedule <- new_schedule(work, pending, shuffle)
  sink$start(schedule$share_left)
  stopped <- tryCatch(pool$run(run, schedule, sink, deadline), interrupt = function(e) {
    pool$abandon()
    "an interruption"
  })
  if (identical(stopped, "minutes")) {
    stopped <- paste0("the limit of ", format(limits$minutes), " minutes")
  }
  sink$end()
  results <- sink$results()
  list(results = if (plan$pooled) pool_scores(results, plan) else results, stopped = stopped)
}

# What all units of a run have in common.
new_run <- function(plan, work, data, keep, limits) {
  wanted <- list(
    training = "training_scores" %in% keep,
    predictions = plan$pooled || "all_predictions" %in% keep,
    no_information = identical(plan$splitter$summary, "632plus")
  )
  list(
    id = short_hash(paste(Sys.getpid(), format(Sys.time(), "%s"), seconds_now())), work = work,
    data = data,
    splits = plan$splits, metrics = forgiving_metrics(plan), seed = plan$seed, wanted = wanted,
    fit_seconds = limits$fit_seconds
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

# Takes what units bring home, as they come.
new_sink <- function(plan, work, wanted, listener, journal, names) {
  results <- new_results(plan, work, wanted)
  watch <- new_watch(plan, work, listener)
  below <- fits_below(work)
  rows <- if (!is.null(journal)) new_row_writer(work, names, journal$metrics)
  list(
    start = watch$start,
    take = function(batch, split, write = TRUE, took = 0) {
      spread <- spread_batch(batch, work)
      results <<- take_batch(results, batch, spread, work, split, below)
      results$spent[["units"]] <<- results$spent[["units"]] + took
      if (write && !is.null(journal)) journal$write(rows(batch, plan$splits[[split]]$key))
      watch$tick(batch, spread, split)
    },
    progress = watch$progress, end = watch$end, results = function() results
  )
}

# Keeps the running totals that the listener is told about.
new_watch <- function(plan, work, listener) {
  n_settings <- length(work$settings$fit)
  n_splits <- length(plan$splits)
  sums <- numeric(n_settings)
  squares <- numeric(n_settings)
  counts <- integer(n_settings)
  seen <- integer(n_settings)
  done <- 0
  found <- 0
  failed <- 0
  started <- seconds_now()
  last <- 0
  usable <- sum(is.na(plan$undefined[[plan$decide]]))
  best_so_far <- function() {
    ready <- which(counts >= min(3L, usable) & is.finite(sums))
    if (length(ready) == 0L) return(NULL)
    means <- sums[ready] / counts[ready]
    leader <- which.max(goodness(means, plan$metrics[[plan$decide]]))
    at <- ready[leader]
    list(
      candidate = names(plan$spaces)[work$settings$candidate[at]], mean = means[leader],
      sd = sqrt(max(0, squares[at] - counts[at] * means[leader]^2) / (counts[at] - 1)),
      splits = counts[at]
    )
  }
  share_left <- function() NA_real_
  emit <- function(type) {
    seconds <- seconds_now() - started
    listener(list(
      type = type, done = done, total = n_settings * n_splits, settings = n_settings,
      settings_done = sum(seen == n_splits), failed = failed,
      seconds = seconds, seconds_left = seconds * share_left(),
      per_second = (done - found) / max(1e-3, seconds),
      metric = plan$decide,
      best = if (type == "start") NULL else best_so_far()
    ))
  }
  list(
    # what a journal held is not counted as done by this run
    start = function(left) {
      found <<- done
      share_left <<- left
      emit("start")
    },
    end = function() emit("end"),
    progress = function() emit("progress"),
    tick = function(batch, spread, split) {
      settings <- spread$settings
      done <<- done + length(settings)
      seen[settings] <<- seen[settings] + 1L
      lost <- !is.na(batch$message)[spread$at]
      failed <<- failed + sum(lost)
      sums[settings[lost]] <<- NA
      if (is.na(plan$undefined[[plan$decide]][split])) {
        score <- batch$validation[spread$row, plan$decide][!lost]
        fine <- settings[!lost]
        sums[fine] <<- sums[fine] + score
        squares[fine] <<- squares[fine] + score^2
        counts[fine] <<- counts[fine] + 1L
      }
      if (seconds_now() - last > 0.1) {
        last <<- seconds_now()
        emit("progress")
      }
    }
  )
}

finish_comparison <- function(
  plan, rounds, seconds, stopped = NULL, journal_failure = NULL,
  processes = 1L
) {
  results <- Reduce(join_rounds, rounds)
  if (is.null(stopped) && all(is.na(round_scores(results, plan)))) refuse_all_failed(results)
  structure(
    list(
      plan = plan, results = results, stopped = stopped,
      journal_failure = journal_failure, processes = processes,
      seconds = seconds,
      versions = software_versions(plan)
    ),
    class = "kw_comparison"
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

# Of R and of every package that can change a score.
software_versions <- function(plan) {
  packages <- unlist(lapply(plan$spaces, function(space) {
    family <- space$pipeline$family
    c(
      family_packages(family$definition, family$settings, plan$brief$kind),
      node_packages(space$pipeline$steps)
    )
  }))
  packages <- unique(c("kilnwright", packages))
  list(
    r = paste(R.version$major, R.version$minor, sep = "."), platform = R.version$platform,
    blas = basename(extSoftVersion()[["BLAS"]]),
    packages = vapply(packages, function(p) as.character(utils::packageVersion(p)), character(1))
  )
}

node_packages <- function(nodes) {
  unlist(lapply(nodes, function(node) {
    if (!inherits(node$part, "kw_either")) return(node$part$definition$packages)
    lapply(node$part$alternatives, node_packages)
  }))
}
