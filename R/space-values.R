# Values that vary: they stand in place of the value itself.

#' Values to try
#'
#' Put one of these in place of a hyperparameter's value, or in place of a step,
#' and the comparison tries the values they describe.
#'
#' * `among()`: exactly these values.
#' * `from_to()`: a range. A grid search cuts it into `points`; a random search
#'   draws from it continuously unless `points` is given. Values are rounded to
#'   6 significant digits, so that what is printed is what is fitted; whole-number
#'   hyperparameters get whole values.
#' * `sensible()`: the range that the family or step recommends for the table at
#'   hand; `sensible(fam_forest())` does so for all hyperparameters that have
#'   not been set otherwise.
#' * `either()`: alternative steps (or lists of steps); `as_is()` stands for
#'   doing nothing; `optional(step)` is either the step or `as_is()`.
#'
#' @param ... For `among()`: the values, or one vector of them. For `either()`:
#'   the alternatives, named.
#' @param from,to Ends of the range; both are tried.
#' @param spacing `"even"`, or `"log"` for ranges that span several magnitudes.
#' @param points How many values a grid cuts the range into; wins over
#'   `search_grid(points =)`.
#' @param part A family or step whose hyperparameters are all to vary sensibly.
#' @param step A step, or a list of steps.
#' @return An object that stands for the values.
#' @section Errors:
#' `kw_error_argument` when a range or a set of values is impossible.
#' @examples
#' fam_tree(
#'   pruning = from_to(1e-4, 0.1, spacing = "log", points = 20),
#'   min_leaf = among(1, 7, 20)
#' )
#' pipeline(pre_missing(), either(plain = as_is(), scaled = pre_scale()), fam_linear())
#' @name values_to_try
NULL

#' @rdname values_to_try
#' @export
among <- function(...) {
  given <- list(...)
  values <- if (length(given) == 1L) given[[1]] else given
  simple <- vapply(given, function(x) is.atomic(x) && length(x) == 1L, logical(1))
  if (length(given) > 1L && all(simple)) values <- unlist(given)
  if (length(values) == 0L) {
    stop_kw("argument", "`among()` needs at least one value.")
  }
  if (is.atomic(values)) {
    if (anyNA(values)) stop_kw("argument", "`among()` cannot try a missing value.")
    if (is.numeric(values)) values <- signif(as.double(values), 6)
    twice <- duplicated(values)
    if (any(twice)) {
      stop_kw("argument", paste0(
        "`among()` has the value ", describe_value(values[twice][1]),
        " more than once."
      ))
    }
  }
  structure(list(values = values), class = c("kw_among", "kw_varying"))
}

#' @rdname values_to_try
#' @export
from_to <- function(from, to, spacing = "even", points = NULL, ...) {
  no_more(...)
  check_number(from, "from")
  check_number(to, "to")
  check_choice(spacing, c("even", "log"), "spacing")
  if (!is.null(points)) check_number(points, "points", min = 2, max = 10000, whole = TRUE)
  if (to <= from) {
    stop_kw("argument", paste0(
      "`to` must be above `from`; got from ", format(from), " to ",
      format(to), "."
    ))
  }
  if (spacing == "log" && from <= 0) {
    stop_kw("argument", paste0("Log spacing needs `from` above 0; got ", format(from), "."),
      remedy = "Use spacing = \"even\", or start above 0."
    )
  }
  structure(list(from = signif(from, 6), to = signif(to, 6), spacing = spacing, points = points),
    class = c("kw_range", "kw_varying")
  )
}

#' @rdname values_to_try
#' @export
sensible <- function(part = NULL, ...) {
  no_more(...)
  if (is.null(part)) return(structure(list(), class = c("kw_sensible", "kw_varying")))
  check_argument(inherits(part, c("kw_family", "kw_step")), "part", "a family or a step", part)
  free <- names(Filter(function(h) !is.null(h$sensible), part$definition$arguments))
  free <- setdiff(free, part$given)
  part$settings[free] <- rep(list(sensible()), length(free))
  part
}

#' @rdname values_to_try
#' @export
either <- function(...) {
  alternatives <- list(...)
  if (length(alternatives) < 2L) {
    stop_kw("argument", "`either()` needs at least two alternatives.")
  }
  check_named(alternatives, "either(...)")
  alternatives <- lapply(alternatives, flatten_steps, inside = "either()")
  structure(list(alternatives = alternatives), class = c("kw_either", "kw_varying"))
}

#' @rdname values_to_try
#' @export
optional <- function(step, ...) {
  no_more(...)
  steps <- flatten_steps(step, inside = "optional()")
  if (length(steps) == 0L) stop_kw("argument", "`optional()` needs a step that does something.")
  structure(list(alternatives = list(no = list(), yes = steps)),
    class = c("kw_either", "kw_varying")
  )
}

#' @rdname values_to_try
#' @export
as_is <- function() structure(list(), class = "kw_as_is")

is_varying <- function(x) inherits(x, "kw_varying")

# Values of a range cut into `points`; whole numbers are rounded and merged.
range_values <- function(range, points, whole = FALSE) {
  points <- range$points %||% points
  position <- seq(0, 1, length.out = points)
  values <- place_in_range(range, position, whole)
  unique(values)
}

# Where positions 0..1 lie in the range.
place_in_range <- function(range, position, whole = FALSE) {
  values <- if (range$spacing == "log") {
    exp(log(range$from) + position * (log(range$to) - log(range$from)))
  } else {
    range$from + position * (range$to - range$from)
  }
  values <- signif(pmin(pmax(values, range$from), range$to), 6)
  if (whole) round(values) else values
}

# All values that a setting may take: one, or those of among().
possible_values <- function(value) if (inherits(value, "kw_among")) value$values else value

# Alternatives of either() and optional(): steps only.
flatten_steps <- function(part, inside) {
  nodes <- as_nodes(part)
  if (any(vapply(nodes, function(node) inherits(node$part, "kw_family"), logical(1)))) {
    stop_kw("pipeline", paste0(inside, " is for steps; a family cannot stand in it."),
      remedy = "To compare families, give each its own pipeline in candidates()."
    )
  }
  nodes
}

# A list of nodes: list(part = a step, either or family, name = "" or a prefix).
as_nodes <- function(part, name = "") {
  if (inherits(part, c("kw_step", "kw_either", "kw_family"))) {
    return(list(list(part = part, name = name)))
  }
  if (inherits(part, "kw_as_is")) return(list())
  if (is.list(part) && !is.object(part)) {
    names <- names(part) %||% rep("", length(part))
    if (nzchar(name) && length(part) == 1L && !nzchar(names)) names <- name
    return(unlist(Map(as_nodes, part, names), recursive = FALSE, use.names = FALSE))
  }
  if (inherits(part, "kw_pipeline")) {
    stop_kw("pipeline", "A pipeline cannot stand inside a pipeline.",
      remedy = "Give the steps as a list: ready <- list(pre_missing(), pre_onehot())."
    )
  }
  if (is.function(part)) {
    stop_kw("pipeline", "A function was given where a step or family is expected.",
      remedy = "Call it: pre_missing(), not pre_missing."
    )
  }
  stop_kw(
    "pipeline", paste0("A pipeline takes steps and a family; got ", describe_value(part), ".")
  )
}
