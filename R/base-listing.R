# Returned tables that say, when they are printed, what they are: tibbles with a class of their own
# and what print.kw_listing() needs to know. For everything else they are tibbles.

# A tibble with one more class and attributes; unlike structure() it does not touch the
# row names.
mark_table <- function(table, class, ...) {
  more <- list(...)
  for (name in names(more)) attr(table, name) <- more[[name]]
  class(table) <- c(class, class(table))
  table
}

# `title`: a sentence over the rows; `none`: what is said when there are none, `foot`: a sentence
#   below.
# `scores`: columns in a metric's unit, rounded to `certain`, the uncertainty: one number, or one a
#   metric, by name.
# `shares`: columns shown in per cent; `hide`: columns not shown; `called`: their names in print.
# `interval`: the level of `low` and `high`, which are shown as one column.
# `texts`: columns of sentences, shown below their row.
# `last`: the column that stands last, where it is wrapped; `rows`: how many are shown.
# `settings`: tables of settings by candidate, from which the column `setting` is put in words.
listing <- function(
  table, title, none = title, foot = NULL, scores = NULL, certain = NA, shares = NULL,
  hide = NULL, called = NULL, interval = NULL, texts = NULL, settings = NULL, last = NULL,
  rows = 15
) {
  spec <- list(
    title = title, none = none, foot = foot, scores = scores, certain = certain, shares = shares,
    hide = hide, called = called, interval = interval, texts = texts, settings = settings,
    last = last, rows = rows, names = names(table)
  )
  mark_table(table, "kw_listing", listing = spec)
}

# Without all its columns a listing is a tibble like any other.
#' @export
`[.kw_listing` <- function(x, ...) {
  out <- NextMethod()
  if (is.data.frame(out) && !identical(names(out), names(x))) {
    attr(out, "listing") <- attr(out, "about") <- NULL
    class(out) <- setdiff(class(out), c("kw_standings", "kw_listing"))
  }
  out
}

# The median of what is known: an uncertainty for all rows of a table.
middle <- function(x) {
  known <- x[is.finite(x) & x > 0]
  if (length(known) > 0L) stats::median(known) else NA_real_
}
