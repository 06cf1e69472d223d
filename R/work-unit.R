# One unit of work: some fits on one split. A pure function of (run, split, fits); the
# cache only spares doing the same steps again.

# `run` is what all units have in common: work, data (frame and target of all working
# rows, fingerprint), splits, metrics, seed, wanted, fit_seconds. Returns a batch; see
# work-batch.R.
run_unit <- function(run, split, fits, cache = new_cache()) {
  apparent <- run$splits[[split]]$rep == 0L
  context <- c(run, list(
    split = split, place = paste(run$data$fingerprint, run$splits[[split]]$key), cache = cache, steps = new_step_log(),
    wants = list(training = run$wanted$training, no_information = apparent && run$wanted$no_information,
                 predictions = !apparent && run$wanted$predictions)
  ))
  seeds <- fit_seeds(run$work, fits, context)
  batches <- lapply(fits_alike(run$work, fits), function(at) run_alike(fits[at], seeds[at], context))
  bind_batches(batches, context$steps$all())
}

# Positions of neighbouring fits of one candidate behind the same steps, in a list.
fits_alike <- function(work, fits) {
  changes <- diff(work$fits$node[fits]) != 0 | diff(work$fits$candidate[fits]) != 0
  unname(split(seq_along(fits), cumsum(c(TRUE, changes))))
}

run_alike <- function(fits, seeds, context) {
  node <- context$work$fits$node[fits[1]]
  prepared <- prepared_node(node, context)
  if (!is.null(prepared$error)) return(failed_batch(fits, prepared$stage, prepared$error, context$work, context$metrics))
  definition <- context$work$families[[context$work$fits$candidate[fits[1]]]]$part$definition
  input <- shared_input(node, prepared, definition, context)
  if (!is.null(input$error)) return(failed_batch(fits, "input", input$error, context$work, context$metrics))
  fit_alike(fits, seeds, definition, input$value, prepared, context)
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

# The steps that a unit learned.
new_step_log <- function() {
  learned <- list()
  list(add = function(one) learned[[length(learned) + 1L]] <<- one, all = function() learned)
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
  context$steps$add(list(node = node, seconds = seconds_now() - started, stage = stage, warnings = done$warnings))
  done$value
}

# Fits of one node that take their input in the same form share it: list(value = list(
# training, validation), error).
shared_input <- function(node, prepared, definition, context) {
  gone <- is.null(prepared$training$frame)
  form <- if (gone) names(prepared$inputs) else input_form(definition, prepared$training$frame)
  if (is.null(prepared$inputs[[form]])) {
    prepared$inputs[[form]] <- with_conditions(list(
      training = family_input(prepared$training$frame, definition),
      validation = family_input(prepared$validation$frame, definition)
    ))
    let_go_of_rows(node, prepared, context)
    context$cache$keep(paste(context$id, context$split, node), prepared)
  }
  prepared$inputs[[form]]
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

# Fits of one candidate behind the same steps, one after the other. What they have in
# common is made once; the net for errors is spread anew only after a fit fell into it.
fit_alike <- function(fits, seeds, definition, input, prepared, context) {
  n <- length(fits)
  most <- context$fit_seconds
  limited <- !is.null(most)
  describe <- fit_describer(context$work, context$work$fits$candidate[fits[1]])
  fit <- NULL
  reader <- new_reader(input, prepared, context)
  read <- reader$read
  counts <- context$work$fits$count[fits]
  stages <- paste0("fam_", definition$name, c("", " prediction"))
  stage <- rep(stages[1], n)
  message <- rep(NA_character_, n)
  fit_seconds <- numeric(n)
  seconds <- numeric(n)
  predict_seconds <- numeric(n)
  found <- vector("list", n)
  warned <- list()
  i <- 0L
  repeat {
    failure <- catch_failure({
      while (i < n) {
        i <- i + 1L
        started <- seconds_now()
        described <- describe(fits[i])
        if (is.null(fit)) fit <- new_fitter(definition, input$training, prepared$training$target)
        fitted <- if (limited) within_seconds(fit(described$settings, seeds[i]), most, context$alarm) else fit(described$settings, seeds[i])
        stage[i] <- stages[2]
        fit_seconds[i] <- seconds_now() - started
        found[[i]] <- read(fitted, described$values, counts[i])
        stage[i] <- stages[1]
        predict_seconds[i] <- reader$predicting()
        seconds[i] <- seconds_now() - started
      }
    }, function(text) warned[[length(warned) + 1L]] <<- list(at = i, text = text))
    if (is.null(failure)) break
    message[i] <- failure
    seconds[i] <- seconds_now() - started
  }
  fit_batch(fits, stage, message, fit_seconds, seconds, predict_seconds, found, warned, context)
}

# Reads all that is wanted off a fit: a list of validation (values x metrics), and where
# they are wanted training, no_information and predictions.
new_reader <- function(input, prepared, context) {
  clock <- new.env(parent = emptyenv())
  metrics <- context$metrics
  wants <- context$wants
  target <- prepared$validation$target
  validation <- new_scorer(input$validation, target, metrics, clock)
  training <- if (wants$training) new_scorer(input$training, prepared$training$target, metrics, clock)
  read <- function(fitted, values, n_values) {
    clock$predicting <- 0
    found <- list(validation = validation(fitted, values, n_values))
    if (!is.null(training)) found$training <- training(fitted, values, n_values)
    if (wants$no_information) found$no_information <- no_information_scores(fitted, input$validation, target, values, metrics)
    if (wants$predictions) {
      found$predictions <- as_path_prediction(target$outcome, predict_family(fitted, input$validation, values))
    }
    found
  }
  list(read = read, predicting = function() clock$predicting)
}

# The score if outcome and predictors had nothing to do with one another: mean over
# at most 200 turns of the outcomes against the predictions (all of them would be all
# pairs; Efron & Tibshirani 1997). Values x metrics; NA for metrics that are not row-wise.
no_information_scores <- function(fitted, x, target, values, metrics) {
  n <- length(target$outcome)
  turns <- unique(round(seq(0, n - 1, length.out = min(n, 200L))))
  prediction <- as_path_prediction(target$outcome, predict_family(fitted, x, values))
  n_values <- max(1L, path_count(values))
  scores <- vapply(metrics, function(metric) {
    if (!metric$row_wise) return(rep(NA_real_, n_values))
    each <- lapply(turns, function(turn) {
      metric$score(target$outcome[(seq_len(n) - 1L + turn) %% n + 1L], prediction, NULL)
    })
    Reduce(`+`, each) / length(each)
  }, numeric(n_values))
  matrix(scores, n_values)
}

# A function of a fit, its path values and their number that gives scores on these rows,
# values x metrics; `clock` collects the seconds of predicting. What the truth leaves undefined is
# NA. Long paths are predicted in blocks that keep the predictions below about 160 MB.
new_scorer <- function(x, target, metrics, clock) {
  truth <- target$outcome
  weights <- target$weights
  usable <- which(vapply(metrics, function(metric) is.null(metric$undefined(truth, weights)), logical(1)))
  block <- max(1, floor(2e7 / max(1, nrow(x) * max(1L, nlevels(truth)))))
  score_block <- function(fitted, values, n_values) {
    started <- seconds_now()
    path <- as_path_prediction(truth, predict_family(fitted, x, values))
    clock$predicting <- clock$predicting + (seconds_now() - started)
    scores <- matrix(NA_real_, n_values, length(metrics))
    for (m in usable) scores[, m] <- metrics[[m]]$score(truth, path, weights)
    scores
  }
  function(fitted, values, n_values) {
    if (n_values <= block) return(score_block(fitted, values, n_values))
    do.call(rbind, lapply(split(seq_len(n_values), (seq_len(n_values) - 1L) %/% block), function(at) {
      score_block(fitted, path_take(values, at), length(at))
    }))
  }
}

# run_unit() with the seconds that it took: list(batch, took).
timed_unit <- function(...) {
  started <- seconds_now()
  list(batch = run_unit(...), took = seconds_now() - started)
}

# Stops R code that takes longer; what runs in compiled code is stopped by the alarm of
# the worker's process.
within_seconds <- function(expr, seconds, alarm) {
  setTimeLimit(elapsed = seconds, transient = TRUE)
  if (isTRUE(alarm)) set_alarm(seconds + max(0.5, seconds / 5))
  on.exit({
    setTimeLimit(elapsed = Inf)
    if (isTRUE(alarm)) set_alarm(0)
  })
  tryCatch(expr, error = function(e) {
    if (grepl("reached elapsed time limit", conditionMessage(e), fixed = TRUE)) stop(too_slow(seconds), call. = FALSE)
    stop(e)
  })
}

too_slow <- function(seconds) paste0("stopped after the limit of ", format(seconds), " s for one fit")
