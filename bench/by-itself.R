# plan_by_itself() against what an analyst could do in the same time: every family at its
# defaults, every family's own grid, random settings of the same field. Judged by the score of the
# chosen model on 10,000 fresh rows. Wanted: first, or within a standard error of the first (of the
# score on those rows), on at least five of six tables.

source("bench/fields.R")

given <- commandArgs(TRUE)
minutes <- if (length(given) > 0L) as.numeric(given[1]) else 0.5
chosen <- if (length(given) > 1L) given[-1] else names(made_up)
fresh <- 10000L

for (name in chosen) {
  n <- formals(made_up[[name]])$n
  set.seed(100 + match(name, names(made_up)))
  one <- made_up[[name]](n + fresh)
  working <- one$table[seq_len(n), ]
  truth <- one$table[-seq_len(n), ]
  job <- if (one$kind == "number") brief(working, "y") else brief(working, "y", event = "yes")
  # loss of every fresh row
  loss_of <- function(cmp) {
    model <- fit_final(select_final(cmp, "best_mean"))
    if (one$kind == "number") return((predict(model, truth)$value - truth$y)^2)
    p <- predict(model, truth, type = "probability")$p_yes
    p <- pmin(pmax(p, 1e-6), 1 - 1e-6)
    -ifelse(truth$y == "yes", log(p), log(1 - p))
  }
  # all decide by what the fresh rows are judged by
  metric <- if (one$kind == "number") "rmse" else "log_loss"
  itself <- plan_by_itself(job, minutes = minutes, metrics = metric)
  ways <- list(by_itself = itself)
  field <- itself$candidates
  same <- function(candidates, search, splits = itself$splitter) {
    plan_comparison(job, candidates,
      splits = splits, search = search,
      metrics = metric, seed = 1
    )
  }
  ways$random <- same(field, search_random(100))
  for (candidate in setdiff(names(field$pipelines), "baseline")) {
    alone <- field
    alone$pipelines <- field$pipelines[candidate]
    ways[[paste(candidate, "grid")]] <- same(alone, search_grid(4))
    family <- paste0("fam_", field$pipelines[[candidate]]$family$definition$name)
    usual <- candidates(alone = pipeline(pre_minimal(), get(family)()))
    # one setting is chosen whatever its score
    ways[[paste(candidate, "alone")]] <- same(usual, search_grid(), split_holdout(0.2))
  }
  losses <- lapply(ways, function(plan) {
    tryCatch(
      loss_of(suppressWarnings(
        run_comparison(plan, limits = limits(minutes = minutes), quiet = TRUE)
      )),
      error = function(e) NULL
    )
  })
  losses <- losses[lengths(losses) > 0L]
  means <- sort(vapply(losses, mean, 1))
  best <- losses[[names(means)[1]]]
  apart <- losses$by_itself - best
  se <- stats::sd(apart) / sqrt(fresh)
  cat(sprintf(
    "%-11s place %d of %d%s; best %s %.4f, by itself %.4f, random %.4f\n",
    name, match("by_itself", names(means)), length(means),
    if (mean(apart) <= se) " (first or within a standard error of it)" else "",
    names(means)[1], means[1], means[["by_itself"]], means[["random"]]
  ))
}
