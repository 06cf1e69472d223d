#' Train on the past, validate on what comes next
#'
#' The working rows are put into the order of the brief's `time` column; rows of the
#' same time are never divided. Each split validates on the `ahead` time points after
#' its training part, then the border moves on by `advance` (rolling origin). If the brief has
#' a group, training rows of groups that reach into the validation part are left out, so that
#' no group is on both sides; the plan says how many rows that are.
#'
#' @param first Length of the first training part, in time points (different
#'   values of the time column), or as a share of them if below 1.
#' @param ahead Length of a validation part, likewise.
#' @param advance How far the border moves from split to split, likewise; default `ahead`.
#' @param gap Time points left out between training and validation part, likewise.
#' @param window `"growing"`: training starts with the first row; `"sliding"`: the
#'   training part keeps its first length.
#' @param keep_groups Leave out training rows of groups that reach into the validation part?
#'   `FALSE` flatters the scores.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A splitter for [plan_comparison()]. Its scores are of different times with
#'   overlapping training parts, so no test of differences is offered for them.
#' @references Tashman (2000), Out-of-sample tests of forecasting accuracy, Int. J.
#'   Forecasting 16.
#' @section Errors:
#' `kw_error_splits` when the brief has no time column or too few time points.
#' @examples
#' split_time(first = 0.5, ahead = 0.1)
#' split_time(first = 60, ahead = 10, gap = 5, window = "sliding")
#' @export
split_time <- function(first = 0.5, ahead = 0.1, advance = ahead, gap = 0, window = "growing",
                       keep_groups = TRUE, ...) {
  no_more(...)
  check_number(first, "first", min = 0, open_min = TRUE)
  check_number(ahead, "ahead", min = 0, open_min = TRUE)
  check_number(advance, "advance", min = 0, open_min = TRUE)
  check_number(gap, "gap", min = 0)
  check_choice(window, c("growing", "sliding"), "window")
  check_flag(keep_groups, "keep_groups")
  splitter(
    "time",
    list(
      first = first, ahead = ahead, advance = advance, gap = gap, window = window,
      keep_groups = keep_groups
    ),
    generate = function(about) {
      if (is.null(about$time)) {
        stop_kw(
          "splits",
          "Splits in time need to know which column is the time.",
          remedy = "Say brief(time = \"column\")."
        )
      }
      points <- match(about$time, sort(unique(about$time)))
      lengths <- lapply(
        list(first = first, ahead = ahead, advance = advance, gap = gap),
        time_points,
        n = max(points)
      )
      splits <- time_splits(points, lengths, window)
      group <- about_group(about, keep_groups)
      if (is.null(group)) splits else lapply(splits, without_shared_groups, group, about$group_name)
    },
    spread = "dependent", paired = FALSE,
    label = paste0("rolling in time, ", window, " window")
  )
}

member_split_time <- function() {
  maker_definition("split", "time", split_time,
    "Learns from earlier rows and holds out later ones."
  )
}

# A split without the training rows whose group is held out as well; `purged` says how many.
without_shared_groups <- function(split, group, name) {
  shared <- group[split$training] %in% group[split$validation]
  if (all(shared)) {
    stop_kw(
      "splits",
      paste0(
        "In split ", split$part, " every training row's ", name,
        " reaches into the validation part, so that none is left to train on."
      ),
      remedy = "Use split_leave_group(), or say keep_groups = FALSE."
    )
  }
  split$training <- split$training[!shared]
  split$purged <- sum(shared)
  split
}

# A share of the n time points, or a number of them.
time_points <- function(length, n) {
  if (length == 0) return(0L)
  as.integer(max(1, if (length < 1) round(length * n) else round(length)))
}

time_splits <- function(points, lengths, window) {
  n <- max(points)
  borders <- seq(lengths$first, by = lengths$advance, length.out = n)
  borders <- borders[borders + lengths$gap + lengths$ahead <= n]
  if (length(borders) == 0L) {
    stop_kw(
      "splits",
      paste0(
        "The time column has ", count_of(n, "time point"),
        ", but first, gap and ahead together need ",
        lengths$first + lengths$gap + lengths$ahead, "."
      ),
      remedy = "Make them shorter."
    )
  }
  lapply(seq_along(borders), function(part) {
    border <- borders[part]
    from <- if (window == "sliding") border - lengths$first else 0L
    start <- border + lengths$gap
    new_split(
      which(points > from & points <= border),
      which(points > start & points <= start + lengths$ahead),
      1L,
      part
    )
  })
}
