#' From coarse to fine: ranges around the best region
#'
#' Numeric hyperparameters get a new range: from the lowest to the highest value among
#' each candidate's good settings (those within one standard error of its best, or its best
#' five if that is more), and one tried value further to either side. Where a good value was
#' at an end of what was tried, the range goes beyond it by as much as the step there, as
#' far as the family allows. Categories keep the values found among the good settings.
#'
#' @param cmp A comparison from [run_comparison()].
#' @param candidate Names of the candidates to refine; default all in which anything varies.
#' @param points How finely the new ranges are cut.
#' @return [candidates()] of the same names with `suffix` added, for
#'   [extend_comparison()] or a new plan.
#' @param suffix What is added to the names.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @section Errors:
#' `kw_error_select` when nothing varies, or nothing is ranked.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree(pruning = sensible())),
#'   splits = split_kfold(3),
#'   seed = 1, quiet = TRUE
#' )
#' finer <- refine_ranges(cmp)
#' standings(extend_comparison(cmp, finer, quiet = TRUE))
#' @export
refine_ranges <- function(cmp, candidate = NULL, points = 5, suffix = "_finer", ...) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  check_number(points, "points", min = 2, whole = TRUE)
  check_string(suffix, "suffix")
  for (name in candidate) check_choice(name, names(spaces_of(cmp)), "candidate")
  ranked <- unique(candidate_names(cmp)[best_of_candidates(cmp)])
  varied <- names(which(vapply(
    spaces_of(cmp), function(space) length(space$dimensions) > 0L, logical(1)
  )))
  chosen <- intersect(candidate %||% varied, intersect(varied, ranked))
  if (length(chosen) == 0L) {
    stop_kw("select", "There is nothing to refine: no ranked candidate has anything that varies.")
  }
  pipelines <- lapply(chosen, function(name) refine_candidate(cmp, name, points))
  structure(
    list(pipelines = stats::setNames(pipelines, paste0(chosen, suffix)), rules = list()),
    class = "kw_candidates"
  )
}

refine_candidate <- function(cmp, name, points) {
  number <- match(name, names(spaces_of(cmp)))
  space <- spaces_of(cmp)[[number]]
  table <- cmp$results$tables[[number]]
  good <- cmp$results$row[good_settings(cmp, number)]
  pipeline <- space$pipeline
  for (dimension in space$dimensions) {
    if (dimension$kind != "value") next
    tried <- sort(unique(table[[dimension$name]]))
    kept <- unique(table[[dimension$name]][good])
    kept <- kept[!is.na(kept)]
    if (length(kept) == 0L) next
    finer <- if (is.numeric(tried) && length(tried) > 2L) {
      finer_range(tried, kept, dimension, points)
    } else {
      kept_values(dimension, kept)
    }
    pipeline <- replace_value(pipeline, dimension$address, dimension$argument, finer)
  }
  pipeline
}

# Numbers of a candidate's settings that are within one standard error of its best, at
# least its best five.
good_settings <- function(cmp, number) {
  metric <- cmp_metric(cmp)
  summary <- score_summary(cmp, metric$name)
  mine <- which(cmp$results$candidate == number & !is.na(summary$mean))
  good <- goodness(summary$mean[mine], metric)
  mine <- mine[order(-good)]
  good <- sort(good, decreasing = TRUE)
  se <- summary$se[mine[1]]
  mine[seq_along(mine) <= 5L | good >= good[1] - (if (is.na(se)) 0 else se)]
}

finer_range <- function(tried, kept, dimension, points) {
  logged <- all(tried > 0) && max(tried) / min(tried) >= 20
  scale <- if (logged) log else identity
  back <- if (logged) exp else identity
  at <- scale(tried)
  n <- length(at)
  low <- match(min(kept), tried)
  high <- match(max(kept), tried)
  from <- back(if (low > 1L) at[low - 1L] else at[1] - (at[2] - at[1]))
  to <- back(if (high < n) at[high + 1L] else at[n] + (at[n] - at[n - 1L]))
  whole <- identical(dimension$declared$type, "whole")
  from <- max(from, dimension$declared$min %||% -Inf)
  to <- min(to, dimension$declared$max %||% Inf)
  if (dimension$declared$open_min %||% FALSE) from <- max(from, min(tried) / 10)
  if (whole) {
    from <- round(from)
    to <- round(to)
  }
  if (from >= to) return(do.call(among, as.list(signif(kept, 6))))
  from_to(signif(from, 6), signif(to, 6),
    spacing = if (logged && from > 0) "log" else "even",
    points = if (whole) min(points, to - from + 1) else points
  )
}

kept_values <- function(dimension, kept) {
  values <- lapply(kept, function(entry) dimension_value(dimension, entry))
  if (length(values) == 1L) return(values[[1]])
  do.call(among, values)
}

# The pipeline with another value of one argument of the part at an address.
replace_value <- function(pipeline, address, argument, value) {
  if (address == "family") {
    pipeline$family$settings[argument] <- list(value)
    return(pipeline)
  }
  pipeline$steps <- replace_in_nodes(
    pipeline$steps, as.integer(strsplit(address, "/", fixed = TRUE)[[1]]), argument, value
  )
  pipeline
}

replace_in_nodes <- function(nodes, path, argument, value) {
  i <- path[1]
  if (length(path) == 1L) {
    nodes[[i]]$part$settings[argument] <- list(value)
  } else {
    nodes[[i]]$part$alternatives[[path[2]]] <- replace_in_nodes(
      nodes[[i]]$part$alternatives[[path[2]]], path[-(1:2)], argument, value
    )
  }
  nodes
}

#' Add candidates, repeats or metrics to a comparison, without doing again what is done
#'
#' New candidates are run on the same rows, splits and metrics, under the same seed, so that all
#' scores can be compared. More repeats are had for all settings; [settle()] has them where they
#' matter. More metrics are had from the predictions where they were kept (`keep =
#' "all_predictions"`, without training scores); else all is fitted once more, which gives the same
#' predictions.
#'
#' @param cmp A comparison from [run_comparison()].
#' @param more [candidates()] with names of their own, e.g. from [refine_ranges()]; `NULL`: none.
#' @param search Search for the new candidates; default a grid of five points.
#' @param repeats So many more repeats of the folds, or more draws; the splits that there are stay
#'   as they are.
#' @param metrics Further metrics, as in [plan_comparison()]; the deciding one stays.
#' @param ... Further arguments of [run_comparison()], such as `workers`, `quiet` or `journal`: for
#'   more candidates the one of `cmp`, which then holds all, or another one; for repeats and metrics
#'   another one, which then holds all, since a journal is of one set of splits and metrics.
#' @return A comparison of all candidates on all splits.
#' @section Errors:
#' `kw_error_argument` when a name is taken, or nothing is to be added; `kw_error_splits` for splits
#' that cannot be repeated.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline()), splits = split_kfold(3),
#'   seed = 1, quiet = TRUE)
#' extend_comparison(cmp, candidates(tree = fam_tree()), quiet = TRUE)
#' extend_comparison(cmp, repeats = 2, metrics = "mae", quiet = TRUE)
#' @export
extend_comparison <- function(
  cmp, more = NULL, search = search_grid(points = 5), repeats = 0, metrics = NULL, ...
) {
  no_more_but(run_arguments, ...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  check_number(repeats, "repeats", min = 0, max = most_repeats, whole = TRUE)
  if (is.null(more) && repeats == 0 && is.null(metrics)) {
    stop_kw("argument", "Nothing is to be added.",
      remedy = "Give `more` candidates, `repeats` or `metrics`."
    )
  }
  cmp <- without_blends(cmp)
  if (repeats > 0) cmp <- on_more_splits(cmp, with_more_splits(cmp$plan, repeats))
  again <- NULL
  if (!is.null(metrics)) {
    scored <- on_more_metrics(cmp, with_more_metrics(cmp$plan, metrics))
    cmp <- scored$cmp
    again <- scored$again
  }
  plan <- if (is.null(more)) cmp$plan else plan_of_more(cmp$plan, more, search)
  carry_out(plan, ...,
    keep = kept_of(cmp), before = cmp, asked = names(more$pipelines) %||% character(),
    more = function(plan, run, crew) {
      stopped <- if (!is.null(again)) fits_again(again, plan, run, crew)
      if (!is.null(stopped) || repeats == 0) return(stopped)
      run_stage(plan, run, full_stage(lasting_fits(crew$sink$results(), run$work), plan), crew)
    }
  )
}

plan_of_more <- function(plan, more, search) {
  check_class(more, "kw_candidates", "more", "Make them with candidates().")
  taken <- intersect(names(more$pipelines), names(plan$spaces))
  if (length(taken) > 0L) {
    stop_kw(
      "argument",
      paste0("The comparison has a candidate ", quoted(taken[1]), " already."),
      remedy = "Give the new one another name."
    )
  }
  joined_plan(plan, plan_like(plan, candidates = more, search = search))
}

# One plan of the candidates of two that agree in everything else.
joined_plan <- function(a, b) {
  for (part in c("spaces", "seats", "round")) a[[part]] <- c(a[[part]], b[[part]])
  a$candidates <- do.call(c, unname(list(a$candidates, b$candidates)))
  a$notes <- unique(c(a$notes, b$notes))
  a
}

#' Which search finds the better setting for the effort
#'
#' @param ... Named comparisons of the same data, splits and metrics, such as a grid and a
#'   random search. Those of one name are repeats of one search, made with other values of
#'   `search_seed` in [plan_comparison()].
#' @param metric The metric; default the deciding one of the first.
#' @return A `kw_searches`: a tibble with one row a comparison: `search` (its name),
#'   `settings`, `fits`, `seconds`, `candidate` and `values` of the best setting, `metric`,
#'   `mean`, `sd`, `se`, `fits_to_best` (fits until the best was found). See [draw_search()].
#' @section Errors:
#' `kw_error_select` when data, splits or metric differ, saying which.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' run <- function(search) run_comparison(job, candidates(tree = fam_tree(pruning = from_to(1e-4,
#'   0.1, "log"))),
#'   splits = split_kfold(3), search = search, seed = 1, quiet = TRUE
#' )
#' join_comparisons(grid = run(search_grid(5)), random = run(search_random(5)))
#' @export
join_comparisons <- function(..., metric = NULL) {
  given <- list(...)
  names <- names(given)
  check_argument(
    length(given) > 0L && !is.null(names) && all(nzchar(names)), "...",
    "comparisons, each with a name", given
  )
  for (i in seq_along(given)) {
    check_class(given[[i]], "kw_comparison", names[i], "Make them with run_comparison().")
  }
  metric <- cmp_metric(given[[1]], metric)
  for (i in seq_along(given)) {
    if (i > 1L) refuse_unlike(given[[1]], given[[i]], names[1], names[i], metric)
    if (length(best_of_candidates(given[[i]], metric$name)) == 0L) {
      stop_kw(
        "select",
        paste0("No setting of ", quoted(names[i]), " is ranked."),
        remedy = "See failures() of it."
      )
    }
  }
  curves <- lapply(given, search_curve, metric = metric)
  rows <- Map(function(cmp, curve, name) {
    best <- best_of_candidates(cmp, metric$name)[1]
    summary <- score_summary(cmp, metric$name)
    list(
      search = name, settings = length(cmp$results$candidate),
      fits = fits_done(cmp), seconds = cmp$seconds,
      candidate = candidate_names(cmp)[best], values = setting_label(cmp, best),
      metric = metric$name, mean = summary$mean[best],
      sd = summary$sd[best], se = summary$se[best],
      fits_to_best = curve$fits[which.max(goodness(curve$best, metric))]
    )
  }, given, curves, names)
  table <- tibble::as_tibble(data.table::rbindlist(rows))
  shown <- listing(table[order(-goodness(table$mean, metric)), ],
    title = paste0("Searches by their best mean ", metric$label),
    scores = c("mean", "sd", "se"), certain = middle(table$se), hide = "metric",
    called = c(values = "setting"), last = "values"
  )
  mark_table(
    shown,
    "kw_searches",
    curves = curves,
    metric = metric
  )
}

refuse_unlike <- function(a, b, name_a, name_b, metric) {
  keys <- function(cmp) vapply(all_splits(cmp), `[[`, "", "key")
  differ <- c(
    data = !identical(a$plan$brief$fingerprint, b$plan$brief$fingerprint),
    outcome = !identical(a$plan$brief$outcome, b$plan$brief$outcome),
    splits = !identical(keys(a), keys(b)),
    metrics = !metric$name %in% names(b$plan$metrics)
  )
  if (!any(differ)) return(invisible())
  stop_kw(
    "select",
    paste0(
      quoted(name_a), " and ", quoted(name_b), " cannot be compared: their ",
      enumerate(names(which(differ))),
      " differ."
    ),
    remedy = "Run both with the same brief, splits, metrics and seed."
  )
}

# What settings that a screen dropped, or that a limit cut off, were likely to reach: NA for those
# with all their scores, or with none.
partly_known <- function(cmp, metric) {
  scores <- cmp$results$scores[[metric$name]]
  scores <- scores[, is.na(cmp$plan$undefined[[metric$name]]), drop = FALSE]
  mean <- rowMeans(scores)
  ifelse(is.na(mean), expected_means(scores, mean), NA)
}

# Best mean so far against what it took, in the order in which settings were proposed: columns
# fits, seconds, mean, partly, best.
search_curve <- function(cmp, metric) {
  order <- order(cmp$results$round, cmp$results$row, cmp$results$candidate)
  work <- work_of(cmp)
  fit <- work$settings$fit[order]
  done <- tabulate(cmp$ledger$fit, length(work$fits$node))
  fits <- cumsum(ifelse(duplicated(fit), 0, done[fit]))
  mean <- score_summary(cmp, metric$name)$mean[order]
  good <- goodness(mean, metric)
  good[is.na(good)] <- -Inf
  best <- cummax(good)
  tibble::tibble(
    fits = fits, seconds = cumsum(rowSums(cmp$results$seconds, na.rm = TRUE)[order]),
    mean = mean, partly = partly_known(cmp, metric)[order],
    best = ifelse(is.finite(best), goodness(best, metric), NA)
  )
}
