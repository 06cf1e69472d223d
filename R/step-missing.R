#' Fill missing values
#'
#' Learns the fill of every selected column on the training rows. Columns that
#' have no missing value in training get a fill all the same, for the day one
#' turns up.
#'
#' Categories take their most frequent level, except under `"level"` (an own
#' level, "missing") and under `"value"` with a text. Text becomes "". Dates take
#' the median date, or under `"mean"` and `"mode"` the mean or the most frequent
#' one. A column that is missing in every training row is filled with 0, or with the
#' level "missing".
#'
#' @param fill How values are filled: `"median"`, `"mean"`, `"mode"` (most
#'   frequent value), `"value"`, `"level"` (an own level for categories;
#'   numbers take the median), `"nearest"` (median or commonest level of the
#'   nearest training rows, by Gower's 1971 distance over the selected columns,
#'   among at most 2,000 of them), or `"model"` (a regression or classification
#'   tree on the other selected columns, grown on at most 20,000 training rows).
#' @param flag Add a 0/1 column `<column>_missing` for every column with missing
#'   values in training?
#' @param value The value for `fill = "value"`: a number for number columns, a
#'   text for categories; columns of the other kind take the median or mode.
#' @param neighbours For `fill = "nearest"`: how many rows are asked.
#' @param columns Which columns; default all. See [of_kind()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on.
#' @examples
#' pre_missing(fill = among("median", "mean"), flag = TRUE)
#' @export
pre_missing <- function(
  fill = "median", flag = FALSE, value = NULL, neighbours = 5,
  columns = NULL, ...
) {
  no_more(...)
  new_step(
    member_step_missing(),
    list(fill = fill, flag = flag, value = value, neighbours = neighbours),
    rlang::enquo(columns)
  )
}

member_step_missing <- function() {
  step_definition(
    "missing",
    learn = learn_missing,
    use = use_missing,
    check = check_fill_value,
    random = TRUE,
    keeps_rows = function(settings) identical(settings$fill, "nearest"),
    script = script_missing,
    plain = function(state) {
      single <- vapply(state$fills, function(fill) is.atomic(fill) && length(fill) == 1L, NA)
      if (is.null(state$rows) && all(single)) state[c("fills", "flagged", "flags")]
    },
    does = "Fills missing values with what the training rows suggest.",
    hyperparameters = list(
      fill = hyperparameter(
        "choice",
        "median",
        choices = c("median", "mean", "mode", "value", "level", "nearest", "model"),
        sensible = function(rows, columns, classes) {
          among("median", "nearest", "model")
        },
        meaning = "What takes the place of a missing value."
      ),
      flag = hyperparameter("flag", FALSE,
        sensible = function(rows, columns, classes) among(FALSE, TRUE),
        meaning = "Whether a 0/1 column tells the filled rows from the others."
      ),
      value = hyperparameter("any", NULL, meaning = "The value used under fill = \"value\"."),
      neighbours = hyperparameter("whole", 5,
        min = 1,
        sensible = function(rows, columns, classes) among(3, 5, 15),
        meaning = "How many nearest rows are asked under fill = \"nearest\".",
        rising = "Smoother fills, closer to the overall median.",
        active_when = function(settings, kind) settings$fill == "nearest"
      )
    )
  )
}

check_fill_value <- function(settings) {
  fills <- if (inherits(settings$fill, "kw_among")) settings$fill$values else settings$fill
  if ("value" %in% fills && is.null(settings$value)) {
    stop_kw("argument", "pre_missing(fill = \"value\") needs the `value`.",
      remedy = "Say which, e.g. value = 0."
    )
  }
}

learn_missing <- function(frame, target, settings, seed) {
  columns <- intersect(settings$columns, names(frame$columns))
  fills <- lapply(frame$columns[columns], fill_of, settings = settings, weights = target$weights)
  flagged <- if (settings$flag) columns[vapply(frame$columns[columns], anyNA, logical(1))]
  flags <- fresh_names(paste0(flagged, rep("_missing", length(flagged))), frame_names(frame))
  helper <- switch(settings$fill, nearest = learn_nearest_fill, model = learn_model_fill)
  list(
    state = list(
      fills = fills, flagged = as.character(flagged), flags = flags,
      rows = if (!is.null(helper)) helper(frame$columns[columns], settings, target$weights)
    ),
    training = NULL
  )
}

# Row by row fills, before the plain ones: nearest rows or a tree each column.
fillable <- function(columns) {
  columns[vapply(
    columns,
    function(x) column_kind(x) %in% c("number", "category", "ordered") && !all(is.na(x)),
    logical(1)
  )]
}

learn_nearest_fill <- function(columns, settings, weights) {
  columns <- fillable(columns)
  n <- length(columns[[1]])
  donors <- if (is.null(weights)) seq_len(n) else which(weights > 0)
  if (length(donors) > 2000L) donors <- sort(donors[sample.int(length(donors), 2000L)])
  list(
    by = "nearest", neighbours = settings$neighbours, places = learn_places(columns, weights),
    donors = lapply(columns, function(x) x[donors]), weights = weights_as_rows(weights)[donors]
  )
}

learn_model_fill <- function(columns, settings, weights) {
  columns <- fillable(columns)
  weights <- weights_as_rows(weights)
  with_gaps <- names(columns)[vapply(columns, anyNA, logical(1))]
  trees <- lapply(stats::setNames(with_gaps, with_gaps), function(name) {
    others <- columns[setdiff(names(columns), name)]
    most <- if (is.factor(columns[[name]])) 12L else 500L
    others <- others[vapply(others, nlevels, integer(1)) <= most]
    known <- which(!is.na(columns[[name]]))
    if (length(known) > 20000L) known <- sort(sample(known, 20000L))
    repeated <- repeated_rows(weights[known])
    known <- if (is.null(repeated)) known else known[repeated]
    w <- if (is.null(repeated)) weights[known]
    y <- columns[[name]][known]
    if (is.factor(y)) y <- factor(as.character(y), levels = seen_levels(y))
    if (length(others) == 0L || length(unique(y)) < 2L) return(NULL)
    x <- plain_frame(lapply(others, function(column) column[known]), length(known))
    member_fam_tree()$fit(x, y, w, list(impurity = "gini", min_leaf = 7, depth = 30), 1L, 1L) |>
      c(list(classes = levels(y)))
  })
  list(by = "model", trees = Filter(Negate(is.null), trees))
}

fill_by_rows <- function(columns, helper, n) {
  if (helper$by == "model") return(fill_by_trees(columns, helper, n))
  filled <- columns
  for (name in names(helper$places)) {
    gaps <- which(is.na(columns[[name]]))
    given <- which(!is.na(helper$donors[[name]]))
    if (length(gaps) == 0L || length(given) == 0L) next
    pick <- function(set, rows) {
      place_rows(lapply(set[names(helper$places)], function(x) x[rows]), helper$places)
    }
    near <- nearest_rows(
      pick(columns, gaps),
      pick(helper$donors, given),
      placed_categories(helper$places),
      helper$neighbours,
      integer(length(gaps))
    )
    values <- helper$donors[[name]][given]
    weights <- helper$weights[given]
    filled[[name]][gaps] <- apply(near, 2L, function(rows) {
      counted <- if (!is.null(weights)) so_many_rows(weights[rows], helper$neighbours)
      if (!is.factor(values)) return(weighted_median(values[rows], counted))
      most_frequent(as.character(values[rows]), order = levels(values), counted)
    })
  }
  filled
}

# Of neighbours, the nearest first: what of each belongs to the first n rows.
so_many_rows <- function(weights, n) {
  before <- c(0, cumsum(weights)[-length(weights)])
  pmax(pmin(weights, n - before), 0)
}

fill_by_trees <- function(columns, helper, n) {
  filled <- columns
  for (name in names(helper$trees)) {
    gaps <- which(is.na(columns[[name]]))
    if (length(gaps) == 0L) next
    tree <- helper$trees[[name]]
    x <- plain_frame(lapply(columns[names(tree$levels)], function(x) x[gaps]), length(gaps))
    predicted <- member_fam_tree()$path$predict(tree, x, 0.001)
    filled[[name]][gaps] <- if (tree$is_class) {
      tree$classes[predicted_class(predicted)]
    } else {
      predicted[, 1]
    }
  }
  filled
}

fill_of <- function(x, settings, weights = NULL) {
  known <- known_values(x, weights)
  present <- known$x
  kind <- column_kind(x)
  if (kind == "text") return("")
  if (kind %in% c("category", "ordered")) return(fill_of_levels(x, known, settings, kind))
  if (length(present) == 0L) return(0)
  number <- as.double(present)
  if (kind == "number" && settings$fill == "value" && is.numeric(settings$value)) {
    return(settings$value)
  }
  switch(settings$fill,
    mean = weighted_mean(number, known$weights),
    mode = most_frequent(number, weights = known$weights),
    weighted_median(number, known$weights)
  )
}

fill_of_levels <- function(x, known, settings, kind) {
  if (length(known$x) == 0L) return("missing")
  if (settings$fill == "level" && kind == "category") return("missing")
  if (settings$fill == "value" && is.character(settings$value)) return(settings$value)
  most_frequent(as.character(known$x), order = levels(x), known$weights)
}

# The most frequent value; of equally frequent ones the first in order.
most_frequent <- function(x, order = sort(unique(x)), weights = NULL) {
  order[which.max(weighted_counts(match(x, order), length(order), weights))]
}

use_missing <- function(state, frame) {
  columns <- unclass(frame$columns)
  flags <- lapply(state$flagged, function(name) as.double(is.na(columns[[name]])))
  names(flags) <- state$flags
  if (!is.null(state$rows) && frame$n > 0L) columns <- fill_by_rows(columns, state$rows, frame$n)
  filled <- names(state$fills)
  columns[filled] <- Map(fill_column, columns[filled], state$fills)
  frame_swap(new_frame(plain_frame(columns, frame$n), frame$sparse), columns = flags)
}

fill_column <- function(x, fill) {
  if (is.factor(x) && !fill %in% levels(x)) {
    if (is.ordered(x)) x <- factor(as.character(x), levels = c(fill, levels(x)), ordered = TRUE)
    else levels(x) <- c(levels(x), fill)
  }
  gone <- is.na(x)
  if (!any(gone)) return(x)
  x[gone] <- if (column_kind(x) == "date") structure(fill, class = class(x)) else fill
  x
}

script_missing <- function(state, about) {
  if (length(state$fills) == 0L) return(list(lines = NULL))
  columns <- about$frame$columns[names(state$fills)]
  by_rows <- script_row_fill(state, about)
  given <- about$weighted || any(vapply(columns, function(x) all(is.na(x)), NA))
  learned <- if (given) {
    script_given_fills(state, columns, about)
  } else {
    script_learned_fills(state, about)
  }
  # levels that a column has not got come behind the others, ordered ones before them
  new <- vapply(names(columns), function(name) {
    is.factor(columns[[name]]) && !state$fills[[name]] %in% levels(columns[[name]])
  }, NA)
  flags <- if (length(state$flagged) > 0L) code_lines(r"(
  gaps <- lapply(x[<<flagged>>], function(v) as.numeric(is.na(v)))
)", flagged = r_vector(state$flagged, 4L))
  list(does = paste0("fill_missing", about$i), lines = code_lines(r"(
<<row_lines>>
<<learned>>
fill_missing<<i>> <- function(x) {
<<flags>>
<<by_rows>>
<<loop>>
<<added>>
  x
}
)",
    i = about$i, learned = learned, flags = flags, row_lines = by_rows,
    loop = fill_loop(about$i, any(new), any(new & vapply(columns, is.ordered, NA))),
    by_rows = if (!is.null(by_rows)) paste0("  x <- fill_by_rows", about$i, "(x)"),
    added = if (length(flags) > 0L) paste0("  x[", r_vector(state$flags, 4L), "] <- gaps")
  ))
}

# The fills as values; those of dates are dates.
script_given_fills <- function(state, columns, about) {
  dated <- names(Filter(function(x) column_kind(x) == "date", columns))
  moments <- names(Filter(function(x) inherits(x, "POSIXct"), columns))
  as_dates <- function(names, class) {
    fills <- paste0("fills", about$i, "[", r_vector(names), "]")
    if (length(names) > 0L) {
      paste0(fills, " <- lapply(", fills, ", structure, class = ", class, ")")
    }
  }
  c(
    as_learned(about, fills = state$fills), as_dates(setdiff(dated, moments), "\"Date\""),
    as_dates(moments, "c(\"POSIXct\", \"POSIXt\")")
  )
}

script_learned_fills <- function(state, about) {
  kinds <- about$kinds[names(state$fills)]
  settings <- about$settings
  by_mode <- settings$fill == "mode"
  number <- switch(settings$fill,
    mean = "mean(v, na.rm = TRUE)", mode = "commonest(v)",
    value = if (is.numeric(settings$value)) r_text(settings$value)
  ) %||% "median(v, na.rm = TRUE)"
  commonest <- "names(which.max(table(v)))"
  category <- switch(settings$fill,
    level = if (any(kinds == "ordered")) {
      paste0("if (is.ordered(v)) ", commonest, " else \"missing\"")
    } else {
      "\"missing\""
    },
    value = if (is.character(settings$value)) r_text(settings$value)
  ) %||% commonest
  day <- if (by_mode) "commonest(v)" else if (settings$fill == "mean") {
    "mean(as.numeric(v), na.rm = TRUE)"
  } else {
    "median(as.numeric(v), na.rm = TRUE)"
  }
  values <- c(
    "is.character(v)" = "\"\"", "is.factor(v)" = category,
    "inherits(v, c(\"Date\", \"POSIXct\"))" = paste0("structure(", day, ", class = class(v))"),
    "is.numeric(v)" = number
  )[c(
    any(kinds == "text"), any(kinds %in% c("category", "ordered")), any(kinds == "date"),
    any(kinds == "number")
  )]
  last <- length(values)
  columns <- r_columns(names(state$fills), about$kinds)
  head <- paste0("fills", about$i, " <- lapply(x[", columns, "], function(v) ")
  rule <- if (last == 2L) {
    paste0("  if (", names(values)[1], ") ", values[1], " else ", values[2])
  } else {
    c(
      paste0("  if (", names(values)[-last], ") return(", values[-last], ")", recycle0 = TRUE),
      paste0("  ", values[last])
    )
  }
  c(
    if (any(grepl("commonest(", values, fixed = TRUE))) c(
      "commonest <- function(v) {", "  values <- sort(unique(as.numeric(v)))",
      "  values[which.max(tabulate(match(as.numeric(v), values)))]", "}"
    ),
    if (last == 1L) paste0(head, values, ")") else c(paste0(head, "{"), rule, "})")
  )
}

fill_loop <- function(i, new_level, new_ordered) {
  each <- paste0("x[[name]][is.na(x[[name]])] <- fills", i, "[[name]]")
  over <- paste0("  for (name in names(fills", i, ")) ")
  if (!new_level) return(paste0(over, each))
  if (new_ordered) return(code_lines(r"(
  for (name in names(fills<<i>>)) {
    v <- x[[name]]
    fill <- fills<<i>>[[name]]
    if (is.factor(v) && !fill %in% levels(v)) {
      known <- if (is.ordered(v)) c(fill, levels(v)) else c(levels(v), fill)
      v <- factor(v, known, ordered = is.ordered(v))
    }
    v[is.na(v)] <- fill
    x[[name]] <- v
  }
)", i = i))
  c(
    paste0(over, "{"), "    if (is.factor(x[[name]])) {",
    paste0("      levels(x[[name]]) <- union(levels(x[[name]]), fills", i, "[[name]])"), "    }",
    paste0("    ", each), "  }"
  )
}

# Fills that other rows suggest, before the plain ones.
script_row_fill <- function(state, about) {
  columns <- names(fillable(about$frame$columns[names(state$fills)]))
  if (is.null(state$rows) || length(columns) == 0L) return(NULL)
  if (state$rows$by == "nearest") return(script_nearest_fill(columns, about))
  if (length(columns) > 1L) script_model_fill(columns, about)
}

script_nearest_fill <- function(columns, about) {
  all <- if (about$weighted) sum(about$target$weights > 0) else about$frame$n
  few <- all <= 2000L
  rows <- if (about$weighted) {
    if (few) "which(w > 0)" else "sort(which(w > 0)[sample.int(sum(w > 0), 2000)])"
  } else if (!few) {
    "sort(sample.int(nrow(x), 2000))"
  }
  k <- r_text(as.double(about$settings$neighbours))
  chosen <- if (about$weighted) script_weighted_near(about$i, k) else c(
    "near <- donors<<i>>[[name]][nearest]",
    "x[[name]][row] <- if (is.factor(near)) names(which.max(table(near))) else median(near)"
  )
  code_lines(r"(
# the nearest of <<donors>> rows, by Gower's (1971) distance over what both rows have
asked<<i>> <- <<columns>>
<<width>>
places<<i>> <- function(x) {
  t(mapply(function(v, name) {
    if (!is.factor(v)) return(v / width<<i>>[[name]])
    as.numeric(match(v, levels(donors<<i>>[[name]])))
  }, x[asked<<i>>], asked<<i>>))
}
<<seed>>
<<rows>>
donors<<i>> <- x[<<chosen_rows>>asked<<i>>]
<<weights>>
among<<i>> <- places<<i>>(donors<<i>>)
fill_by_rows<<i>> <- function(x) {
  at <- matrix(places<<i>>(x), length(asked<<i>>))
  category <- vapply(donors<<i>>, is.factor, NA)
  for (name in asked<<i>>) {
    given <- which(!is.na(donors<<i>>[[name]]))
    for (row in which(is.na(x[[name]]))) {
      apart <- abs(among<<i>>[, given, drop = FALSE] - at[, row])
      apart[category, ] <- apart[category, ] != 0
      far <- colMeans(apart, na.rm = TRUE)
      nearest <- given[order(far)[seq_len(min(<<k>>, length(given)))]]
<<chosen>>
    }
  }
  x
}
)",
    i = about$i, k = k,
    donors = if (few) "the training" else "2,000 training", width = script_widths(columns, about),
    columns = r_columns(columns, about$kinds), seed = if (!few) r_seed(about$seed),
    rows = if (!is.null(rows)) paste0("donor_rows", about$i, " <- ", rows),
    chosen_rows = if (is.null(rows)) ", " else paste0("donor_rows", about$i, ", "),
    weights = if (about$weighted) paste0(
      "donor_weights", about$i, " <- (", script_weights, ")[donor_rows", about$i, "]"
    ),
    chosen = paste0("      ", gsub("<<i>>", about$i, chosen, fixed = TRUE))
  )
}

# Of neighbours that weigh, the nearest as far as they are `k` rows together.
script_weighted_near <- function(i, k) {
  code_lines(r"(
near <- donors<<i>>[[name]][nearest]
weight <- donor_weights<<i>>[nearest]
weight <- pmax(pmin(weight, <<k>> - c(0, cumsum(weight)[-length(weight)])), 0)
if (is.factor(near)) {
  x[[name]][row] <- names(which.max(tapply(weight, near, sum, default = 0)))
} else {
  below <- cumsum(weight[order(near)]) / sum(weight)
  middle <- which(below >= 0.5 - 1e-12)[1]
  # the mean of two where half of the weight falls between them
  between <- abs(below[middle] - 0.5) <= 1e-12
  above <- which(weight[order(near)] > 0 & seq_along(near) > middle)[1]
  x[[name]][row] <- mean(sort(near)[c(middle, if (between) above)])
}
)", i = i, k = k)
}

script_model_fill <- function(columns, about) {
  kinds <- about$kinds[columns]
  most <- c("500", if (any(kinds != "number")) "if (is.factor(x[[name]])) 12 else 500")
  weights <- if (about$weighted) code_lines(r"(
  .often <- (<<weights>>)[here]
  if (all(.often == round(.often)) && sum(.often) <= 20 * length(here)) {
    here <- rep(here, .often)
    .often <- rep(1, length(here))
  }
)", weights = script_weights)
  code_lines(r"(
# a tree on the other columns for every column with gaps
asked<<i>> <- <<columns>>
grow<<i>> <- function(name) {
  others <- x[setdiff(asked<<i>>, name)]
  others <- others[vapply(others, nlevels, 1) <= (<<most>>)]
  here <- which(!is.na(x[[name]]))
<<some>>
<<weights>>
  .gap <- if (is.factor(x[[name]])) droplevels(x[[name]][here]) else x[[name]][here]
  if (length(others) == 0 || length(unique(.gap)) < 2) return(NULL)
  data <- droplevels(others[here, , drop = FALSE])
  incomplete <- any(vapply(data, function(v) is.factor(v) || anyNA(v), NA))
  grown <- rpart::rpart(.gap ~ .,
    data = setNames(data, paste0("x", seq_along(data))),<<often>>
    method = if (is.factor(.gap)) "class" else "anova",
    control = rpart::rpart.control(
      minsplit = 20, minbucket = 7, cp = 0, xval = 0, maxcompete = 0,
      maxsurrogate = if (incomplete) 5 else 0
    )
  )
  list(tree = rpart::prune(grown, cp = 0.001), levels = lapply(data, levels))
}
<<seed>>
with_gaps<<i>> <- asked<<i>>[vapply(x[asked<<i>>], anyNA, NA)]
trees<<i>> <- Filter(length, sapply(with_gaps<<i>>, grow<<i>>, simplify = FALSE))
fill_by_rows<<i>> <- function(x) {
  filled <- x
  for (name in names(trees<<i>>)) {
    gaps <- which(is.na(x[[name]]))
    if (length(gaps) == 0) next
    known <- trees<<i>>[[name]]$levels
    others <- x[gaps, names(known), drop = FALSE]
    for (one in names(Filter(length, known))) {
      others[[one]] <- factor(others[[one]], known[[one]], ordered = is.ordered(others[[one]]))
    }
    p <- predict(trees<<i>>[[name]]$tree, setNames(others, paste0("x", seq_along(others))))
    filled[[name]][gaps] <- if (is.matrix(p)) colnames(p)[max.col(p, "first")] else p
  }
  filled
}
)",
    i = about$i, columns = r_columns(columns, about$kinds), most = most[length(most)],
    weights = weights, often = if (about$weighted) " weights = .often," else "",
    some = if (about$frame$n > 20000L) {
      "  if (length(here) > 20000) here <- sort(sample(here, 20000))"
    },
    seed = if (about$frame$n > 20000L) r_seed(about$seed)
  )
}
