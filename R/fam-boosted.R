#' Boosted trees
#'
#' Small trees one after the other, each learning what the ones before got wrong
#' (package gbm, or lightgbm where it is installed). The first trees of a long run
#' are a shorter run, so one fit serves every number of trees. Several classes are
#' had one against the rest; counts by the Poisson deviance, each quantile by its own loss.
#' Categories and missing values are taken as they are.
#'
#' @eval family_help("boosted")
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A family for [pipeline()] and [candidates()].
#' @references Friedman (2001), Greedy function approximation: a gradient boosting
#'   machine; Friedman (2002), Stochastic gradient boosting.
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have.
#' @examples
#' fam_boosted(trees = from_to(20, 500, points = 25), rate = among(0.05, 0.1), depth = among(1, 3))
#' @export
fam_boosted <- function(trees = 200, rate = 0.1, depth = 3, min_leaf = 10, row_share = 0.5,
                        column_share = 1, package = "gbm", ...) {
  no_more(...)
  new_family(
    member_fam_boosted(),
    list(
      trees = trees, rate = rate, depth = depth, min_leaf = min_leaf,
      row_share = row_share, column_share = column_share,
      package = package
    )
  )
}

member_fam_boosted <- function() {
  family_definition(
    "boosted", "Boosted trees",
    c("number", "count", "quantiles", "two_class", "many_class"),
    hyperparameters = list(
      trees = hyperparameter("whole", 200,
        min = 1, max = 1e5,
        sensible = function(rows, columns, classes) from_to(20, 500, points = 25),
        meaning = "Number of trees that are added up.",
        rising = "Closer to the training rows: less bias, in the end more variance; slower."
      ),
      rate = hyperparameter("number", 0.1,
        min = 0, max = 1, open_min = TRUE,
        sensible = function(rows, columns, classes) among(0.02, 0.05, 0.1),
        meaning = "How much of each tree is added (learning rate).",
        rising = "Fewer trees are needed, and the best score is a little worse."
      ),
      depth = hyperparameter("whole", 3,
        min = 1, max = 20,
        sensible = function(rows, columns, classes) among(1, 3, 5),
        meaning = "Most questions in a row in one tree; 1 allows no interactions.",
        rising = "Finer interactions: less bias, more variance, slower."
      ),
      min_leaf = hyperparameter("whole", 10,
        min = 1,
        sensible = function(rows, columns, classes) among(5, 10, 30),
        meaning = "Fewest training rows in a leaf.",
        rising = "Smoother trees: less variance, more bias."
      ),
      row_share = hyperparameter("number", 0.5,
        min = 0, max = 1, open_min = TRUE,
        sensible = function(rows, columns, classes) among(0.5, 0.8, 1),
        meaning = "Share of the training rows that a tree is grown on.",
        rising = "Trees are more alike: more variance; slower."
      ),
      column_share = hyperparameter("number", 1,
        min = 0, max = 1, open_min = TRUE,
        sensible = function(rows, columns, classes) among(0.5, 0.8, 1),
        meaning = "Share of the columns that a tree may use; package lightgbm only.",
        rising = "Trees are more alike: less bias, more variance.",
        active_when = function(settings, kind) settings$package == "lightgbm"
      ),
      package = hyperparameter("choice", "gbm",
        choices = c("gbm", "lightgbm"),
        meaning = "The package that grows the trees; lightgbm is faster on many rows."
      )
    ),
    complexity_rank = 75,
    simplicity = function(settings) list(settings$depth, settings$trees, -settings$min_leaf),
    accepts = list(factors = TRUE, missing = TRUE, weights = TRUE, most_levels = function(kind) {
      1000
    }),
    random = TRUE, fit = fit_boosted, script = script_boosted,
    path = list(along = "trees", set_matters = FALSE, predict = predict_boosted),
    freeze = freeze_boosted, plain = plain_boosted,
    impossible = list(
      cannot_work(
        "a tree needs more rows than twice its smallest leaf and one",
        function(settings, kind, about) settings$row_share * about$rows <= 2 * settings$min_leaf + 1
      )
    ),
    packages = function(settings, kind) possible_values(settings$package),
    does = "Adds up small trees, each learning what the ones before got wrong."
  )
}

fit_boosted <- function(x, y, weights, settings, seed, threads, kind, exposure,
                        quantiles) {
  levels <- lapply(x, function(column) if (is.factor(column)) seen_levels(column))
  x <- tree_columns(x, levels)
  names(x) <- tree_names(length(x))
  grow <- if (settings$package == "gbm") grow_gbm else grow_lightgbm
  # a run for every class but one of two, or for every quantile
  targets <- if (is.factor(y)) against_rest(y) else rep(list(y), max(1L, length(quantiles)))
  # every class has a seed of its own, so that its trees do not depend on how many
  # the class before it has
  runs <- lapply(seq_along(targets), function(class) {
    own <- derive_seed(seed, paste("class", class))
    with_seed(
      own, grow(targets[[class]], x, weights, settings, kind, own, exposure, quantiles[class])
    )
  })
  list(
    runs = runs, levels = levels, trees = max(settings$trees), is_class = is.factor(y),
    is_count = kind == "count", is_wide = kind == "quantiles", package = settings$package
  )
}

# The package takes whole counts only: a rate is given as what was counted, with an offset.
grow_gbm <- function(y, x, weights, settings, kind, seed, exposure, quantile) {
  if (kind == "quantiles" && !is.null(weights)) {
    # the package has no quantiles of rows that weigh
    rows <- repeated_rows(weights)
    if (is.null(rows)) {
      stop(
        "package gbm takes no weights for quantiles unless they are whole numbers; use ",
        "package = \"lightgbm\", or fam_forest()",
        call. = FALSE
      )
    }
    x <- x[rows, , drop = FALSE]
    y <- y[rows]
    weights <- NULL
  }
  if (settings$row_share * length(y) <= 2 * settings$min_leaf + 1) {
    stop(
      length(y),
      " training rows are too few for leaves of ",
      settings$min_leaf,
      " rows at a row share of ",
      settings$row_share,
      call. = FALSE
    )
  }
  offset <- NULL
  if (kind == "count" && !is.null(exposure)) {
    y <- round(y * exposure)
    weights <- weights / exposure
    offset <- log(exposure)
  }
  fit <- gbm::gbm.fit(x, y,
    offset = offset, w = weights,
    distribution = switch(kind,
      number = "gaussian", count = "poisson",
      quantiles = list(name = "quantile", alpha = quantile), "bernoulli"
    ),
    n.trees = max(settings$trees), interaction.depth = settings$depth,
    n.minobsinnode = settings$min_leaf, shrinkage = settings$rate,
    bag.fraction = settings$row_share, keep.data = FALSE, verbose = FALSE
  )
  fit[c("fit", "train.error", "valid.error", "oobag.improve", "call")] <- NULL
  fit
}

grow_lightgbm <- function(y, x, weights, settings, kind, seed, exposure, quantile) {
  data <- lightgbm::lgb.Dataset(
    lightgbm_matrix(x),
    label = y,
    weight = weights,
    free_raw_data = FALSE,
    categorical_feature = lightgbm_factors(x),
    params = list(verbosity = -1L)
  )
  parameters <- list(
    objective = switch(kind,
      number = "regression", count = "poisson", quantiles = "quantile", "binary"
    ),
    learning_rate = settings$rate,
    max_depth = settings$depth, num_leaves = min(2^settings$depth, 4096),
    min_data_in_leaf = settings$min_leaf,
    bagging_fraction = settings$row_share, bagging_freq = if (settings$row_share < 1) 1L else 0L,
    feature_fraction = settings$column_share, seed = seed, deterministic = TRUE,
    force_row_wise = TRUE,
    num_threads = 1L, verbosity = -1L
  )
  if (kind == "quantiles") parameters$alpha <- quantile
  booster <- lightgbm::lgb.train(parameters, data, nrounds = max(settings$trees), verbose = -1L)
  list(text = booster$save_model_to_string(num_iteration = NULL))
}

lightgbm_matrix <- function(x) {
  matrix(
    unlist(lapply(x, function(column) as.double(column) - is.factor(column)), use.names = FALSE),
    nrow(x),
    length(x),
    dimnames = list(NULL, names(x))
  )
}

lightgbm_factors <- function(x) {
  factors <- names(x)[vapply(x, is.factor, logical(1))]
  if (length(factors) > 0L) factors
}

predict_boosted <- function(model, x, values) {
  columns <- tree_columns(x, model$levels)
  names(columns) <- tree_names(length(columns))
  values <- pmin(values, model$trees)
  read <- if (model$package == "gbm") eta_gbm else eta_lightgbm
  etas <- lapply(model$runs, read, columns = columns, values = values)
  if (isTRUE(model$is_wide)) return(aperm(simplify2array(etas), c(1L, 3L, 2L)))
  if (!model$is_class) return(if (isTRUE(model$is_count)) exp(etas[[1]]) else etas[[1]])
  from_against_rest(lapply(etas, stats::plogis))
}

# Rows x values on the scale of the trees' sum. The package wants ascending values.
eta_gbm <- function(run, columns, values) {
  asked <- sort(unique(values))
  eta <- gbm::predict.gbm(run, columns, n.trees = asked, type = "link")
  matrix(eta, nrow(columns), length(asked))[, match(values, asked), drop = FALSE]
}

eta_lightgbm <- function(run, columns, values) {
  booster <- lightgbm::lgb.load(model_str = run$text)
  x <- lightgbm_matrix(columns)
  eta <- vapply(values, function(trees) {
    as.double(stats::predict(
      booster, x,
      type = "raw", num_iteration = trees, params = list(num_threads = threads_here())
    ))
  }, numeric(nrow(x)))
  matrix(eta, nrow(x), length(values))
}

# Only the trees that were chosen are kept.
freeze_boosted <- function(model, value) {
  model$trees <- min(value, model$trees)
  if (model$package == "gbm") {
    model$runs <- lapply(model$runs, function(run) {
      run$trees <- run$trees[seq_len(model$trees)]
      run$n.trees <- model$trees
      run
    })
  }
  model
}

# Of package gbm; lightgbm has a text of its own.
plain_boosted <- function(model, value) {
  if (model$package != "gbm") return(NULL)
  groups <- lapply(model$runs, function(run) {
    ordered <- lengths(model$levels) > 0L & run$var.type == 0
    trees <- lapply(run$trees[seq_len(min(value, model$trees))], function(tree) {
      leaf <- tree[[1]] < 0L
      by_level <- !leaf & run$var.type[pmax(tree[[1]], 0L) + 1L] > 0
      cut <- ifelse(leaf | by_level, 0, tree[[2]])
      # the package numbers ordered levels from 0
      cut <- cut + ifelse(leaf, 0, ordered[pmax(tree[[1]], 0L) + 1L])
      plain_simple_tree(
        left = ifelse(leaf, -1L, tree[[3]]), right = ifelse(leaf, -1L, tree[[4]]),
        otherwise = ifelse(leaf, seq_along(leaf) - 1L, tree[[5]]), input = tree[[1]], cut = cut,
        side = ifelse(by_level, cumsum(by_level) - 1L, -1L),
        sides = lapply(run$c.splits[tree[[2]][by_level] + 1L], as.integer),
        values = list(ifelse(leaf, tree[[2]], 0))
      )
    })
    list(start = run$initF, trees = trees)
  })
  link <- if (isTRUE(model$is_count)) "exp" else "identity"
  if (model$is_class) link <- if (length(groups) == 1L) "logistic" else "against_rest"
  form <- plain_trees(groups, link, "sum", "right")
  form$levels <- unname(model$levels)
  form
}

# By package gbm or lightgbm: a function boost(), and lines that call it for every class but one of
# two, or every quantile, each under a seed of its own.
script_boosted <- function(settings, about) {
  seen <- seen_level_lines(about)
  runs <- max(1L, length(about$quantiles), length(about$levels) - (length(about$levels) == 2L))
  seeds <- vapply(seq_len(runs), function(class) {
    derive_seed(about$seed, paste("class", class))
  }, 1)
  wide <- !is.null(about$quantiles)
  package <- if (settings$package == "gbm") script_gbm else script_lightgbm
  part <- package(settings, about, seen$x, if (runs == 1L) "model" else "one")
  list(
    fit = c(seen$lines, part$boost, if (runs > 1L) {
      c(
        "models <- Map(", paste0("  boost, ", if (wide) "list(y)" else
          "lapply(levels(y), function(level) as.numeric(y == level))", ","),
        paste0("  ", r_vector(seeds, 4L), if (wide) paste0(", ", r_vector(about$quantiles))), ")"
      )
    } else if (is.null(about$levels)) {
      paste0("model <- boost(y, ", seeds, if (wide) paste0(", ", about$quantiles), ")")
    } else {
      paste0("model <- boost(as.numeric(y == levels(y)[2]), ", seeds, ")")
    }),
    predict = if (runs > 1L) {
      c(
        "p <- vapply(models, function(one) {", paste0("  ", part$predicted),
        "}, numeric(nrow(x)))", "p <- matrix(p, nrow(x))", if (wide) "p" else "p / rowSums(p)"
      )
    } else if (wide) {
      paste0("cbind(", part$predicted, ")")
    } else if (is.null(about$levels)) {
      part$predicted
    } else {
      c(paste("p <-", part$predicted), "cbind(1 - p, p)")
    }
  )
}

# list(boost, predicted): lines of the function, and a prediction by `model`.
script_gbm <- function(settings, about, x, model) {
  counted <- about$exposure && about$kind == "count"
  repeated <- about$weighted && !is.null(about$quantiles)
  list(boost = code_lines(r"(
boost <- function(y, seed<<quantile>>) {
  set.seed(seed)
  <<counted>>
  gbm::gbm.fit(<<x>><<rows>>, <<y>>,
    distribution = <<distribution>>, n.trees = <<trees>>, interaction.depth = <<depth>>,
    n.minobsinnode = <<leaf>>, shrinkage = <<rate>>, bag.fraction = <<share>><<w>>,
    keep.data = FALSE, verbose = FALSE
  )
}
)",
    quantile = if (is.null(about$quantiles)) "" else ", quantile", x = x,
    counted = if (counted) "# the package takes what was counted, with an offset" else if (
      repeated) c("# a row as often as it weighs", "rows <- rep(seq_along(w), w)"),
    rows = if (repeated) "[rows, , drop = FALSE]" else "",
    y = if (counted) "round(y * exposure)" else if (repeated) "y[rows]" else "y",
    distribution = switch(about$kind,
      number = "\"gaussian\"", count = "\"poisson\"",
      quantiles = "list(name = \"quantile\", alpha = quantile)", "\"bernoulli\""
    ),
    trees = about$value, depth = settings$depth, leaf = settings$min_leaf,
    rate = r_text(settings$rate), share = r_text(as.double(settings$row_share)),
    w = if (counted) ",\n    w = w / exposure, offset = log(exposure)" else if (
      about$weighted && !repeated) ", w = w" else ""
  ), predicted = paste0(
    "gbm::predict.gbm(", model, ", ", x, ", n.trees = ", about$value, ", type = \"response\")"
  ))
}

script_lightgbm <- function(settings, about, x, model) {
  factors <- length(about$factors) > 0L
  list(boost = code_lines(r"(
as_numbers <- function(x) {
  x <- <<x>>
  numbers <- lapply(x, function(v) as.numeric(v)<<less>>)
  matrix(unlist(numbers, use.names = FALSE), nrow(x), dimnames = list(NULL, names(x)))
}
boost <- function(y, seed<<quantile>>) {
  set.seed(seed)
  data <- lightgbm::lgb.Dataset(as_numbers(x),
    label = y,<<w>> free_raw_data = FALSE,<<factors>>
    params = list(verbosity = -1)
  )
  lightgbm::lgb.train(
    list(
      objective = <<objective>>,<<alpha>> learning_rate = <<rate>>, max_depth = <<depth>>,
      num_leaves = <<leaves>>, min_data_in_leaf = <<leaf>>, bagging_fraction = <<share>>,
      bagging_freq = <<often>>, feature_fraction = <<columns>>, seed = seed,
      deterministic = TRUE, force_row_wise = TRUE, num_threads = 1, verbosity = -1
    ),
    data,
    nrounds = <<trees>>, verbose = -1
  )
}
)",
    x = x, less = if (factors) " - is.factor(v)" else "",
    quantile = if (is.null(about$quantiles)) "" else ", quantile",
    w = if (about$weighted) " weight = w," else "",
    factors = if (factors) paste0(
      "\n    categorical_feature = names(Filter(is.factor, ", x, ")),"
    ) else "",
    objective = switch(about$kind,
      number = "\"regression\"", count = "\"poisson\"", quantiles = "\"quantile\"", "\"binary\""
    ),
    alpha = if (is.null(about$quantiles)) "" else " alpha = quantile,",
    rate = r_text(settings$rate), depth = settings$depth,
    leaves = r_text(min(2^settings$depth, 4096)), leaf = settings$min_leaf,
    share = r_text(as.double(settings$row_share)), often = if (settings$row_share < 1) "1" else "0",
    columns = r_text(as.double(settings$column_share)), trees = about$value
  ), predicted = paste0(
    "as.numeric(predict(", model, ", as_numbers(x), type = \"response\"))"
  ))
}
