# What a brief alone is compared with: usual candidates, cut until they take about a minute.

# Texts and dates are used where the table has them. `size` 1 to 3: from the whole field to
# defaults.
default_candidates <- function(brief, size = 3L) {
  kinds <- schema_kinds(brief$schema)
  turned <- c(if ("date" %in% kinds) list(pre_dates()), if ("text" %in% kinds) list(pre_text()))
  with_steps <- function(family) {
    if (length(turned) == 0L) family else pipeline(turned, pre_minimal(), family)
  }
  forest <- switch(size,
    fam_forest(trees = 100),
    fam_forest(trees = 200),
    fam_forest(columns_tried = sensible())
  )
  penalised <- if (size == 1L) {
    fam_penalised(penalty = sensible())
  } else {
    fam_penalised(penalty = sensible(), lasso_share = sensible())
  }
  families <- list(
    penalised = penalised, linear = fam_linear(), tree = fam_tree(pruning = sensible()),
    forest = forest
  )
  able <- vapply(families, function(family) {
    !is.null(kind_among(family$definition$kinds, brief$kind)) &&
      all(vapply(
        family_packages(family$definition, family$settings, brief$kind), requireNamespace, NA,
        quietly = TRUE
      ))
  }, NA)
  # plain regression where there is none that is penalised
  able[["linear"]] <- able[["linear"]] && !able[["penalised"]]
  do.call(candidates, c(list(baseline = fam_baseline()), lapply(families[able], with_steps)))
}

# A brief alone: what is tried is fitted to the table by a fit of each candidate on the first
# split, so that it takes about a minute in one process.
quick_look_seconds <- 60

# From the smallest on; the largest that fits is taken.
quick_looks <- list(
  list(size = 1L, k = 3, said = "hardly any values, 100 trees and 3 folds"),
  list(size = 1L, k = 5, said = "hardly any values, 100 trees and 5 folds"),
  list(size = 2L, k = 5, said = "fewer values, 200 trees and 5 folds"),
  list(size = 2L, k = 10, said = "fewer values and 200 trees"),
  list(size = 3L, k = 10, said = NULL)
)

quick_plan <- function(brief, seconds_of = expected_seconds) {
  check_class(brief, "kw_brief", "brief", "Make one with brief().")
  seed <- draw_seed()
  taken <- NULL
  for (look in quick_looks) {
    plan <- plan_comparison(
      brief, default_candidates(brief, look$size),
      splits = split_kfold(quick_folds(brief, look$k)), seed = seed
    )
    if (!is.null(taken) && seconds_of(plan) > quick_look_seconds) break
    taken <- plan
    said <- look$said
  }
  taken$seed_drawn <- TRUE
  if (!is.null(said)) {
    taken$notes <- c(taken$notes, paste0(
      "the quick look is cut to about a minute: ", said, "; see plan_comparison() for more"
    ))
  }
  taken
}

# Not more folds than there are groups, or rows of a class.
quick_folds <- function(brief, k) {
  group <- if (!is.null(brief$roles$group)) brief$table[[brief$roles$group]]
  outcome <- brief$table[[brief$outcome]]
  most <- min(c(
    nrow(brief$table), if (!is.null(group)) length(unique(group)),
    if (has_classes(brief$kind)) min(tabulate(outcome, nlevels(outcome)))
  ))
  max(2, min(k, most))
}

# What the pilots say that a plan takes in one process.
expected_seconds <- function(plan) {
  work <- compile_work(plan$spaces, lapply(plan$round, `[[`, "settings"))
  timed <- without_rng_trace(run_pilots(plan, work, turns = 1))
  fits <- tabulate(work$fits$candidate, length(plan$spaces))
  sum(timed$fit_seconds * fits, timed$step_seconds, na.rm = TRUE) * length(plan$splits)
}
