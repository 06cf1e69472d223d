#' Discriminant analysis: linear, quadratic, regularised
#'
#' Every class is a normal cloud. With `"linear"` all clouds have one common shape
#' (package MASS), with `"quadratic"` each its own (package MASS), with
#' `"regularised"` something between the two, drawn towards round clouds.
#'
#' @eval family_help("discriminant")
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A family for [pipeline()] and [candidates()].
#' @references Friedman (1989), Regularized discriminant analysis, JASA 84: the
#'   covariances are as in its equations (16) to (18), with case counts as weights.
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have.
#' @examples
#' fam_discriminant("regularised", pooling = among(0, 0.5, 1), roundness = among(0.1, 0.5))
#' @export
fam_discriminant <- function(shape = "linear", pooling = 0.5, roundness = 0.1, ...) {
  no_more(...)
  new_family(
    member_fam_discriminant(), list(shape = shape, pooling = pooling, roundness = roundness)
  )
}

member_fam_discriminant <- function() {
  regularised <- function(settings, kind) settings$shape == "regularised"
  family_definition("discriminant", "Discriminant analysis", c("two_class", "many_class"),
    hyperparameters = list(
      shape = hyperparameter("choice", "linear",
        choices = c("linear", "quadratic", "regularised"),
        sensible = function(rows, columns, classes) among("linear", "quadratic", "regularised"),
        meaning = "One common shape for all classes, one for each, or between the two."
      ),
      pooling = hyperparameter("number", 0.5,
        min = 0, max = 1, active_when = regularised,
        sensible = function(rows, columns, classes) among(0, 0.25, 0.5, 0.75, 1),
        meaning = "How far the classes' covariances are drawn towards the common one.",
        rising = "From quadratic to linear borders: less variance, more bias."
      ),
      roundness = hyperparameter("number", 0.1,
        min = 0, max = 1, active_when = regularised,
        sensible = function(rows, columns, classes) among(0.01, 0.1, 0.5),
        meaning = "How far the covariances are drawn towards round clouds.",
        rising = "Correlations between columns count less: less variance, more bias."
      )
    ),
    complexity_rank = 22,
    simplicity = function(settings) {
      list(
        match(settings$shape, c("linear", "regularised", "quadratic")), -settings$pooling,
        -settings$roundness
      )
    },
    accepts = list(wants_scaling = TRUE), fit = fit_discriminant, predict = predict_discriminant,
    script = script_discriminant,
    impossible = list(
      cannot_work(
        "quadratic borders need clearly more rows in every class than there are columns",
        function(settings, kind, about) {
          settings$shape == "quadratic" & about$columns >= about$rows / about$classes
        }
      )
    ),
    packages = "MASS",
    does = "Takes every class for a normal cloud and asks which one a row belongs to."
  )
}

# Whatever the shape, a fit is kept as the classes' means, log prior shares, and a
# matrix for each class that turns differences from its mean into independent
# units, with the log determinant of its covariance.
fit_discriminant <- function(x, y, weights, settings, seed, threads) {
  if (settings$shape == "regularised") {
    return(fit_regularised(x, y, settings$pooling, settings$roundness))
  }
  counts <- tabulate(y, nlevels(y))
  if (settings$shape == "quadratic" && min(counts) <= ncol(x)) {
    stop(
      "the class ",
      quoted(levels(y)[which.min(counts)]),
      " has ",
      min(counts),
      " training rows for ",
      ncol(x),
      " columns, and quadratic borders need more rows than columns in every class; ",
      "use shape = \"regularised\"",
      call. = FALSE
    )
  }
  moves <- varies_within(x, y, each = settings$shape == "quadratic")
  if (!all(moves)) {
    warning(
      sum(!moves),
      " of ",
      length(moves),
      " columns are constant within a class and were left out",
      call. = FALSE
    )
    if (!any(moves)) stop("every column is constant within the classes", call. = FALSE)
  }
  inner <- x[, moves, drop = FALSE]
  c(
    list(moves = moves),
    if (settings$shape == "linear") linear_clouds(inner, y) else quadratic_clouds(inner, y)
  )
}

# Columns whose spread within the classes (within each of them) is more than
# rounding.
varies_within <- function(x, y, each) {
  counts <- tabulate(y, nlevels(y))
  means <- rowsum(x, y) / counts
  squares <- rowsum((x - means[as.integer(y), , drop = FALSE])^2, y)
  spread <- sqrt(if (each) apply(squares / counts, 2L, min) else colSums(squares) / sum(counts))
  spread > 1e-4 * pmax(apply(x, 2L, stats::sd), 1e-300)
}

linear_clouds <- function(x, y) {
  fit <- suppressWarnings(MASS::lda(x, y))
  n_classes <- nlevels(y)
  list(
    means = unname(fit$means), prior = unname(fit$prior), ldet = numeric(n_classes),
    units = rep(list(unname(fit$scaling)), n_classes)
  )
}

quadratic_clouds <- function(x, y) {
  fit <- tryCatch(MASS::qda(x, y), error = function(e) {
    stop(
      plain_message(e),
      "; where columns repeat one another use shape = \"regularised\"",
      call. = FALSE
    )
  })
  list(
    means = unname(fit$means), prior = unname(fit$prior), ldet = unname(fit$ldet),
    units = lapply(seq_len(nlevels(y)), function(k) unname(fit$scaling[, , k]))
  )
}

fit_regularised <- function(x, y, pooling, roundness) {
  counts <- tabulate(y, nlevels(y))
  means <- unname(rowsum(x, y)) / counts
  scatter <- lapply(seq_along(counts), function(k) {
    crossprod(sweep(unname(x[as.integer(y) == k, , drop = FALSE]), 2L, means[k, ]))
  })
  common <- Reduce(`+`, scatter)
  clouds <- lapply(seq_along(counts), function(k) {
    mixed <- ((1 - pooling) * scatter[[k]] + pooling * common) / ((1 - pooling) * counts[k] +
      pooling * sum(counts))
    whitening((1 - roundness) * mixed + roundness * mean(diag(mixed)) * diag(ncol(x)))
  })
  list(
    moves = rep(TRUE, ncol(x)), means = means, prior = counts / sum(counts),
    units = lapply(clouds, `[[`, "units"), ldet = vapply(clouds, `[[`, numeric(1), "ldet")
  )
}

# units: (x - mean) %*% units has the identity as covariance.
whitening <- function(covariance) {
  root <- tryCatch(chol(covariance), error = function(e) {
    stop("a covariance is singular: columns repeat one another or outnumber the rows; ",
      "raise roundness or pooling",
      call. = FALSE
    )
  })
  list(units = backsolve(root, diag(ncol(root))), ldet = 2 * sum(log(diag(root))))
}

predict_discriminant <- function(model, x) {
  x <- x[, model$moves, drop = FALSE]
  eta <- vapply(seq_along(model$prior), function(k) {
    distance <- rowSums((sweep(x, 2L, model$means[k, ]) %*% model$units[[k]])^2)
    log(model$prior[k]) - (distance + model$ldet[k]) / 2
  }, numeric(nrow(x)))
  softmax_rows(matrix(eta, nrow(x)))
}

script_discriminant <- function(settings, about) {
  if (settings$shape != "regularised") {
    call <- if (settings$shape == "linear") "suppressWarnings(MASS::lda(" else "(MASS::qda("
    moves <- about$model$moves
    x <- if (all(moves)) about$matrix else "moving(x)"
    return(list(
      fit = c(
        if (!all(moves)) c(
          "# without the columns that are constant within a class",
          paste0("moving <- function(x) ", about$matrix, "[, ", r_rows(which(moves)),
            ", drop = FALSE]")
        ),
        paste0("model <- ", call, x, ", y))")
      ),
      predict = paste0("predict(model, ", x, ")$posterior")
    ))
  }
  list(fit = code_lines(r"(
# Friedman (1989): covariances drawn towards the common one, and towards round clouds
parts <- split(<<frame>>, y)
scatter <- lapply(parts, function(part) crossprod(scale(as.matrix(part), scale = FALSE)))
pooled <- Reduce(`+`, scatter)
clouds <- Map(function(part, scatter) {
  mixed <- ((1 - <<pooling>>) * scatter + <<pooling>> * pooled) /
    ((1 - <<pooling>>) * nrow(part) + <<pooling>> * length(y))
  mixed <- (1 - <<round>>) * mixed + <<round>> * mean(diag(mixed)) * diag(ncol(mixed))
  list(mean = colMeans(part), share = nrow(part) / length(y), covariance = mixed)
}, parts, scatter)
)",
    frame = about$frame, pooling = r_text(settings$pooling), round = r_text(settings$roundness)
  ), predict = code_lines(r"(
height <- vapply(clouds, function(cloud) {
  apart <- mahalanobis(<<x>>, cloud$mean, cloud$covariance)
  log(cloud$share) - (apart + as.numeric(determinant(cloud$covariance)$modulus)) / 2
}, numeric(nrow(x)))
height <- matrix(height, nrow(x))
odds <- exp(height - apply(height, 1, max))
odds / rowSums(odds)
)", x = about$matrix))
}
