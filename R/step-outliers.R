#' Move outliers to the edge
#'
#' Values beyond the limits learned on the training rows are set to the limit.
#'
#' @param by `"fences"`: quartiles plus or minus `fence` interquartile ranges
#'   (Tukey 1977); `"quantile"`: the `share` and `1 - share` quantiles.
#' @param fence Interquartile ranges beyond the quartiles.
#' @param share Share of the training values beyond each quantile limit.
#' @param columns Which columns; default all numbers. See [of_kind()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on.
#' @examples
#' pre_outliers(fence = among(1.5, 3))
#' @export
pre_outliers <- function(by = "fences", fence = 3, share = 0.01, columns = NULL, ...) {
  no_more(...)
  new_step(
    member_step_outliers(), list(by = by, fence = fence, share = share), rlang::enquo(columns)
  )
}

member_step_outliers <- function() {
  step_definition("outliers",
    learn = learn_outliers, use = use_outliers, script = script_outliers, columns = "number",
    plain = function(state) list(limits = state),
    does = "Moves values beyond learned limits to the limit.",
    hyperparameters = list(
      by = hyperparameter("choice", "fences",
        choices = c("fences", "quantile"),
        sensible = function(rows, columns, classes) among("fences", "quantile"),
        meaning = "How the limits are set."
      ),
      fence = hyperparameter("number", 3,
        min = 0,
        sensible = function(rows, columns, classes) among(1.5, 3),
        meaning = "Interquartile ranges beyond the quartiles.", rising = "Fewer values are moved.",
        active_when = function(settings, kind) settings$by == "fences"
      ),
      share = hyperparameter("number", 0.01,
        min = 0, max = 0.5,
        sensible = function(rows, columns, classes) among(0.005, 0.01, 0.05),
        meaning = "Share of the training values beyond each limit.",
        rising = "More values are moved.",
        active_when = function(settings, kind) settings$by == "quantile"
      )
    )
  )
}

learn_outliers <- function(frame, target, settings, seed) {
  limits <- lapply(dense_columns_of(frame, settings$columns), function(x) {
    if (!is.numeric(x)) refuse_column_kind("outliers", "numbers", x)
    known <- known_values(x, target$weights)
    if (length(known$x) == 0L) return(c(-Inf, Inf))
    if (settings$by == "quantile") {
      shares <- c(settings$share, 1 - settings$share)
      return(weighted_quantile(known$x, shares, known$weights))
    }
    quartiles <- weighted_quantile(known$x, c(0.25, 0.75), known$weights)
    quartiles + c(-1, 1) * settings$fence * diff(quartiles)
  })
  list(state = limits, training = NULL)
}

use_outliers <- function(state, frame) {
  frame_replace(frame, each_known(frame, state, function(x, limits) {
    pmin(pmax(x, limits[1]), limits[2])
  }))
}

script_outliers <- function(state, about) {
  given <- about$weighted || !all(is.finite(unlist(state)))
  limits <- if (about$settings$by == "quantile") {
    paste0("  quantile(v, c(", about$settings$share, ", ", 1 - about$settings$share,
      "), na.rm = TRUE, names = FALSE)")
  } else {
    c(
      "  quartiles <- quantile(v, c(0.25, 0.75), na.rm = TRUE, names = FALSE)",
      paste0("  quartiles + c(-1, 1) * ", r_text(about$settings$fence), " * diff(quartiles)")
    )
  }
  list(does = paste0("clip", about$i), lines = code_lines(r"(
<<learned>>
clip<<i>> <- function(x) {
  for (name in names(limits<<i>>)) {
    x[[name]] <- pmin(pmax(x[[name]], limits<<i>>[[name]][1]), limits<<i>>[[name]][2])
  }
  x
}
)",
    i = about$i, learned = if (given) as_learned(about, limits = state) else c(
      paste0(
        "limits", about$i, " <- lapply(x[", r_columns(names(state), about$kinds), "], function(v) {"
      ), limits, "})"
    )
  ))
}
