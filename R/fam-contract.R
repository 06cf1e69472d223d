# What a model family is, and how it is fitted and used.
#
# A family definition has
#   name, label         one word; what people call it
#   kinds               outcome kinds, see outcome-contract.R; of a kind that is not
#                       among them, the family gets what serves it. Every function
#                       that is given a kind is given one of these
#   arguments           its hyperparameters, see hyperparameter()
#   complexity_rank     0 (simplest) to 100, for breaking ties
#   simplicity(s)       list of numeric vectors, one value a setting, lower is
#                       simpler, most important first
#   accepts             factors, sparse, missing, weights: what it can take;
#                       wants_scaling; nothing (needs no columns at all);
#                       most_levels(kind)
#   random              does fitting draw random numbers?
#   fit(x, y, weights, settings, seed, threads)
#                       fit may have more arguments: `unit`, rows with the same
#                       number belong together in inner divisions; `kind`, as which of
#                       its kinds the outcome is to be learned; `exposure` of the rows,
#                       NULL, or what the outcome is a rate of (weights hold it already);
#                       `quantiles`, which are to be predicted, one column each
#   inner_fits          NULL, or function(settings, kind, classes): how many models
#                       one fit really trains
#   predict(model, x)   numeric vector, or matrix rows x classes (levels of y)
#   path                NULL, or list(along, set_matters, predict): one fit serves
#                       every value of the hyperparameter `along`; then there is no
#                       predict, fit gets settings[[along]] as the whole vector of
#                       values, and path$predict(model, x, values) gives rows x
#                       values or rows x classes x values. set_matters: the set of
#                       values is part of what is fitted. `along` may name several
#                       hyperparameters; `values` is then a data frame, one column
#                       each, and so are the values that fit gets.
#   freeze(model, value)  a small, plain, serialisable form for one path value
#   impossible          list of cannot_work(): combinations left out before running
#   keeps_rows(settings, kind)  does a frozen model hold training rows?
#   state_version       raised when fit or freeze keep something else than before, so that
#                       models saved earlier are refused rather than read wrongly
#   combines            is a fit made of fits of other settings? Then it takes frames as they are,
#                       see run-blend.R
#   packages            what fit and predict need: a character vector, or a
#                       function(settings, kind) giving one
#   script(settings, about)  NULL, or lines of plain R that fit and predict the same, see
#                       final-script.R
#   plain(model, value) NULL, or what predicts as numbers and names alone, see fam-plain.R; NULL
#                       from it: this one model has no such form
family_definition <- function(name, label, kinds, hyperparameters = list(), complexity_rank,
                              simplicity = no_simplicity, accepts = list(),
                              random = FALSE, fit, predict = NULL, path = NULL, inner_fits = NULL,
                              freeze = keep_model,
                              impossible = list(), packages = character(), does = "",
                              keeps_rows = keeps_no_rows, script = NULL, plain = NULL,
                              state_version = 1L, combines = FALSE) {
  usual <- list(
    factors = FALSE, sparse = FALSE, missing = FALSE, weights = FALSE,
    wants_scaling = FALSE, most_levels = NULL, nothing = FALSE
  )
  member("fam", name, does,
    arguments = hyperparameters,
    capabilities = list(
      kinds = kinds, accepts = utils::modifyList(usual, accepts), random = random,
      complexity_rank = complexity_rank, packages = packages, combines = combines
    ),
    label = label, simplicity = simplicity, fit = fit, predict = predict, path = path,
    inner_fits = inner_fits, freeze = freeze, impossible = impossible, shipped = TRUE,
    keeps_rows = keeps_rows, script = script, plain = plain, state_version = state_version,
    class = "kw_family_definition"
  )
}

no_simplicity <- function(settings) list()

keep_model <- function(model, value) model

#' Combinations of hyperparameters that cannot work
#'
#' For `impossible =` of [define_family()]. What cannot work is left out before anything is
#' fitted, and counted by [preview()].
#'
#' @param says What a person is told: why it cannot work.
#' @param test `function(settings, kind, about)` giving `TRUE` for every setting that cannot work.
#'   `settings` holds a vector for each hyperparameter, one value a setting; `kind` is the outcome's
#'   kind; `about` has the numbers of `rows`, `columns` and `classes`.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A list for `define_family()`.
#' @section Errors:
#' `kw_error_argument` when `test` is no function of three arguments.
#' @examples
#' cannot_work("more terms than columns", function(settings, kind, about) {
#'   settings$terms > about$columns
#' })
#' @export
cannot_work <- function(says, test, ...) {
  no_more(...)
  check_string(says, "says")
  check_argument(
    is.function(test) && length(formals(test)) == 3L, "test",
    "a function(settings, kind, about)", test
  )
  structure(list(says = says, test = test), class = "kw_cannot_work")
}

check_impossible <- function(impossible, name) {
  fine <- is.list(impossible) && all(vapply(impossible, inherits, NA, "kw_cannot_work"))
  check_argument(fine, "impossible", "a list of cannot_work()", impossible)
  for (one in impossible) check_self_contained(list(test = one$test), name)
}

family_packages <- function(definition, settings, kind) {
  if (!is.function(definition$packages)) return(definition$packages)
  definition$packages(settings, kind_among(definition$kinds, kind))
}

# Path values are a vector, or a data frame where the path runs along several
# hyperparameters.
path_count <- function(values) if (is.data.frame(values)) nrow(values) else length(values)

path_take <- function(values, at) {
  if (is.data.frame(values)) frame_of_rows(values, at) else values[at]
}

new_family <- function(definition, settings) {
  part <- paste0("fam_", definition$name)
  whole <- complete_settings(settings, definition$arguments, part)
  structure(
    list(
      definition = definition, settings = whole,
      given = given_names(settings, definition$arguments)
    ),
    class = "kw_family"
  )
}

family_most_levels <- function(definition, kind) {
  most <- definition$accepts$most_levels
  if (is.null(most)) Inf else most(kind_among(definition$kinds, kind))
}

# Does a family take columns of these kinds as they are, rather than as a matrix? One that
# takes categories and sparse columns has a matrix where there are no categories.
takes_columns <- function(definition, kinds) {
  accepts <- definition$accepts
  accepts$factors && (!accepts$sparse || any(kinds %in% c("category", "ordered")))
}

# A frame, or some of its rows, in the form that the family takes: a data frame, a dense
# matrix, or a sparse one. Text and dates that no step turned into numbers stay out.
family_input <- function(frame, definition, rows = NULL) {
  if (isTRUE(definition$combines)) return(if (is.null(rows)) frame else frame_rows(frame, rows))
  kinds <- vapply(frame$columns, column_kind, character(1))
  usable <- unclass(frame$columns)[kinds %in% c("number", "category", "ordered")]
  sparse <- if (is.null(rows) || is.null(frame$sparse)) {
    frame$sparse
  } else {
    frame$sparse[rows, , drop = FALSE]
  }
  n <- if (is.null(rows)) frame$n else length(rows)
  if (takes_columns(definition, kinds)) {
    if (!definition$accepts$missing) refuse_missing_columns(usable, definition)
    if (!is.null(rows)) usable <- lapply(usable, function(column) column[rows])
    if (!is.null(sparse)) {
      check_dense_size(sparse, definition)
      usable <- c(usable, dense_columns(sparse))
    }
    return(plain_frame(usable, n))
  }
  left_over <- names(usable)[!vapply(usable, is.numeric, logical(1))]
  if (length(left_over) > 0L) {
    stop_kw("input", paste0(
      "fam_", definition$name, " takes numbers, but ", left_over[1],
      " is still a category."
    ), remedy = "Add pre_onehot() before it.")
  }
  dense <- filled_matrix(usable, rows, n)
  if (!definition$accepts$missing) refuse_missing(dense, definition)
  if (is.null(sparse)) return(dense)
  if (definition$accepts$sparse) {
    return(cbind(methods::as(methods::as(dense, "CsparseMatrix"), "generalMatrix"), sparse))
  }
  check_dense_size(sparse, definition)
  cbind(dense, as.matrix(sparse))
}

dense_columns <- function(sparse) {
  stats::setNames(
    lapply(seq_len(ncol(sparse)), function(j) as.double(sparse[, j])),
    colnames(sparse)
  )
}

check_dense_size <- function(sparse, definition) {
  gigabytes <- prod(dim(sparse)) * 8 / 2^30
  if (gigabytes > 4) {
    stop_kw("input", paste0(
      "fam_", definition$name, " takes no sparse input, and ",
      ncol(sparse), " columns of ", nrow(sparse), " rows would need ",
      format(gigabytes, digits = 2), " GB."
    ),
    remedy = "Use fewer columns, or a family that takes sparse input (fam_penalised, fam_forest)."
    )
  }
}

refuse_missing <- function(dense, definition) {
  if (anyNA(dense)) refuse_missing_in(colnames(dense)[colSums(is.na(dense)) > 0], definition)
}

refuse_missing_columns <- function(columns, definition) {
  gone <- vapply(columns, anyNA, logical(1))
  if (any(gone)) refuse_missing_in(names(columns)[gone], definition)
}

refuse_missing_in <- function(gone, definition) {
  stop_kw(
    "input",
    paste0(
      "fam_", definition$name, " takes no missing values, but there are some in ",
      enumerate(quoted(gone)), "."
    ),
    remedy = "Add pre_missing() before it."
  )
}

# Fits a concrete family. `settings[[along]]` holds all values of a path.
fit_family <- function(definition, x, target, settings, seed, threads = 1L) {
  new_fitter(definition, x, target, threads)(settings, seed)
}

# A function(settings, seed) that fits on these rows. Classes without a training row are
# left out of the fit and predicted with probability 0.
new_fitter <- function(definition, x, target, threads = 1L) {
  scale <- target$scale
  y <- if (is.null(scale)) target$outcome else to_scale(target$outcome, scale)
  levels <- levels(y) %||% quantile_names(target$quantiles)
  if (ncol(x) == 0L && !definition$accepts$nothing) {
    stop_kw("input", paste0("No column is left for fam_", definition$name, " to learn from."))
  }
  present <- NULL
  if (is.factor(y)) {
    present <- levels[tabulate(y, nlevels(y)) > 0L]
    if (length(present) < 2L) {
      stop_kw("fit", paste0("The training rows hold one class only: ", quoted(present), "."))
    }
    if (length(present) < nlevels(y)) y <- factor(y, levels = present)
  }
  given <- if (!is.null(target$recalibration)) x
  inputs <- if (is.data.frame(x)) names(x) else colnames(x)
  coding <- NULL
  if (definition$shipped) {
    coding <- learn_coding(x)
    x <- encode_input(x, coding)
    if (is.factor(y)) levels(y) <- code_names("k", nlevels(y))
  }
  weights <- if (definition$accepts$weights) usable_weights(target$weights)
  more <- wanted_of_target(definition, target)
  lowest <- lowest_prediction(definition, target)
  # read for every fit: without its class that is ten times as fast
  definition <- unclass(definition)
  fit <- definition$fit
  random <- definition$random
  learn <- function(settings, seed) {
    if (is.null(more)) {
      return(fit(
        x = x, y = y, weights = weights, settings = settings, seed = seed, threads = threads
      ))
    }
    do.call(fit, c(
      list(x = x, y = y, weights = weights, settings = settings, seed = seed, threads = threads),
      more
    ))
  }
  coded <- list(coding = coding, present = present)
  as_it_is <- !random && is.null(coding) && is.null(more)
  recalibrated <- !is.null(target$recalibration)
  # what is called for every fit does without further calls where it can
  function(settings, seed) {
    model <- if (as_it_is) {
      fit(x = x, y = y, weights = weights, settings = settings, seed = seed, threads = threads)
    } else {
      in_true_names(
        coded, if (random) with_seed(seed, learn(settings, seed)) else learn(settings, seed)
      )
    }
    fitted <- list(
      definition = definition, model = model, present = present, levels = levels,
      settings = settings, coding = coding, lowest = lowest, inputs = inputs
    )
    if (recalibrated) {
      fitted$recalibration <- recalibration_of(definition, given, target, settings, seed, threads)
    }
    if (is.null(scale)) return(fitted)
    values <- all_path_values(definition, settings)
    # of `x` as the family's package sees it
    predicted <- predict_family(fitted[c("definition", "model")], x, values)
    c(fitted, list(scale = with_smear(scale, y, predicted, values, target$weights)))
  }
}

# What maps the probabilities of a fit to recalibrated ones, learned on parts of the training rows
# that fits on the others had not seen.
recalibration_of <- function(definition, x, target, settings, seed, threads) {
  said <- target$recalibration
  target["recalibration"] <- list(NULL)
  part <- parts_to_recalibrate(target, said$folds, seed)
  values <- all_path_values(definition, settings)
  take <- function(rows) if (is.data.frame(x)) frame_of_rows(x, rows) else x[rows, , drop = FALSE]
  held <- NULL
  for (one in seq_len(said$folds)) {
    rows <- which(part == one)
    others <- which(part != one)
    fitted <- fit_family(
      structure(definition, class = "kw_family_definition"), take(others),
      target_rows(target, others), settings,
      derive_seed(seed, paste("recalibration", one)), threads
    )
    found <- predict_family(fitted, take(rows), values)
    if (is.null(held)) held <- array(NA_real_, c(length(part), dim(found)[-1]))
    if (length(dim(held)) == 3L) held[rows, , ] <- found else held[rows, ] <- found
  }
  if (anyNA(held)) stop_kw("fit", "There is no map from probabilities that are missing.")
  # made-up rows stand for themselves, the classes for what they were
  weights <- target$weights %||% rep(1, length(part))
  now <- class_totals(target$outcome, weights)
  wanted <- said$shares * sum(now) / sum(said$shares)
  weights <- weights * ifelse(now > 0, wanted / now, 0)[as.integer(target$outcome)]
  learn_recalibrations(held, target$outcome, weights, said$by, which(now > 0), values)
}

parts_to_recalibrate <- function(target, folds, seed) {
  part <- with_seed(derive_seed(seed, "recalibration"), inner_parts(target, folds))
  units <- tapply(part, droplevels(target$outcome), function(x) length(unique(x)))
  if (all(units > 1L)) return(part)
  stop_kw("fit", paste0(
    "pre_recalibrate(folds = ", folds, ") needs rows of every class in two parts at least; of ",
    quoted(names(units)[units < 2L][1]), " there are too few rows or groups."
  ), remedy = "Leave it out, or drop the class.")
}

target_extras <- c("unit", "kind", "exposure", "quantiles")

# What a family's fit asks for beyond what all get; NULL: nothing.
wanted_of_target <- function(definition, target) {
  wanted <- intersect(target_extras, names(formals(definition$fit)))
  if (length(wanted) == 0L) return(NULL)
  lapply(stats::setNames(nm = wanted), function(name) {
    switch(name,
      unit = inner_unit(target), kind = learned_kind(definition, target),
      exposure = target$exposure,
      quantiles = target$quantiles
    )
  })
}

# On a scale of its own an outcome is a number like any other.
learned_kind <- function(definition, target) {
  # a target that a user's step made says no kind
  kind <- target$kind %||% switch(min(3L, nlevels(target$outcome)) + 1L,
    "number", "two_class", "two_class", "many_class"
  )
  if (is.null(target$scale)) kind_among(definition$kinds, kind) else "number"
}

lowest_prediction <- function(definition, target) {
  if (is.null(target$kind) || target$kind == learned_kind(definition, target)) return(NULL)
  outcome_kind(target$kind)$lowest(target$outcome, target$weights)
}

# All values along a path that settings hold; NULL where there is no path.
all_path_values <- function(definition, settings) {
  along <- definition$path$along
  if (length(along) < 2L) return(if (length(along) == 1L) settings[[along]])
  plain_frame(settings[along], length(settings[[along[1]]]))
}

# Predictions of a fitted family: for a path rows x values (or rows x classes x
# values), else a vector (or rows x classes).
predict_family <- function(fitted, x, values = NULL) new_predictor(fitted, x)(fitted, values)

# A function(fitted, values) that predicts these rows by any fit of the fitter that `one` is from,
# see new_fitter(): what they have in common is looked for, and the rows are coded, once.
new_predictor <- function(one, x) {
  # without its class it is read ten times as fast
  definition <- unclass(one$definition)
  predict <- definition$predict
  path <- definition$path
  predict_path <- path$predict
  levels <- one$levels
  present <- one$present
  lowest <- one$lowest
  # what a blend is given has no dimensions
  n <- dim(x)[1L] %||% x$n
  if (!is.null(one$coding)) x <- encode_input(x, one$coding)
  lacking <- length(present) < length(levels)
  single <- is.null(levels) && is.null(path)
  function(fitted, values = NULL) {
    prediction <- if (is.null(path)) {
      predict(fitted$model, x)
    } else {
      predict_path(fitted$model, x, values)
    }
    if (lacking) prediction <- all_levels(prediction, present, levels)
    plain <- single && length(prediction) == n && is.null(dim(prediction))
    if (!plain || !is.numeric(prediction)) {
      check_prediction(prediction, n, fitted, if (!is.null(path)) path_count(values))
    }
    if (!is.null(fitted$scale)) prediction <- in_own_unit(prediction, fitted$scale, values)
    if (!is.null(fitted$recalibration)) {
      prediction <- recalibrate_prediction(prediction, fitted$recalibration, values)
    }
    if (is.null(lowest)) prediction else pmax(prediction, lowest)
  }
}

# Packages stumble over names and levels with commas, colons, blanks or letters beyond
# ASCII, or take "N/A" and "?" for one: what they get is called x1, x2, ... and l1, l2, ...
# (u1, ... for levels never seen), classes k1, k2, ... A user's own family sees the true names.
learn_coding <- function(x) {
  if (is.data.frame(x)) {
    factors <- which(vapply(x, is.factor, logical(1)))
    return(list(
      names = code_names("x", length(x)), columns = names(x),
      levels = lapply(unclass(x)[factors], levels), factors = unname(factors)
    ))
  }
  # a matrix is copied for other names, so that is done only where they would bite
  names <- colnames(x)
  if (is.null(names) || all(make.names(names) == names)) return(NULL)
  list(
    names = code_names("x", length(names)), columns = names, levels = list(),
    factors = integer()
  )
}

code_names <- function(letter, n) paste0(letter, seq_len(n), recycle0 = TRUE)

encode_input <- function(x, coding) {
  if (is.null(coding)) return(x)
  if (!is.data.frame(x)) {
    colnames(x) <- coding$names
    return(x)
  }
  columns <- unclass(x)
  for (i in seq_along(coding$factors)) {
    at <- coding$factors[i]
    levels(columns[[at]]) <- coded_levels(levels(columns[[at]]), coding$levels[[i]])
  }
  structure(
    columns,
    names = coding$names, class = "data.frame", row.names = .set_row_names(nrow(x))
  )
}

# A package's own text with the true names in it again: x1, x2, ... wherever they stand, a
# level after the column that it is of, a class after the word class.
decode_text <- function(lines, fitted) {
  coding <- fitted$coding
  if (is.null(coding)) return(lines)
  column <- 0L
  found <- gregexpr("\\b[xl][0-9]+\\b|\\bclass k[0-9]+", lines)
  regmatches(lines, found) <- lapply(regmatches(lines, found), function(words) {
    vapply(words, function(word) {
      number <- as.integer(sub("^[^0-9]*", "", word))
      true <- if (startsWith(word, "class")) {
        fitted$present[number]
      } else if (startsWith(word, "x")) {
        column <<- number
        coding$columns[number]
      } else {
        coding$levels[[match(column, coding$factors)]][number]
      }
      if (is.null(true) || is.na(true)) return(word)
      if (startsWith(word, "class")) paste("class", true) else true
    }, "", USE.NAMES = FALSE)
  })
  lines
}

# Warnings and errors of packages with the true names in them.
in_true_names <- function(coded, expr) {
  if (is.null(coded$coding)) return(expr)
  decoded <- function(condition) {
    if (inherits(condition, "kw_error")) return(NULL)
    given <- conditionMessage(condition)
    true <- decode_text(given, coded)
    if (!identical(true, given)) true
  }
  withCallingHandlers(expr,
    warning = function(w) {
      if (is.null(true <- decoded(w))) return()
      warning(true, call. = FALSE)
      invokeRestart("muffleWarning")
    },
    error = function(e) if (!is.null(true <- decoded(e))) stop(true, call. = FALSE)
  )
}

coded_levels <- function(levels, known) {
  place <- match(levels, known)
  code <- paste0("l", place, recycle0 = TRUE)
  strange <- is.na(place)
  code[strange] <- code_names("u", sum(strange))
  code
}

usable_weights <- function(weights) {
  if (!is.null(weights) && sum(weights) <= 0) stop_kw("fit", "All training rows have weight 0.")
  weights
}

all_levels <- function(raw, present, levels) {
  if (is.null(present) || length(present) == length(levels)) return(raw)
  dims <- dim(raw)
  whole <- array(0, c(dims[1], length(levels), dims[-(1:2)]))
  at <- match(present, levels)
  if (length(dims) == 3L) whole[, at, ] <- raw else whole[, at] <- raw
  whole
}

check_prediction <- function(prediction, n, fitted, n_values) {
  levels <- fitted$levels
  got <- dim(prediction)
  wanted <- c(n, if (!is.null(levels)) length(levels), n_values)
  if (is.null(got)) got <- length(prediction)
  definition <- fitted$definition
  who <- function() paste0("fam_", definition$name)
  if (!is.numeric(prediction)) {
    stop_kw("prediction", paste0(
      who(), " predicted ", describe_value(prediction), " where numbers were expected."
    ))
  }
  if (length(got) != length(wanted) || any(got != wanted)) {
    stop_kw("prediction", paste0(
      who(), " predicted ", if (length(got) == 1L) "a vector of ", paste(got, collapse = " x "),
      " values where ", paste(wanted, collapse = " x "), " were expected."
    ))
  }
  if (!definition$shipped && !is.null(fitted$present)) {
    check_probabilities(prediction, levels, who())
  }
}

# Of a user's family: the columns are those of the classes, in their order, and every row is a
# probability each that together are 1. Missing ones leave the setting unranked.
check_probabilities <- function(prediction, levels, who) {
  given <- dimnames(prediction)[[2]]
  if (!is.null(given) && setequal(given, levels) && !identical(given, levels)) {
    stop_kw("prediction", paste0(
      who, " predicted the classes in the order ", enumerate(quoted(given)), ", not ",
      enumerate(quoted(levels)), "."
    ), remedy = "Columns stand in the order of levels(y).")
  }
  known <- prediction[!is.na(prediction)]
  outside <- known < -1e-8 | known > 1 + 1e-8
  if (any(outside)) {
    stop_kw("prediction", paste0(
      who, " predicted ", format(known[outside][1], digits = 4), " as a probability."
    ), remedy = "Probabilities lie between 0 and 1.")
  }
  sums <- apply(prediction, setdiff(seq_along(dim(prediction)), 2L), sum)
  off <- which(abs(sums - 1) > 1e-6)
  if (length(off) > 0L) {
    stop_kw("prediction", paste0(
      who, " predicted probabilities that sum to ", format(sums[off[1]], digits = 4),
      " in a row, not to 1."
    ))
  }
}
