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
#'   the standings then show the gap. `"none"` keeps validation scores only.
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
  check_choice(keep, c("none", "training_scores"), "keep")
  check_flag(quiet, "quiet")
  plan <- as_plan(plan, ...)
  without_rng_trace(
    execute_plan(plan, keep_training = keep == "training_scores", listener = choose_listener(quiet))
  )
}

# `share = FALSE` and `shuffle` exist for tests: they change what is shared and in
# which order units run, never a score.
execute_plan <- function(plan, keep_training = FALSE, listener = function(event) invisible(),
                         share = TRUE, shuffle = FALSE) {
  started <- Sys.time()
  data <- list(frame = frame_columns(plan$job$table, plan$job$schema), target = brief_target(plan$job),
               fingerprint = plan$job$fingerprint)
  states <- lapply(plan$round, `[[`, "state")
  tables <- lapply(plan$round, `[[`, "settings")
  rounds <- list()
  repeat {
    results <- run_round(plan, tables, data, keep_training, listener, share, shuffle)
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
    told <- list(settings = tables[[name]], mean = rowMeans(results$scores[[plan$decide]][mine, , drop = FALSE]))
    search$propose(search$take_in(states[[name]], told))
  })
  names(proposals) <- names(states)
  list(states = lapply(proposals, `[[`, "state"), tables = lapply(proposals, `[[`, "settings"))
}

run_round <- function(plan, tables, data, keep_training, listener, share, shuffle) {
  work <- compile_work(plan$spaces, tables, share)
  results <- new_results(plan, work, keep_training)
  branches <- sort(unique(c(0L[any(work$fits$node == 0L)], branch_of(work$nodes))))
  units <- expand.grid(split = seq_along(plan$splits), branch = branches)
  if (shuffle) units <- units[rev(seq_len(nrow(units))), ]
  watch <- new_watch(plan, work, listener)
  watch$start()
  on.exit(watch$end(), add = TRUE)
  for (i in seq_len(nrow(units))) {
    split <- units$split[i]
    records <- run_unit(work, data, plan$splits[[split]], units$branch[i], plan$metrics, plan$seed,
                        keep_training, tick = function(fit, scores) watch$tick(fit, scores, split))
    results <- take_records(results, records, work, split)
  }
  results
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

new_results <- function(plan, work, keep_training) {
  n <- length(work$settings$fit)
  empty <- matrix(NA_real_, n, length(plan$splits))
  scores <- lapply(plan$metrics, function(metric) empty)
  list(candidate = work$settings$candidate, row = work$settings$row, tables = work$tables,
       scores = scores, training = if (keep_training) scores, seconds = empty,
       failures = list(), warnings = list(),
       fits = length(work$fits$node), nodes = length(work$nodes),
       spent = c(steps = 0, fits = 0, scoring = 0))
}

# Writes a unit's records into the score matrices of its split. A setting's
# seconds are its share of the fits and steps that it had in common with others.
take_records <- function(results, records, work, split) {
  for (record in records) {
    if (record$type == "step") {
      members <- unlist(work$fits$members[record$fits], use.names = FALSE)
      results$seconds[members, split] <- add_seconds(results$seconds[members, split], record$seconds / length(members))
      results$spent[["steps"]] <- results$spent[["steps"]] + record$seconds
      results$warnings <- note_warnings(results$warnings, record, work$fits$candidate[record$fits[1]], split)
      next
    }
    members <- work$fits$members[[record$fit]]
    results$seconds[members, split] <- add_seconds(results$seconds[members, split], record$seconds / length(members))
    if (record$type == "failed") {
      results$failures[[length(results$failures) + 1L]] <-
        list(settings = members, split = split, stage = record$stage, message = record$message)
      next
    }
    place <- work$settings$place[members]
    for (metric in names(results$scores)) {
      results$scores[[metric]][members, split] <- record$validation[place, metric]
      if (!is.null(results$training)) {
        results$training[[metric]][members, split] <- record$training[place, metric]
      }
    }
    results$spent[["fits"]] <- results$spent[["fits"]] + record$fit_seconds
    results$spent[["scoring"]] <- results$spent[["scoring"]] + record$seconds - record$fit_seconds
    results$warnings <- note_warnings(results$warnings, record, work$fits$candidate[record$fit], split)
  }
  results
}

add_seconds <- function(so_far, more) ifelse(is.na(so_far), 0, so_far) + more

note_warnings <- function(warnings, record, candidate, split) {
  for (message in unique(record$warnings)) {
    warnings[[length(warnings) + 1L]] <- list(
      candidate = candidate, stage = record$stage, split = split,
      message = message, count = sum(record$warnings == message)
    )
  }
  warnings
}

finish_comparison <- function(plan, rounds, started) {
  results <- Reduce(join_rounds, rounds)
  if (all(is.na(results$scores[[plan$decide]]))) refuse_all_failed(results)
  structure(
    list(plan = plan, results = results, started = started,
         seconds = as.double(difftime(Sys.time(), started, units = "secs")),
         versions = software_versions(plan)),
    class = "kw_comparison"
  )
}

# Later rounds are appended; setting numbers go on within each candidate.
join_rounds <- function(a, b) {
  shift <- length(a$candidate)
  before <- vapply(a$tables, nrow, integer(1))
  bind <- function(x, y) Map(rbind, x, y)
  list(candidate = c(a$candidate, b$candidate), row = c(a$row, b$row + before[b$candidate]),
       tables = bind(a$tables, b$tables), scores = bind(a$scores, b$scores),
       training = if (!is.null(a$training)) bind(a$training, b$training),
       seconds = rbind(a$seconds, b$seconds),
       failures = c(a$failures, lapply(b$failures, function(f) {
         f$settings <- f$settings + shift
         f
       })),
       warnings = c(a$warnings, b$warnings), fits = a$fits + b$fits, nodes = a$nodes + b$nodes,
       spent = a$spent + b$spent)
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
