# One unit of work: some fits on one split. A pure function of (run, split, fits); the
# cache only spares doing the same steps again.

# `run` is what all units have in common: work, data (frame and target of all working
# rows, fingerprint), kind of outcome, splits, metrics, seed, wanted, fit_seconds; stop_at and
# alarm, which say how fits are stopped where the unit runs. `share`: of the split's training
# rows. Returns a part of the ledger; see work-ledger.R.
run_unit <- function(run, split, fits, cache = new_cache(), share = 1) {
  load_packages(run, fits)
  context <- new_context(run, split, share, cache)
  ledger <- bind_ledgers(lapply(fits_alike(run$work, fits), run_alike, context = context))
  ledger$steps <- context$steps$all()
  ledger
}

# Where a unit works: what the run has in common, and
#   split, share    numbers; place: what names their rows in keys and seeds
#   training_rows   numbers of working rows
#   cache, steps    of prepared rows; of what steps took
#   wants           what is to be kept beside validation scores
new_context <- function(run, split, share, cache) {
  apparent <- run$splits[[split]]$rep == 0L
  list(
    id = run$id, work = run$work, data = run$data, splits = run$splits, metrics = run$metrics,
    seed = run$seed, fit_seconds = run$fit_seconds, stop_at = run$stop_at, alarm = run$alarm,
    split = split, share = share, place = unit_place(run, split, share), cache = cache,
    training_rows = training_rows(run, split, share), steps = new_step_log(),
    wants = list(
      training = run$wanted$training,
      no_information = apparent && run$wanted$no_information,
      predictions = !apparent && run$wanted$predictions,
      held = !apparent && run$wanted$held && share == 1
    )
  )
}

# Before any clock runs: what a package takes to load says nothing of what fits take.
load_packages <- function(run, fits) {
  for (candidate in unique(run$work$fits$candidate[fits])) {
    family <- run$work$families[[candidate]]$part
    for (package in family_packages(family$definition, family$settings, run$kind)) {
      requireNamespace(package, quietly = TRUE)
    }
  }
}

# What names the rows in keys and seeds.
unit_place <- function(run, split, share) {
  paste(
    c(run$data$fingerprint, run$splits[[split]]$key, if (share < 1) canonical_number(share)),
    collapse = " "
  )
}

# The training rows of a split, or a share of them: groups whole, strata of the outcome alike,
# a smaller share within every larger one. The same for all settings.
training_rows <- function(run, split, share) {
  rows <- run$splits[[split]]$training
  if (share >= 1) return(rows)
  target <- target_rows(run$data$target, rows)
  unit <- if (is.null(target$group)) rows else as.character(target$group)
  first <- !duplicated(unit)
  stratum <- outcome_strata(target$outcome[first], 5L, target$weights[first])
  draw <- with_seed(
    derive_seed(run$seed, paste(run$data$fingerprint, run$splits[[split]]$key, "share of rows")),
    stats::runif(sum(first))
  )
  place <- stats::ave(draw, stratum, FUN = function(x) (rank(x) - 0.5) / length(x))
  # every stratum keeps one
  least <- stats::ave(place, stratum, FUN = min)
  rows[unit %in% unit[first][place <= pmax(share, least)]]
}

# Neighbouring fits of one candidate behind the same steps, in a list.
fits_alike <- function(work, fits) {
  changes <- diff(work$fits$node[fits]) != 0 | diff(work$fits$candidate[fits]) != 0
  unname(split(fits, cumsum(c(TRUE, changes))))
}

run_alike <- function(fits, context) {
  node <- context$work$fits$node[fits[1]]
  prepared <- prepared_node(node, context)
  if (!is.null(prepared$error)) {
    return(ledger_of_failures(
      context, fits, prepared$stage, prepared$error, context$work, context$metrics
    ))
  }
  definition <- context$work$families[[context$work$fits$candidate[fits[1]]]]$part$definition
  input <- family_inputs(node, prepared, definition, context)
  training <- input("training")
  if (!is.null(training$error)) {
    return(ledger_of_failures(
      context, fits, "input", training$error, context$work, context$metrics
    ))
  }
  fit_alike(fits, definition, training$value, input, prepared, context)
}

# A function of a fit's place among these that gives its seed; they are derived together,
# once a family asks for one.
new_seeds <- function(fits, context) {
  seeds <- NULL
  function(i) {
    if (is.null(seeds)) {
      keys <- paste(context$place, fit_chains(context$work, fits), context$work$fits$key[fits])
      seeds <<- derive_seed(context$seed, keys)
    }
    seeds[i]
  }
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
  list(
    add = function(one) learned[[length(learned) + 1L]] <<- one,
    all = function() bind_steps(learned)
  )
}

# Fits of one candidate behind the same steps, one after the other. What they have in
# common is made once; the net for errors is spread anew only after a fit fell into it.
# `x`: the training input; `input`: see family_inputs().
fit_alike <- function(fits, definition, x, input, prepared, context) {
  n <- length(fits)
  stop_at <- context$stop_at %||% Inf
  limited <- !is.null(context$fit_seconds) || is.finite(stop_at)
  describe <- fit_describer(context$work, context$work$fits$candidate[fits[1]])
  fit <- NULL
  seed <- new_seeds(fits, context)
  clock <- new.env(parent = emptyenv())
  validation_input <- function() {
    made <- input("validation")
    if (!is.null(made$error)) stop(made$error, call. = FALSE)
    made$value
  }
  score <- new_scorer(validation_input, prepared$validation$target, context$metrics, clock)
  read_more <- if (any(unlist(context$wants))) {
    new_reader(x, validation_input, prepared, clock, context)
  }
  counts <- context$work$fits$count[fits]
  stages <- paste0("fam_", definition$name, c("", " prediction"))
  stage <- rep(stages[1], n)
  message <- rep(NA_character_, n)
  fit_seconds <- numeric(n)
  seconds <- numeric(n)
  predict_seconds <- numeric(n)
  first <- cumsum(counts) - counts
  validation <- blank_scores(sum(counts), context$metrics)
  found <- vector("list", n)
  warned <- list()
  i <- 0L
  phase <- 1L
  repeat {
    failure <- catch_failure(
      {
        started <- seconds_now()
        while (i < n) {
          i <- i + 1L
          described <- describe(fits[i])
          if (is.null(fit)) fit <- new_fitter(definition, x, prepared$training$target)
          fitted <- if (limited) {
            within_limits(fit(described$settings, seed(i)), context, stop_at)
          } else {
            fit(described$settings, seed(i))
          }
          phase <- 2L
          fit_seconds[i] <- seconds_now() - started
          clock$predicting <- 0
          validation[first[i] + seq_len(counts[i]), ] <- score(fitted, described$values, counts[i])
          if (!is.null(read_more)) found[[i]] <- read_more(fitted, described$values, counts[i])
          phase <- 1L
          predict_seconds[i] <- clock$predicting
          ended <- seconds_now()
          seconds[i] <- ended - started
          started <- ended
        }
      },
      function(text) warned[[length(warned) + 1L]] <<- list(at = i, text = text)
    )
    if (is.null(failure)) break
    message[i] <- failure
    validation[first[i] + seq_len(counts[i]), ] <- NA
    stage[i] <- stages[phase]
    phase <- 1L
    seconds[i] <- seconds_now() - started
  }
  ledger_of_fits(
    fits, stage, message, fit_seconds, seconds, predict_seconds, validation, found, warned,
    context
  )
}

# A function that reads off a fit what is wanted beside validation scores: a list of some of
# training, no_information (values x metrics) and predictions, where they are to be held for the run
# as far as they are at hand.
new_reader <- function(x, validation_input, prepared, clock, context) {
  wants <- context$wants
  target <- prepared$validation$target
  training <- if (wants$training) {
    new_scorer(function() x, prepared$training$target, context$metrics, clock)
  }
  function(fitted, values, n_values) {
    path <- clock$path
    list(
      training = if (wants$training) training(fitted, values, n_values),
      no_information = if (wants$no_information) {
        no_information_scores(fitted, validation_input(), target, values, context$metrics)
      },
      predictions = if (wants$predictions) {
        path %||%
          as_path_prediction(truth_of(target), predict_family(fitted, validation_input(), values))
      } else if (wants$held) {
        path
      }
    )
  }
}

# The score if outcome and predictors had nothing to do with one another: mean over
# at most 200 turns of the outcomes against the predictions (all of them would be all
# pairs; Efron & Tibshirani 1997). Values x metrics; NA for metrics that are not row-wise.
no_information_scores <- function(fitted, x, target, values, metrics) {
  n <- length(target$outcome)
  turns <- unique(round(seq(0, n - 1, length.out = min(n, 200L))))
  prediction <- as_path_prediction(truth_of(target), predict_family(fitted, x, values))
  n_values <- max(1L, path_count(values))
  scores <- vapply(metrics, function(metric) {
    if (!metric$row_wise) return(rep(NA_real_, n_values))
    total <- 0
    parts <- lapply(turns, function(turn) {
      turned <- (seq_len(n) - 1L + turn) %% n + 1L
      # a pair of rows weighs as much as both its rows
      weights <- if (!is.null(target$weights)) target$weights * target$weights[turned]
      share <- if (is.null(weights)) 1 else sum(weights)
      if (share == 0) return(0)
      total <<- total + share
      share * metric$score(truth_of(target, turned), prediction, weights)
    })
    Reduce(`+`, parts) / total
  }, numeric(n_values))
  matrix(scores, n_values)
}

# A function of a fit of one fitter, its path values and their number that gives scores on the rows
# that `input` gives when it is first asked, values x metrics; `clock` collects the seconds of
# predicting and has what was predicted (`path`), unless it was too much: long paths are predicted
# in blocks that keep the predictions below about 160 MB. What the truth leaves undefined is NA.
new_scorer <- function(input, target, metrics, clock) {
  predictor <- NULL
  truth <- truth_of(target)
  weights <- target$weights
  columns <- prediction_columns(truth)
  shape <- c(length(truth), if (!is.null(columns)) length(columns), 1L)
  dims <- length(shape)
  usable <- which(vapply(
    metrics, function(metric) is.null(metric$undefined(truth, weights)), logical(1)
  ))
  score <- lapply(metrics, function(metric) metric$score)
  blank <- matrix(NA_real_, 1L, length(metrics))
  block <- max(1, floor(2e7 / max(1, length(truth) * max(1L, length(columns)))))
  score_all <- function(fitted, values, n_values) {
    if (n_values > block) return(score_in_blocks(fitted, values, n_values))
    if (is.null(predictor)) predictor <<- new_predictor(fitted, input())
    started <- seconds_now()
    path <- predictor(fitted, values)
    if (length(dim(path)) < dims) dim(path) <- shape
    clock$predicting <- clock$predicting + (seconds_now() - started)
    clock$path <- path
    scores <- if (n_values == 1L) blank else matrix(NA_real_, n_values, length(score))
    for (m in usable) {
      found <- score[[m]](truth, path, weights)
      # one kind of undefined: a journal knows no other
      if (anyNA(found)) found[is.na(found)] <- NA_real_
      if (n_values == 1L) scores[[m]] <- found else scores[, m] <- found
    }
    scores
  }
  score_in_blocks <- function(fitted, values, n_values) {
    blocks <- split(seq_len(n_values), (seq_len(n_values) - 1L) %/% block)
    scores <- lapply(blocks, function(at) score_all(fitted, path_take(values, at), length(at)))
    clock$path <- NULL
    do.call(rbind, scores)
  }
  score_all
}

# run_unit() with the seconds that it took: list(ledger, took).
timed_unit <- function(...) {
  started <- seconds_now()
  list(ledger = run_unit(...), took = seconds_now() - started)
}

# The limit of a single fit, or what is left until `stop_at`, whatever is shorter.
within_limits <- function(expr, context, stop_at) {
  left <- stop_at - seconds_now()
  if (left <= 0) stop(out_of_time, call. = FALSE)
  most <- context$fit_seconds %||% Inf
  if (most <= left) return(within_seconds(expr, most, context$alarm))
  tryCatch(within_seconds(expr, left, FALSE), error = function(e) {
    # compiled code may have called it something else
    if (seconds_now() >= stop_at) stop(out_of_time, call. = FALSE)
    stop(e)
  })
}

# Fits that are stopped so were not done; they did not fail.
out_of_time <- "stopped since the time of the run was over"

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
    if (grepl("reached elapsed time limit", conditionMessage(e), fixed = TRUE)) {
      stop(too_slow(seconds), call. = FALSE)
    }
    stop(e)
  })
}

too_slow <- function(seconds) {
  paste0("stopped after the limit of ", format(seconds), " s for one fit")
}
