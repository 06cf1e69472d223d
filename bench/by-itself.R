# plan_by_itself(blend = TRUE) against what an analyst could do in the same time: every family at
# its defaults, every family's own grid, random settings of the same field. Judged by the score of
# the chosen model on 10,000 fresh rows, over several draws of every table, since on one draw some
# family is always lucky. Wanted: first, or within a standard error of the first (over rows and
# draws), on at least five of six tables. `place`: by the mean over draws, and in each draw; that of
# plan_by_itself() without a blend among the same, and what a blend of what random draws found comes
# to (beyond the minutes), are said beside it.
#   Rscript bench/by-itself.R MINUTES DRAWS WORKERS [TABLE ...]

source("bench/fields.R")

given <- commandArgs(TRUE)
number <- function(at, otherwise) if (length(given) >= at) as.numeric(given[at]) else otherwise
minutes <- number(1, 0.5)
draws <- number(2, 3)
workers <- number(3, 2)
chosen <- if (length(given) > 3L) given[-(1:3)] else names(made_up)
fresh <- 10000L

# Losses of the fresh rows by every way, one column each; one that scored nothing is left out.
losses_of_draw <- function(name, draw) {
  n <- formals(made_up[[name]])$n
  set.seed(100 * draw + match(name, names(made_up)))
  one <- made_up[[name]](n + fresh)
  working <- one$table[seq_len(n), ]
  truth <- one$table[-seq_len(n), ]
  is_number <- one$kind == "number"
  job <- if (is_number) brief(working, "y") else brief(working, "y", event = "yes")
  # all decide by what the fresh rows are judged by
  metric <- if (is_number) "rmse" else "log_loss"
  losses_of <- function(choice) {
    model <- fit_final(choice)
    if (is_number) return((predict(model, truth)$value - truth$y)^2)
    p <- pmin(pmax(predict(model, truth, type = "probability")$p_yes, 1e-6), 1 - 1e-6)
    -log(ifelse(truth$y == "yes", p, 1 - p))
  }
  losses <- list()
  ways <- ways_of(job, metric, draw)
  for (way in names(ways)) {
    plan <- ways[[way]]
    began <- proc.time()[[3]]
    cmp <- tryCatch(suppressWarnings(run_comparison(plan,
      limits = limits(minutes = min(plan$minutes, minutes)), quiet = TRUE, workers = workers
    )), error = function(e) NULL)
    if (is.null(cmp)) next
    choice <- suppressMessages(select_final(cmp, "best_mean"))
    if (way == "by_itself") {
      message(sprintf("%s, draw %d: by itself took %.0f s to its choice, %s", name, draw,
        proc.time()[[3]] - began, utils::capture.output(choice)[1]))
    }
    losses[[way]] <- losses_of(choice)
    if (way == "random") {
      mixed <- tryCatch(suppressMessages(select_final(cmp, "best_mean", blend = TRUE)),
        error = function(e) choice)
      losses$random_blended <- losses_of(mixed)
    }
  }
  found <- do.call(cbind, losses)
  # what a run that is broken off had
  means <- sort(colMeans(found))
  message(name, ", draw ", draw, ": ", paste(names(means), sprintf("%.4f", means), collapse = ", "))
  found
}

# All on the same splits.
ways_of <- function(job, metric, seed) {
  itself <- plan_by_itself(job, minutes = minutes, metrics = metric, seed = seed, blend = TRUE)
  unblended <- plan_by_itself(job, minutes = minutes, metrics = metric, seed = seed)
  same <- function(candidates, search, splits = itself$splitter) {
    plan_comparison(
      job, candidates, splits = splits, search = search, metrics = metric, seed = seed
    )
  }
  field <- itself$candidates
  ways <- list(
    by_itself = itself, unblended = unblended, random = same(field, search_random(100))
  )
  for (candidate in setdiff(names(field$pipelines), "baseline")) {
    alone <- field
    alone$pipelines <- field$pipelines[candidate]
    ways[[paste(candidate, "grid")]] <- same(alone, search_grid(4))
    family <- paste0("fam_", field$pipelines[[candidate]]$family$definition$name)
    usual <- candidates(alone = pipeline(pre_minimal(), get(family)()))
    # one setting is chosen whatever its score
    ways[[paste(candidate, "alone")]] <- same(usual, search_grid(), split_holdout(0.2))
  }
  ways
}

beside <- c("unblended", "random_blended")

for (name in chosen) {
  found <- lapply(seq_len(draws), function(draw) losses_of_draw(name, draw))
  ways <- Reduce(intersect, lapply(found, colnames))
  all_means <- t(vapply(found, function(losses) colMeans(losses[, ways]), numeric(length(ways))))
  means <- all_means[, setdiff(ways, beside), drop = FALSE]
  places <- apply(means, 1L, function(row) rank(row, ties.method = "min")[["by_itself"]])
  overall <- sort(colMeans(means))
  best <- names(overall)[1]
  apart <- vapply(found, function(losses) mean(losses[, "by_itself"] - losses[, best]), 1)
  over_rows <- vapply(found, function(losses) {
    stats::var(losses[, "by_itself"] - losses[, best]) / fresh
  }, 1)
  se <- sqrt(mean(over_rows) / draws + if (draws > 1) stats::var(apart) / draws else 0)
  others <- colMeans(all_means[, intersect(beside, ways), drop = FALSE])
  cat(sprintf(
    paste0(
      "%-11s place %d of %d%s, in its %d draws %s; best %s %.4f, by itself %.4f, random %.4f, ",
      "best family at its defaults %.4f; without a blend %.4f (place %d), random blended %.4f\n"
    ),
    name, match("by_itself", names(overall)), length(overall),
    if (mean(apart) <= se) " (first or within a standard error of it)" else "", draws,
    paste(places, collapse = " "), best, overall[1], overall[["by_itself"]], overall[["random"]],
    min(overall[grepl("alone", names(overall))]), others["unblended"],
    1L + sum(overall[names(overall) != "by_itself"] < others["unblended"]),
    others["random_blended"]
  ))
}
