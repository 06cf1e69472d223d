#' Adaptive regression splines
#'
#' A sum of hinges, which are straight lines with a bend, placed where they help
#' and then pruned (package earth). For classes the hinges of a least-squares fit
#' are weighed by logistic regression, several classes one against the rest. One
#' fit serves every number of terms.
#'
#' @eval family_help("adaptive_splines")
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A family for [pipeline()] and [candidates()].
#' @references Friedman (1991), Multivariate adaptive regression splines, Annals of
#'   Statistics 19.
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have.
#' @examples
#' fam_adaptive_splines(terms = among(2:21), degree = among(1, 2))
#' @export
fam_adaptive_splines <- function(terms = 21, degree = 1, ...) {
  no_more(...)
  new_family(member_fam_adaptive_splines(), list(terms = terms, degree = degree))
}

member_fam_adaptive_splines <- function() {
  family_definition("adaptive_splines", "Adaptive regression splines",
    c("number", "two_class", "many_class"),
    hyperparameters = list(
      terms = hyperparameter("whole", 21,
        min = 1,
        sensible = function(rows, columns, classes) from_to(2, 21, points = 20),
        meaning = "At most this many terms, the constant included.",
        rising = "More bends: less bias, more variance."
      ),
      degree = hyperparameter("whole", 1,
        min = 1, max = 5,
        sensible = function(rows, columns, classes) among(1, 2),
        meaning = "Most columns multiplied in a term; 1 allows no interactions.",
        rising = "Finer interactions: less bias, more variance, slower."
      )
    ),
    complexity_rank = 45,
    simplicity = function(settings) list(settings$degree, settings$terms),
    accepts = list(weights = TRUE), fit = fit_splines,
    script = script_adaptive_splines,
    path = list(along = "terms", set_matters = FALSE, predict = predict_splines),
    freeze = freeze_splines, plain = plain_splines, packages = "earth",
    does = "Adds up lines with bends, placed where they help."
  )
}

fit_splines <- function(x, y, weights, settings, seed, threads) {
  x <- unname(x)
  colnames(x) <- tree_names(ncol(x))
  targets <- do.call(cbind, if (is.factor(y)) against_rest(y) else list(as.double(y)))
  fit <- earth::earth(x, targets,
    weights = weights, degree = settings$degree, pmethod = "backward",
    keepxy = FALSE
  )
  sizes <- best_sizes(fit$gcv.per.subset)
  basis <- hinge_columns(x, fit$dirs, fit$cuts)
  wanted <- unique(sizes[pmin(settings$terms, length(sizes))])
  subsets <- lapply(wanted, function(size) fit$prune.terms[size, seq_len(size)])
  coefficients <- subset_coefficients(basis, subsets, targets, weights, is.factor(y))
  subsets <- Map(function(terms, b) list(terms = terms, coefficients = b), subsets, coefficients)
  list(
    dirs = unname(fit$dirs), cuts = unname(fit$cuts), sizes = sizes, wanted = wanted,
    subsets = subsets,
    is_class = is.factor(y)
  )
}

# For "at most m terms", m = 1, 2, ...: the size with the best criterion.
best_sizes <- function(criterion) {
  best <- cummin(criterion)
  match(best, criterion)
}

# Values of all terms: products of hinges. A direction is 0 (column not in the
# term), 2 (the column itself), 1 or -1 (above or below the cut).
hinge_columns <- function(x, dirs, cuts) {
  basis <- matrix(1, nrow(x), nrow(dirs))
  for (term in seq_len(nrow(dirs))) {
    for (column in which(dirs[term, ] != 0)) {
      side <- dirs[term, column]
      part <- if (side == 2) x[, column] else pmax(side * (x[, column] - cuts[term, column]), 0)
      basis[, term] <- basis[, term] * part
    }
  }
  basis
}

# Terms x targets for every subset of terms: logistic regressions for classes; least
# squares from one QR decomposition of all terms for numbers.
subset_coefficients <- function(basis, subsets, targets, weights, is_class) {
  if (is_class) {
    return(lapply(subsets, function(terms) {
      fits <- lapply(seq_len(ncol(targets)), function(j) {
        plain_coefficients(logistic_fit(
          basis[, terms, drop = FALSE], targets[, j], weights %||% rep(1, nrow(basis))
        )$coefficients)
      })
      do.call(cbind, fits)
    }))
  }
  root <- if (is.null(weights)) 1 else sqrt(weights)
  decomposed <- qr(basis * root, LAPACK = TRUE)
  rotated <- qr.qty(decomposed, targets * root)[seq_len(ncol(basis)), , drop = FALSE]
  triangle <- qr.R(decomposed)[, order(decomposed$pivot), drop = FALSE]
  lapply(subsets, function(terms) {
    cbind(plain_coefficients(stats::lm.fit(triangle[, terms, drop = FALSE],
      rotated[, 1])$coefficients))
  })
}

predict_splines <- function(model, x, values) {
  basis <- hinge_columns(x, model$dirs, model$cuts)
  sizes <- model$sizes[pmin(values, length(model$sizes))]
  at <- match(sizes, model$wanted)
  if (anyNA(at)) stop("a number of terms was asked for that was not fitted")
  etas <- lapply(seq_len(ncol(model$subsets[[1]]$coefficients)), function(target) {
    each <- vapply(model$subsets, function(subset) {
      drop(basis[, subset$terms, drop = FALSE] %*% subset$coefficients[, target])
    }, numeric(nrow(x)))
    matrix(each, nrow(x))[, at, drop = FALSE]
  })
  if (!model$is_class) return(etas[[1]])
  from_against_rest(lapply(etas, stats::plogis))
}

freeze_splines <- function(model, value) {
  size <- model$sizes[min(value, length(model$sizes))]
  model$subsets <- model$subsets[match(size, model$wanted)]
  model$sizes <- rep(size, length(model$sizes))
  model$wanted <- size
  model
}

plain_splines <- function(model, value) {
  subset <- model$subsets[[1]]
  terms <- lapply(subset$terms, function(term) {
    lapply(unname(which(model$dirs[term, ] != 0)), function(column) {
      side <- model$dirs[term, column]
      list(
        input = column - 1L, side = c("below", "as_is", "above")[match(side, c(-1, 2, 1))],
        knot = if (side == 2) 0 else model$cuts[term, column]
      )
    })
  })
  n <- ncol(subset$coefficients)
  list(
    form = "hinges",
    link = if (!model$is_class) "identity" else if (n == 1L) "logistic" else "against_rest",
    terms = terms, outputs = lapply(seq_len(n), function(j) unname(subset$coefficients[, j]))
  )
}

script_adaptive_splines <- function(settings, about) {
  classes <- !is.null(about$levels)
  several <- length(about$levels) > 2L
  target <- if (several) {
    "sapply(levels(y), function(level) as.numeric(y == level))"
  } else if (classes) {
    "as.numeric(y == levels(y)[2])"
  } else {
    "y"
  }
  list(
    fit = code_lines(r"(
target <- <<target>>
model <- earth::earth(<<x>>, target,
  degree = <<degree>>, nprune = <<terms>>, pmethod = "backward"<<more>>
)
)",
      target = target, x = about$named, degree = settings$degree, terms = about$value,
      more = paste0(
        if (classes) ", glm = list(family = binomial)" else "",
        if (about$weighted) ",\n  weights = w" else ""
      )
    ),
    predict = c(
      code_lines("p <- predict(model, <<x>><<type>>)",
        x = about$named, type = if (classes) ", type = \"response\"" else ""
      ),
      if (several) "p / rowSums(p)" else if (classes) "cbind(1 - p, p)" else "p"
    )
  )
}
