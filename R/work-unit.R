# One unit of work: the fits of one branch of the tree on one split. A pure
# function of (work, rows, split, seed).

# `data`: frame and target of all working rows, fingerprint. `tick(n, scores)` is
# called with each finished fit's settings and deciding scores. Returns what
# happened to every setting of the branch.
run_unit <- function(work, data, split, branch, metrics, seed, wanted, tick) {
  context <- list(
    work = work, metrics = metrics, seed = seed, wanted = wanted, apparent = split$rep == 0L,
    place = paste(data$fingerprint, split$key), tick = tick,
    fits_at = split(seq_along(work$fits$node), factor(work$fits$node, c(0L, seq_along(work$nodes)))),
    children = node_children(work$nodes), log = new_unit_log()
  )
  training <- list(frame = frame_rows(data$frame, split$training),
                   target = target_rows(data$target, split$training))
  validation <- list(frame = frame_rows(data$frame, split$validation),
                     target = target_rows(data$target, split$validation))
  if (branch == 0L) {
    run_fits_at(0L, training, validation, context)
  } else {
    visit_node(branch, training, validation, context)
  }
  context$log$all()
}

# What a unit reports: one record a fit.
new_unit_log <- function() {
  records <- list()
  list(add = function(record) records[[length(records) + 1L]] <<- record, all = function() records)
}

visit_node <- function(node, training, validation, context) {
  step <- context$work$nodes[[node]]$step
  started <- seconds_now()
  seed <- derive_seed(context$seed, paste(context$place, context$work$nodes[[node]]$key))
  done <- with_conditions({
    learned <- learn_step(step, training$frame, training$target, seed)
    list(training = list(frame = learned$frame, target = learned$target),
         validation = list(frame = use_step(learned$state, validation$frame), target = validation$target))
  })
  spent <- seconds_now() - started
  if (!is.null(done$error)) {
    fail_below(node, paste0("pre_", step$definition$name), done$error, context)
    return(invisible())
  }
  context$log$add(list(type = "step", node = node, seconds = spent,
                       stage = paste0("pre_", step$definition$name), warnings = done$warnings,
                       fits = fits_below(node, context)))
  run_fits_at(node, done$value$training, done$value$validation, context)
  for (child in context$children[[node + 1L]]) {
    visit_node(child, done$value$training, done$value$validation, context)
  }
}

fits_below <- function(node, context) {
  fits <- context$fits_at[[node + 1L]]
  for (child in context$children[[node + 1L]]) fits <- c(fits, fits_below(child, context))
  fits
}

fail_below <- function(node, stage, message, context) {
  for (fit in fits_below(node, context)) report_failure(fit, stage, message, 0, context)
}

report_failure <- function(fit, stage, message, seconds, context) {
  context$log$add(list(type = "failed", fit = fit, stage = stage, message = message, seconds = seconds))
  context$tick(fit, NULL)
}

# Fits of one node; those that take their input in the same form share it.
run_fits_at <- function(node, training, validation, context) {
  inputs <- list()
  for (fit in context$fits_at[[node + 1L]]) {
    described <- fit_description(context$work, fit)
    form <- input_form(described$definition, training$frame)
    if (is.null(inputs[[form]])) {
      inputs[[form]] <- with_conditions(list(
        training = family_input(training$frame, described$definition),
        validation = family_input(validation$frame, described$definition)
      ))
    }
    input <- inputs[[form]]
    if (!is.null(input$error)) {
      report_failure(fit, "input", input$error, 0, context)
    } else {
      run_fit(fit, described, input$value, training$target, validation$target, context)
    }
  }
}

input_form <- function(definition, frame) {
  accepts <- definition$accepts
  if (accepts$factors) return("columns")
  paste0(if (accepts$sparse && !is.null(frame$sparse)) "sparse" else "dense", accepts$missing)
}

run_fit <- function(fit, described, input, training, validation, context) {
  stage <- paste0("fam_", described$definition$name)
  node_key <- if (context$work$fits$node[fit] == 0L) "" else context$work$nodes[[context$work$fits$node[fit]]]$key
  seed <- derive_seed(context$seed, paste(context$place, node_key, described$key))
  started <- seconds_now()
  fitted <- with_conditions(
    fit_family(described$definition, input$training, training, described$settings, seed)
  )
  fit_seconds <- seconds_now() - started
  if (!is.null(fitted$error)) {
    return(report_failure(fit, stage, fitted$error, fit_seconds, context))
  }
  scored <- with_conditions(scores_of_fit(fitted$value, input, training, validation, described$values, context))
  seconds <- seconds_now() - started
  if (!is.null(scored$error)) {
    return(report_failure(fit, paste(stage, "prediction"), scored$error, seconds, context))
  }
  context$log$add(c(list(type = "ok", fit = fit, stage = stage, fit_seconds = fit_seconds, seconds = seconds,
                         warnings = c(fitted$warnings, scored$warnings)), scored$value))
  context$tick(fit, scored$value$validation)
}

# Everything that is asked of one fit: validation (values x metrics), why_na (reason by
# metric, where a prediction left it undefined), training, no_information, predictions.
scores_of_fit <- function(fitted, input, training, validation, values, context) {
  scores <- score_fit(fitted, input$validation, validation, values, context$metrics)
  list(
    validation = scores, why_na = reasons_for_na(scores, validation, context$metrics),
    training = if (context$wanted$training) {
      score_fit(fitted, input$training, training, values, context$metrics)
    },
    no_information = if (context$apparent && context$wanted$no_information) {
      no_information_scores(fitted, input$validation, validation, values, context$metrics)
    },
    predictions = if (context$wanted$predictions && !context$apparent) {
      as_path_prediction(validation$outcome, predict_family(fitted, input$validation, values))
    }
  )
}

# Why a metric that the truth allows has no score.
reasons_for_na <- function(scores, target, metrics) {
  reasons <- lapply(metrics, function(metric) {
    if (!anyNA(scores[, metric$name])) return(NULL)
    if (!is.null(metric$undefined(target$outcome, target$weights))) return(NULL)
    metric$why_na
  })
  Filter(Negate(is.null), reasons)
}

# The score if outcome and predictors had nothing to do with one another: mean over
# at most 200 turns of the outcomes against the predictions (all of them would be all
# pairs; Efron & Tibshirani 1997). Row-wise metrics only.
no_information_scores <- function(fitted, x, target, values, metrics) {
  n <- length(target$outcome)
  turns <- unique(round(seq(0, n - 1, length.out = min(n, 200L))))
  prediction <- as_path_prediction(target$outcome, predict_family(fitted, x, values))
  lapply(Filter(function(metric) metric$row_wise, metrics), function(metric) {
    each <- lapply(turns, function(turn) {
      metric$score(target$outcome[(seq_len(n) - 1L + turn) %% n + 1L], prediction, NULL)
    })
    Reduce(`+`, each) / length(each)
  })
}

# Scores of every path value by every metric: values x metrics. Long paths are
# predicted in blocks that keep the predictions below about 160 MB.
score_fit <- function(fitted, x, target, values, metrics) {
  width <- max(1L, length(fitted$levels))
  block <- max(1L, as.integer(2e7 / max(1, nrow(x) * width)))
  n_values <- max(1L, path_count(values))
  pieces <- lapply(split(seq_len(n_values), (seq_len(n_values) - 1L) %/% block), function(at) {
    prediction <- predict_family(fitted, x, path_take(values, at))
    path <- as_path_prediction(target$outcome, prediction)
    matrix(vapply(metrics, function(metric) {
      if (!is.null(metric$undefined(target$outcome, target$weights))) return(rep(NA_real_, length(at)))
      as.double(metric$score(target$outcome, path, target$weights))
    }, numeric(length(at))), length(at), length(metrics))
  })
  scores <- do.call(rbind, pieces)
  colnames(scores) <- names(metrics)
  scores
}

seconds_now <- function() unclass(Sys.time())
