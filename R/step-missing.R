#' Fill missing values
#'
#' Learns the fill of every selected column on the training rows. Columns that
#' have no missing value in training get a fill all the same, for the day one
#' turns up.
#'
#' Categories take their most frequent level, except under `"level"` (an own
#' level, "missing") and under `"value"` with a text. Text becomes "". Dates take
#' the median date, or under `"mode"` the most frequent one. A column that is
#' missing in every training row is filled with 0, or with the level "missing".
#'
#' @param fill How numbers are filled: `"median"`, `"mean"`, `"mode"` (most
#'   frequent value), `"value"`, or `"level"` (an own level for categories;
#'   numbers take the median).
#' @param flag Add a 0/1 column `<column>_missing` for every column with missing
#'   values in training?
#' @param value The value for `fill = "value"`: a number for number columns, a
#'   text for categories; columns of the other kind take the median or mode.
#' @param columns Which columns; default all. See [of_kind()].
#' @return A step for [pipeline()].
#' @examples
#' pre_missing(fill = among("median", "mean"), flag = TRUE)
#' @export
pre_missing <- function(fill = "median", flag = FALSE, value = NULL, columns = NULL) {
  new_step(member_step_missing(), list(fill = fill, flag = flag, value = value),
           rlang::enquo(columns))
}

member_step_missing <- function() {
  step_definition("missing", learn = learn_missing, use = use_missing, check = check_fill_value,
    does = "Fills missing values with what the training rows suggest.",
    hyperparameters = list(
      fill = hyperparameter("choice", "median", choices = c("median", "mean", "mode", "value", "level"),
                            sensible = function(rows, columns, classes) among("median", "mean", "mode"),
                            meaning = "What takes the place of a missing value."),
      flag = hyperparameter("flag", FALSE,
                            sensible = function(rows, columns, classes) among(FALSE, TRUE),
                            meaning = "Whether a 0/1 column tells the filled rows from the others."),
      value = hyperparameter("any", NULL, meaning = "The value used under fill = \"value\".")
    ))
}

check_fill_value <- function(settings) {
  fills <- if (inherits(settings$fill, "kw_among")) settings$fill$values else settings$fill
  if ("value" %in% fills && is.null(settings$value)) {
    stop_kw("argument", "pre_missing(fill = \"value\") needs the `value`.",
            remedy = "Say which, e.g. value = 0.")
  }
}

learn_missing <- function(frame, target, settings, seed) {
  columns <- intersect(settings$columns, names(frame$columns))
  fills <- lapply(frame$columns[columns], fill_of, settings = settings)
  flagged <- if (settings$flag) columns[vapply(frame$columns[columns], anyNA, logical(1))]
  flags <- fresh_names(paste0(flagged, rep("_missing", length(flagged))), frame_names(frame))
  list(state = list(fills = fills, flagged = as.character(flagged), flags = flags), training = NULL)
}

fill_of <- function(x, settings) {
  present <- x[!is.na(x)]
  kind <- column_kind(x)
  if (kind == "text") return("")
  if (kind %in% c("category", "ordered")) return(fill_of_levels(x, present, settings, kind))
  if (length(present) == 0L) return(0)
  number <- as.double(present)
  if (kind == "number" && settings$fill == "value" && is.numeric(settings$value)) {
    return(settings$value)
  }
  switch(settings$fill,
    mean = mean(number),
    mode = most_frequent(number),
    stats::median(number)
  )
}

fill_of_levels <- function(x, present, settings, kind) {
  if (length(present) == 0L) return("missing")
  if (settings$fill == "level" && kind == "category") return("missing")
  if (settings$fill == "value" && is.character(settings$value)) return(settings$value)
  most_frequent(as.character(present), order = levels(x))
}

# The most frequent value; of equally frequent ones the first in order.
most_frequent <- function(x, order = sort(unique(x))) {
  order[which.max(tabulate(match(x, order), length(order)))]
}

use_missing <- function(state, frame) {
  columns <- unclass(frame$columns)
  flags <- lapply(state$flagged, function(name) as.double(is.na(columns[[name]])))
  names(flags) <- state$flags
  for (name in names(state$fills)) columns[[name]] <- fill_column(columns[[name]], state$fills[[name]])
  frame_swap(new_frame(plain_frame(columns, frame$n), frame$sparse), columns = flags)
}

fill_column <- function(x, fill) {
  if (is.factor(x) && !fill %in% levels(x)) {
    if (is.ordered(x)) x <- factor(as.character(x), levels = c(fill, levels(x)), ordered = TRUE)
    else levels(x) <- c(levels(x), fill)
  }
  gone <- is.na(x)
  if (any(gone)) x[gone] <- fill
  x
}
