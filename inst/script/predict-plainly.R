# a column as numbers: a level is its place among those known, one that is not there missing
as_code <- function(v, known, last) {
  if (is.null(known)) return(as.numeric(v))
  place <- match(as.character(v), known)
  if (last) ifelse(is.na(place) & !is.na(v), length(known) + 1, place) else place
}

# the values of the leaf that each row of z comes to
follow <- function(tree, z, equal) {
  nodes <- tree$nodes
  at <- rep(1, nrow(z))
  open <- which(nodes$left[at] >= 0)
  while (length(open) > 0) {
    node <- at[open]
    answer <- rep(0, length(open))
    for (turn in seq_len(max(nodes$count[node]))) {
      asked <- which(answer == 0 & nodes$count[node] >= turn)
      if (length(asked) == 0) break
      q <- nodes$first[node[asked]] + turn
      v <- z[cbind(open[asked], tree$questions$input[q] + 1)]
      lower <- if (equal == "left") v <= tree$questions$cut[q] else v < tree$questions$cut[q]
      found <- ifelse(lower == (tree$questions$lower[q] == "left"), -1, 1)
      for (i in which(tree$questions$side[q] >= 0 & !is.na(v))) {
        found[i] <- c(tree$sides[[tree$questions$side[q[i]] + 1]], 0)[v[i]]
      }
      answer[asked] <- ifelse(is.na(found), 0, found)
    }
    to <- ifelse(answer < 0, nodes$left[node],
      ifelse(answer > 0, nodes$right[node], nodes$otherwise[node])) + 1
    at[open] <- to
    open <- open[to != node & nodes$left[to] >= 0]
  }
  matrix(unlist(lapply(tree$values, function(v) v[at])), nrow(z))
}

# what the model's sums are for each row: rows x outputs
sums <- function(form, x) {
  if (form$form == "constant") {
    return(matrix(form$values, nrow(x), length(form$values), byrow = TRUE))
  }
  z <- vapply(form$inputs, function(name) {
    as_code(x[[name]], form$levels[[name]], identical(form$unseen, "last"))
  }, numeric(nrow(x)))
  z <- matrix(z, nrow(x))
  if (form$form == "linear") {
    return(vapply(form$outputs, function(one) {
      drop(one$intercept + z %*% one$slopes)
    }, numeric(nrow(x))))
  }
  if (form$form == "hinges") {
    terms <- vapply(form$terms, function(term) {
      parts <- lapply(term, function(part) {
        v <- z[, part$input + 1]
        switch(part$side, as_is = v, above = pmax(v - part$knot, 0), pmax(part$knot - v, 0))
      })
      Reduce(`*`, parts, rep(1, nrow(x)))
    }, numeric(nrow(x)))
    terms <- matrix(terms, nrow(x))
    return(vapply(form$outputs, function(one) drop(terms %*% one), numeric(nrow(x))))
  }
  do.call(cbind, lapply(form$groups, function(group) {
    total <- Reduce(`+`, lapply(group$trees, follow, z, form$equal))
    if (form$combine == "mean") total <- total / length(group$trees)
    sweep(total, 2, group$start, `+`)
  }))
}

# predictions: a number a row, or rows x classes
predict_plainly <- function(form, x) {
  eta <- matrix(sums(form, x), nrow(x))
  p <- switch(form$link,
    identity = eta, exp = exp(eta), logistic = cbind(1 - plogis(eta), plogis(eta)),
    softmax = exp(eta - apply(eta, 1, max)), against_rest = plogis(eta),
    cumulative = t(apply(cbind(0, plogis(outer(-drop(eta), form$cuts, `+`)), 1), 1, diff))
  )
  if (form$link %in% c("softmax", "against_rest")) p <- p / rowSums(p)
  if (ncol(p) == 1) drop(p) else p
}
