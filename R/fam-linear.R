#' Linear, logistic and multinomial regression
#'
#' Least squares for a numeric outcome, logistic regression for two classes,
#' multinomial regression (package nnet) for more; Poisson regression for counts and gamma
#' regression for positive amounts, both with a log link; quantile regression (package
#' quantreg; Koenker & Bassett 1978) for quantiles. Columns that others make
#' superfluous get no coefficient.
#'
#' @eval family_help("linear")
#' @return A family for [pipeline()] and [candidates()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have.
#' @examples
#' pipeline(pre_missing(), pre_onehot(drop_one = TRUE), fam_linear())
#' @export
fam_linear <- function() new_family(member_fam_linear(), list())

member_fam_linear <- function() {
  family_definition(
    "linear", "Linear", c("number", "count", "positive", "quantiles", "two_class", "many_class"),
    complexity_rank = 20, accepts = list(weights = TRUE),
    fit = fit_linear, predict = predict_linear, script = script_linear,
    plain = function(model, value) {
      plain_linear(model$coefficients, switch(model$type,
        log = "exp", two_class = "logistic", many_class = "softmax", "identity"
      ))
    },
    packages = function(settings, kind) {
      switch(kind, many_class = "nnet", quantiles = "quantreg", character())
    },
    does = "Weighs the columns and adds them up; no interactions unless steps make them."
  )
}

fit_linear <- function(x, y, weights, settings, seed, threads, kind, quantiles) {
  design <- cbind(1, x)
  if (kind == "quantiles") {
    return(list(type = "quantiles", coefficients = quantile_coefficients(x, y, weights, quantiles)))
  }
  if (kind %in% c("count", "positive")) {
    fit <- log_link_fit(design, y, weights %||% rep(1, length(y)), kind)
    return(list(type = "log", coefficients = plain_coefficients(fit$coefficients)))
  }
  if (!is.factor(y)) {
    fit <- if (is.null(weights)) stats::lm.fit(design, y) else stats::lm.wfit(design, y, weights)
    return(list(type = "number", coefficients = plain_coefficients(fit$coefficients)))
  }
  if (nlevels(y) == 2L) {
    fit <- logistic_fit(design, as.integer(y) - 1L, weights %||% rep(1, length(y)))
    return(list(type = "two_class", coefficients = plain_coefficients(fit$coefficients)))
  }
  list(type = "many_class", coefficients = multinomial_coefficients(x, y, weights))
}

# Quantiles x (1 + columns); of columns that others make superfluous 0.
quantile_coefficients <- function(x, y, weights, quantiles) {
  design <- cbind(1, x)
  independent <- qr(design)
  kept <- sort(independent$pivot[seq_len(independent$rank)])
  whole <- matrix(0, length(quantiles), ncol(design))
  for (i in seq_along(quantiles)) {
    fit <- suppressWarnings(if (is.null(weights)) {
      quantreg::rq.fit(design[, kept, drop = FALSE], y, tau = quantiles[i])
    } else {
      quantreg::rq.wfit(design[, kept, drop = FALSE], y, tau = quantiles[i], weights = weights)
    })
    whole[i, kept] <- fit$coefficients
  }
  whole
}

# Rates need not be whole numbers, so the likelihood is a quasi one: the same coefficients.
log_link_fit <- function(design, y, weights, kind) {
  distribution <- if (kind == "count") stats::quasipoisson() else stats::Gamma("log")
  stats::glm.fit(design, y, weights = weights, family = distribution)
}

# Case weights need not be whole numbers: that warning says nothing here.
logistic_fit <- function(design, y, weights) {
  withCallingHandlers(
    stats::glm.fit(design, y, weights = weights, family = stats::binomial()),
    warning = function(w) {
      if (grepl("non-integer #successes", conditionMessage(w))) invokeRestart("muffleWarning")
    }
  )
}

plain_coefficients <- function(coefficients) {
  coefficients[is.na(coefficients)] <- 0
  unname(coefficients)
}

# Classes x (1 + columns); the first class is the reference. Columns are scaled for the search
# of the optimum, which finds it sooner; the coefficients are those of the columns as they are.
multinomial_coefficients <- function(x, y, weights) {
  scale <- column_scale(x)
  data <- list(y = y, x = scaled_columns(x, scale))
  n_weights <- (ncol(x) + 2L) * nlevels(y)
  data$w <- weights %||% rep(1, length(y))
  fit <- nnet::multinom(y ~ x,
    data = data, weights = data$w, trace = FALSE, maxit = 1000,
    MaxNWts = n_weights + 100L
  )
  if (fit$convergence != 0L) {
    warning("multinomial regression stopped before it converged", call. = FALSE)
  }
  scaled <- rbind(0, unname(stats::coef(fit)))
  slopes <- scaled[, -1L, drop = FALSE] / rep(scale$sd, each = nrow(scaled))
  cbind(scaled[, 1L] - drop(slopes %*% scale$centre), slopes)
}

predict_linear <- function(model, x) {
  design <- cbind(1, x)
  eta <- design %*% if (is.matrix(model$coefficients)) t(model$coefficients) else model$coefficients
  switch(model$type,
    number = drop(eta),
    log = exp(drop(eta)),
    quantiles = unname(eta),
    two_class = two_columns(stats::plogis(drop(eta))),
    many_class = softmax_rows(eta)
  )
}

# Probability of the second class -> rows x 2.
two_columns <- function(p) cbind(1 - p, p, deparse.level = 0)

softmax_rows <- function(eta) {
  top <- do.call(pmax, lapply(seq_len(ncol(eta)), function(j) eta[, j]))
  odds <- exp(eta - top)
  unname(odds / rowSums(odds))
}

script_linear <- function(settings, about) {
  lines <- code_filler(x = about$frame, w = if (about$weighted) ", weights = w" else "")
  if (about$kind == "quantiles") return(script_quantiles(about))
  if (about$kind == "many_class") {
    return(list(fit = lines(r"(
input_mean <- colMeans(<<x>>)
input_sd <- vapply(<<x>>, sd, 0)
input_sd[is.na(input_sd) | input_sd < 1e-12] <- 1
standard <- function(x) as.data.frame(scale(<<x>>, input_mean, input_sd))
model <- nnet::multinom(y ~ .,
  data = standard(x)<<w>>, maxit = 1000, MaxNWts = <<n>>, trace = FALSE
)
)", n = (about$n_columns + 2L) * length(about$levels) + 100L),
      predict = "matrix(predict(model, standard(x), type = \"probs\"), nrow(x))"
    ))
  }
  family <- switch(about$kind,
    two_class = "binomial", count = "quasipoisson", positive = "Gamma(\"log\")"
  )
  if (is.null(family)) {
    return(list(
      fit = lines("model <- lm(y ~ ., data = <<x>><<w>>)"),
      predict = lines("suppressWarnings(predict(model, <<x>>))")
    ))
  }
  list(
    fit = lines("model <- glm(y ~ ., family = <<family>>, data = <<x>><<w>>)", family = family),
    predict = code_lines(
      if (about$kind == "two_class") {
        "p <- suppressWarnings(predict(model, <<x>>, type = \"response\"))\ncbind(1 - p, p)"
      } else {
        "suppressWarnings(predict(model, <<x>>, type = \"response\"))"
      },
      x = about$frame
    )
  )
}

script_quantiles <- function(about) {
  list(fit = code_lines(r"(
design <- cbind(1, <<x>>)
# columns that the others do not make superfluous
independent <- with(qr(design), sort(pivot[seq_len(rank)]))
coefficients <- vapply(<<quantiles>>, function(tau) {
  columns <- design[, independent, drop = FALSE]
  suppressWarnings(quantreg::<<call>>(columns, y, tau = tau<<w>>))$coefficients
}, numeric(length(independent)))
)",
    x = about$matrix, quantiles = r_vector(about$quantiles),
    call = if (about$weighted) "rq.wfit" else "rq.fit",
    w = if (about$weighted) ", weights = w" else ""
  ), predict = code_lines(
    "cbind(1, <<x>>)[, independent, drop = FALSE] %*% coefficients", x = about$matrix
  ))
}
