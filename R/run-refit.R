# One setting fitted once more, on any training rows, under the seeds that a
# comparison would use there.

# The work of a comparison as it was run: its settings have the numbers of the comparison's.
work_of <- function(cmp) work_of_rounds(spaces_of(cmp), cmp$rounds)

# `place` names the rows in keys and seeds. A family with a path is fitted with the
# same set of values as in its round of the comparison where that matters. Returns states of the
# steps, the fitted family, its input and target, settings and path value. `learned`: see
# learn_chain().
refit_setting <- function(work, at, data, seed, place, learned = new.env()) {
  described <- fit_description(work, work$settings$fit[at])
  if (described$definition$combines) {
    return(refit_blend(work, described, data, seed, place, learned))
  }
  chain <- learn_chain(work, work$settings$node[at], data, seed, place, learned)
  input <- family_input(chain$frame, described$definition)
  fitted <- fit_family(
    described$definition, input, chain$target, described$settings,
    derive_seed(seed, paste(place, chain$key, described$key))
  )
  list(
    states = chain$states, fitted = fitted, input = input, target = chain$target,
    settings = described$settings,
    value = if (!is.null(described$definition$path)) path_values(work, at)
  )
}

nodes_on_the_way <- function(work, node) {
  way <- integer()
  while (node != 0L) {
    way <- c(node, way)
    node <- work$nodes[[node]]$parent
  }
  way
}

# Learns the steps on the way from the root to a node. `learned`: an environment for settings that
# are fitted to the same rows one after the other, in which steps that they have in common are kept.
learn_chain <- function(work, node, data, seed, place, learned = new.env()) {
  way <- nodes_on_the_way(work, node)
  states <- list()
  for (node in way) {
    name <- as.character(node)
    if (is.null(learned[[name]])) {
      learned[[name]] <- learn_step(
        work$nodes[[node]]$step, data$frame, data$target,
        derive_seed(seed, paste(place, work$nodes[[node]]$key))
      )
    }
    states <- c(states, list(learned[[name]]$state))
    data <- learned[[name]][c("frame", "target")]
  }
  key <- if (length(way) == 0L) "" else work$nodes[[way[length(way)]]]$key
  list(states = states, frame = data$frame, target = data$target, key = key)
}

# Validation predictions of one setting on every split but the apparent one: a list of
# vectors, or of matrices rows x classes. Those that the comparison kept, or fitted
# once more under the same seeds, which gives the same.
setting_predictions <- function(cmp, at) predictions_of_settings(cmp, at)[[1]]

# Of several settings, a list by setting of these; steps that they have in common are learned once.
predictions_of_settings <- function(cmp, settings) {
  found <- lapply(settings, function(at) kept_predictions(cmp, at))
  lacking <- which(vapply(found, is.null, NA))
  if (length(lacking) == 0L) return(found)
  data <- working_data(brief_of(cmp))
  work <- work_of(cmp)
  refits <- lapply(settings[lacking], function(at) new_refit(cmp, at, data, work))
  splits <- all_splits(cmp)[!is_apparent(all_splits(cmp))]
  by_split <- lapply(splits, function(split) {
    learned <- new.env()
    validation <- frame_rows(data$frame, split$validation)
    lapply(refits, function(refit) {
      refitted <- without_rng_trace(suppressWarnings(
        refit$fit(split$training, split$key, learned)
      ))
      refitted$predict(validation)
    })
  })
  for (i in seq_along(lacking)) found[[lacking[i]]] <- lapply(by_split, `[[`, i)
  found
}

# The comparison with the held-out predictions of these settings, for what asks for them again and
# again: each is fitted once more at most.
with_held_out <- function(cmp, settings) {
  splits <- which(!is_apparent(all_splits(cmp)))
  lacking <- Filter(function(at) is.null(kept_predictions(cmp, at)), unique(settings))
  records <- Map(function(at, predictions) {
    Map(function(split, prediction) {
      # as a path of one value
      size <- if (is.null(dim(prediction))) length(prediction) else dim(prediction)
      list(settings = at, split = split, place = 1L, values = array(prediction, c(size, 1L)))
    }, splits, predictions)
  }, lacking, predictions_of_settings(cmp, lacking))
  cmp$results$predictions <- c(cmp$results$predictions, unname(unlist(records, recursive = FALSE)))
  cmp
}

# One setting of a comparison, to be fitted again on any rows of the working table:
#   data              all working rows, or what is given in their place
#   fit(rows, place, learned)  what refit_setting() gives, and predict(frame) for untouched rows
new_refit <- function(cmp, at, data = working_data(brief_of(cmp)), work = work_of(cmp)) {
  plan <- cmp$plan
  force(work)
  list(data = data, fit = function(rows, place, learned = new.env()) {
    refitted <- with_all_cores(refit_setting(
      work, at, data_rows(data, rows), plan$seed, paste(plan$brief$fingerprint, place), learned
    ))
    refitted$predict <- function(frame) {
      for (state in refitted$states) frame <- use_step(state, frame)
      input <- family_input(frame, refitted$fitted$definition)
      one_prediction(
        with_all_cores(predict_family(refitted$fitted, input, refitted$value)), plan$brief$kind
      )
    }
    refitted
  })
}

kept_predictions <- function(cmp, at) {
  splits <- which(!is_apparent(all_splits(cmp)))
  found <- vector("list", length(splits))
  for (record in c(cmp$results$predictions, cmp$results$held)) {
    mine <- match(at, record$settings)
    if (is.na(mine)) next
    found[[match(record$split, splits)]] <-
      path_prediction_at(record$values, record$place[mine], brief_of(cmp)$kind)
  }
  # of a path that was held a journal has one value
  if (!is.null(cmp$results$held) && anyNA(unlist(found))) return(NULL)
  if (length(found) == 0L || any(vapply(found, is.null, logical(1)))) NULL else found
}

# One prediction (vector, or rows x classes) for a frame of raw predictors.
predict_frame <- function(model, frame) {
  if (frame$n == 0L) return(no_prediction(model$kind, model$levels))
  for (learned in model$steps) frame <- use_step(learned, frame)
  fitted <- model$family
  prediction <- without_rng_trace(
    with_all_cores(predict_family(fitted, family_input(frame, fitted$definition), model$value))
  )
  if (is.null(fitted$definition$path)) prediction else one_prediction(prediction, model$kind)
}

# As a model keeps it: plain data, the path's value among the settings.
frozen_fit <- function(refitted) {
  definition <- refitted$fitted$definition
  frozen <- refitted$fitted
  frozen$model <- definition$freeze(frozen$model, refitted$value)
  frozen$settings <- refitted$settings
  if (!is.null(definition$path)) {
    frozen$settings[definition$path$along] <- as.list(refitted$value)
  }
  # of a path only the value that was chosen is needed
  maps <- frozen$recalibration$maps
  if (length(maps) > 1L) {
    frozen$recalibration$maps <-
      maps[place_of_values(refitted$value, frozen$recalibration$values)]
    frozen$recalibration$values <- refitted$value
  }
  list(steps = refitted$states, family = frozen, value = refitted$value)
}
