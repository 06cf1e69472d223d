#' Blend the best of several candidates
#'
#' Adds a candidate to a comparison whose prediction is a mean of other candidates' predictions,
#' each by its best settings, since several that are nearly as good err less together than the one
#' that happened to be the best. It is scored like any other, from the held-out predictions, on
#' splits that its weights have not seen: on every split with weights learned on the other splits of
#' its repeat (of all other draws, for draws), without the rows and groups that this split holds
#' out. The final model gets the weights that all held-out predictions give, and the members fitted
#' on all working rows.
#'
#' A blend counts as more complex than whatever it is made of, so that [select_final()] takes it
#' only where the rule finds no simpler setting as good. No fit is needed where the comparison kept
#' its predictions (`keep = "all_predictions"`), or held those of its best settings, as the run of a
#' plan that asks for a blend does, and its journal; else the members are fitted again on every
#' split.
#' The members were picked by the same scores, which makes the blend's a little too good.
#' Blend last: what goes on with a comparison ([extend_comparison()], [settle()]) leaves blends
#' behind. A plan may ask for a blend before every choice: `blend: yes` in a plan file, or
#' `plan_by_itself(blend = TRUE)`; see [select_final()]. To judge the whole way of a blend that was
#' made by hand, give `choose = function(cmp) select_final(blend(cmp))` to [assess_selection()].
#'
#' @param cmp A comparison from [run_comparison()].
#' @param candidates Names of candidates; default all but those that look at no column.
#' @param by `"weights"`: weights of 0 or more that sum to 1, with the least squared error (of
#'   probabilities, for classes) of held-out predictions; `"mean"`: all weigh alike.
#' @param each At most so many settings of a candidate, its best ones; of those that come from one
#'   fit, such as the values along a family's path, only the best.
#' @param minutes At most so many for fits that are made again, by what they took in the run:
#'   members are taken in the order of their places, but for those that would take more than is
#'   left. `NULL`: all.
#' @param name What the new candidate is called.
#' @param quiet Say nothing of fits that are made again?
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return The comparison with one candidate more.
#' @section Errors:
#' `kw_error_argument` for fewer than two ranked settings with fits of their own, or where there is
#' no time to fit two again, for a name that is taken, or for weights of quantiles;
#' `kw_error_splits` for weights where there is one split only, and for draws that are corrected by
#' training scores (`split_bootstrap(score = "632plus")`).
#' @references Wolpert (1992), Stacked generalization, Neural Networks 5. Breiman (1996), Stacked
#'   regressions, Machine Learning 24.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree(), penalised = fam_penalised()),
#'   splits = split_kfold(3), seed = 1, keep = "all_predictions", quiet = TRUE
#' )
#' standings(blend(cmp, by = "mean"))
#' @export
blend <- function(
  cmp, candidates = NULL, by = "weights", name = "blend", each = 3, minutes = NULL, quiet = FALSE,
  ...
) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  check_choice(by, c("weights", "mean"), "by")
  check_word(name, "name")
  check_number(each, "each", min = 1, whole = TRUE)
  if (!is.null(minutes)) check_number(minutes, "minutes", min = 0)
  check_flag(quiet, "quiet")
  refuse_blend(cmp, by, name)
  members <- members_in_time(cmp, members_to_blend(cmp, candidates, each), minutes)
  predictions <- predictions_to_blend(cmp, members, quiet)
  parts <- parts_to_blend(cmp, predictions)
  weights <- weights_of_blend(parts, by)
  blended_parts <- lapply(seq_along(parts), function(j) {
    beside <- parts[parts_beside(parts, j)]
    mine <- if (by == "mean") weights else weights_of_blend(lapply(beside, function(part) {
      apart <- !part$unit %in% parts[[j]]$unit
      list(truth = part$truth[apart], members = part$members[apart, , drop = FALSE],
        weights = part$weights[apart])
    }), by)
    blended(lapply(predictions, `[[`, j), mine)
  })
  # for the model only members of some weight are fitted
  used <- order(-weights)[seq_len(sum(weights >= 0.005))]
  with_blend(
    cmp, name, members[used], weights[used] / sum(weights[used]), blended_parts,
    blend_label(candidate_names(cmp)[members[used]], weights[used])
  )
}

# "0.72 tree (2 settings) + 0.28 linear", the largest share first.
blend_label <- function(names, weights) {
  share <- sort(tapply(weights, factor(names, unique(names)), sum), decreasing = TRUE)
  n <- tabulate(factor(names, names(share)))
  several <- ifelse(n > 1L, paste0(" (", n, " settings)"), "")
  paste(paste0(round_shares(share), " ", names(share), several), collapse = " + ")
}

refuse_blend <- function(cmp, by, name) {
  if (name %in% names(spaces_of(cmp))) {
    stop_kw("argument", paste0("The comparison has a candidate ", quoted(name), " already."),
      remedy = "Give the blend another `name`."
    )
  }
  kind <- brief_of(cmp)$kind
  if (by == "weights" && is_wide(kind) && !has_classes(kind)) {
    stop_kw("argument", "There are no weights for a blend of quantiles.",
      remedy = "Use by = \"mean\"."
    )
  }
  if (by == "weights" && sum(!is_apparent(all_splits(cmp))) < 2L) {
    stop_kw("splits", "There is one split only, so that no other could give the weights.",
      remedy = "Use more splits, or by = \"mean\"."
    )
  }
  if (!is.null(splitter_of(cmp)$summary)) {
    stop_kw("splits", paste0(
      "Scores of these draws (", splitter_of(cmp)$label, ") are corrected by training scores, ",
      "which a blend does not have."
    ), remedy = "Use folds, or plain draws.")
  }
}

# The best settings of the candidates that are named, or of all that learn from columns, best first.
members_to_blend <- function(cmp, candidates, each) {
  for (one in candidates) check_choice(one, names(spaces_of(cmp)), "candidates")
  best <- best_settings(cmp, each)
  names <- candidate_names(cmp)[best]
  if (is.null(candidates)) {
    learning <- vapply(spaces_of(cmp)[unique(names)], function(space) {
      !space$pipeline$family$definition$accepts$nothing && !is_blend(space)
    }, NA)
    candidates <- unique(names)[learning]
  }
  unranked <- setdiff(candidates, names)
  if (length(unranked) > 0L) {
    stop_kw("argument", paste0(
      "The candidate ", quoted(unranked[1]), " has no ranked setting to blend."
    ), remedy = "Leave it out; see failures(cmp).")
  }
  if (any(vapply(spaces_of(cmp)[candidates], is_blend, NA))) {
    stop_kw("argument", "A blend cannot be part of a blend.",
      remedy = "Name others in `candidates`."
    )
  }
  members <- best[names %in% candidates]
  if (length(members) < 2L) {
    stop_kw("argument", "A blend is of two settings or more, each with a fit of its own.",
      remedy = "Name more `candidates`, or allow more settings of `each`."
    )
  }
  members
}

# Of every candidate so many ranked settings that have a fit of their own, best first.
best_settings <- function(cmp, each) {
  table <- standings_rows(cmp)
  at <- rows_in_standings(cmp, table[!is.na(table$place), ])
  at <- at[!duplicated(work_of(cmp)$settings$fit[at])]
  candidate <- cmp$results$candidate[at]
  at[stats::ave(seq_along(at), candidate, FUN = seq_along) <= each]
}

# Those whose predictions can be had in time.
members_in_time <- function(cmp, members, minutes) {
  if (is.null(minutes)) return(members)
  in_time <- !is.na(seconds_to_predict_again(cmp, members, 60 * minutes))
  if (sum(in_time) < 2L) {
    stop_kw("argument", paste0(
      "There is no time for a blend: to fit two settings again on all splits takes more than ",
      rough_time(60 * minutes), "."
    ), remedy = "Allow more `minutes`, or keep = \"all_predictions\" in the run.")
  }
  members[in_time]
}

# What each needs newly to be fitted again on all splits, by what fits and steps took in the run:
# steps are learned once. Nothing where predictions were kept; NA for what would take more than is
# left of `most` seconds.
seconds_to_predict_again <- function(cmp, members, most = Inf) {
  work <- work_of(cmp)
  steps <- cmp$ledger$steps
  whole <- cmp$ledger$share == 1
  learned <- integer()
  vapply(members, function(at) {
    if (!is.null(kept_predictions(cmp, at))) return(0)
    new <- setdiff(nodes_on_the_way(work, work$settings$node[at]), learned)
    takes <- sum(
      cmp$ledger$seconds[whole & cmp$ledger$fit == work$settings$fit[at]],
      steps$seconds[steps$share == 1 & steps$node %in% new], na.rm = TRUE
    )
    if (takes > most) return(NA_real_)
    most <<- most - takes
    learned <<- c(learned, new)
    takes
  }, 1)
}

# By member, a list by split. What was not kept is fitted again, after saying so.
predictions_to_blend <- function(cmp, members, quiet) {
  lacking <- vapply(members, function(at) is.null(kept_predictions(cmp, at)), NA)
  if (any(lacking) && !quiet) {
    splits <- sum(!is_apparent(all_splits(cmp)))
    message(
      "Predictions of ", count_of(sum(lacking), "setting"), " were not kept: ",
      count_of(sum(lacking) * splits, "fit"), " again (some ",
      format(signif(sum(seconds_to_predict_again(cmp, members)), 2)), " s)."
    )
  }
  predictions_of_settings(cmp, members)
}

# By split: truth (a number, or 0/1 for every class but the first of two), the members' predictions
# of it, weights and units of the rows.
parts_to_blend <- function(cmp, predictions) {
  brief <- brief_of(cmp)
  unit <- inner_unit(brief_target(brief))
  splits <- all_splits(cmp)[!is_apparent(all_splits(cmp))]
  lapply(seq_along(splits), function(j) {
    rows <- splits[[j]]$validation
    target <- brief_target(brief, rows)
    flat <- function(x) if (is.matrix(x)) as.vector(if (ncol(x) == 2L) x[, 2] else x) else x
    truth <- if (is.factor(target$outcome)) {
      flat(outer(as.integer(target$outcome), seq_along(levels(target$outcome)), `==`) * 1)
    } else {
      target$outcome
    }
    times <- length(truth) / length(rows)
    list(
      rep = splits[[j]]$rep, truth = truth, unit = rep(unit[rows], times),
      weights = rep(target$weights %||% rep(1, length(rows)), times),
      members = do.call(cbind, lapply(predictions, function(one) flat(one[[j]])))
    )
  })
}

# Weights of 0 or more with sum 1 that minimise the squared error.
weights_of_blend <- function(parts, by) {
  k <- ncol(parts[[1]]$members)
  alike <- rep(1 / k, k)
  if (by == "mean") return(alike)
  need("quadprog", "A blend by weights")
  squares <- Reduce(`+`, lapply(parts, function(p) crossprod(p$members, p$weights * p$members)))
  with_truth <- Reduce(`+`, lapply(parts, function(p) crossprod(p$members, p$weights * p$truth)))
  size <- mean(diag(squares))
  if (!is.finite(size) || size <= 0) return(alike)
  # members that predict the same share what they get
  squares <- squares / size + diag(1e-8, k)
  found <- quadprog::solve.QP(
    squares, drop(with_truth) / size, cbind(rep(1, k), diag(k)), c(1, rep(0, k)),
    meq = 1
  )$solution
  found <- pmax(found, 0)
  found / sum(found)
}

round_shares <- function(weights) formatC(weights / sum(weights), format = "f", digits = 2)
