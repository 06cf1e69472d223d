#' Refit the chosen setting on all working rows
#'
#' Learns the steps and fits the family once more, now on every working row. A
#' path is fitted with the same values as in the comparison.
#'
#' @param choice A choice from [select_final()].
#' @return A `kw_model` for [predict()][predict.kw_model], [score_set_aside()] and
#'   [save_model()].
#' @section Errors:
#' `kw_error_fit` when the final fit fails, with its message.
#' @examples
#' job <- brief(demo_pots(), outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'              ignore = c("cracked", "grade", "notes"))
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline(), tree = fam_tree()),
#'                       splits = split_kfold(3), seed = 1, quiet = TRUE)
#' model <- fit_final(select_final(cmp))
#' predict(model, demo_pots()[1:3, ])
#' @export
fit_final <- function(choice) {
  check_class(choice, "kw_choice", "choice", "Make one with select_final().")
  plan <- choice$cmp$plan
  job <- plan$job
  work <- compile_work(plan$spaces, choice$cmp$results$tables)
  at <- setting_in_work(work, choice)
  place <- paste(job$fingerprint, "all working rows")
  data <- list(frame = frame_columns(job$table, job$schema), target = brief_target(job))
  described <- fit_description(work, work$settings$fit[at])
  value <- if (!is.null(described$definition$path)) path_values(work, at)
  restore <- remember_rng()
  on.exit(restore())
  chain <- learn_chain(work, work$settings$node[at], data, plan$seed, place)
  fitted <- final_family(described, value, chain, plan$seed, paste(place, chain$key, described$key))
  training <- score_fit(fitted$whole, fitted$input, chain$target, value, plan$metrics)[1, ]
  structure(
    list(job = job, schema = job$schema, missing_codes = job$missing_codes, outcome = job$outcome,
         kind = job$kind, levels = job$levels, event = job$event,
         steps = chain$states, family = fitted$frozen, value = value, metrics = names(plan$metrics),
         scores = final_scores(choice, training), facts = model_facts(choice)),
    class = "kw_model"
  )
}

setting_in_work <- function(work, choice) {
  results <- choice$cmp$results
  which(work$settings$candidate == results$candidate[choice$at] & work$settings$row == results$row[choice$at])
}

# Learns the steps on the way from the root to a node.
learn_chain <- function(work, node, data, seed, place) {
  way <- integer()
  while (node != 0L) {
    way <- c(node, way)
    node <- work$nodes[[node]]$parent
  }
  states <- list()
  for (node in way) {
    learned <- learn_step(work$nodes[[node]]$step, data$frame, data$target,
                          derive_seed(seed, paste(place, work$nodes[[node]]$key)))
    states <- c(states, list(learned$state))
    data <- list(frame = learned$frame, target = learned$target)
  }
  key <- if (length(way) == 0L) "" else work$nodes[[way[length(way)]]]$key
  list(states = states, frame = data$frame, target = data$target, key = key)
}

final_family <- function(described, value, chain, seed, key) {
  definition <- described$definition
  fitted <- tryCatch({
    input <- family_input(chain$frame, definition)
    list(input = input, whole = fit_family(definition, input, chain$target, described$settings,
                                           derive_seed(seed, key)))
  }, error = function(e) {
    stop_kw("fit", "The final fit failed.", where = plain_message(e))
  })
  frozen <- fitted$whole
  frozen$model <- definition$freeze(frozen$model, value)
  frozen$settings <- described$settings
  if (!is.null(definition$path)) frozen$settings[definition$path$along] <- as.list(value)
  list(input = fitted$input, whole = fitted$whole, frozen = frozen)
}

# Training scores of the final model beside the comparison's validation scores.
final_scores <- function(choice, training) {
  cmp <- choice$cmp
  metrics <- names(cmp$plan$metrics)
  found <- do.call(rbind, lapply(metrics, function(metric) {
    counted <- counted_splits(cmp, metric)
    spread <- spread_of(cmp$results$scores[[metric]][choice$at, counted, drop = FALSE])
    c(spread$mean, spread$sd, spread$sd * error_factor(cmp, counted))
  }))
  tibble::tibble(metric = metrics, training = unname(training[metrics]), validation = found[, 1],
                 validation_sd = found[, 2], validation_se = found[, 3])
}

# What the model's file and print say about where it comes from; plain values.
model_facts <- function(choice) {
  cmp <- choice$cmp
  plan <- cmp$plan
  list(
    candidate = candidate_names(cmp)[choice$at], setting = setting_label(cmp, choice$at),
    family = plan$spaces[[cmp$results$candidate[choice$at]]]$pipeline$family$definition$name,
    rule = choice$rule, reason = choice$reason, deciding_metric = choice$metric,
    settings_compared = length(cmp$results$candidate), splits = plan$splitter$label,
    seed = plan$seed, working_rows = nrow(plan$job$table),
    set_aside_rows = if (is.null(plan$job$sealed)) 0L else plan$job$sealed$n,
    data_fingerprint = plan$job$fingerprint,
    seal_fingerprint = plan$job$sealed$fingerprint, versions = cmp$versions
  )
}
