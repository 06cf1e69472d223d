stop_kw <- function(class, problem, where = NULL, remedy = NULL, call = NULL) {
  stop(paste(c(problem, where, remedy), collapse = "\n"), call. = FALSE)
}

warn_kw <- function(class, problem, remedy = NULL) {
  warning(paste(c(problem, remedy), collapse = "\n"), call. = FALSE)
}

plain_message <- function(condition) {
  trimws(gsub("[[:space:]]+", " ", paste(conditionMessage(condition), collapse = " ")))
}

# Nearest rows: mean of |a - b| over the columns present in both, of 0/1 for categories.
nearest_rows <- function(queries, donors, category, k, skip) {
  k <- min(k, ncol(donors))
  found <- vapply(seq_len(ncol(queries)), function(q) {
    apart <- abs(donors - queries[, q])
    apart[category, ] <- (donors[category, , drop = FALSE] != queries[category, q]) * 1
    distance <- colMeans(apart, na.rm = TRUE)
    distance[is.nan(distance)] <- Inf
    if (skip[q] > 0L) distance[skip[q]] <- Inf
    order(distance)[seq_len(k)]
  }, integer(k))
  matrix(found, k)
}

# Means over the first columns of a matrix, for several numbers of columns.
prefix_means <- function(x, sizes) {
  matrix(
    vapply(sizes, function(size) rowSums(x[, seq_len(size), drop = FALSE]) / size,
      numeric(nrow(x))),
    nrow(x)
  )
}

# Weighted means over the nearest rows, for every combination asked.
neighbour_means <- function(
  queries, rows, shares, weights, neighbours, weighting, distance,
  distances
) {
  out <- array(0, c(ncol(queries), ncol(shares), length(neighbours)))
  counted <- if (length(weights) == 0L) seq_len(ncol(rows)) else which(weights > 0)
  for (q in seq_len(ncol(queries))) {
    difference <- rows[, counted, drop = FALSE] - queries[, q]
    for (i in seq_along(neighbours)) {
      far <- switch(distance[i] + 1L,
        sqrt(colSums(difference^2)),
        colSums(abs(difference)),
        apply(abs(difference), 2L, max)
      )
      order <- order(far)
      far <- far[order]
      k <- min(neighbours[i], length(counted))
      beyond <- if (k < length(counted)) far[k + 1L] else far[k] * (1 + 1e-6)
      if (beyond <= far[k]) beyond <- far[k] * (1 + 1e-6)
      w <- if (length(weights) == 0L) rep(1, k) else weights[counted[order[seq_len(k)]]]
      near <- far[seq_len(k)]
      if (weighting[i] == 1L) w <- if (near[1] <= 0) w * (near <= 0) else w / near
      if (weighting[i] == 2L && beyond > 0) w <- w * (1 - (near / beyond)^2)
      out[q, , i] <- colSums(w * shares[counted[order[seq_len(k)]], , drop = FALSE]) / sum(w)
    }
  }
  out
}

# Nodes of a pruned tree for complexities sorted downwards: rows x values.
tree_nodes <- function(x, tree, complexities) {
  side_of <- function(value, split) {
    if (is.na(value)) return(0)
    if (tree$n_levels[split] == -1L) return(if (value < tree$cut[split]) -1 else 1)
    if (tree$n_levels[split] == 1L) return(if (value < tree$cut[split]) 1 else -1)
    tree$level_side[as.integer(tree$cut[split]), as.integer(value)]
  }
  walk <- function(row, complexity) {
    node <- 1L
    repeat {
      if (complexity >= tree$complexity[node] || tree$left[node] < 0L) return(node)
      first <- tree$first_split[node] + 1L
      side <- side_of(row[tree$variable[first] + 1L], first)
      for (s in first + tree$n_compete[node] + seq_len(tree$n_surrogate[node])) {
        if (side == 0) side <- side_of(row[tree$variable[s] + 1L], s)
      }
      if (side == 0) {
        side <- sign(tree$rows[tree$right[node] + 1L] - tree$rows[tree$left[node] + 1L])
      }
      if (side == 0) return(node)
      node <- (if (side < 0) tree$left[node] else tree$right[node]) + 1L
    }
  }
  out <- vapply(
    complexities,
    function(complexity) vapply(seq_len(nrow(x)), function(i) walk(x[i, ], complexity), 1L),
    integer(nrow(x))
  )
  matrix(out, nrow(x))
}

# Columns of numbers, or some of their rows, as one matrix.
filled_matrix <- function(columns, rows, n) {
  if (!is.null(rows)) columns <- lapply(columns, `[`, rows)
  names <- if (!is.null(names(columns))) list(NULL, names(columns))
  matrix(as.double(unlist(columns, use.names = FALSE)), n, length(columns), dimnames = names)
}
