#' Judge the whole procedure: search, rule and refit, without the rows that judge it
#'
#' Nested resampling. For every outer split the whole plan - search, screen, splits, rule, refit -
#' is run on the outer training rows alone; the final model is then scored on the outer
#' validation rows, which nothing has seen. The mean of these scores is an honest estimate
#' of what the procedure gives, as [optimism()] shows beside the naive score. Only what
#' the plan does is repeated: candidates and ranges that a person chose after looking at
#' scores of the same rows, as with [refine_ranges()], are taken as given and keep their
#' optimism. What the plan does not say and is decided after the run, such as a decision threshold
#' or a blend, is repeated with `choose`.
#'
#' @param plan A plan, or a comparison whose plan is to be judged.
#' @param outer Outer splits; default 5 folds.
#' @param rule,margin The rule of [select_final()].
#' @param choose Instead of `rule`: a function of the outer split's comparison that makes the
#'   choice, such as `function(cmp) select_final(blend(cmp))` or
#'   `function(cmp) set_threshold(select_final(cmp), best = "f1")`.
#' @param keep As for [run_comparison()]: `"all_predictions"` spares `choose` what it would fit
#'   again.
#' @param workers,journal,quiet As for [run_comparison()]; `journal` is a folder here, in
#'   which every outer split keeps a journal of its own.
#' @param limits [limits()] of every outer split's run; default those of the plan. What was chosen
#'   under a limit is judged under the same one.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @details
#' Where an outer split leaves fewer groups, or fewer rows of a class, than the plan has folds, it
#' has as many folds as there are, which the print says: leaving out one group after the other is
#' judged by leaving out one of those that are left.
#' @return A `kw_assessment`: `scores`, a tibble with `outer_split`, `metric`, `inner` (mean
#'   validation score of the setting chosen there), `outer` (score on the outer validation
#'   rows), `outer_se` (how far that score may be from its truth because these rows are few:
#'   jackknife over rows or groups); `choices`, a tibble with `outer_split`, `candidate`, `values`,
#'   `reason`.
#' @section Errors:
#' `kw_error_select` when an outer split gives no choice, naming it.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' plan <- plan_comparison(job, candidates(baseline = fam_baseline(), tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1)
#' assess_selection(plan, outer = split_kfold(2), quiet = TRUE)
#' @export
assess_selection <- function(
  plan, outer = split_kfold(5), rule = NULL, margin = NULL,
  workers = "auto", journal = NULL, quiet = FALSE, limits = NULL, choose = NULL, keep = "none", ...
) {
  no_more(...)
  if (inherits(plan, "kw_comparison")) plan <- without_blends(plan)$plan
  check_class(plan, "kw_plan", "plan", "Make one with plan_comparison().")
  check_class(outer, "kw_splitter", "outer", "Make one with split_kfold() or another split_...().")
  if (!is.null(journal)) {
    check_string(journal, "journal")
    if (!dir.exists(journal)) {
      stop_kw("argument", paste0("There is no folder ", quoted(journal), " for the journals."))
    }
  }
  way <- way_of_choosing(choose, rule, margin)
  seed <- derive_seed(plan$seed, "outer splits")
  divided <- make_splits(outer, plan$brief, seed)
  divided <- divided[!is_apparent(divided)]
  if (length(divided) < 2L) stop_kw("select", "Judging needs at least two outer splits.")
  each <- lapply(seq_along(divided), function(i) {
    file <- if (!is.null(journal)) file.path(journal, paste0("outer-", i, ".sqlite"))
    assess_one(plan, divided[[i]], i, way, list(
      workers = workers, journal = file, quiet = quiet, limits = limits, keep = keep
    ))
  })
  structure(
    list(
      scores = tibble::as_tibble(data.table::rbindlist(lapply(each, `[[`, "scores"))),
      choices = tibble::as_tibble(data.table::rbindlist(lapply(each, `[[`, "choice"))),
      inner_folds = fewer_folds(plan, unlist(lapply(each, `[[`, "inner_folds"))),
      outer = outer$label, folds = 1 / mean(held_out_shares(divided)), decide = plan$decide,
      rule = if (!is.null(choose)) {
        "own function"
      } else if (is.null(rule)) {
        planned_rule(plan)$name
      } else {
        find_rule(rule)$name
      }
    ),
    class = "kw_assessment"
  )
}

# Where outer splits leave too few groups or rows for the folds: how many are planned, the fewest.
fewer_folds <- function(plan, inner) {
  planned <- plan$splitter$arguments[["k"]]
  if (any(inner < planned)) c(planned = planned, fewest = min(inner))
}

# What part of the rows each split holds out.
held_out_shares <- function(splits) {
  vapply(splits, function(split) {
    held <- length(unique(split$validation))
    held / (held + length(unique(split$training)))
  }, 1)
}

# A function of a comparison that gives its choice.
way_of_choosing <- function(choose, rule, margin) {
  # a blend that the plan asks for says of every outer split which fits it needs
  if (is.null(choose)) return(function(cmp) suppressMessages(select_final(cmp, rule, margin)))
  check_argument(
    is.function(choose) && length(formals(choose)) >= 1L, "choose", "a function of a comparison",
    choose
  )
  if (!is.null(rule) || !is.null(margin)) {
    stop_kw("argument", "Give either `choose` or a `rule` with its `margin`.",
      remedy = "Call select_final(cmp, rule, margin) inside `choose`."
    )
  }
  function(cmp) {
    choice <- choose(cmp)
    check_class(choice, "kw_choice", "what `choose` returns", "End it with select_final().")
    choice
  }
}

# The plan for what an outer split trains on; of fewer folds where that has fewer groups, or rows of
# a class, than the plan has folds.
inner_plan <- function(plan, split, number) {
  tryCatch(plan_for_rows(plan, split$training, number), kw_error_splits = function(e) {
    if (plan$splitter$name == "kfold" && isTRUE(e$most > 1)) {
      arguments <- plan$splitter$arguments
      arguments$k <- as.numeric(e$most)
      plan$splitter <- do.call(split_kfold, arguments)
      return(inner_plan(plan, split, number))
    }
    stop_kw(
      "splits",
      paste0("The rows that outer split ", number, " trains on cannot be split as planned."),
      where = plain_message(e),
      remedy = "Use a plan of fewer folds, or more outer splits, which leave more rows and groups."
    )
  })
}

assess_one <- function(plan, split, number, way, options) {
  inner <- inner_plan(plan, split, number)
  model <- tryCatch(
    {
      cmp <- do.call(run_comparison, c(list(inner), options))
      fit_final(way(cmp))
    },
    kw_error = function(e) {
      stop_kw(
        "select", paste0("Outer split ", number, " gave no final model."),
        where = plain_message(e)
      )
    }
  )
  unseen <- data_rows(working_data(plan$brief), split$validation)
  truth <- truth_of(unseen$target)
  prediction <- predict_frame(model, unseen$frame)
  score <- function(at) {
    score_with_threshold(
      plan$metrics, truth[at], prediction_rows(prediction, at), unseen$target$weights[at],
      model$threshold
    )
  }
  outer <- score(seq_along(truth))
  list(
    inner_folds = inner$splitter$arguments[["k"]],
    scores = list(
      outer_split = rep(number, length(outer)), metric = names(plan$metrics),
      inner = model$scores$validation,
      outer = unname(outer), outer_se = blockwise_error(score, inner_unit(unseen$target))
    ),
    choice = list(
      outer_split = number, candidate = model$facts$candidate,
      values = model$facts$setting, reason = model$facts$reason
    )
  )
}

# Standard errors of scores by the jackknife, leaving out one unit after the other, or one block of
# them where there are many: a block is every n-th unit.
blockwise_error <- function(score, unit) {
  unit <- match(unit, unique(unit))
  blocks <- min(most_blocks, max(unit))
  if (blocks < 2L) return(NA_real_)
  block <- (unit - 1L) %% blocks + 1L
  without <- lapply(seq_len(blocks), function(b) score(which(block != b)))
  unname(jackknife_error(do.call(rbind, without)))
}

most_blocks <- 50L

# The same plan on some of the working rows; a bootstrap's repeated rows count once.
plan_for_rows <- function(plan, rows, number) {
  brief <- plan$brief
  rows <- sort(unique(rows))
  brief$table <- frame_of_rows(brief$table, rows)
  brief$rows <- brief$rows[rows]
  brief["sealed"] <- list(NULL)
  plan_like(plan, refresh_brief(brief), seed = derive_seed(plan$seed, paste("outer split", number)))
}
