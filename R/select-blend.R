#' Blend the best of several candidates
#'
#' Adds a candidate to a comparison whose prediction is a mean of other candidates' predictions,
#' each by its best setting. It is scored like any other, from the held-out predictions, on splits
#' that its weights have not seen: on every split with weights learned on the other splits of its
#' repeat (of all other draws, for draws), without the rows and groups that this split holds out.
#' The final model gets the weights that all held-out predictions give, and the members fitted on
#' all working rows.
#'
#' A blend counts as more complex than whatever it is made of, so that [select_final()] takes it
#' only where the rule finds no simpler setting as good. No fit is needed where the comparison kept
#' its predictions (`keep = "all_predictions"`); else the members are fitted again on every split.
#' The members were picked by the same scores, which makes the blend's a little too good.
#' Blend last: what goes on with a comparison ([extend_comparison()], [settle()]) leaves blends
#' behind. A plan may ask for a blend before every choice: `blend: yes` in a plan file, or
#' `plan_by_itself(blend = TRUE)`; see [select_final()]. To judge the whole way, give `choose = function(cmp) select_final(blend(cmp))` to
#' [assess_selection()].
#'
#' @param cmp A comparison from [run_comparison()].
#' @param candidates Names of candidates; default all but those that look at no column.
#' @param by `"weights"`: weights of 0 or more that sum to 1, with the least squared error (of
#'   probabilities, for classes) of held-out predictions; `"mean"`: all weigh alike.
#' @param name What the new candidate is called.
#' @param quiet Say nothing of fits that are made again?
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return The comparison with one candidate more.
#' @section Errors:
#' `kw_error_argument` for fewer than two candidates with a ranked setting, a name that is taken, or
#' weights of quantiles; `kw_error_splits` for weights where there is one split only, and for draws
#' that are corrected by training scores (`split_bootstrap(score = "632plus")`).
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
blend <- function(cmp, candidates = NULL, by = "weights", name = "blend", quiet = FALSE, ...) {
  no_more(...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  check_choice(by, c("weights", "mean"), "by")
  check_word(name, "name")
  check_flag(quiet, "quiet")
  refuse_blend(cmp, by, name)
  members <- members_to_blend(cmp, candidates)
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
    paste(paste(round_shares(weights[used]), candidate_names(cmp)[members[used]]),
      collapse = " + ")
  )
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

# The best settings of the candidates that are named, or of all that learn from columns.
members_to_blend <- function(cmp, candidates) {
  for (one in candidates) check_choice(one, names(spaces_of(cmp)), "candidates")
  best <- best_of_candidates(cmp)
  names <- candidate_names(cmp)[best]
  if (is.null(candidates)) {
    learning <- !vapply(spaces_of(cmp)[names], function(space) {
      space$pipeline$family$definition$accepts$nothing || is_blend(space)
    }, NA)
    candidates <- names[learning]
  }
  unranked <- setdiff(candidates, names)
  if (length(unranked) > 0L) {
    stop_kw("argument", paste0(
      "The candidate ", quoted(unranked[1]), " has no ranked setting to blend."
    ), remedy = "Leave it out; see failures(cmp).")
  }
  members <- best[match(unique(candidates), names)]
  mixed <- vapply(spaces_of(cmp)[candidate_names(cmp)[members]], is_blend, NA)
  if (length(members) < 2L || any(mixed)) {
    stop_kw("argument", "A blend is of two candidates or more, none of them a blend.",
      remedy = "Name others in `candidates`."
    )
  }
  members
}

# By member, a list by split. What was not kept is fitted again, after saying so.
predictions_to_blend <- function(cmp, members, quiet) {
  kept <- lapply(members, function(at) kept_predictions(cmp, at))
  lacking <- vapply(kept, is.null, NA)
  if (any(lacking) && !quiet) {
    splits <- sum(!is_apparent(all_splits(cmp)))
    message(
      "Predictions of ", count_of(sum(lacking), "setting"), " were not kept: ",
      count_of(sum(lacking) * splits, "fit"), " again (some ",
      format(signif(sum(cmp$results$seconds[members[lacking], ], na.rm = TRUE), 2)), " s)."
    )
  }
  kept[lacking] <- lapply(members[lacking], function(at) setting_predictions(cmp, at))
  kept
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
