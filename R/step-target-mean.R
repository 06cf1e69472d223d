#' Replace categories by the mean outcome of their rows
#'
#' For two classes the share of the event, for more the share of every class but
#' the first. Means are drawn towards the overall mean as if `smoothing` rows of
#' it had been added (Micci-Barreca 2001, SIGKDD Explorations 3). Training rows
#' get means learned without their own part of the training rows; parts keep
#' groups, and the copies that a bootstrap makes of a row, together. So the column
#' tells the family nothing about a training row that it would not know about a
#' new one.
#'
#' @param smoothing Rows' worth of overall mean added to each level, at least 0.
#' @param folds Into how many parts the training rows are divided.
#' @param columns Which columns; default all categories. See [of_kind()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on.
#' @examples
#' pre_target_mean(smoothing = among(5, 50), columns = c("glaze", "clay_body"))
#' @export
pre_target_mean <- function(smoothing = 10, folds = 5, columns = NULL, ...) {
  no_more(...)
  new_step(
    member_step_target_mean(), list(smoothing = smoothing, folds = folds), rlang::enquo(columns)
  )
}

member_step_target_mean <- function() {
  step_definition("target_mean",
    learn = learn_target_mean, use = use_target_mean, script = script_target_mean,
    plain = function(state) {
      list(names = state$names, means = lapply(state$means, function(known) {
        list(levels = known$levels, means = matrix_rows(known$means))
      }))
    },
    does = "Replaces a category by the smoothed mean outcome of its rows, cross-fitted.",
    columns = c("category", "ordered"), cross_fitted = TRUE, random = TRUE,
    hyperparameters = list(
      smoothing = hyperparameter("number", 10,
        min = 0,
        sensible = function(rows, columns, classes) from_to(1, 100, spacing = "log", points = 4),
        meaning = "How many rows' worth of the overall mean is added to each level.",
        rising = "Rare levels are drawn more to the overall mean: less variance, more bias."
      ),
      folds = hyperparameter("whole", 5,
        min = 2,
        meaning = "Into how many parts training rows are divided for their own means.",
        rising = "Training rows' means rest on more rows; slower."
      )
    )
  )
}

learn_target_mean <- function(frame, target, settings, seed) {
  for (name in settings$columns) {
    if (!is.factor(frame$columns[[name]])) {
      refuse_column_kind("target_mean", "categories", frame$columns[[name]])
    }
  }
  y <- outcome_matrix(target$outcome)
  names <- paste0(
    rep(settings$columns, each = ncol(y)), "_mean",
    rep(colnames(y), length(settings$columns)),
    recycle0 = TRUE
  )
  names <- fresh_names(names, setdiff(frame_names(frame), settings$columns))
  weights <- weights_as_rows(target$weights) %||% rep(1, frame$n)
  learn_rows <- function(rows) {
    lapply(frame$columns[settings$columns], function(x) {
      level_means(x[rows], y[rows, , drop = FALSE], settings$smoothing, weights[rows])
    })
  }
  state <- list(means = learn_rows(seq_len(frame$n)), names = names)
  training <- cross_fit(frame, target, settings$folds, function(rows) {
    list(means = learn_rows(rows), names = names)
  }, use_target_mean)
  list(state = state, training = training)
}

# Columns whose means are taken: the outcome, or 0/1 of every class but the first.
outcome_matrix <- function(outcome) {
  if (!is.factor(outcome)) return(matrix(outcome, dimnames = list(NULL, "")))
  levels <- levels(outcome)[-1]
  y <- vapply(levels, function(level) as.double(outcome == level), numeric(length(outcome)))
  matrix(
    y,
    length(outcome),
    dimnames = list(NULL, if (length(levels) == 1L) "" else paste0("_", levels))
  )
}

# Levels x outcomes; the last row, for levels never seen, is the overall mean. A row counts as
# often as its weight.
level_means <- function(x, y, smoothing, weights) {
  overall <- colSums(weights * y) / max(sum(weights), 1e-12)
  codes <- as.integer(x)
  here <- !is.na(codes)
  counts <- numeric(nlevels(x))
  sums <- matrix(0, nlevels(x), ncol(y))
  if (any(here)) {
    found <- rowsum(cbind(weights, weights * y)[here, , drop = FALSE], codes[here])
    counts[as.integer(rownames(found))] <- found[, 1L]
    sums[as.integer(rownames(found)), ] <- found[, -1L]
  }
  seen <- counts > 0
  means <- (sums + rep(smoothing * overall, each = nlevels(x))) / pmax(counts + smoothing, 1e-12)
  list(levels = levels(x)[seen], means = unname(rbind(means[seen, , drop = FALSE], overall)))
}

use_target_mean <- function(state, frame) {
  columns <- each_known(frame, state$means, function(x, known) {
    row <- codes_among(x, known$levels)
    row[is.na(row)] <- nrow(known$means)
    lapply(seq_len(ncol(known$means)), function(j) known$means[row, j])
  })
  columns <- stats::setNames(as.list(unlist(columns, recursive = FALSE)), state$names)
  frame_swap(frame, remove = names(state$means), columns = columns)
}

# Training rows as a cross-fitted step must show them: every part is treated with
# what the other parts taught. Parts are not stratified, so that not even the
# division depends on a row's own outcome. Call it under a seed.
cross_fit <- function(frame, target, parts, learn_rows, use) {
  part <- inner_parts(target, parts, stratify = FALSE)
  pieces <- lapply(sort(unique(part)), function(p) {
    rows <- which(part == p)
    others <- which(part != p)
    if (length(others) == 0L) others <- rows
    list(rows = rows, frame = use(learn_rows(others), frame_rows(frame, rows)))
  })
  order <- order(unlist(lapply(pieces, `[[`, "rows")))
  list(frame = frame_rows(bind_frames(lapply(pieces, `[[`, "frame")), order), target = target)
}

script_target_mean <- function(state, about) {
  y <- about$target$outcome
  if (length(state$means) == 0L) return(list(lines = NULL))
  if (about$weighted || nlevels(y) > 2L) return(script_target_means(state, about))
  by <- names(state$means)
  made <- new_column_names(
    about, "mean_names", "paste0(name, \"_mean\")", paste0(by, "_mean"), state$names, by
  )
  list(does = paste0("as_means", about$i), lines = code_lines(r"(
level_means<<i>> <- function(x, y) {
  lapply(x[<<columns>>], function(v) {
    rows <- tabulate(v, nlevels(v))
    sums <- vapply(levels(v), function(level) sum(y[v %in% level]), 0)
    means <- (sums + <<smoothing>> * mean(y)) / (rows + <<smoothing>>)
    c(means[rows > 0], list(otherwise = mean(y)))
  })
}
<<names>>
as_means<<i>> <- function(x, known = means<<i>>) {
  for (name in names(known)) {
    levels <- known[[name]]
    at <- match(x[[name]], names(levels)[-length(levels)], nomatch = length(levels))
    x[[name]] <- NULL
    x[[<<made>>]] <- unlist(levels, use.names = FALSE)[at]
  }
  x
}
target<<i>> <- <<target>>
means<<i>> <- level_means<<i>>(x, target<<i>>)
)",
    i = about$i, columns = r_columns(names(state$means), about$kinds),
    smoothing = r_text(as.double(about$settings$smoothing)),
    target = if (is.factor(y)) "as.numeric(y == levels(y)[2])" else "y",
    names = made$lines, made = made$code
  ), training = script_cross_fitted(about, about$settings$folds, code_lines(r"(
learned <- level_means<<i>>(x[others, , drop = FALSE], target<<i>>[others])
as_means<<i>>(x[!others, , drop = FALSE], learned)
)", i = about$i)))
}

# Of many classes, a mean each but for the first; rows that count as their weights.
script_target_means <- function(state, about) {
  y <- about$target$outcome
  by <- names(state$means)
  ends <- if (nlevels(y) > 2L) paste0("_", levels(y)[-1]) else ""
  made <- new_column_names(
    about, "mean_names", if (nlevels(y) > 2L) {
      paste0("paste0(name, \"_mean_\", colnames(target", about$i, "))")
    } else {
      "paste0(name, \"_mean\")"
    },
    paste0(rep(by, each = length(ends)), "_mean", ends), state$names,
    rep(by, each = length(ends))
  )
  list(does = paste0("as_means", about$i), lines = code_lines(r"(
level_means<<i>> <- function(x, y, counted) {
  overall <- colSums(counted * y) / sum(counted)
  lapply(x[<<columns>>], function(v) {
    totals <- vapply(levels(v), function(level) {
      colSums((counted * cbind(1, y))[v %in% level, , drop = FALSE])
    }, numeric(1 + ncol(y)))
    means <- (totals[-1, , drop = FALSE] + <<smoothing>> * overall) /
      rep(totals[1, ] + <<smoothing>>, each = ncol(y))
    seen <- totals[1, ] > 0
    list(levels = levels(v)[seen], means = rbind(t(means[, seen, drop = FALSE]), overall))
  })
}
<<names>>
as_means<<i>> <- function(x, known = means<<i>>) {
  for (name in names(known)) {
    levels <- known[[name]]$levels
    at <- match(x[[name]], levels, nomatch = length(levels) + 1)
    x[[name]] <- NULL
    x[<<made>>] <- as.data.frame(known[[name]]$means[at, , drop = FALSE])
  }
  x
}
target<<i>> <- <<target>>
counted<<i>> <- <<counted>>
means<<i>> <- level_means<<i>>(x, target<<i>>, counted<<i>>)
)",
    i = about$i, columns = r_columns(by, about$kinds),
    smoothing = r_text(as.double(about$settings$smoothing)),
    target = if (is.factor(y)) {
      "vapply(levels(y)[-1], function(level) as.numeric(y == level), numeric(length(y)))"
    } else {
      "cbind(y)"
    },
    counted = if (about$weighted) script_weights else "rep(1, length(y))",
    names = made$lines, made = made$code
  ), training = script_cross_fitted(about, about$settings$folds, code_lines(r"(
learned <- level_means<<i>>(
  x[others, , drop = FALSE], target<<i>>[others, , drop = FALSE], counted<<i>>[others]
)
as_means<<i>>(x[!others, , drop = FALSE], learned)
)", i = about$i)))
}
