#' Define a way to split the rows of your own
#'
#' Returns a constructor for a splitter: a function that takes its arguments, to be given to
#' [plan_comparison()] like any other.
#'
#' @param name One word.
#' @param divide `function(about, arguments)`, run under a seed of its own, giving a list of splits,
#'   each a list of `training` and `validation`: row numbers of the working rows, and, if the whole
#'   is repeated, `rep`, the number of the repeat. `about` has `n`, how many working rows there
#'   are, their `outcome`, `group` and `time` (`NULL` where the brief has none), and
#'   `column(name)`, which gives any other column.
#' @param defaults Named list: arguments and their default values.
#' @param spread How the standard error of a mean over the splits is had: `"folds"` (every row is
#'   held out once in a repeat), `"draws"` (rows are drawn anew for every split) or `"dependent"`
#'   (the splits are no repetitions of one another).
#' @param paired Do the differences of two settings on these splits say which is better, so that
#'   [shortlist()] may compare them? Not where later splits contain what earlier ones hold out.
#' @param does One sentence, for [list_parts()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A function with the arguments as arguments.
#' @section Errors:
#' `kw_error_definition` when `divide` uses something from outside itself; when a plan is made,
#' `kw_error_splits` when it gives no rows, rows that there are not, or rows that are both learned
#' from and held out.
#' @examples
#' # every other row
#' split_halves <- define_split("halves",
#'   divide = function(about, arguments) {
#'     odd <- seq_len(about$n) %% 2 == 1
#'     list(
#'       list(training = which(odd), validation = which(!odd)),
#'       list(training = which(!odd), validation = which(odd))
#'     )
#'   }
#' )
#' split_halves()
#' @export
define_split <- function(name, divide, defaults = list(), spread = "folds", paired = TRUE,
                         does = "", ...) {
  no_more(...)
  check_word(name, "name")
  check_named(defaults, "defaults")
  check_argument(
    is.function(divide) && length(formals(divide)) == 2L, "divide",
    "a function(about, arguments)", divide
  )
  check_choice(spread, c("folds", "draws", "dependent"), "spread")
  check_flag(paired, "paired")
  check_sentence(does, "does")
  check_self_contained(list(divide = divide), name)
  divide <- portable_function(divide, "`divide`")
  make <- function(...) {
    arguments <- given_arguments(list(...), defaults, "split", name)
    splitter(
      name, arguments,
      generate = function(about) own_splits(divide(about, arguments), about$n, name),
      spread = spread, label = name, paired = paired
    )
  }
  make <- structure(make, defaults = defaults)
  as_member(make, "split", name, function() maker_definition("split", name, make, does))
}

own_splits <- function(found, n, name) {
  refuse <- function(...) stop_kw("splits", paste0("The split ", quoted(name), " ", ...))
  if (!is.list(found) || length(found) == 0L) refuse("gives no splits.")
  lapply(seq_along(found), function(i) {
    parts <- as.list(found[[i]])
    for (part in c("training", "validation")) {
      rows <- parts[[part]]
      if (!is.numeric(rows) || length(rows) == 0L || anyNA(rows)) {
        refuse("gives no ", part, " rows in split ", i, ".")
      }
      strange <- rows[!rows %in% seq_len(n)]
      if (length(strange) > 0L) {
        refuse("names the row ", strange[1], " in split ", i, "; there are ", n, " rows.")
      }
    }
    both <- intersect(parts$training, parts$validation)
    if (length(both) > 0L) refuse("learns from a row that it holds out, ", both[1], ".")
    new_split(parts$training, parts$validation, parts$rep %||% 1L, i)
  })
}
