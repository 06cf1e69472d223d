#' Cut numbers into bins
#'
#' The result is an ordered category; follow it with [pre_onehot()] or
#' [pre_ordinal()]. Missing values stay missing.
#'
#' @param by `"quantile"`: bins of about equal numbers of rows; `"width"`: of equal
#'   width; `"tree"`: where a small tree of the outcome on the column alone divides.
#' @param bins Most bins.
#' @param columns Which columns; default all numbers. See [of_kind()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on.
#' @examples
#' pre_bins(by = among("quantile", "tree"), bins = 5, columns = wall_mm)
#' @export
pre_bins <- function(by = "quantile", bins = 5, columns = NULL, ...) {
  no_more(...)
  new_step(member_step_bins(), list(by = by, bins = bins), rlang::enquo(columns))
}

member_step_bins <- function() {
  step_definition("bins",
    learn = learn_bins, use = use_bins, script = script_bins,
    plain = function(state) list(cuts = state),
    columns = "number", packages = "rpart",
    does = "Cuts numbers into ordered categories.",
    hyperparameters = list(
      by = hyperparameter("choice", "quantile",
        choices = c("quantile", "width", "tree"),
        sensible = function(rows, columns, classes) among("quantile", "tree"),
        meaning = "Where the cuts lie."
      ),
      bins = hyperparameter("whole", 5,
        min = 2, max = 100,
        sensible = function(rows, columns, classes) among(3, 5, 10),
        meaning = "Most bins that a column is cut into.", rising = "Less bias, more variance."
      )
    )
  )
}

learn_bins <- function(frame, target, settings, seed) {
  cuts <- lapply(dense_columns_of(frame, settings$columns), function(x) {
    if (!is.numeric(x)) refuse_column_kind("bins", "numbers", x)
    known <- known_values(x, target$weights)
    present <- known$x
    if (length(present) == 0L) return(numeric())
    shares <- seq_len(settings$bins - 1L) / settings$bins
    found <- switch(settings$by,
      quantile = weighted_quantile(present, shares, known$weights),
      width = min(present) + shares * (max(present) - min(present)),
      tree = tree_cuts(x, target, settings$bins)
    )
    found <- unique(found)
    found[found > min(present) & found <= max(present)]
  })
  list(state = cuts, training = NULL)
}

# Cut points of the tree of at most so many leaves.
tree_cuts <- function(x, target, bins) {
  data <- data.frame(x = x, y = target$outcome, weight = target$weights %||% rep(1, length(x)))
  data <- data[!is.na(x) & data$weight > 0, ]
  repeated <- repeated_rows(data$weight)
  if (!is.null(repeated)) data <- transform(data[repeated, ], weight = 1)
  grown <- rpart::rpart(y ~ x, data, weights = data$weight, control = rpart::rpart.control(
    cp = 1e-3, xval = 0, maxcompete = 0, maxsurrogate = 0, minbucket = max(7, nrow(data) %/% 50)
  ))
  sizes <- grown$cptable[, "nsplit"] + 1
  kept <- rpart::prune(grown, grown$cptable[max(which(sizes <= bins)), "CP"])
  if (is.null(kept$splits)) return(numeric())
  sort(unname(kept$splits[, "index"]))
}

use_bins <- function(state, frame) {
  binned <- each_known(frame, state, function(x, cuts) {
    codes <- findInterval(x, cuts) + 1L
    levels <- paste0("bin", seq_len(length(cuts) + 1L))
    structure(codes, levels = levels, class = c("ordered", "factor"))
  })
  frame_replace(frame, binned)
}

script_bins <- function(state, about) {
  given <- about$weighted || about$settings$by == "tree" || any(lengths(state) == 0L)
  shares <- paste0("seq_len(", about$settings$bins, " - 1) / ", about$settings$bins)
  cuts <- switch(about$settings$by,
    quantile = paste0("quantile(v, ", shares, ", na.rm = TRUE, names = FALSE)"),
    width = paste0("min(v, na.rm = TRUE) + ", shares, " * diff(range(v, na.rm = TRUE))")
  )
  learned <- if (given) as_learned(about, cuts = state) else code_lines(r"(
cuts<<i>> <- lapply(x[<<columns>>], function(v) {
  cuts <- unique(<<cuts>>)
  cuts[cuts > min(v, na.rm = TRUE) & cuts <= max(v, na.rm = TRUE)]
})
)", i = about$i, columns = r_columns(names(state), about$kinds), cuts = cuts)
  list(does = paste0("to_bins", about$i), lines = code_lines(r"(
<<learned>>
to_bins<<i>> <- function(x) {
  for (name in names(cuts<<i>>)) {
    bin <- findInterval(x[[name]], cuts<<i>>[[name]]) + 1
    bins <- paste0("bin", seq_len(length(cuts<<i>>[[name]]) + 1))
    x[[name]] <- factor(bins[bin], levels = bins, ordered = TRUE)
  }
  x
}
)", i = about$i, learned = learned))
}
