#' Candidates that make sense for a table
#'
#' Makes candidates from what the table is like: families that fit the outcome, the number of rows
#' and the kinds of columns, each behind the preparation that it needs; what may help or not, such
#' as a transformation of skewed columns, or a logarithmic scale for an outcome with a long tail, is
#' a choice by [optional()], [either()] or [among()], from what [inspect_data()] finds; sums of
#' curves ([pre_splines()] before penalised regression) are a candidate of their own;
#' hyperparameters that have an effect on such an outcome have their sensible ranges. Of more
#' columns than a family can do with, the best are kept ([pre_keep_top()]). Fits of each on growing
#' shares of the rows tell what it takes on all of them: what is too dear for the effort is left
#' out, but never all.
#'
#' They print as code that can be pasted and edited. Findings that ask for another brief, such as a
#' column that gives the outcome away, change nothing here: see [apply_remedies()] first.
#'
#' @param brief A [brief()].
#' @param effort `"quick"`: few families, hardly any choice. `"usual"`: more families and choices.
#'   `"thorough"`: every family that fits, and more choices.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return [candidates()] that print as code.
#' @section Errors:
#' `kw_error_argument` for an argument of the wrong kind or out of range, naming it.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "cracked", event = "yes", id = "pot_id", group = "firing_id",
#'   ignore = c("shrinkage_pct", "grade")
#' )
#' sensible_candidates(job, "quick")
#' @export
sensible_candidates <- function(brief, effort = "usual", ...) {
  no_more(...)
  check_class(brief, "kw_brief", "brief", "Make one with brief().")
  check_choice(effort, names(efforts), "effort")
  sensible_within(brief, effort)$candidates
}

# `minutes`: that a run may take. `takes`: seconds of a split of each candidate but the baseline.
sensible_within <- function(brief, effort, minutes = NULL) {
  look <- new_outlook(brief, effort)
  tried <- c(efforts[[effort]]$families, families_of_kind(brief$kind))
  fitting <- lapply(stats::setNames(nm = tried), reason_against, look = look)
  kept <- names(Filter(is.null, fitting))
  curved <- if ("penalised" %in% kept && wants_splines(look)) "penalised_splines"
  pipelines <- lapply(stats::setNames(nm = c(kept, curved)), function(name) {
    splines <- identical(name, curved)
    family <- new_family(shipped_members("fam")[[if (splines) "penalised" else name]](), list())
    if (name != "baseline") family <- sensible(family)
    do.call(pipeline, c(sensible_steps(family$definition, look, splines), list(family)))
  })
  made <- do.call(candidates, pipelines)
  unable <- list()
  repeat {
    plan <- pilot_plan(brief, made)
    if (inherits(plan, "kw_plan")) break
    unable[[plan$candidate]] <- paste(plan$why, collapse = "; ")
    made$pipelines[[plan$candidate]] <- NULL
  }
  made$pipelines <- Map(with_effect, made$pipelines, plan$spaces[names(made$pipelines)])
  several <- min(10L, length(plan$splits))
  dear <- efforts[[effort]]$dear
  # a fifth of the minutes for a setting on as few splits as there may be
  if (!is.null(minutes)) dear <- several * 60 * minutes / (5 * fewest_folds)
  takes <- pilot_takes(plan, dear / several)
  dearer <- too_dear(takes, several, dear)
  made$pipelines <- made$pipelines[setdiff(names(made$pipelines), names(dearer))]
  left_out <- c(Filter(Negate(is.null), fitting), unable, dearer)
  list(
    candidates = structure(made,
      about = look$about, left_out = left_out, class = c("kw_sensible_candidates", class(made))
    ),
    takes = takes[setdiff(names(takes), names(dearer))]
  )
}

# A pipeline in which nothing varies that has no effect on such an outcome, whatever else is chosen.
with_effect <- function(pipeline, space) {
  seen <- blank_inactive(space, with_seed(1, random_settings(space, 200L)))
  of_family <- Filter(function(dimension) dimension$address == "family", space$dimensions)
  idle <- Filter(function(dimension) all(is.na(seen[[dimension$name]])), of_family)
  arguments <- vapply(idle, `[[`, "", "argument")
  usual <- new_family(pipeline$family$definition, list())$settings
  pipeline$family$settings[arguments] <- usual[arguments]
  pipeline
}

fewest_folds <- 5

# `dear`: a setting that takes more seconds on all splits, by one process, is too dear.
efforts <- list(
  quick = list(
    families = c("baseline", "penalised", "tree", "forest"), dear = 30, settings = 30
  ),
  usual = list(
    families = c(
      "baseline", "penalised", "tree", "adaptive_splines", "neighbours", "forest", "boosted"
    ),
    dear = 120, settings = 100
  ),
  thorough = list(
    families = c(
      "baseline", "penalised", "discriminant", "naive_bayes", "tree", "rules", "adaptive_splines",
      "neighbours", "support_vectors", "forest", "boosted", "neural"
    ),
    dear = 600, settings = 300
  )
)

# What there is to know of the table.
new_outlook <- function(brief, effort) {
  kinds <- schema_kinds(brief$schema)
  findings <- inspect_data(brief)
  levels <- lengths(lapply(brief$schema, `[[`, "levels"))
  classes <- kinds %in% c("category", "ordered")
  n <- nrow(brief$table)
  width <- sum(kinds == "number") + sum(levels[classes])
  list(
    brief = brief, effort = effort, findings = findings, kinds = kinds, levels = levels, n = n,
    width = width, gaps = any(vapply(brief$table[names(brief$schema)], anyNA, NA)),
    about = paste0(
      brief$outcome, ", ", kind_words(brief$kind), ", from ", count_of(length(kinds), "column"),
      " of ", count_of(n, "row")
    )
  )
}

# Families that are worth trying for some kinds of outcomes only.
families_of_kind <- function(kind) {
  penalised <- kind_among(member_fam_penalised()$kinds, kind)
  c(if (kind == "ordered") "cumulative", if (is.null(penalised)) "linear")
}

# More rows, or more columns once levels are indicators, take too long or ask for too much: of more
# columns the best are kept.
family_limits <- list(
  neighbours = c(rows = 20000, columns = 200),
  # with weights its package takes fifty times as long: 11 s for 500 rows of 21 columns
  adaptive_splines = c(rows = 50000, columns = 300, weighted = 10),
  support_vectors = c(rows = 5000, columns = 2000), neural = c(rows = 50000, columns = 500),
  discriminant = c(rows = 1e6, columns = 100), rules = c(rows = 50000, columns = 500),
  boosted = c(rows = 1e6, columns = 1000)
)

# Why a family does not fit, or NULL.
reason_against <- function(name, look) {
  family <- new_family(shipped_members("fam")[[name]](), list())
  definition <- family$definition
  if (is.null(kind_among(definition$kinds, look$brief$kind))) {
    return(paste("it does not predict", kind_words(look$brief$kind)))
  }
  weighted <- !is.null(row_weights(look$brief))
  if (weighted && !isTRUE(definition$accepts$weights)) return("it takes no weights")
  most <- family_limits[[name]]
  if (!is.null(most) && look$n > most[["rows"]]) {
    return(paste("the table has more than", format(most[["rows"]], big.mark = ","), "rows"))
  }
  if (weighted && isTRUE(look$width > most["weighted"])) {
    return("it takes too long where rows have weights and columns are many")
  }
  wanted <- unique(c(
    family_packages(definition, family$settings, look$brief$kind),
    if (name == "support_vectors") c("kernlab", "LiblineaR")
  ))
  absent <- wanted[!vapply(wanted, requireNamespace, NA, quietly = TRUE)]
  if (length(absent) > 0L) paste("the package", enumerate(absent), "is not installed")
}

# Levels are columns to those only that cannot do with categories as they are.
too_wide <- function(definition, look) {
  columns <- if (isTRUE(definition$accepts$factors)) sum(look$kinds != "text") else look$width
  isTRUE(columns > family_limits[[definition$name]][["columns"]])
}

found_steps <- function(look) {
  unlist(lapply(look$findings$action, function(a) if (identical(a$kind, "step")) a$step))
}

# What a family needs, and what may help it; `splines`: in the place of numbers.
sensible_steps <- function(definition, look, splines = FALSE) {
  takes <- definition$accepts
  if (isTRUE(takes$nothing)) return(list(pre_minimal()))
  has <- function(kind) any(look$kinds == kind)
  text <- if (has("text")) {
    if (look$effort == "quick" || !tells_without_text(look)) pre_text() else optional(pre_text())
  }
  list_of(
    scale_of_outcome(definition, look),
    if ("drop_constant" %in% found_steps(look)) pre_drop_constant(),
    if (has("date")) pre_dates(), text, if (!isTRUE(takes$missing)) pre_missing(flag = look$gaps),
    helpful_steps(definition, look), if (splines) pre_splines(),
    category_step(takes, look, family_most_levels(definition, look$brief$kind)),
    if (too_wide(definition, look)) pre_keep_top(top = among(10, 30, 100)),
    if (isTRUE(takes$wants_scaling)) pre_scale()
  )
}

# Is there anything but texts that is not the same in every row?
tells_without_text <- function(look) {
  others <- look$brief$table[names(look$kinds)[look$kinds != "text"]]
  any(vapply(others, function(x) length(unique(x)) > 1L, NA))
}

# Families that fit sums or products of columns to an outcome.
smooth_families <- c(
  "penalised", "adaptive_splines", "neural", "discriminant", "linear", "cumulative"
)

# With a long tail of the outcome it is tried whether they learn better on a logarithmic scale.
scale_of_outcome <- function(definition, look) {
  tail <- Find(function(action) identical(action$key, "outcome_scale"), look$findings$action)
  able <- definition$name %in% c(smooth_families, "boosted")
  if (is.null(tail) || look$effort == "quick" || !able) return(NULL)
  do.call(pre_outcome_scale, list(by = do.call(among, as.list(tail$value))))
}

# Changes of numbers of which nobody knows whether they help.
helpful_steps <- function(definition, look) {
  numbers <- sum(look$kinds == "number")
  if (look$effort == "quick" || numbers == 0L) return(NULL)
  found <- found_steps(look)
  scaled <- isTRUE(definition$accepts$wants_scaling)
  smooth <- definition$name %in% smooth_families
  list_of(
    if (smooth && "outliers" %in% found) optional(pre_outliers()),
    if (scaled && any(c("skew", "outliers") %in% found)) optional(pre_skew()),
    if (scaled && look$effort == "thorough" && "drop_correlated" %in% found) {
      optional(pre_drop_correlated())
    }
  )
}

# A sum of curves is another model than a sum of slopes, and one more candidate: as a choice of the
# one it would be looked at late, where slopes are far from the best.
wants_splines <- function(look) {
  numbers <- sum(look$kinds == "number")
  look$effort != "quick" && numbers > 0L && numbers <= 40L
}

# Of more levels than this means may say more than indicators.
many_levels <- 20L

category_step <- function(takes, look, most_levels) {
  levels <- look$levels[look$kinds %in% c("category", "ordered")]
  if (length(levels) == 0L) return(NULL)
  if (isTRUE(takes$factors)) {
    crowded <- names(levels)[levels > min(most_levels, 10 * many_levels)]
    if (length(crowded) > 0L) return(means_of(crowded))
    return(NULL)
  }
  ready <- if ("rare_levels" %in% found_steps(look)) list(pre_rare_levels())
  crowded <- names(levels)[levels > many_levels]
  if (length(crowded) == 0L) return(c(ready, list(pre_onehot())))
  both <- either(
    indicators = pre_onehot(), means = list(means_of(crowded), pre_onehot())
  )
  if (look$effort == "quick") c(ready, list(pre_onehot())) else c(ready, list(both))
}

means_of <- function(columns) {
  new_step(
    shipped_members("step")$target_mean(), list(),
    rlang::new_quosure(call("all_of", columns), emptyenv())
  )
}

# Training rows of the first pilot that tells what fits take, and after so many seconds it told
# enough. Pilots that together took less are made again where they say that a candidate is too dear.
pilot_rows <- 500
pilot_enough <- 1
pilot_again <- 10

# A plan of all candidates, or the error that names one that cannot work, such as with so few rows:
# candidate, why.
pilot_plan <- function(brief, made) {
  tryCatch(
    plan_comparison(
      brief, made, splits = splits_for(brief), search = search_random(20), seed = 1
    ),
    kw_error_rule = function(e) if (is.null(e$candidate)) stop(e) else e,
    kw_error_plan = function(e) if (is.null(e$candidate)) stop(e) else e
  )
}

# Seconds of a split of every candidate but the baseline. What takes more than `dear` is timed
# again, since it may have been the machine that was held up.
pilot_takes <- function(plan, dear) {
  work <- compile_work(plan$spaces, lapply(plan$spaces, usual_setting))
  run <- new_run(plan, work, working_data(plan$brief), "none", no_limits)
  # a part of the rows may be less than one group
  run$data$target["group"] <- list(NULL)
  real <- setdiff(seq_along(plan$spaces), match("baseline", names(plan$spaces)))
  takes <- without_rng_trace(vapply(real, function(candidate) {
    fit <- which(work$fits$candidate == candidate)[1]
    started <- seconds_now()
    takes <- fit_takes(run, fit)
    again <- takes > dear && seconds_now() - started < pilot_again
    if (again) min(takes, fit_takes(run, fit)) else takes
  }, numeric(1)))
  stats::setNames(takes, names(plan$spaces)[real])
}

# Why candidates are too dear: named texts. What takes least is kept in any case, since a baseline
# alone is no comparison.
too_dear <- function(takes, several, dear) {
  takes <- several * takes
  dearer <- takes[takes > dear & takes > min(takes, Inf)]
  lapply(dearer, function(seconds) {
    paste("a setting would take about", rough_time(seconds), "on", count_of(several, "split"))
  })
}

# Seconds that a fit takes on one split, with its steps and its scores: told from a part of the rows
# that is made larger until it takes long enough to tell, and from how much more that took.
fit_takes <- function(run, fit) {
  share <- min(1, pilot_rows / length(run$splits[[1]]$training))
  took <- part_takes(run, fit, share)
  # what is done for the first time takes longer
  if (share < 1 && took < pilot_enough) took <- part_takes(run, fit, share)
  while (share < 1) {
    last <- c(share, took)
    share <- min(1, share * if (took < pilot_enough / 4) 4 else 2)
    took <- part_takes(run, fit, share)
    if (share < 1 && took >= pilot_enough) {
      each <- max(0, took - last[2]) / (share - last[1])
      # a little more than in proportion
      return(took + each * (1 - share) * share^-0.1)
    }
  }
  took
}

part_takes <- function(run, fit, share) {
  held <- run$splits[[1]]$validation
  some <- seq(1, length(held), length.out = ceiling(share * length(held)))
  run$splits[[1]]$validation <- held[some]
  timed_unit(run, 1L, fit, new_cache(), share)$took
}

rough_time <- function(seconds) {
  if (seconds < 120) paste(signif(seconds, 2), "s") else paste(signif(seconds / 60, 2), "minutes")
}

#' Plan a comparison by itself
#'
#' From a brief alone: [sensible_candidates()], splits, search, screen and metrics that fit the size
#' of the table, and the minutes that the run may take: fewer repeats and folds where otherwise
#' hardly a setting would be scored on all splits in time. What it decided is a plan like any other:
#' print it, change it, write it with [write_plan()].
#'
#' @inheritParams sensible_candidates
#' @param minutes The run may take so long; see [limits()]. Candidates of which one setting would
#'   take more than a fifth of it on five splits are left out.
#' @param blend `FALSE`: [select_final()] goes by its usual rule, the simplest setting that is as
#'   good as the best. `TRUE`: the best score counts, however it is had. The best settings of all
#'   candidates are blended ([blend()]), and the rule is `"best_mean"`; the run leaves a twentieth
#'   of the minutes for it.
#' @param metrics,decide,provided,seed See [plan_comparison()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A plan for [run_comparison()], which keeps to its minutes unless others are given.
#' @section Errors:
#' `kw_error_argument` for an argument of the wrong kind or out of range, naming it.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "cracked", event = "yes", id = "pot_id", group = "firing_id",
#'   ignore = c("shrinkage_pct", "grade")
#' )
#' plan_by_itself(job, minutes = 1, effort = "quick", seed = 1)
#' @export
plan_by_itself <- function(
  brief, minutes = 10, effort = "usual", metrics = NULL, decide = NULL, provided = NULL,
  seed = NULL, blend = FALSE, ...
) {
  no_more(...)
  check_number(minutes, "minutes", min = 0, open_min = TRUE)
  check_flag(blend, "blend")
  check_class(brief, "kw_brief", "brief", "Make one with brief().")
  check_choice(effort, names(efforts), "effort")
  made <- sensible_within(brief, effort, minutes)
  plan <- plan_comparison(
    brief, made$candidates,
    splits = splits_within(brief, minutes, made$takes),
    search = search_guided(efforts[[effort]]$settings),
    metrics = metrics, decide = decide, provided = provided, seed = seed
  )
  screen <- if (nrow(brief$table) > 20000L) screen_rows() else screen_splits()
  # where single splits say too little there is none
  if (is.null(tryCatch(screen$check(plan), kw_error_splits = identity))) plan$screen <- screen
  why <- no_splits_in_time(brief)
  if (!is.null(why)) plan$notes <- c(plan$notes, paste("splits in time cannot be made:", why))
  plan$minutes <- minutes
  if (blend) {
    plan$minutes <- signif((1 - blend_share) * minutes, 3)
    plan$rule <- list(name = "best_mean", margin = NULL, blend = TRUE)
  }
  plan
}

# The part of the minutes that is left for a blend.
blend_share <- 0.05

# Of the splits that the table asks for, as many as there is time for a few settings to be scored on
# all of them: what is not scored in full cannot be chosen. `takes`: seconds of a split.
splits_within <- function(brief, minutes, takes) {
  most <- 60 * minutes / (few_in_full * stats::median(takes))
  asked <- splits_for(brief)
  if (is.na(most)) return(asked)
  given <- asked$arguments
  switch(asked$name,
    holdout = split_holdout(given$held_out, draws = max(3, floor(min(given$draws, most)))),
    kfold = if (given$k * given$repeats <= most) {
      asked
    } else if (given$k <= most) {
      split_kfold(given$k, repeats = most %/% given$k)
    } else {
      split_kfold(min(given$k, fewest_folds))
    },
    asked
  )
}

few_in_full <- 5

# More splits where rows are few, since scores of small parts vary much.
splits_for <- function(brief) {
  if (!is.null(brief$roles$time) && is.null(no_splits_in_time(brief))) return(split_time())
  n <- nrow(brief$table)
  if (n > 100000L) return(split_holdout(0.2, draws = 5))
  k <- quick_folds(brief, if (n > 20000L) 5L else 10L)
  groups <- if (!is.null(brief$roles$group)) length(unique(brief$table[[brief$roles$group]]))
  # with a group in each fold all repeats are the same
  repeats <- if (k == min(n, groups)) 1L else if (n < 500L) 5L else if (n < 2000L) 2L else 1L
  split_kfold(k, repeats = repeats)
}

# Why a table with times cannot be split in time, such as where groups reach over all times; NULL
# where it can, or has no times.
no_splits_in_time <- function(brief) {
  if (is.null(brief$roles$time)) return(NULL)
  tryCatch(
    {
      make_splits(split_time(), brief, 1)
      NULL
    },
    kw_error_splits = function(e) sub("\n.*", "", cli::ansi_strip(conditionMessage(e)))
  )
}
