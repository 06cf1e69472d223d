#' Penalised regression, from ridge to lasso
#'
#' Linear, logistic or multinomial regression, for counts Poisson and for positive amounts gamma
#' regression with a log link, whose coefficients are shrunk (package glmnet). All
#' penalties that a candidate declares are fitted as one descending path, and the path
#' is what a penalty's value means. Columns are taken as they come: scale them first.
#'
#' @eval family_help("penalised")
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A family for [pipeline()] and [candidates()].
#' @references Friedman, Hastie & Tibshirani (2010), Regularization paths for
#'   generalized linear models via coordinate descent, J. Stat. Software 33(1).
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have.
#' @examples
#' fam_penalised(
#'   penalty = from_to(1e-4, 1, spacing = "log", points = 30),
#'   lasso_share = among(0, 0.5, 1)
#' )
#' @export
fam_penalised <- function(penalty = 0.01, lasso_share = 0.5, ...) {
  no_more(...)
  new_family(member_fam_penalised(), list(penalty = penalty, lasso_share = lasso_share))
}

member_fam_penalised <- function() {
  family_definition(
    "penalised", "Penalised regression",
    c("number", "count", "positive", "two_class", "many_class"),
    hyperparameters = list(
      penalty = hyperparameter("number", 0.01,
        min = 0,
        sensible = function(rows, columns, classes) from_to(1e-4, 1, spacing = "log", points = 30),
        meaning = paste(
          "How strongly coefficients are shrunk towards 0; for a numeric outcome in units of",
          "its standard deviation, for counts of their mean."
        ),
        rising = "Smaller and fewer coefficients: less variance, more bias."
      ),
      lasso_share = hyperparameter("number", 0.5,
        min = 0, max = 1,
        sensible = function(rows, columns, classes) among(0, 0.5, 1),
        meaning = "How far the penalty is lasso (1) rather than ridge (0).",
        rising = "More coefficients are exactly 0."
      )
    ),
    complexity_rank = 25,
    simplicity = function(settings) list(-settings$penalty, -settings$lasso_share),
    accepts = list(weights = TRUE, sparse = TRUE, wants_scaling = TRUE),
    fit = fit_penalised, script = script_penalised,
    path = list(along = "penalty", set_matters = TRUE, predict = predict_penalised),
    freeze = freeze_penalised, packages = "glmnet",
    plain = function(model, value) {
      slopes <- do.call(rbind, lapply(model$coefficients, as.vector))
      plain_linear(cbind(as.vector(model$intercepts), slopes), switch(model$distribution,
        gaussian = "identity", poisson = , gamma = "exp", binomial = "logistic", "softmax"
      ))
    },
    does = "Weighs the columns and adds them up, with the weights held small."
  )
}

fit_penalised <- function(x, y, weights, settings, seed, threads, kind) {
  values <- sort(unique(settings$penalty), decreasing = TRUE)
  n_columns <- ncol(x)
  if (n_columns == 1L) x <- cbind(x, 0)
  weights <- weights %||% rep(1, length(y))
  distribution <- switch(kind,
    number = "gaussian", count = "poisson", positive = "gamma",
    if (nlevels(y) == 2L) "binomial" else "multinomial"
  )
  unit <- switch(kind,
    number = outcome_sd(y, weights), count = weighted_mean(y, weights), 1
  )
  fit <- glmnet::glmnet(x, y,
    family = if (distribution == "gamma") stats::Gamma("log") else distribution,
    weights = weights, alpha = settings$lasso_share, lambda = values * unit, standardize = FALSE
  )
  coefficients <- if (distribution == "multinomial") fit$beta else list(fit$beta)
  intercepts <- if (distribution == "multinomial") fit$a0 else matrix(fit$a0, 1)
  coefficients <- lapply(coefficients, function(b) {
    unname(as.matrix(b))[seq_len(n_columns), , drop = FALSE]
  })
  list(
    values = values, distribution = distribution, intercepts = unname(intercepts),
    coefficients = unname(coefficients)
  )
}

# The sd with divisor n, as the penalty's unit.
outcome_sd <- function(y, weights) {
  centre <- sum(weights * y) / sum(weights)
  sqrt(sum(weights * (y - centre)^2) / sum(weights))
}

# Where the package stopped short of the smallest penalties, the last one fitted
# serves for them.
predict_penalised <- function(model, x, values) {
  at <- match(values, model$values)
  if (anyNA(at)) stop("a penalty was asked for that is not on the fitted path")
  at <- pmin(at, ncol(model$intercepts))
  etas <- lapply(seq_along(model$coefficients), function(class) {
    eta <- as.matrix(x %*% model$coefficients[[class]][, at, drop = FALSE])
    eta + rep(model$intercepts[class, at], each = nrow(x))
  })
  switch(model$distribution,
    gaussian = unname(etas[[1]]),
    poisson = ,
    gamma = exp(unname(etas[[1]])),
    binomial = stack_two_classes(stats::plogis(etas[[1]])),
    multinomial = stack_softmax(etas)
  )
}

# rows x values -> rows x 2 x values
stack_two_classes <- function(p) {
  out <- array(0, c(nrow(p), 2L, ncol(p)))
  out[, 1, ] <- 1 - p
  out[, 2, ] <- p
  out
}

# one rows x values matrix per class -> rows x classes x values
stack_softmax <- function(etas) {
  top <- do.call(pmax, etas)
  odds <- lapply(etas, function(eta) exp(eta - top))
  total <- Reduce(`+`, odds)
  out <- array(0, c(nrow(top), length(etas), ncol(top)))
  for (class in seq_along(odds)) out[, class, ] <- odds[[class]] / total
  out
}

# A final model keeps the one penalty that was chosen.
freeze_penalised <- function(model, value) {
  at <- pmin(match(value, model$values), ncol(model$intercepts))
  model$values <- value
  model$intercepts <- model$intercepts[, at, drop = FALSE]
  model$coefficients <- lapply(model$coefficients, function(b) b[, at, drop = FALSE])
  model
}

script_penalised <- function(settings, about) {
  # the package wants two columns
  x <- if (about$n_columns < 2L) paste0("cbind(", about$sparse, ", 0)") else about$sparse
  values <- sort(unique(settings$penalty), decreasing = TRUE)
  family <- switch(about$kind,
    number = "\"gaussian\"", count = "\"poisson\"", positive = "Gamma(\"log\")",
    two_class = "\"binomial\"", "\"multinomial\""
  )
  mean_y <- if (about$weighted) "weighted.mean(y, w)" else "mean(y)"
  unit <- switch(about$kind,
    number = if (about$weighted) {
      "sqrt(weighted.mean((y - weighted.mean(y, w))^2, w))"
    } else {
      "sqrt(mean((y - mean(y))^2))"
    },
    count = mean_y
  )
  response <- switch(about$kind,
    number = "as.numeric(<<predicted>>)", count = , positive = "as.numeric(<<predicted>>)",
    two_class = "p <- as.numeric(<<predicted>>)\ncbind(1 - p, p)",
    "matrix(<<predicted>>, nrow(x))"
  )
  predicted <- paste0("predict(model, ", x, ", s = penalty, type = \"response\")")
  list(fit = code_lines(r"(
<<unit>>
penalty <- <<value>><<times>>
# fitted for all penalties that were compared, as then
model <- glmnet::glmnet(<<x>>, y,
  family = <<family>>, alpha = <<share>>, standardize = FALSE,
  lambda = <<values>><<times>><<w>>
)
)",
    unit = if (!is.null(unit)) paste("unit <-", unit), value = r_text(about$value), x = x,
    times = if (is.null(unit)) "" else " * unit", family = family,
    share = r_text(settings$lasso_share), values = r_spaced(values, 4L),
    w = if (about$weighted) ",\n  weights = w" else ""
  ), predict = code_lines(response, predicted = predicted))
}
