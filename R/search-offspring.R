# How evolution makes new points of known ones: newcomers, children of one or two parents, what is
# changed in them, and which would be twins of what is known. A point is a setting without the
# values along its family's path (search-guided.R).

# A random point of a random candidate.
newcomer <- function(spaces) {
  name <- names(spaces)[sample.int(length(spaces), 1L)]
  list(name = name, point = points_of(spaces[[name]], random_settings(spaces[[name]], 1L)))
}

# `seen`: of every candidate the places of its points in the unit cube, and chances.
child_of <- function(spaces, seen, parents, tournament, mixed) {
  place_of <- function(at) seen[[parents$candidate[at]]]$cube[parents$row[at], ]
  first <- first_parent(parents, tournament)
  name <- names(spaces)[parents$candidate[first]]
  space <- spaces[[name]]
  place <- place_of(first)
  others <- setdiff(seq_len(nrow(parents)), first)
  if (length(others) > 0L && stats::runif(1) < mixed) {
    second <- draw_parent(parents, others, tournament)
    theirs <- place_of(second)
    swap <- shared_dimensions(space, spaces[[parents$candidate[second]]], theirs)
    swap <- swap[stats::runif(length(swap)) < 0.7]
    place[swap] <- theirs[swap]
  }
  # what had no effect may have one in the child
  idle <- is.na(place)
  if (any(idle)) place[idle] <- stats::runif(length(place))[idle]
  place <- mutated(place, seen[[name]]$chances)
  point <- points_of(space, settings_from_cube(space, matrix(place, 1L)))
  list(name = name, point = point)
}

# Names of what the second parent has to give, which may be of another candidate: hyperparameters
# and choices that both vary over the same values, and that have an effect in it.
shared_dimensions <- function(space, other, theirs) {
  Filter(function(name) {
    !is.na(theirs[[name]]) &&
      identical(space$dimensions[[name]]$varying, other$dimensions[[name]]$varying)
  }, intersect(names(theirs), names(space$dimensions)))
}

# Every second time one of a candidate that is drawn, so that none dies out.
first_parent <- function(parents, tournament) {
  rows <- seq_len(nrow(parents))
  if (stats::runif(1) < 0.5) {
    candidates <- unique(parents$candidate)
    rows <- which(parents$candidate == candidates[sample.int(length(candidates), 1L)])
  }
  draw_parent(parents, rows, tournament)
}

# Of these rows, few times out of ten one of the front, else the best of some that are drawn.
draw_parent <- function(parents, rows, tournament) {
  front <- rows[parents$front[rows]]
  if (length(front) > 0L && stats::runif(1) < 0.2) return(front[sample.int(length(front), 1L)])
  drawn <- rows[sample.int(length(rows), min(tournament, length(rows)))]
  drawn[which.max(parents$good[drawn])]
}

# What values are worth ----------------------------------------------------------------------

# Adds `chances` to every candidate, see chances_of_moves(). They go by the merits of values: by how
# much the scores with each are above the candidate's mean, drawn towards 0 as if there were one
# more, that is average. What another candidate varies alike counts half.
with_chances <- function(spaces, seen) {
  above <- lapply(seen, function(one) {
    if (is.null(one$y)) numeric(length(one$good)) else one$y - mean(one$y)
  })
  Map(function(space, one, name) {
    merits <- lapply(space$dimensions, merits_of_values, spaces, seen, above, name)
    one$chances <- chances_of_moves(space, merits)
    one
  }, spaces, seen, names(spaces))
}

# `above`: scores above their candidate's mean, by candidate; `own`: the name of the dimension's.
merits_of_values <- function(dimension, spaces, seen, above, own) {
  if (is_continuous(dimension)) return(NULL)
  of <- dimension$name
  values <- dimension_values(dimension, NULL)
  sums <- numbers <- numeric(length(values))
  for (other in names(spaces)) {
    if (!identical(spaces[[other]]$dimensions[[of]]$varying, dimension$varying)) next
    at <- match(seen[[other]]$points[[of]], values)
    share <- if (other == own) 1 else 0.5
    numbers <- numbers + share * tabulate(at, length(values))
    # most have few values, of which this is the quickest
    for (value in unique(at[!is.na(at)])) {
      sums[value] <- sums[value] + share * sum(above[[other]][which(at == value)])
    }
  }
  sums / (numbers + 1)
}

# What may change in a point: the axes, how often each, and where to (moves_along()). As often one
# of the family's hyperparameters as one of the steps'.
chances_of_moves <- function(space, merits = NULL) {
  axes <- match(point_dimensions(space), names(space$dimensions))
  of_family <- vapply(space$dimensions[axes], function(d) d$address == "family", NA)
  list(
    axes = axes, often = 1 / ifelse(of_family, sum(of_family), sum(!of_family)),
    moves = lapply(axes, function(axis) moves_along(space$dimensions[[axis]], merits[[axis]]))
  )
}

# What has a merit of one standard deviation more is taken twenty times as often.
merit_pull <- 3

# Where a value may move to, as places on its axis, and how likely, as a function of its place: of a
# range to one nearby, of ordered values mostly to the next ones, of others to any. Worked out once
# for each value that is asked for, since there may be thousands.
moves_along <- function(dimension, merit) {
  if (is_continuous(dimension)) {
    return(function(place) {
      list(to = min(max(place + stats::rnorm(1, sd = 0.15), 0), 1), likely = 1)
    })
  }
  levels <- length(dimension_values(dimension, NULL))
  ordered <- is_ordered_dimension(dimension)
  found <- vector("list", levels)
  function(place) {
    at <- min(floor(place * levels), levels - 1) + 1
    if (!is.null(found[[at]])) return(found[[at]])
    to <- seq_len(levels)[-at]
    likely <- rep(1, levels - 1L)
    if (ordered) likely <- stats::dnorm(to - at, sd = max(1.5, 0.15 * levels))
    likely <- likely / sum(likely)
    if (!is.null(merit)) likely <- likely * exp(merit_pull * (merit[to] - merit[at]))
    found[[at]] <<- list(to = (to - 0.5) / levels, likely = likely)
    found[[at]]
  }
}

# One value changed, now and then more.
mutated <- function(place, chances) {
  axes <- seq_along(chances$axes)
  if (length(axes) == 0L) return(place)
  for (i in seq_len(1L + stats::rbinom(1, length(axes) - 1L, 0.5 / length(axes)))) {
    moves <- lapply(axes, function(j) chances$moves[[j]](place[chances$axes[j]]))
    sizes <- vapply(moves, function(move) length(move$to), 1L)
    if (sum(sizes) == 0L) break
    likely <- unlist(lapply(moves, `[[`, "likely")) * rep(chances$often[axes], sizes)
    move <- sample.int(sum(sizes), 1L, prob = likely)
    at <- rep(seq_along(axes), sizes)[move]
    place[chances$axes[axes[at]]] <- unlist(lapply(moves, `[[`, "to"))[move]
    axes <- axes[-at]
  }
  place
}

# Twins ------------------------------------------------------------------------------------

# What is known of a candidate's points: their values as numbers, and which pairs that differ in one
# thing only had the same score to the last digit, or both none: an answer to outliers where there
# are none, any scale before a tree.
known_twins <- function(space, points, good) {
  values <- lapply(points, unique)
  codes <- codes_of(points, values)
  alike <- alike_in_the_rest(codes)
  pairs <- lapply(seq_along(values), function(j) {
    # the same value of a continuous range is hardly met twice
    if (!is_continuous(space$dimensions[[names(points)[j]]])) pairs_apart_in(alike[[j]], good)
  })
  list(values = values, codes = codes, pairs = pairs)
}

# For every column groups of rows that are equal in all others: in those before it and those after.
alike_in_the_rest <- function(codes) {
  along <- function(columns) {
    groups <- list(rep(1L, nrow(codes)))
    for (j in columns) {
      groups <- c(groups, list(finer_groups(groups[[length(groups)]], codes[, j])))
    }
    groups
  }
  columns <- seq_len(ncol(codes))
  before <- along(columns)
  after <- rev(along(rev(columns)))
  lapply(columns, function(j) finer_groups(before[[j]], after[[j + 1L]]))
}

# Pairs of rows that differ in one column only, and whether they scored the same; NULL where there
# are none. Of more than a dozen rows that are alike in all else a dozen tell enough.
most_alike <- 12L

pairs_apart_in <- function(alike, good) {
  several <- which(alike %in% alike[duplicated(alike)])
  if (length(several) == 0L) return(NULL)
  pairs <- lapply(split(several, alike[several]), function(at) {
    at <- utils::head(at, most_alike)
    later <- length(at) - seq_along(at)
    cbind(rep(at, later), at[sequence(later, seq_along(at) + 1L)])
  })
  pairs <- do.call(rbind, pairs)
  a <- good[pairs[, 1]]
  b <- good[pairs[, 2]]
  same <- ifelse(is.na(a) | is.na(b), is.na(a) & is.na(b), abs(a - b) <= 1e-12 * abs(a))
  list(first = pairs[, 1], second = pairs[, 2], same = same)
}

codes_of <- function(points, values) {
  matrix(as.integer(unlist(Map(match, points, values))), nrow(points), length(values))
}

# Is a point likely to score as one does that is known? One that differs in at most two things, of
# which each made no difference between the same two values where all else was most alike.
likely_twin <- function(point, known) {
  code <- as.vector(codes_of(point, known$values))
  code[is.na(code)] <- 0L
  away <- known$codes != rep(code, each = nrow(known$codes))
  near <- which(rowSums(away) <= 2L)
  for (other in near) {
    alike <- vapply(which(away[other, ]), function(j) {
      no_difference(known, j, code, known$codes[other, j])
    }, NA)
    if (all(alike)) return(TRUE)
  }
  FALSE
}

no_difference <- function(known, j, code, other) {
  pairs <- known$pairs[[j]]
  if (is.null(pairs)) return(FALSE)
  first <- known$codes[pairs$first, j]
  second <- known$codes[pairs$second, j]
  at <- which((first == code[j] & second == other) | (second == code[j] & first == other))
  if (length(at) == 0L) return(FALSE)
  context <- known$codes[pairs$first[at], -j, drop = FALSE]
  far <- rowSums(context != rep(code[-j], each = length(at)))
  min(far) <= 2L && all(pairs$same[at[far == min(far)]])
}
