#' Run a comparison
#'
#' Fits every setting on the training rows of every split and scores it on the
#' validation rows. Steps that settings have in common are learned once a split,
#' and settings that differ only along a family's path come from one fit. An error
#' in one fit fails that setting on that split only; see [failures()].
#'
#' @param plan A plan from [plan_comparison()], or a [brief()] (then the other
#'   arguments of [plan_comparison()] may follow; a brief alone gives the quick look).
#' @param ... Arguments of [plan_comparison()] when the first one is a brief.
#' @param keep `"training_scores"` also scores the training rows of each split:
#'   the standings then show the gap. `"all_predictions"` keeps every setting's
#'   predictions of every validation part, `"none"` validation scores only. Both of
#'   the first may be asked for at once.
#' @param quiet Say nothing while running?
#' @return A `kw_comparison`: read it with [standings()], [scores_by_split()],
#'   [rows_by_split()], [failures()], choose with [select_final()].
#' @section Errors:
#' `kw_error_run` when every fit failed, showing the commonest message.
#' @examples
#' job <- brief(demo_pots(), outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'              ignore = c("cracked", "grade", "notes"))
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline(), tree = fam_tree()),
#'                       splits = split_kfold(3), seed = 1, quiet = TRUE)
#' standings(cmp)
#' @export
run_comparison <- function(plan, ..., keep = "none", quiet = FALSE) {
  for (one in keep) check_choice(one, c("none", "training_scores", "all_predictions"), "keep")
  check_flag(quiet, "quiet")
  plan <- as_plan(plan, ...)
  without_rng_trace(
    execute_plan(plan, keep = keep, listener = choose_listener(quiet))
  )
}

# `share = FALSE` and `shuffle` exist for tests: they change what is shared and in
# which order units run, never a score.
execute_plan <- function(plan, keep = "none", listener = function(event) invisible(),
                         share = TRUE, shuffle = FALSE) {
  started <- Sys.time()
  data <- list(frame = frame_columns(plan$job$table, plan$job$schema), target = brief_target(plan$job),
               fingerprint = plan$job$fingerprint)
  states <- lapply(plan$round, `[[`, "state")
  tables <- lapply(plan$round, `[[`, "settings")
  rounds <- list()
  repeat {
    results <- run_round(plan, tables, data, keep, listener, share, shuffle)
    rounds[[length(rounds) + 1L]] <- results
    following <- next_round(plan, states, tables, results)
    if (all(vapply(following$tables, nrow, integer(1)) == 0L)) break
    states <- following$states
    tables <- following$tables
  }
  finish_comparison(plan, rounds, started)
}

# Tells every search how its settings scored, and asks for more.
next_round <- function(plan, states, tables, results) {
  proposals <- lapply(names(states), function(name) {
    search <- plan$searches[[name]]
    mine <- results$candidate == match(name, names(states))
    told <- list(settings = tables[[name]], mean = rowMeans(round_scores(results, plan)[mine, , drop = FALSE]))
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

run_round <- function(plan, tables, data, keep, listener, share, shuffle) {
  work <- compile_work(plan$spaces, tables, share)
  wanted <- list(training = "training_scores" %in% keep, predictions = plan$pooled || "all_predictions" %in% keep,
                 no_information = identical(plan$splitter$summary, "632plus"))
  results <- new_results(plan, work, wanted)
  branches <- sort(unique(c(0L[any(work$fits$node == 0L)], branch_of(work$nodes))))
  units <- expand.grid(split = seq_along(plan$splits), branch = branches)
  if (shuffle) units <- units[rev(seq_len(nrow(units))), ]
  watch <- new_watch(plan, work, listener)
  watch$start()
  on.exit(watch$end(), add = TRUE)
  for (i in seq_len(nrow(units))) {
    split <- units$split[i]
    records <- run_unit(work, data, plan$splits[[split]], units$branch[i], plan$metrics, plan$seed,
                        wanted, tick = function(fit, scores) watch$tick(fit, scores, split))
    results <- take_records(results, records, work, split)
  }
  if (plan$pooled) pool_scores(results, plan) else results
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
    list(candidate = names(plan$spaces)[work$settings$candidate[at]], mean = means[leader],
         sd = sqrt(max(0, squares[at] - counts[at] * means[leader]^2) / (counts[at] - 1)),
         splits = counts[at])
  }
  emit <- function(type) {
    listener(list(type = type, done = done, total = n_settings * n_splits, settings = n_settings,
                  settings_done = sum(seen == n_splits), failed = failed,
                  seconds = seconds_now() - started, metric = plan$decide,
                  best = if (type == "start") NULL else best_so_far()))
  }
  list(
    start = function() emit("start"),
    end = function() emit("end"),
    tick = function(fit, scores, split) {
      members <- work$fits$members[[fit]]
      done <<- done + length(members)
      seen[members] <<- seen[members] + 1L
      if (is.null(scores)) {
        failed <<- failed + length(members)
        sums[members] <<- NA
      } else if (is.na(plan$undefined[[plan$decide]][split])) {
        score <- scores[work$settings$place[members], plan$decide]
        sums[members] <<- sums[members] + score
        squares[members] <<- squares[members] + score^2
        counts[members] <<- counts[members] + 1L
      }
      if (seconds_now() - last > 0.1) {
        last <<- seconds_now()
        emit("progress")
      }
    }
  )
}

finish_comparison <- function(plan, rounds, started) {
  results <- Reduce(join_rounds, rounds)
  if (all(is.na(round_scores(results, plan)))) refuse_all_failed(results)
  structure(
    list(plan = plan, results = results, started = started,
         seconds = as.double(difftime(Sys.time(), started, units = "secs")),
         versions = software_versions(plan)),
    class = "kw_comparison"
  )
}

refuse_all_failed <- function(results) {
  messages <- vapply(results$failures, function(f) paste0(f$stage, ": ", f$message), character(1))
  commonest <- if (length(messages) > 0L) names(sort(table(messages), decreasing = TRUE))[1]
  stop_kw("run", "Every setting failed on every split.",
          where = if (!is.null(commonest)) paste0("Commonest message, from ", commonest),
          remedy = "Try one candidate with its defaults first.")
}

software_versions <- function(plan) {
  packages <- unique(unlist(lapply(plan$spaces, function(space) {
    family_packages(space$pipeline$family$definition, space$pipeline$family$settings, plan$job$kind)
  })))
  packages <- c("kilnwright", packages)
  list(r = paste(R.version$major, R.version$minor, sep = "."), platform = R.version$platform,
       blas = basename(extSoftVersion()[["BLAS"]]),
       packages = vapply(packages, function(p) as.character(utils::packageVersion(p)), character(1)))
}
