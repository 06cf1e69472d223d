#' Classification and regression tree
#'
#' One tree of questions (package rpart; for counts by the Poisson deviance), grown in
#' full and then pruned at the value of `pruning`. One grown tree serves every value.
#' Missing values and categories are taken as they are.
#'
#' @eval family_help("tree")
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A family for [pipeline()] and [candidates()].
#' @references Breiman, Friedman, Olshen & Stone (1984), Classification and
#'   Regression Trees.
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have.
#' @examples
#' fam_tree(
#'   pruning = from_to(1e-4, 0.1, spacing = "log", points = 50),
#'   impurity = among("gini", "information")
#' )
#' @export
fam_tree <- function(pruning = 0.01, impurity = "gini", min_leaf = 7, depth = 30, ...) {
  no_more(...)
  new_family(member_fam_tree(), list(
    pruning = pruning, impurity = impurity,
    min_leaf = min_leaf, depth = depth
  ))
}

member_fam_tree <- function() {
  family_definition("tree", "Tree", c("number", "count", "two_class", "many_class"),
    hyperparameters = list(
      pruning = hyperparameter("number", 0.01,
        min = 0, max = 1,
        sensible = function(rows, columns, classes) {
          from_to(1e-4, 0.1, spacing = "log", points = 30)
        },
        meaning = "Share of the root's error that a branch must save to stay.",
        rising = "A smaller tree: less variance, more bias."
      ),
      impurity = hyperparameter("choice", "gini",
        choices = c("gini", "information"),
        sensible = function(rows, columns, classes) among("gini", "information"),
        meaning = "How mixed a node of several classes is taken to be.",
        active_when = for_classes
      ),
      min_leaf = hyperparameter("whole", 7,
        min = 1,
        sensible = function(rows, columns, classes) among(1, 7, 20),
        meaning = "Fewest training rows in a leaf.",
        rising = "A smoother, smaller tree: less variance, more bias."
      ),
      depth = hyperparameter("whole", 30,
        min = 1, max = 30,
        sensible = function(rows, columns, classes) among(3, 6, 30),
        meaning = "Most questions from root to leaf.",
        rising = "A larger tree: more variance, less bias."
      )
    ),
    complexity_rank = 40,
    simplicity = function(settings) list(-settings$pruning, settings$depth, -settings$min_leaf),
    # with three or more classes every subset of levels is tried
    accepts = list(
      weights = TRUE, factors = TRUE, missing = TRUE,
      most_levels = function(kind) if (kind == "many_class") 12 else 500
    ),
    fit = fit_tree, script = script_tree,
    path = list(along = "pruning", set_matters = FALSE, predict = predict_tree), packages = "rpart",
    plain = function(model, value) {
      tree <- plain_pruned_tree(model, value)
      start <- rep(0, ncol(model$values))
      form <- plain_trees(list(list(start = start, trees = list(tree))), "identity", "sum", "right")
      form$levels <- unname(model$levels)
      form
    },
    does = "Asks one question after the other and predicts from the rows that answered alike."
  )
}

# pre_missing(fill = "model") has trees too, of which it says no kind.
fit_tree <- function(x, y, weights, settings, seed, threads,
                     kind = if (is.factor(y)) "many_class" else "number") {
  levels <- lapply(x, function(column) if (is.factor(column)) seen_levels(column))
  x <- tree_columns(x, levels)
  # a level that a node's rows lack is missing there, so categories need surrogates too
  incomplete <- any(vapply(x, function(column) is.factor(column) || anyNA(column), logical(1)))
  control <- rpart::rpart.control(
    minsplit = max(2, 3 * settings$min_leaf - 1), minbucket = settings$min_leaf, cp = 0,
    maxcompete = 0, maxsurrogate = if (incomplete) 5 else 0, usesurrogate = 2, xval = 0,
    maxdepth = settings$depth
  )
  data <- tree_data(x)
  data$columns$.outcome <- y
  parms <- if (is.factor(y)) list(split = settings$impurity)
  arguments <- list(.outcome ~ .,
    data = data$columns, weights = weights,
    method = switch(kind, number = "anova", count = "poisson", "class"), parms = parms,
    control = control, model = FALSE, y = FALSE
  )
  if (is.null(weights)) arguments$weights <- NULL
  if (is.null(parms)) arguments$parms <- NULL
  plain_tree(do.call(rpart::rpart, arguments), levels, y, data$names)
}

tree_names <- function(n) paste0("x", seq_len(n))

# Neighbouring numbers as a matrix, since formulas of thousands of terms take longer than trees:
# list(columns, names), a data frame and what the package will call its columns.
tree_data <- function(x) {
  factor <- vapply(x, is.factor, NA)
  run <- cumsum(c(TRUE, factor[-1] | factor[-length(factor)]))
  pieces <- split(seq_along(x), run)
  columns <- lapply(pieces, function(at) {
    if (length(at) == 1L) return(x[[at]])
    matrix(unlist(x[at], use.names = FALSE), nrow(x), dimnames = list(NULL, seq_along(at)))
  })
  names(columns) <- paste0("x", names(pieces), "_")
  size <- lengths(pieces)
  inside <- ifelse(rep(size, size) > 1L, sequence(size), "")
  list(columns = plain_frame(columns, nrow(x)), names = paste0(rep(names(columns), size), inside))
}

# Factors get the levels seen in training; levels never seen count as missing.
tree_columns <- function(x, levels) {
  among <- function(column, levels) {
    if (is.null(levels) || !is.factor(column)) return(column)
    if (identical(levels(column), levels)) return(column)
    structure(match(as.character(column), levels), levels = levels, class = class(column))
  }
  plain_frame(Map(among, unclass(x)[names(x)], said_of(names(x), levels)), nrow(x))
}

# The grown tree as plain arrays, in the order of rpart's frame.
plain_tree <- function(fit, levels, y, names) {
  frame <- fit$frame
  # numbers of deep nodes are larger than integers go
  node <- as.numeric(row.names(frame))
  leaf <- frame$var == "<leaf>"
  values <- if (is.factor(y)) {
    n_classes <- nlevels(y)
    frame$yval2[, 1L + n_classes + seq_len(n_classes), drop = FALSE]
  } else {
    matrix(frame$yval, ncol = 1L)
  }
  splits <- fit$splits
  n_rows <- 1L + frame$ncompete + frame$nsurrogate
  first_split <- cumsum(c(0L, ifelse(leaf, 0L, n_rows)))[seq_along(node)]
  variable <- if (is.null(splits)) {
    integer()
  } else {
    match(rownames(splits), names) - 1L
  }
  list(
    left = match(2 * node, node, nomatch = 0L) - 1L,
    right = match(2 * node + 1, node, nomatch = 0L) - 1L,
    rows = as.double(frame$wt), complexity = frame$complexity, first_split = first_split,
    n_compete = as.integer(frame$ncompete), n_surrogate = as.integer(frame$nsurrogate),
    variable = variable,
    n_levels = if (is.null(splits)) integer() else as.integer(splits[, "ncat"]),
    cut = if (is.null(splits)) numeric() else as.double(splits[, "index"]),
    level_side = if (is.null(fit$csplit)) matrix(0L, 0, 0) else fit$csplit - 2L,
    values = unname(values), levels = levels, is_class = is.factor(y)
  )
}

predict_tree <- function(model, x, values) {
  columns <- tree_columns(x, model$levels)
  numbers <- matrix(unlist(lapply(columns, as.double), use.names = FALSE), nrow(x), length(columns))
  order <- order(values, decreasing = TRUE)
  nodes <- tree_nodes(numbers, model, values[order])
  nodes[, order] <- nodes
  if (!model$is_class) {
    return(matrix(model$values[nodes, 1], nrow(x), length(values)))
  }
  out <- array(0, c(nrow(x), ncol(model$values), length(values)))
  for (class in seq_len(ncol(model$values))) out[, class, ] <- model$values[nodes, class]
  out
}

script_tree <- function(settings, about) {
  seen <- seen_level_lines(about)
  list(fit = c(seen$lines, code_lines(r"(
grown <- rpart::rpart(y ~ .,
  data = <<x>>, method = "<<method>>"<<split>><<w>>,
  control = rpart::rpart.control(
    minsplit = <<least>>, minbucket = <<leaf>>, maxdepth = <<depth>>, cp = 0, xval = 0,
    maxcompete = 0, maxsurrogate = <<surrogates>>
  )
)
model <- rpart::prune(grown, cp = <<cp>>)
)",
    x = seen$x, method = switch(about$kind, number = "anova", count = "poisson", "class"),
    split = if (!is.null(about$levels)) {
      paste0(", parms = list(split = ", r_text(settings$impurity), ")")
    } else {
      ""
    },
    w = if (about$weighted) ", weights = w" else "",
    least = max(2, 3 * settings$min_leaf - 1), leaf = r_text(as.double(settings$min_leaf)),
    depth = r_text(as.double(settings$depth)),
    surrogates = if (about$gaps || length(about$factors) > 0L) "5" else "0",
    cp = r_text(about$value)
  )), predict = code_lines(
    "predict(model, <<x>><<type>>)",
    x = seen$x, type = if (is.null(about$levels)) "" else ", type = \"prob\""
  ))
}

# Levels never seen in training are missing: the lines, and the columns with them.
seen_level_lines <- function(about) {
  if (length(about$factors) == 0L) return(list(x = about$frame))
  list(lines = code_lines(r"(
# a level that no training row has counts as missing
seen_levels <- lapply(Filter(is.factor, droplevels(<<x>>)), levels)
with_seen_levels <- function(x) {
  for (name in names(seen_levels)) {
    x[[name]] <- factor(x[[name]], seen_levels[[name]], ordered = is.ordered(x[[name]]))
  }
  x
}
)", x = about$frame), x = paste0("with_seen_levels(", about$frame, ")"))
}
