#' Define a screen of your own
#'
#' Returns a constructor for a screen: a function that takes its arguments, for `screen =` of
#' [plan_comparison()]. All settings of a round are scored on the first splits; then, split after
#' split, the screen says which of them go on. What does not is never ranked. The best mean so far
#' stays whatever the screen says, and settings that one fit serves go together or not at all.
#'
#' @param name One word.
#' @param keep `function(scores, arguments)` giving `TRUE` for every setting that goes on. `scores`
#'   is a matrix, settings x splits that are done, in which higher is better (of a metric where
#'   lower is better, the scores times -1); a setting that failed on a split has `NA` there.
#' @param first On so many splits every setting is scored, at least three.
#' @param defaults Named list: arguments and their default values.
#' @param does One sentence, for [list_parts()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A function with the arguments as arguments.
#' @section Errors:
#' `kw_error_definition` when `keep` uses something from outside itself; while running,
#' `kw_error_search` when it gives anything but one `TRUE` or `FALSE` for each setting.
#' @examples
#' # the better half goes on
#' screen_half <- define_screen("half", function(scores, arguments) {
#'   mean <- rowMeans(scores)
#'   mean >= stats::quantile(mean, arguments$share, na.rm = TRUE)
#' }, defaults = list(share = 0.5))
#' screen_half(share = 0.7)
#' @export
define_screen <- function(name, keep, first = 3, defaults = list(), does = "", ...) {
  no_more(...)
  check_word(name, "name")
  check_named(defaults, "defaults")
  check_sentence(does, "does")
  check_number(first, "first", min = 3, whole = TRUE)
  check_argument(
    is.function(keep) && length(formals(keep)) == 2L, "keep", "a function(scores, arguments)", keep
  )
  check_self_contained(list(keep = keep), name)
  keep <- portable_function(keep, "`keep`")
  make <- function(...) {
    arguments <- given_arguments(list(...), defaults, "screen", name)
    new_screen(name, arguments,
      label = name, check = function(plan) check_screen_splits(plan, first),
      begin = function(about) begin_own_screen(about, first, keep, arguments, name)
    )
  }
  make <- structure(make, defaults = defaults)
  as_member(make, "screen", name, function() maker_definition("screen", name, make, does))
}

begin_own_screen <- function(about, first, keep, arguments, name) {
  begin_by_splits(about, first, function(view, alive, used) {
    good <- view$good[alive, used, drop = FALSE]
    stays <- keep(good, arguments)
    if (!is.logical(stays) || length(stays) != length(alive)) {
      stop_kw("search", paste0(
        "The screen ", quoted(name), " must give TRUE or FALSE for each of ", length(alive),
        " settings; it gave ", describe_value(stays), "."
      ))
    }
    mean <- rowMeans(good)
    best <- alive[which.max(mean)]
    out <- of_whole_fits(setdiff(alive[!(stays %in% TRUE)], best), alive, about$fit)
    behind <- max(c(mean, -Inf), na.rm = TRUE) - mean[match(out, alive)]
    dropped_rows(about, out, length(used), 1, behind, paste0("by the screen \"", name, "\""))
  })
}
