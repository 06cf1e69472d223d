# A fitted family in plain form: numbers and names alone, from which any language can predict. A
# family says it by `plain(model, value)`, of its frozen model; docs/model-file.md describes the
# forms, and inst/script/predict-plainly.R reads them.
#
#   form      "constant", "linear", "hinges" or "trees"
#   link      how sums become predictions: "identity", "exp", "logistic" (probabilities of two
#             classes), "softmax", "against_rest" (logistic, divided by their sum), "cumulative"
#   constant  values
#   linear    outputs: a list of list(intercept, slopes); cumulative: of one, with `cuts`
#   hinges    terms: a list of terms, each a list of list(input, side, knot); outputs: a list of
#             coefficients, one a term
#   trees     combine ("sum" or "mean"), equal ("left" or "right": where a value goes that equals
#             the cut), unseen ("missing" or "last": what a level is that the trees do not know),
#             groups: a list of list(start, trees), each giving as many outputs as a leaf has values

plain_constant <- function(values) {
  list(form = "constant", link = "identity", values = as.double(values))
}

# `coefficients`: outputs x (1 + columns).
plain_linear <- function(coefficients, link) {
  coefficients <- rbind(coefficients)
  list(form = "linear", link = link, outputs = lapply(seq_len(nrow(coefficients)), function(i) {
    list(intercept = coefficients[i, 1L], slopes = unname(coefficients[i, -1L]))
  }))
}

plain_trees <- function(groups, link, combine, equal, unseen = "missing") {
  list(
    form = "trees", link = link, combine = combine, equal = equal, unseen = unseen, groups = groups
  )
}

# A tree as nodes and questions, all numbered from 0. Of a node: left and right (-1: a leaf),
# otherwise (where a row goes that answers no question; the node itself: it stays), its questions
# `first` to `first` + `count` - 1. Of a question: input, cut, lower ("left" or "right": where
# smaller values go) or side (by level: -1 left, 1 right, 0 no answer), numbered in `sides`.
# `values`: by output a value of every node.
plain_one_tree <- function(nodes, questions, sides, values) {
  list(nodes = nodes, questions = questions, sides = sides, values = values)
}

# Frozen families with the names of their inputs and levels; NULL: there is no plain form.
plain_family <- function(fitted, value) {
  make <- fitted$definition$plain
  if (is.null(make) || is.null(fitted$inputs)) return(NULL)
  form <- make(fitted$model, value)
  if (is.null(form)) return(NULL)
  form$inputs <- fitted$inputs
  if (form$form == "trees") form$levels <- true_levels(form$levels, fitted)
  form
}

# Levels of the inputs by name; they are kept coded, see learn_coding().
true_levels <- function(levels, fitted) {
  coding <- fitted$coding
  known <- stats::setNames(rep(list(NULL), length(fitted$inputs)), fitted$inputs)
  for (i in which(lengths(levels) > 0L)) {
    own <- coding$levels[[match(i, coding$factors)]]
    known[[i]] <- own[match(levels[[i]], coded_levels(own, own))]
  }
  Filter(Negate(is.null), known)
}

# The part of rpart's tree that pruning at `complexity` leaves, see fam-tree.R.
plain_pruned_tree <- function(model, complexity) {
  stays <- model$left < 0L | model$complexity <= complexity
  reached <- reached_nodes(model$left, model$right, stays)
  at <- match(reached, seq_along(model$left))
  place <- function(node) match(node + 1L, at) - 1L
  inner <- !stays[at]
  left <- ifelse(inner, place(model$left[at]), -1L)
  right <- ifelse(inner, place(model$right[at]), -1L)
  weight <- model$rows
  weight_of <- function(child) weight[pmax(child[at], 0L) + 1L]
  more <- ifelse(inner, weight_of(model$right) - weight_of(model$left), 0)
  otherwise <- ifelse(!inner | more == 0, seq_along(at) - 1L, ifelse(more > 0, right, left))
  count <- ifelse(inner, 1L + model$n_surrogate[at], 0L)
  rows <- unlist(lapply(which(inner), function(i) {
    first <- model$first_split[at[i]] + 1L
    c(first, first + model$n_compete[at[i]] + seq_len(model$n_surrogate[at[i]]))
  }))
  kind <- model$n_levels[rows]
  by_level <- abs(kind) != 1L
  sides <- lapply(which(by_level), function(i) as.integer(model$level_side[model$cut[rows[i]], ]))
  plain_one_tree(
    nodes = list(
      left = left, right = right, otherwise = otherwise,
      first = as.integer(cumsum(c(0L, count)))[seq_along(at)], count = count
    ),
    questions = list(
      input = model$variable[rows], cut = ifelse(by_level, 0, model$cut[rows]),
      lower = ifelse(kind == 1L, "right", "left"),
      side = ifelse(by_level, cumsum(by_level) - 1L, -1L)
    ),
    sides = sides,
    values = lapply(seq_len(ncol(model$values)), function(k) unname(model$values[at, k]))
  )
}

reached_nodes <- function(left, right, stays) {
  found <- integer()
  open <- 1L
  while (length(open) > 0L) {
    node <- open[1]
    found <- c(found, node)
    open <- c(if (!stays[node]) c(left[node], right[node]) + 1L, open[-1L])
  }
  found
}

# Trees whose nodes ask one question each, given as vectors from 0 in the order of the nodes.
plain_simple_tree <- function(left, right, otherwise, input, cut, side, sides, values) {
  inner <- left >= 0L
  plain_one_tree(
    nodes = list(
      left = left, right = right, otherwise = otherwise,
      first = as.integer(cumsum(c(0L, inner)))[seq_along(left)], count = as.integer(inner)
    ),
    questions = list(
      input = input[inner], cut = cut[inner], lower = rep("left", sum(inner)), side = side[inner]
    ),
    sides = sides, values = values
  )
}
