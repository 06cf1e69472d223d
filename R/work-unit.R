# One unit of work: some fits on one split. A pure function of (run, split, fits); the
# cache only spares doing the same steps again.

# `run` is what all units have in common: work, data (frame and target of all working
# rows, fingerprint), splits, metrics, seed, wanted, fit_seconds. `tick(fit, scores)` is
# called with each finished fit's deciding scores. Returns one record a fit, and one for
# every step that was learned.
run_unit <- function(run, split, fits, cache = new_cache(), tick = function(fit, scores) invisible()) {
  context <- c(run, list(
    split = split, apparent = run$splits[[split]]$rep == 0L,
    place = paste(run$data$fingerprint, run$splits[[split]]$key), tick = tick, cache = cache,
    log = new_unit_log(), clock = new.env(parent = emptyenv())
  ))
  seeds <- fit_seeds(run$work, fits, context)
  for (i in seq_along(fits)) {
    prepared <- prepared_node(run$work$fits$node[fits[i]], context)
    if (!is.null(prepared$error)) {
      report_failure(fits[i], prepared$stage, prepared$error, 0, context)
    } else {
      run_one_fit(fits[i], prepared, seeds[i], context)
    }
  }
  context$log$all()
}

fit_seeds <- function(work, fits, context) {
  derive_seed(context$seed, paste(context$place, fit_chains(work, fits), work$fits$key[fits]))
}

# Keys of the steps before each fit; "" for the untouched rows.
fit_chains <- function(work, fits) {
  nodes <- work$fits$node[fits]
  chains <- character(length(fits))
  chains[nodes > 0L] <- vapply(work$nodes[nodes], `[[`, "", "key")
  chains
}

# What a unit reports.
new_unit_log <- function() {
  records <- list()
  list(add = function(record) records[[length(records) + 1L]] <<- record, all = function() records)
}

# Rows as a step node leaves them: an environment with training, validation and inputs, or
# with error and stage if a step on the way failed. Learned once as long as the cache keeps
# it.
prepared_node <- function(node, context) {
  key <- paste(context$id, context$split, node)
  found <- context$cache$get(key)
  if (!is.null(found)) return(found)
  context$cache$make_room()
  made <- if (node == 0L) split_rows(context) else learn_node(node, context)
  if (is.null(made$error)) made$inputs <- list()
  made <- list2env(made, parent = emptyenv())
  context$cache$keep(key, made)
  made
}

# Once the input is made the rows themselves are let go, where nothing else is made of
# them: no further step, no family that takes its input in another form.
let_go_of_rows <- function(node, prepared, context) {
  if (!context$work$only_input[node + 1L]) return(invisible())
  large <- 8 * as.numeric(prepared$training$frame$n) * length(prepared$training$frame$columns) > collect_from
  prepared$training$frame <- NULL
  prepared$validation$frame <- NULL
  # R collects late, and columns lie in pieces that the C library keeps: a fit beside what is
  # no longer needed would raise the peak
  if (large) {
    gc(FALSE)
    return_memory()
  }
}

collect_from <- 5e7

split_rows <- function(context) {
  split <- context$splits[[context$split]]
  list(training = data_rows(context$data, split$training), validation = data_rows(context$data, split$validation))
}

learn_node <- function(node, context) {
  parent <- prepared_node(context$work$nodes[[node]]$parent, context)
  if (!is.null(parent$error)) return(parent)
  step <- context$work$nodes[[node]]$step
  stage <- paste0("pre_", step$definition$name)
  started <- seconds_now()
  seed <- derive_seed(context$seed, paste(context$place, context$work$nodes[[node]]$key))
  done <- with_conditions({
    learned <- learn_step(step, parent$training$frame, parent$training$target, seed)
    list(training = list(frame = learned$frame, target = learned$target),
         validation = list(frame = use_step(learned$state, parent$validation$frame), target = parent$validation$target))
  })
  if (!is.null(done$error)) return(list(error = done$error, stage = stage))
  context$log$add(list(type = "step", node = node, seconds = seconds_now() - started, stage = stage, warnings = done$warnings))
  done$value
}

report_failure <- function(fit, stage, message, seconds, context) {
  context$log$add(list(type = "failed", fit = fit, stage = stage, message = message, seconds = seconds))
  context$tick(fit, NULL)
}

# Fits of one node that take their input in the same form share it.
run_one_fit <- function(fit, prepared, seed, context) {
  described <- fit_description(context$work, fit)
  gone <- is.null(prepared$training$frame)
  form <- if (gone) names(prepared$inputs) else input_form(described$definition, prepared$training$frame)
  if (is.null(prepared$inputs[[form]])) {
    prepared$inputs[[form]] <- with_conditions(list(
      training = family_input(prepared$training$frame, described$definition),
      validation = family_input(prepared$validation$frame, described$definition)
    ))
    let_go_of_rows(context$work$fits$node[fit], prepared, context)
    context$cache$keep(paste(context$id, context$split, context$work$fits$node[fit]), prepared)
  }
  input <- prepared$inputs[[form]]
  if (!is.null(input$error)) return(report_failure(fit, "input", input$error, 0, context))
  run_fit(fit, described, seed, input$value, prepared$training$target, prepared$validation$target, context)
}

input_form <- function(definition, frame) {
  accepts <- definition$accepts
  if (accepts$factors) return("columns")
  paste0(if (accepts$sparse && !is.null(frame$sparse)) "sparse" else "dense", accepts$missing)
}

# Prepared rows under a limit of bytes: the oldest go first, the newest always stay.
cache_bytes <- 4e8

new_cache <- function(limit = cache_bytes) {
  entries <- list()
  sizes <- numeric()
  shrink <- function(most, left) {
    while (sum(sizes) > most && length(entries) > left) {
      entries[[1]] <<- NULL
      sizes <<- sizes[-1]
    }
  }
  list(
    get = function(key) entries[[key]],
    # before something about as large as the largest so far is made
    make_room = function() if (length(sizes) > 0L) shrink(limit - max(sizes), 0L),
    keep = function(key, value) {
      entries[[key]] <<- value
      sizes[[key]] <<- as.numeric(utils::object.size(as.list(value)))
      shrink(limit, 1L)
    },
    clear = function() {
      entries <<- list()
      sizes <<- numeric()
    }
  )
}

run_fit <- function(fit, described, seed, input, training, validation, context) {
  stage <- paste0("fam_", described$definition$name)
  started <- seconds_now()
  fitted <- with_conditions(within_seconds(
    fit_family(described$definition, input$training, training, described$settings, seed), context$fit_seconds, isTRUE(context$alarm)
  ))
  fit_seconds <- seconds_now() - started
  if (!is.null(fitted$error)) {
    return(report_failure(fit, stage, fitted$error, fit_seconds, context))
  }
  context$clock$predicting <- 0
  scored <- with_conditions(scores_of_fit(fitted$value, input, training, validation, described$values, context))
  seconds <- seconds_now() - started
  if (!is.null(scored$error)) {
    return(report_failure(fit, paste(stage, "prediction"), scored$error, seconds, context))
  }
  context$log$add(c(list(type = "ok", fit = fit, stage = stage, fit_seconds = fit_seconds, seconds = seconds,
                         predict_seconds = context$clock$predicting, warnings = c(fitted$warnings, scored$warnings)), scored$value))
  context$tick(fit, scored$value$validation)
}

# Everything that is asked of one fit: validation (values x metrics), why_na (reason by
# metric, where a prediction left it undefined), training, no_information, predictions.
scores_of_fit <- function(fitted, input, training, validation, values, context) {
  scores <- score_fit(fitted, input$validation, validation, values, context$metrics, context$clock)
  list(
    validation = scores, why_na = reasons_for_na(scores, validation, context$metrics),
    training = if (context$wanted$training) {
      score_fit(fitted, input$training, training, values, context$metrics, context$clock)
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
  if (!anyNA(scores)) return(list())
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
score_fit <- function(fitted, x, target, values, metrics, clock) {
  width <- max(1L, length(fitted$levels))
  block <- max(1L, as.integer(2e7 / max(1, nrow(x) * width)))
  n_values <- max(1L, path_count(values))
  if (n_values <= block) return(score_values(fitted, x, target, values, metrics, n_values, clock))
  do.call(rbind, lapply(split(seq_len(n_values), (seq_len(n_values) - 1L) %/% block), function(at) {
    score_values(fitted, x, target, path_take(values, at), metrics, length(at), clock)
  }))
}

score_values <- function(fitted, x, target, values, metrics, n_values, clock) {
  started <- seconds_now()
  path <- as_path_prediction(target$outcome, predict_family(fitted, x, values))
  clock$predicting <- clock$predicting + (seconds_now() - started)
  scores <- vapply(metrics, function(metric) {
    if (!is.null(metric$undefined(target$outcome, target$weights))) return(rep(NA_real_, n_values))
    as.double(metric$score(target$outcome, path, target$weights))
  }, numeric(n_values))
  matrix(scores, n_values, length(metrics), dimnames = list(NULL, names(metrics)))
}

seconds_now <- function() unclass(Sys.time())

# run_unit() with the seconds that it took: list(records, took).
timed_unit <- function(...) {
  started <- seconds_now()
  list(records = run_unit(...), took = seconds_now() - started)
}

# Stops R code that takes longer; what runs in compiled code is stopped by the alarm of
# the worker's process.
within_seconds <- function(expr, seconds, alarm) {
  if (is.null(seconds)) return(expr)
  setTimeLimit(elapsed = seconds, transient = TRUE)
  if (alarm) set_alarm(seconds + max(0.5, seconds / 5))
  on.exit({
    setTimeLimit(elapsed = Inf)
    if (alarm) set_alarm(0)
  })
  tryCatch(expr, error = function(e) {
    if (grepl("reached elapsed time limit", conditionMessage(e), fixed = TRUE)) stop(too_slow(seconds), call. = FALSE)
    stop(e)
  })
}

too_slow <- function(seconds) paste0("stopped after the limit of ", format(seconds), " s for one fit")
