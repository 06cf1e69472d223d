# What searches that learn know of the points that were tried, whatever they scored. It grows by
# what a round brought: to work it out anew each time would take the longer the more is known.
#   spaces   of all candidates, the values of what varies at hand
#   alike    by candidate and dimension: which candidates vary it alike, itself among them
#   shared   by candidate and other one: what both vary alike, so that one may give it to the other,
#            see shared_columns()
#   points   by candidate: see nothing_known()
# `wants`: what of "simple" and "features" the search goes by.
grown_known <- function(known, field, history, wants) {
  if (is.null(known)) {
    spaces <- lapply(field$spaces, with_values)
    alike <- varied_alike(spaces)
    known <- list(
      spaces = spaces, alike = alike, shared = shared_columns(spaces, alike),
      points = lapply(spaces, nothing_known)
    )
  }
  known$points <- Map(function(one, space, told) {
    with_settings(one, space, told$settings, wants)
  }, known$points, known$spaces, history[names(known$spaces)])
  known
}

# The values of what varies, and what lies along a path or not, are asked for again and again.
with_values <- function(space) {
  space$axes <- point_dimensions(space)
  space$dimensions <- lapply(space$dimensions, function(dimension) {
    if (!is_continuous(dimension)) dimension$values <- dimension_values(dimension, NULL)
    dimension
  })
  space$path <- lapply(path_dimensions(space), function(dimension) {
    dimension$values <- dimension_values(dimension, path_points)
    dimension
  })
  space
}

varied_alike <- function(spaces) {
  lapply(spaces, function(space) {
    lapply(space$dimensions, function(dimension) {
      which(vapply(spaces, function(other) {
        identical(other$dimensions[[dimension$name]]$varying, dimension$varying)
      }, NA))
    })
  })
}

# By candidate and other one: the columns in the cube of the one and in that of the other of what
# both vary alike.
shared_columns <- function(spaces, alike) {
  columns <- lapply(spaces, function(space) names(space$dimensions))
  Map(function(own, alike) {
    lapply(seq_along(spaces), function(other) {
      both <- own[vapply(alike, function(several) other %in% several, NA)]
      rbind(match(both, own), match(both, columns[[other]]))
    })
  }, columns, alike)
}

# Of a candidate's points
#   table, keys, cube   tables, their rows as texts, places in the unit cube
#   point    the point of every setting
#   codes    values as numbers, a column for each that varies: 0 without effect, -1 for what is not
#            known yet of a continuous range; `ranges`: the known values of these
#   pairs    of points that differ in one thing only: the rows `first` and `second`, which thing
#            (`axis`), and its codes `a` and `b`
#   simple   columns to sort by, the simplest first, see simplicity_columns(); none before there are
#            points, since a user's family may not know what to say of no settings
#   features what a model sees of them, see point_features(); both only where a search wants them
nothing_known <- function(space) {
  none <- integer()
  table <- frame_of_rows(usual_setting(space), none)
  ranges <- no_ranges(space)
  list(
    table = table, keys = character(), cube = settings_to_cube(space, table), point = none,
    codes = codes_of(space, table, ranges), ranges = ranges,
    pairs = list(first = none, second = none, axis = none, a = none, b = none), simple = NULL,
    features = NULL
  )
}

# Of continuous ranges no value is known.
no_ranges <- function(space) {
  lapply(Filter(is_continuous, space$dimensions), function(dimension) numeric())
}

# With those settings that are not in it yet.
with_settings <- function(one, space, settings, wants) {
  known <- length(one$point)
  if (nrow(settings) <= known) return(one)
  points <- points_of(space, frame_of_rows(settings, (known + 1L):nrow(settings)))
  keys <- point_keys(points)
  fresh <- which(!duplicated(keys) & !keys %in% one$keys)
  one$keys <- c(one$keys, keys[fresh])
  one$point <- c(one$point, match(keys, one$keys))
  points <- frame_of_rows(points, fresh)
  one$table <- bind_tables(one$table, points)
  one$cube <- rbind(one$cube, settings_to_cube(space, points))
  one$ranges <- Map(function(known, name) unique(c(known, points[[name]])), one$ranges,
    names(one$ranges))
  before <- nrow(one$codes)
  codes <- codes_of(space, points, one$ranges)
  one$codes <- rbind(one$codes, codes)
  if ("features" %in% wants) {
    one$features <- rbind(one$features, point_features(space, points, codes))
  }
  if ("simple" %in% wants && length(fresh) > 0L) {
    each <- seq_along(fresh)
    simple <- simplicity_columns(list(space), list(points), rep(1L, length(each)), each)
    one$simple <- if (is.null(one$simple)) simple else Map(c, one$simple, simple)
  }
  discrete <- !vapply(space$dimensions, is_continuous, NA)
  for (row in before + seq_along(fresh)) {
    one$pairs <- Map(c, one$pairs, pairs_with(one$codes, row, discrete))
  }
  one
}

point_keys <- function(points) {
  if (length(points) == 0L) rep("", nrow(points)) else row_texts(points)
}

codes_of <- function(space, points, ranges) {
  n <- nrow(points)
  points <- unclass(points)
  columns <- lapply(space$dimensions, function(dimension) {
    column <- points[[dimension$name]]
    values <- if (is_continuous(dimension)) ranges[[dimension$name]] else dimension$values
    code <- match(column, values, nomatch = -1L)
    code[is.na(column)] <- 0L
    code
  })
  matrix(as.integer(unlist(columns, use.names = FALSE)), n, length(columns),
    dimnames = list(NULL, names(space$dimensions)))
}

# Pairs of a point with those before it. Of more than a dozen points that are alike in all else a
# dozen tell enough. The same value of a continuous range is hardly met twice.
most_alike <- 12L

pairs_with <- function(codes, row, discrete) {
  away <- codes[seq_len(row - 1L), , drop = FALSE] != rep(codes[row, ], each = row - 1L)
  near <- which(rowSums(away) == 1L)
  axis <- max.col(away[near, , drop = FALSE] + 0, "first")
  fine <- discrete[axis] & tabulate(axis, length(discrete))[axis] < most_alike
  first <- near[fine]
  axis <- axis[fine]
  list(
    first = first, second = rep(row, length(first)), axis = axis,
    a = codes[cbind(first, axis)], b = unname(codes[row, axis])
  )
}

# Which pairs scored the same to the last digit on all splits on which both are known; NA where
# these are fewer than `enough`, which says nothing. `told`: the candidate's history.
pairs_alike <- function(one, told, enough) {
  # of all values along the path together
  scores <- rowsum(told$scores, one$point)
  failed <- rowsum(as.integer(told$failed), one$point)[, 1] > 0L
  a <- scores[one$pairs$first, , drop = FALSE]
  b <- scores[one$pairs$second, , drop = FALSE]
  both <- rowSums(!is.na(a) & !is.na(b))
  same <- rowSums(abs(a - b) > 1e-12 * abs(a), na.rm = TRUE) == 0L
  same[both < enough] <- NA
  same[xor(failed[one$pairs$first], failed[one$pairs$second])] <- FALSE
  same
}

# On how many splits two have to score the same: predicted classes often do by chance on one.
splits_to_compare <- function(field) {
  if (field$metric$by_class) min(3L, max(1L, length(field$splits))) else 1L
}

# Of every value of a candidate's dimensions the first one that is as good as the same: of which
# several pairs of points are known that differ in nothing else, all of them alike. NULL for
# continuous ranges.
alike_values <- function(space, one, told, enough) {
  pairs <- one$pairs
  same <- pairs_alike(one, told, enough)
  low <- pmin(pairs$a, pairs$b)
  high <- pmax(pairs$a, pairs$b)
  known <- which(!is.na(same) & low > 0L)
  first <- lapply(space$dimensions, function(dimension) {
    if (!is_continuous(dimension)) seq_along(dimension$values)
  })
  # which thing, and which two values of it
  most <- max(high, 0L) + 1
  kind <- ((pairs$axis * most + high) * most + low)[known]
  pair <- match(kind, kind)
  several <- which(tabulate(pair, length(pair)) >= pairs_enough)
  for (at in known[setdiff(several, pair[!same[known]])]) {
    axis <- pairs$axis[at]
    of_axis <- first[[axis]]
    both <- sort(of_axis[c(low[at], high[at])])
    of_axis[of_axis == both[2]] <- both[1]
    first[[axis]] <- of_axis
  }
  first
}

pairs_enough <- 2L

# Of new points one of all that are alike, and none that is like a known one, if others are left.
# `pool`: see pool_of_points(), `seen`: see seen_of_field(); of continuous ranges no value is like
# another.
without_twins <- function(pool, seen) {
  merged <- which(vapply(seen$alike, function(first) any(first != seq_along(first)), NA))
  if (nrow(pool$codes) == 0L || length(merged) == 0L) return(pool)
  as_merged <- function(codes) {
    for (axis in merged) {
      at <- codes[, axis] > 0L
      codes[at, axis] <- seen$alike[[axis]][codes[at, axis]]
    }
    codes
  }
  fresh <- new_codes(as_merged(pool$codes), as_merged(seen$codes))
  for (name in names(seen$ranges)) {
    fresh <- fresh | pool$codes[, name] > length(seen$ranges[[name]])
  }
  if (any(fresh)) pool_rows(pool, which(fresh)) else pool
}

# Which rows are neither known nor a repeat.
new_codes <- function(codes, known) {
  !duplicated(group_codes(rbind(known, codes)))[nrow(known) + seq_len(nrow(codes))]
}
