#' Balance the classes of the training rows
#'
#' Validation and new rows are never touched. Where rows have weights, classes are as large as
#' their rows weigh together. Probabilities of a family fitted on
#' balanced rows are too high for the rare classes: judge it by ranking metrics or
#' choose a threshold.
#'
#' @param by `"thin"`: drop rows of frequent classes; `"repeat"`: repeat rows of rare
#'   classes; `"synthetic"`: make new rows of rare classes between a row and one of
#'   its nearest rows of the class (Chawla et al. 2002, JAIR 16); categories come from
#'   one or the other.
#' @param ratio Size that rare classes get, as a share of the commonest one, above
#'   0 and at most 1.
#' @param neighbours For `"synthetic"`: how many nearest rows are considered.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on.
#' @examples
#' pre_balance(by = among("thin", "repeat", "synthetic"), ratio = 0.5)
#' @export
pre_balance <- function(by = "thin", ratio = 1, neighbours = 5, ...) {
  no_more(...)
  new_step(member_step_balance(), list(by = by, ratio = ratio, neighbours = neighbours))
}

member_step_balance <- function() {
  step_definition("balance",
    learn = learn_balance, use = function(state, frame) frame, script = script_balance,
    plain = plain_nothing,
    does = "Evens out the classes among the training rows.", changes_rows = TRUE, random = TRUE,
    hyperparameters = list(
      by = hyperparameter("choice", "thin",
        choices = c("thin", "repeat", "synthetic"),
        sensible = function(rows, columns, classes) among("thin", "repeat", "synthetic"),
        meaning = "How classes are evened out."
      ),
      ratio = hyperparameter("number", 1,
        min = 0, max = 1, open_min = TRUE,
        sensible = function(rows, columns, classes) among(0.3, 0.6, 1),
        meaning = "Size of the rare classes as a share of the commonest.",
        rising = "More even classes."
      ),
      neighbours = hyperparameter(
        "whole",
        5,
        min = 1,
        sensible = function(rows, columns, classes) among(3, 5, 10),
        meaning = "Nearest rows that a made-up row may lie towards.",
        rising = "Made-up rows are spread wider.",
        active_when = function(settings, kind) settings$by == "synthetic"
      )
    )
  )
}

learn_balance <- function(frame, target, settings, seed) {
  y <- target$outcome
  if (!is.factor(y)) {
    stop_kw(
      "columns",
      "pre_balance() evens out classes, but the outcome is a number.",
      remedy = "Leave it out."
    )
  }
  weights <- weights_as_rows(target$weights)
  rows <- split(seq_along(y), y, drop = TRUE)
  if (!is.null(weights)) rows <- Filter(length, lapply(rows, function(r) r[weights[r] > 0]))
  sizes <- vapply(rows, function(r) if (is.null(weights)) length(r) else sum(weights[r]), 1)
  if (settings$by == "thin") {
    most <- max(1, round(min(sizes) / settings$ratio))
    kept <- sort(unlist(lapply(rows, drawn_up_to, most, weights)))
    return(list(
      state = NULL,
      training = list(frame = frame_rows(frame, kept), target = target_rows(target, kept))
    ))
  }
  wanted <- round(max(sizes) * settings$ratio)
  extra <- Map(function(r, size) if (size < wanted) drawn_again(r, wanted - size, weights), rows,
    sizes)
  extra <- as.integer(unlist(extra, use.names = FALSE))
  if (settings$by == "synthetic") {
    return(list(state = NULL, training = with_made_up_rows(frame, target, rows, extra, settings)))
  }
  all <- c(seq_along(y), extra)
  list(
    state = NULL,
    training = list(frame = frame_rows(frame, all), target = target_rows(target, all))
  )
}

# Rows of a class, by chance so many (of so much weight) of them, if there are more.
drawn_up_to <- function(rows, most, weights) {
  if (is.null(weights)) {
    return(if (length(rows) > most) rows[sample.int(length(rows), most)] else rows)
  }
  if (sum(weights[rows]) <= most) return(rows)
  shuffled <- rows[sample.int(length(rows))]
  shuffled[seq_len(max(1L, sum(cumsum(weights[shuffled]) <= most + 1e-9)))]
}

# So many rows (of so much weight) of a class, drawn with replacement.
drawn_again <- function(rows, n, weights) {
  if (is.null(weights)) return(rows[sample.int(length(rows), n, replace = TRUE)])
  enough <- ceiling(2 * n / mean(weights[rows])) + 10
  drawn <- rows[sample.int(length(rows), enough, replace = TRUE)]
  drawn[cumsum(weights[drawn]) <= n + 1e-9]
}

# `extra`: for each row to be made, the row it starts from.
with_made_up_rows <- function(frame, target, rows, extra, settings) {
  if (length(extra) == 0L) return(list(frame = frame, target = target))
  partner <- integer(length(extra))
  usable <- frame$columns[vapply(frame$columns, column_kind, character(1)) %in% c(
    "number",
    "category", "ordered"
  )]
  places <- learn_places(usable, target$weights)
  for (class in rows) {
    mine <- which(extra %in% class)
    if (length(mine) == 0L) next
    starts <- unique(extra[mine])
    place <- function(r) place_rows(lapply(usable, function(x) x[r]), places)
    near <- nearest_rows(
      place(starts), place(class), placed_categories(places),
      min(settings$neighbours, max(1L, length(class) - 1L)),
      match(starts, class)
    )
    pick <- cbind(1L + floor(stats::runif(length(mine)) * nrow(near)), match(extra[mine], starts))
    partner[mine] <- class[near[pick]]
  }
  between <- stats::runif(length(extra))
  columns <- lapply(frame$columns, function(x) {
    if (is.numeric(x)) return(x[extra] + between * (x[partner] - x[extra]))
    x[ifelse(between < 0.5, extra, partner)]
  })
  sparse <- if (!is.null(frame$sparse)) {
    Matrix::Diagonal(x = 1 - between) %*% frame$sparse[extra, , drop = FALSE] +
      Matrix::Diagonal(x = between) %*% frame$sparse[partner, , drop = FALSE]
  }
  if (!is.null(sparse)) colnames(sparse) <- colnames(frame$sparse)
  made <- target_rows(target, extra)
  made$source_row[] <- NA
  list(
    frame = bind_frames(list(frame, new_frame(plain_frame(columns, length(extra)), sparse))),
    target = new_target(
      c_outcome(target$outcome, made$outcome), c(target$weights, made$weights),
      c_outcome(target$group, made$group),
      c(target$source_row, made$source_row), target$scale, target$kind,
      c(target$exposure, made$exposure), target$quantiles, target$recalibration,
      rbind(target$costs, made$costs)
    )
  )
}

c_outcome <- function(a, b) {
  if (is.factor(a)) factor(c(as.character(a), as.character(b)), levels = levels(a)) else c(a, b)
}

script_balance <- function(state, about) {
  by <- about$settings$by
  lines <- code_filler(
    i = about$i, ratio = r_text(about$settings$ratio), seed = r_seed(about$seed),
    size = if (about$weighted) {
      paste0("vapply(class_rows", about$i, ", function(r) sum(weight", about$i, "[r]), 0)")
    } else {
      paste0("lengths(class_rows", about$i, ")")
    }
  )
  picked <- if (by == "thin") lines(r"(
most<<i>> <- max(1, round(min(class_size<<i>>) / <<ratio>>))
balanced<<i>> <- sort(unlist(Map(function(r, size) {
  if (size <= most<<i>>) return(r)
  <<draw>>
}, class_rows<<i>>, class_size<<i>>)))
)", draw = if (about$weighted) lines(r"(
shuffled <- r[sample.int(length(r))]
shuffled[seq_len(max(1, sum(cumsum(weight<<i>>[shuffled]) <= most<<i>> + 1e-9)))]
)") else lines("r[sample.int(length(r), most<<i>>)]")) else lines(r"(
least<<i>> <- round(max(class_size<<i>>) * <<ratio>>)
drawn<<i>> <- as.integer(unlist(Map(function(r, size) {
  if (size >= least<<i>>) return(NULL)
  <<draw>>
}, class_rows<<i>>, class_size<<i>>)))
<<all>>
)",
    draw = if (about$weighted) lines(r"(
again <- ceiling(2 * (least<<i>> - size) / mean(weight<<i>>[r])) + 10
drawn <- r[sample.int(length(r), again, replace = TRUE)]
drawn[cumsum(weight<<i>>[drawn]) <= least<<i>> - size + 1e-9]
)") else lines("r[sample.int(length(r), least<<i>> - size, replace = TRUE)]"),
    all = if (by == "repeat") lines("balanced<<i>> <- c(seq_along(y), drawn<<i>>)")
  )
  list(training = lines(r"(
<<seed>>
<<weight>>
class_rows<<i>> <- split(<<all>>, y<<some>>, drop = TRUE)
class_size<<i>> <- <<size>>
<<picked>>
<<made>>
<<kept>>
)",
    weight = if (about$weighted) paste0("weight", about$i, " <- ", script_weights),
    all = if (about$weighted) "which(w > 0)" else "seq_along(y)",
    some = if (about$weighted) "[w > 0]" else "", picked = picked,
    made = if (by == "synthetic") script_made_up_rows(about),
    kept = if (by != "synthetic") c(
      lines("x <- x[balanced<<i>>, , drop = FALSE]"),
      paste0(about$beside, " <- ", about$beside, "[balanced", about$i, "]")
    )
  ))
}

# Rows between a row of the class and one of its nearest of that class.
script_made_up_rows <- function(about) {
  usable <- names(about$kinds)[about$kinds %in% c("number", "category", "ordered")]
  # in the engine's order, in which distances are summed
  usable <- intersect(names(about$frame$columns), usable)
  code_lines(r"(
# places by Gower's (1971) distance: numbers in units of their quartiles, levels alike or not
placed<<i>> <- <<usable>>
<<width>>
place<<i>> <- t(matrix(unlist(Map(function(v, width) {
  if (is.factor(v)) as.numeric(v) else v / width
}, x[placed<<i>>], width<<i>>)), nrow(x)))
category<<i>> <- vapply(x[placed<<i>>], is.factor, NA)
partner<<i>> <- integer(length(drawn<<i>>))
for (r in class_rows<<i>>) {
  mine <- which(drawn<<i>> %in% r)
  starts <- unique(drawn<<i>>[mine])
  near <- lapply(starts, function(start) {
    apart <- abs(place<<i>>[, r, drop = FALSE] - place<<i>>[, start])
    apart[category<<i>>, ] <- apart[category<<i>>, ] != 0
    far <- colMeans(apart, na.rm = TRUE)
    far[is.nan(far) | r == start] <- Inf
    r[order(far)[seq_len(min(<<k>>, max(1, length(r) - 1), length(r)))]]
  })
  if (length(mine) == 0) next
  pick <- 1 + floor(runif(length(mine)) * length(near[[1]]))
  partner<<i>>[mine] <- mapply(function(near, at) near[at], near[match(drawn<<i>>[mine], starts)],
    pick)
}
between<<i>> <- runif(length(drawn<<i>>))
made<<i>> <- as.data.frame(lapply(x, function(v) {
  if (is.numeric(v)) {
    return(v[drawn<<i>>] + between<<i>> * (v[partner<<i>>] - v[drawn<<i>>]))
  }
  v[ifelse(between<<i>> < 0.5, drawn<<i>>, partner<<i>>)]
}), optional = TRUE)
x <- rbind(x, made<<i>>)
<<beside>>
)",
    i = about$i, usable = r_columns(usable, about$kinds),
    k = r_text(as.double(about$settings$neighbours)),
    width = script_widths(usable, about),
    beside = paste0(about$beside, " <- ", about$beside, "[c(seq_along(", about$beside, "), drawn",
      about$i, ")]")
  )
}

# Units of numbers for distances, NA for categories; under weights as values.
script_widths <- function(columns, about) {
  if (about$weighted) {
    places <- learn_places(about$frame$columns[columns], about$target$weights)
    return(as_learned(about, width = lapply(places, function(place) place$width %||% NA)))
  }
  code_lines(r"(
width<<i>> <- lapply(x[<<columns>>], function(v) {
  if (is.factor(v)) return(NA)
  width <- IQR(v, na.rm = TRUE)
  if (is.na(width) || width <= 0) width <- suppressWarnings(diff(range(v, na.rm = TRUE)))
  if (is.finite(width) && width > 0) width else 1
})
)", i = about$i, columns = r_columns(columns, about$kinds))
}
