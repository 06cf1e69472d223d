#' Random forest
#'
#' Many trees, each grown on its own draw of rows and columns and then averaged
#' (package ranger; probability forests for classes). The trees of a small forest
#' are the first trees of a larger one, so one fit serves every number of trees.
#'
#' @eval family_help("forest")
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A family for [pipeline()] and [candidates()].
#' @references Breiman (2001), Random forests, Machine Learning 45. Malley et al.
#'   (2012), Probability machines, Methods of Information in Medicine 51. Geurts,
#'   Ernst & Wehenkel (2006), Extremely randomized trees, Machine Learning 63.
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have.
#' @examples
#' fam_forest(columns_tried = sensible(), min_node = among(1, 5, 20))
#' @export
fam_forest <- function(trees = 500, columns_tried = NULL, min_node = 5, row_share = 1,
                       cut_rule = "usual", ...) {
  no_more(...)
  given <- list(trees = trees, min_node = min_node, row_share = row_share, cut_rule = cut_rule)
  if (!is.null(columns_tried)) given$columns_tried <- columns_tried
  new_family(member_fam_forest(), given)
}

member_fam_forest <- function() {
  family_definition("forest", "Random forest", c("number", "quantiles", "two_class", "many_class"),
    hyperparameters = list(
      trees = hyperparameter("whole", 500,
        min = 1,
        sensible = function(rows, columns, classes) from_to(100, 1000, points = 4),
        meaning = "Number of trees that are averaged.",
        rising = "Steadier predictions and a longer wait; never more overfitting."
      ),
      columns_tried = hyperparameter(
        "number",
        usual_columns_tried,
        min = 0,
        max = 1,
        open_min = TRUE,
        sensible = function(rows, columns, classes) {
          if (columns < 2) return(among(1))
          usual <- usual_columns_tried(rows, columns, classes)
          from_to(
            max(1 / columns, usual / 2),
            max(min(1, usual * 3), 2 / columns),
            spacing = "log",
            points = 4
          )
        },
        meaning = paste(
          "Share of the columns looked at for each question; NULL is a third of them for",
          "numbers, their square root for classes."
        ),
        rising = "Stronger but more alike trees: less bias, more variance, slower."
      ),
      min_node = hyperparameter("whole", 5,
        min = 1,
        sensible = function(rows, columns, classes) among(1, 5, 20),
        meaning = "Nodes with this many training rows or fewer are not divided.",
        rising = "Shallower trees: less variance, more bias, faster."
      ),
      row_share = hyperparameter("number", 1,
        min = 0, max = 1, open_min = TRUE,
        sensible = function(rows, columns, classes) among(0.5, 0.8, 1),
        meaning = "Share of the training rows that a tree sees.",
        rising = "Stronger but more alike trees."
      ),
      cut_rule = hyperparameter(
        "choice",
        "usual",
        choices = c("usual", "random_cut", "hellinger", "rank"),
        sensible = function(rows, columns, classes) among("usual", "random_cut"),
        meaning = paste(
          "How a question is chosen: best cut, best of random cuts, or by another",
          "statistic."
        )
      )
    ),
    complexity_rank = 70,
    impossible = list(
      cannot_work(
        "cut_rule = \"hellinger\" is for two classes",
        function(settings, kind, about) settings$cut_rule == "hellinger" & !has_event(kind)
      ),
      cannot_work(
        "cut_rule = \"rank\" is for numeric outcomes",
        function(settings, kind, about) settings$cut_rule == "rank" & has_classes(kind)
      )
    ),
    simplicity = function(settings) list(-settings$min_node, settings$trees),
    accepts = list(weights = TRUE, factors = TRUE, sparse = TRUE), random = TRUE, fit = fit_forest,
    # quantiles are those of the training outcomes in a leaf
    keeps_rows = function(settings, kind) kind == "quantiles",
    script = script_forest,
    path = list(along = "trees", set_matters = FALSE, predict = predict_forest),
    plain = plain_forest, packages = "ranger",
    does = "Averages many trees, each grown on its own draw of rows and columns."
  )
}

usual_columns_tried <- function(rows, columns, classes) {
  tried <- if (classes == 0) columns / 3 else sqrt(columns)
  signif(max(1, floor(tried)) / columns, 6)
}

forest_rules <- list(
  usual = NULL, random_cut = "extratrees", hellinger = "hellinger",
  rank = "maxstat"
)

fit_forest <- function(x, y, weights, settings, seed, threads, quantiles = NULL) {
  fit <- ranger::ranger(
    x = x, y = y, num.trees = max(settings$trees),
    mtry = max(1, min(ncol(x), round(settings$columns_tried * ncol(x)))),
    min.node.size = settings$min_node, probability = is.factor(y),
    replace = settings$row_share == 1, sample.fraction = settings$row_share,
    splitrule = forest_rules[[settings$cut_rule]],
    respect.unordered.factors = if (is.data.frame(x)) "order", case.weights = weights,
    write.forest = TRUE, quantreg = !is.null(quantiles),
    oob.error = FALSE,
    num.threads = max(threads, threads_here()), seed = max(1L, seed), verbose = FALSE
  )
  fit$call <- NULL
  fit$predictions <- NULL
  list(
    fit = fit, trees = max(settings$trees), classes = if (is.factor(y)) levels(y),
    quantiles = quantiles
  )
}

# Averages over the first trees, for every number of trees asked for; rows are
# taken in blocks so that the trees' single predictions fit into memory.
predict_forest <- function(model, x, values) {
  values <- pmin(values, model$trees)
  if (!is.null(model$quantiles)) return(forest_quantiles(model, x, values))
  n_classes <- max(1L, length(model$classes))
  block <- max(1L, as.integer(5e7 / (n_classes * max(values) * 8)))
  starts <- seq(1L, max(nrow(x), 1L), by = block)
  out <- array(0, c(nrow(x), n_classes, length(values)))
  for (start in starts) {
    rows <- seq(start, length.out = min(block, nrow(x) - start + 1L))
    out[rows, , ] <- forest_block(model, x[rows, , drop = FALSE], values)
  }
  if (is.null(model$classes)) matrix(out, nrow(x), length(values)) else out
}

# Quantiles over the first trees of one training outcome drawn from the leaf that a row falls into
# (Meinshausen 2006, as package ranger has it): rows x quantiles x values.
forest_quantiles <- function(model, x, values) {
  leaf <- stats::predict(model$fit,
    data = x, type = "terminalNodes", num.threads = threads_here(), verbose = FALSE, seed = 1L
  )$predictions
  leaf <- matrix(leaf, nrow(x))
  drawn <- vapply(seq_len(max(values)), function(tree) {
    model$fit$random.node.values[leaf[, tree] + 1L, tree]
  }, numeric(nrow(x)))
  drawn <- matrix(drawn, nrow(x))
  out <- array(0, c(nrow(x), length(model$quantiles), length(values)))
  for (i in seq_along(values)) {
    out[, , i] <- row_quantiles(drawn[, seq_len(values[i]), drop = FALSE], model$quantiles)
  }
  out
}

# What stats::quantile() gives of every row, for all rows at once.
row_quantiles <- function(x, shares) {
  n <- ncol(x)
  sorted <- matrix(x[order(row(x), x)], n)
  at <- (n - 1) * shares + 1
  vapply(at, function(place) {
    below <- sorted[floor(place), ]
    below + (place - floor(place)) * (sorted[ceiling(place), ] - below)
  }, numeric(nrow(x)))
}

forest_block <- function(model, x, values) {
  n_classes <- max(1L, length(model$classes))
  if (length(values) == 1L) {
    one <- ranger_predictions(model, x, values, all = FALSE)
    return(array(one, c(nrow(x), n_classes, 1L)))
  }
  single <- ranger_predictions(model, x, max(values), all = TRUE)
  prefix_means(matrix(single, nrow(x) * n_classes, max(values)), as.integer(values))
}

ranger_predictions <- function(model, x, trees, all) {
  predicted <- stats::predict(model$fit,
    data = x, num.trees = trees, predict.all = all,
    num.threads = threads_here(), verbose = FALSE, seed = 1L
  )$predictions
  if (is.null(model$classes)) return(predicted)
  if (is.null(dim(predicted))) {
    # one row: the package drops the dimension
    predicted <- matrix(predicted, 1L, dimnames = list(NULL, names(predicted)))
  }
  order <- match(model$classes, dimnames(predicted)[[2]])
  if (anyNA(order)) order <- seq_along(model$classes)
  if (length(dim(predicted)) == 3L) {
    predicted[, order, , drop = FALSE]
  } else {
    predicted[, order, drop = FALSE]
  }
}

# Categories are ordered by the package; a level that it does not know comes after all others.
plain_forest <- function(model, value) {
  if (!is.null(model$quantiles)) return(NULL)
  forest <- model$fit$forest
  n_classes <- length(model$classes)
  trees <- lapply(seq_len(min(value, model$trees)), function(i) {
    children <- forest$child.nodeIDs[[i]]
    leaf <- children[[1]] == 0
    values <- if (n_classes == 0L) {
      list(ifelse(leaf, forest$split.values[[i]], 0))
    } else {
      shares <- matrix(0, length(leaf), n_classes)
      shares[leaf, ] <- matrix(
        unlist(forest$terminal.class.counts[[i]][leaf]), sum(leaf),
        byrow = TRUE
      )[, match(model$classes, forest$levels[forest$class.values])]
      lapply(seq_len(n_classes), function(k) shares[, k])
    }
    plain_simple_tree(
      left = ifelse(leaf, -1L, as.integer(children[[1]])),
      right = ifelse(leaf, -1L, as.integer(children[[2]])),
      otherwise = seq_along(leaf) - 1L, input = as.integer(forest$split.varIDs[[i]]),
      cut = forest$split.values[[i]], side = rep(-1L, length(leaf)), sides = list(), values = values
    )
  })
  group <- list(start = rep(0, max(1L, n_classes)), trees = trees)
  form <- plain_trees(list(group), "identity", "mean", "left", "last")
  form$levels <- forest$covariate.levels %||% list()
  form
}

script_forest <- function(settings, about) {
  x <- if (about$native) about$frame else about$sparse
  rule <- forest_rules[[settings$cut_rule]]
  predicted <- paste0("predict(model, data = ", x, ", num.threads = 1, seed = 1)$predictions")
  quantiles <- about$quantiles
  list(fit = code_lines(r"(
<<set>>
model <- ranger::ranger(
  x = <<x>>, y = y, num.trees = <<trees>>, mtry = <<tried>>, min.node.size = <<node>>,
  replace = <<replace>>, sample.fraction = <<share>><<more>>,
  num.threads = 1, seed = <<seed>>
)
)",
    x = x, trees = about$value, node = settings$min_node,
    tried = max(1, min(about$n_columns, round(settings$columns_tried * about$n_columns))),
    replace = settings$row_share == 1, share = r_text(as.double(settings$row_share)),
    more = paste0(c(
      if (!is.null(quantiles)) ", quantreg = TRUE",
      if (!is.null(about$levels)) ", probability = TRUE",
      if (!is.null(rule)) paste0(", splitrule = ", r_text(rule)),
      if (about$native) ",\n  respect.unordered.factors = \"order\"",
      if (about$weighted) ", case.weights = w"
    ), collapse = ""),
    seed = max(1L, about$seed), set = if (!is.null(quantiles)) r_seed(about$seed)
  ), predict = if (!is.null(quantiles)) {
    script_leaf_quantiles(x, quantiles)
  } else if (is.null(about$levels)) {
    predicted
  } else {
    code_lines(r"(
p <- matrix(<<predicted>>, nrow(x))
p[, match(levels(y), colnames(model$predictions)), drop = FALSE]
)", predicted = predicted)
  })
}

script_leaf_quantiles <- function(x, quantiles) {
  code_lines(r"(
# one training outcome drawn from the leaf of every tree (Meinshausen 2006)
leaf <- predict(model,
  data = <<x>>, type = "terminalNodes", num.threads = 1, seed = 1
)$predictions
leaf <- matrix(leaf, nrow(x))
drawn <- vapply(seq_len(ncol(leaf)), function(tree) {
  model$random.node.values[leaf[, tree] + 1, tree]
}, numeric(nrow(x)))
drawn <- matrix(drawn, nrow(x))
matrix(apply(drawn, 1, quantile, <<shares>>, names = FALSE), nrow(x), byrow = TRUE)
)", x = x, shares = r_vector(quantiles))
}
