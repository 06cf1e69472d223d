# Blends: settings whose fit is that of other settings of the comparison, the members, on the same
# rows, and whose prediction is the members' mean under fixed weights. They come after all rounds;
# what goes on with a comparison leaves them behind, see without_blends().

member_combination_blend <- function() {
  family_definition("blend", "Blend", outcome_kinds(),
    hyperparameters = list(
      members = hyperparameter("any", NULL, meaning = "Numbers of the settings."),
      weights = hyperparameter("any", NULL, meaning = "Weights of their predictions.")
    ),
    # more complex than whatever it is made of
    complexity_rank = 1000, combines = TRUE,
    fit = function(...) {
      stop_kw("fit", "A blend has no fit of its own.", remedy = "Make it again by blend().")
    },
    predict = predict_blend, does = "Means of other candidates' predictions."
  )
}

# How a model's family is called: only those that a user can name have a prefix.
called_family <- function(name) if (name == "blend") "a blend" else paste0("fam_", name)

# The members on these rows, as refit_setting() gives a setting.
refit_blend <- function(work, described, data, seed, place, learned) {
  settings <- described$settings
  parts <- lapply(settings$members, function(at) {
    frozen_fit(refit_setting(work, at, data, seed, place, learned))
  })
  levels <- levels(data$target$outcome) %||% quantile_names(data$target$quantiles)
  list(
    states = list(),
    fitted = list(
      definition = unclass(described$definition), levels = levels, settings = settings,
      model = structure(list(
        parts = parts, weights = settings$weights, kind = data$target$kind, levels = levels
      ), class = "kw_blend_parts")
    ),
    input = data$frame, target = data$target, settings = settings, value = NULL
  )
}

predict_blend <- function(model, frame) {
  blended(lapply(model$parts, function(part) {
    predict_frame(c(part, list(kind = model$kind, levels = model$levels)), frame)
  }), model$weights)
}

blended <- function(predictions, weights) Reduce(`+`, Map(`*`, predictions, weights))

# What is done to every fit that travels is done to a blend's members.
in_parts_of_blend <- function(model, f, ...) {
  if (inherits(model, "kw_blend_parts")) model$parts <- lapply(model$parts, f, ...)
  model
}

# A comparison with one candidate more: a blend of the settings `members`. `predictions`: on every
# split but the apparent one; `label`: what it is made of.
with_blend <- function(cmp, name, members, weights, predictions, label) {
  plan <- cmp$plan
  family <- new_family(member_combination_blend(), list(members = members, weights = weights))
  pipeline <- pipeline(family)
  pipeline$minimal <- FALSE
  about <- list(rows = nrow(plan$brief$table), columns = length(plan$brief$schema), classes = 0L)
  plan$spaces[[name]] <- new_space(name, pipeline, plan$brief$kind, list(), about)
  plan$seats <- c(plan$seats, list(list(search = search_of_blend(), candidates = name)))
  table <- plain_frame(list(weights = label), 1L)
  plan$round[[name]] <- proposed(table)
  rounds <- c(cmp$rounds, list(new_round(stats::setNames(list(table), name))))
  work <- work_of_rounds(plan$spaces, rounds)
  fit <- length(work$fits$node)
  splits <- which(!is_apparent(plan$splits))
  like <- truth_of(brief_target(plan$brief, integer()))
  ledger <- bind_ledgers(list(cmp$ledger, new_ledger(
    rep(fit, length(splits)), splits, 1, "blend", NA_character_,
    scores_of_predictions(plan, splits, predictions),
    predictions = lapply(predictions, as_path_prediction, truth = like)
  )))
  results <- results_of(ledger, work, plan, cmp$results$spent[["units"]], rounds)
  results$held <- cmp$results$held
  # whoever blends pays for all members
  results$seconds[length(results$candidate), ] <-
    colSums(results$seconds[members, , drop = FALSE])
  new_comparison(plan, results, rounds, ledger,
    stopped = cmp$stopped, journal_failure = cmp$journal_failure, processes = cmp$processes,
    seconds = cmp$seconds, versions = cmp$versions
  )
}

# Nothing was searched.
search_of_blend <- function() {
  new_search("blend", list(), "made by blend()", NULL, NULL, at_once = TRUE, exhaustive = TRUE)
}

# Splits x metrics.
scores_of_predictions <- function(plan, splits, predictions) {
  metrics <- forgiving_metrics(plan)
  scores <- blank_scores(length(splits), plan$metrics)
  for (i in seq_along(splits)) {
    target <- brief_target(plan$brief, plan$splits[[splits[i]]]$validation)
    scores[i, ] <- score_with_threshold(
      metrics, truth_of(target), predictions[[i]], target$weights
    )
  }
  scores
}

is_blend <- function(space) space$pipeline$family$definition$combines

has_blends <- function(cmp) any(vapply(spaces_of(cmp), is_blend, NA))

# What is to be blended: TRUE, FALSE or names of candidates.
check_blended <- function(blend, candidates, arg) {
  if (!is.character(blend)) {
    check_argument(
      is.logical(blend) && length(blend) == 1L && !is.na(blend), arg,
      "TRUE, FALSE or names of candidates", blend
    )
  }
  if (is.character(blend)) for (name in blend) check_choice(name, candidates, arg)
  invisible(blend)
}

plan_without_blends <- function(plan) {
  blends <- names(Filter(is_blend, plan$spaces))
  kept <- !names(plan$spaces) %in% blends
  plan$spaces <- plan$spaces[kept]
  plan$round <- plan$round[kept]
  plan$seats <- Filter(function(seat) !any(seat$candidates %in% blends), plan$seats)
  plan
}

# The comparison as it was before blends were made of it.
without_blends <- function(cmp) {
  blends <- names(Filter(is_blend, spaces_of(cmp)))
  if (length(blends) == 0L) return(cmp)
  work <- work_of(cmp)
  gone <- which(names(spaces_of(cmp))[work$fits$candidate] %in% blends)
  cmp$ledger <- without_entries(cmp$ledger, which(cmp$ledger$fit %in% gone), work)
  if (all(vapply(cmp$ledger$predictions, is.null, NA))) cmp$ledger["predictions"] <- list(NULL)
  cmp$plan <- plan_without_blends(cmp$plan)
  cmp$rounds <- Filter(function(round) !any(names(round$tables) %in% blends), cmp$rounds)
  cmp$results <- results_of(
    cmp$ledger, work_of(cmp), cmp$plan, cmp$results$spent[["units"]], cmp$rounds
  )
  # what the plan says is done again at the next choice
  if (isFALSE(cmp$plan$rule$blend %||% FALSE)) {
    message(
      "The blend ", enumerate(quoted(blends)), " is left behind; make it again by blend() ",
      "of what comes back."
    )
  }
  cmp
}
