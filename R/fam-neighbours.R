#' Nearest neighbours
#'
#' Predicts from the training rows that are most alike. One pass over the distances
#' serves every number of neighbours, every weighting and every distance.
#'
#' @eval family_help("neighbours")
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A family for [pipeline()] and [candidates()].
#' @references Fix & Hodges (1951); Epanechnikov kernel weights as in Hastie,
#'   Tibshirani & Friedman (2009), The Elements of Statistical Learning, 6.2.
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have.
#' @examples
#' fam_neighbours(neighbours = among(1:50), weighting = among("equal", "inverse"))
#' @export
fam_neighbours <- function(neighbours = 10, weighting = "equal", distance = "euclidean", ...) {
  no_more(...)
  new_family(
    member_fam_neighbours(),
    list(neighbours = neighbours, weighting = weighting, distance = distance)
  )
}

neighbour_weightings <- c("equal", "inverse", "fading")
neighbour_distances <- c("euclidean", "manhattan", "chebyshev")

member_fam_neighbours <- function() {
  family_definition("neighbours", "Nearest neighbours", c("number", "two_class", "many_class"),
    keeps_rows = function(settings, kind) TRUE,
    hyperparameters = list(
      neighbours = hyperparameter("whole", 10,
        min = 1,
        sensible = function(rows, columns, classes) {
          from_to(1, max(2, min(100, rows %/% 5)), spacing = "log", points = 15)
        },
        meaning = "Number of most alike training rows that are asked.",
        rising = "Smoother predictions: less variance, more bias."
      ),
      weighting = hyperparameter("choice", "equal",
        choices = neighbour_weightings,
        sensible = function(rows, columns, classes) among("equal", "inverse", "fading"),
        meaning = "How much nearer rows count for more."
      ),
      distance = hyperparameter("choice", "euclidean",
        choices = neighbour_distances,
        sensible = function(rows, columns, classes) among("euclidean", "manhattan"),
        meaning = "How unlike two rows are: straight line, sum over columns, or largest difference."
      )
    ),
    complexity_rank = 50,
    simplicity = function(settings) {
      list(-settings$neighbours, match(settings$weighting, neighbour_weightings))
    },
    accepts = list(wants_scaling = TRUE, weights = TRUE),
    impossible = list(
      cannot_work(
        "there are fewer training rows than neighbours asked",
        function(settings, kind, about) settings$neighbours > about$rows
      )
    ),
    fit = fit_neighbours, script = script_neighbours,
    path = list(
      along = c("neighbours", "weighting", "distance"), set_matters = FALSE,
      predict = predict_neighbours
    ),
    does = "Predicts from the training rows that are most alike."
  )
}

fit_neighbours <- function(x, y, weights, settings, seed, threads) {
  shares <- if (is.factor(y)) diag(nlevels(y))[as.integer(y), , drop = FALSE] else cbind(y)
  list(
    rows = t(unname(x)), shares = unname(shares), weights = weights %||% numeric(),
    is_class = is.factor(y)
  )
}

predict_neighbours <- function(model, x, values) {
  distances <- unique(match(values$distance, neighbour_distances))
  found <- neighbour_means(
    t(unname(x)), model$rows, model$shares, model$weights,
    as.integer(pmin(values$neighbours, ncol(model$rows))),
    match(values$weighting, neighbour_weightings) - 1L,
    match(values$distance, neighbour_distances) - 1L, sort(distances) - 1L
  )
  if (model$is_class) found else matrix(found, nrow(x), path_count(values))
}

script_neighbours <- function(settings, about) {
  value <- about$value
  distance <- switch(as.character(value$distance),
    euclidean = "sqrt(colSums((rows - row)^2))", manhattan = "colSums(abs(rows - row))",
    chebyshev = "apply(abs(rows - row), 2, max)"
  )
  weighting <- switch(as.character(value$weighting),
    equal = NULL,
    inverse = c(
      "# nearer rows count for more; rows at no distance count alone",
      "share <- if (near[1] <= 0) share * (near <= 0) else share / near"
    ),
    fading = c(
      "# rows count for less towards the next one further away",
      "edge <- if (k < length(far)) far[order[k + 1]] else near[k] * (1 + 1e-6)",
      "if (edge <= near[k]) edge <- near[k] * (1 + 1e-6)",
      "if (edge > 0) share <- share * (1 - (near / edge)^2)"
    )
  )
  list(fit = code_lines(r"(
rows <- t(<<x>>)
answers <- <<answers>>
<<weights>>
)",
    x = about$matrix,
    answers = if (is.null(about$levels)) "cbind(y)" else "diag(nlevels(y))[as.integer(y), ]",
    weights = if (about$weighted) c(
      "asked <- w > 0", "rows <- rows[, asked]", "answers <- answers[asked, , drop = FALSE]",
      "w <- w[asked]"
    )
  ), predict = code_lines(r"(
k <- min(<<k>>, ncol(rows))
told <- apply(<<x>>, 1, function(row) {
  far <- <<distance>>
  order <- order(far)
  near <- far[order[seq_len(k)]]
  share <- <<share>>
<<weighting>>
  colSums(share * answers[order[seq_len(k)], , drop = FALSE]) / sum(share)
})
<<told>>
)",
    k = r_text(as.double(value$neighbours)), x = about$matrix, distance = distance,
    share = if (about$weighted) "w[order[seq_len(k)]]" else "rep(1, k)",
    weighting = if (!is.null(weighting)) paste0("  ", weighting),
    told = if (is.null(about$levels)) "told" else "t(told)"
  ))
}
