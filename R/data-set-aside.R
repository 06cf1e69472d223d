#' Set rows aside until the end
#'
#' Moves some rows of a brief into a sealed part. Comparisons, findings and
#' levels see the remaining *working rows* only; the sealed rows are read once,
#' by [score_set_aside()].
#'
#' Groups stay whole. Classes (or quantile bins of a numeric outcome) keep their
#' shares, with groups to about one group's rows. With a time role the latest rows are taken,
#' unless `latest = FALSE`; with a group as well, the groups whose middle (median) moments are
#' latest, as many as come nearest to `share`: the print says what share that is.
#'
#' @param brief A [brief()].
#' @param share Share of the rows to set aside, above 0 and below 1.
#' @param seed Seed of the draw; a missing one is drawn and kept.
#' @param after With a time role: set aside the rows after this date, time or number
#'   (instead of a share).
#' @param latest With a time role: take the latest rows (the default), or draw
#'   them like any others.
#' @param keep_groups Keep groups whole? `FALSE` lets a group lie on both sides,
#'   which flatters the final score.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return The brief with fewer working rows and a sealed part.
#' @section Errors:
#' `kw_error_set_aside` when rows are already set aside, or when a part would be
#' empty or hold fewer than two classes.
#' @examples
#' job <- brief(demo_pots(), outcome = "cracked", event = "yes", group = "firing_id")
#' set_aside(job, share = 0.2, seed = 7)
#' @export
set_aside <- function(brief, share = 0.2, seed = NULL, after = NULL, latest = TRUE,
                      keep_groups = TRUE, ...) {
  no_more(...)
  check_class(brief, "kw_brief", "brief", "Make one with brief().")
  check_number(share, "share", min = 0, max = 1, open_min = TRUE, open_max = TRUE)
  check_seed(seed)
  check_flag(latest, "latest")
  check_flag(keep_groups, "keep_groups")
  if (!is.null(brief$sealed)) {
    stop_kw("set_aside", "This brief already has rows set aside.",
      remedy = "Start from a fresh brief() to divide the rows differently."
    )
  }
  time <- brief$roles$time
  if (!is.null(after) && is.null(time)) {
    stop_kw("set_aside", "`after` needs a time column.", remedy = "Say brief(..., time = \"...\").")
  }
  if (is.null(seed)) seed <- draw_seed()
  how <- list(share = if (is.null(after)) share, seed = seed, after = after)
  how <- c(how, if (!latest) list(latest = FALSE), if (!keep_groups) list(keep_groups = FALSE))
  group <- if (keep_groups && !is.null(brief$roles$group)) brief$table[[brief$roles$group]]
  aside <- if (!is.null(time) && (latest || !is.null(after))) {
    latest_rows(brief$table[[time]], share, after, group)
  } else {
    with_seed(derive_seed(seed, "set_aside"), drawn_rows(brief, share, group))
  }
  seal_rows(brief, aside, seed, how)
}

drawn_rows <- function(brief, share, group) {
  outcome <- brief$table[[brief$outcome]]
  weights <- row_weights(brief)
  strata <- outcome_strata(outcome, 2L, weights)
  deal_rows(length(outcome), c(share, 1 - share), strata, group, weights) == 1L
}

# The latest rows. Whole groups are taken by their middle moments, the latest first, as many
# as come nearest to the share; after a moment, all groups that have a row there.
latest_rows <- function(time, share, after, group) {
  if (!is.null(after)) {
    late <- time > as_moment(after, time)
    if (!is.null(group)) late <- group %in% unique(group[late])
    return(late)
  }
  moment <- as.double(time)
  if (is.null(group)) return(rank(-moment, ties.method = "max") <= round(share * length(time)))
  code <- match(group, unique(group))
  middle <- as.vector(tapply(moment, code, stats::median))
  order <- order(-middle)
  rows <- cumsum(tabulate(code)[order])
  taken <- which.min(abs(rows - share * length(time)))
  code %in% order[seq_len(taken)]
}

as_moment <- function(after, time) {
  moment <- tryCatch(
    if (inherits(time, "POSIXct")) {
      as.POSIXct(after, tz = attr(time, "tzone") %||% "")
    } else if (inherits(time, "Date")) {
      as.Date(after)
    } else {
      as.numeric(after)
    },
    error = function(e) NA, warning = function(w) NA
  )
  check_argument(
    length(moment) == 1L && !is.na(moment), "after",
    paste("one value like the time column,", class(time)[1]), after
  )
  moment
}

# `how`: the arguments of set_aside(), or NULL where the rows came otherwise.
seal_rows <- function(brief, aside, seed, how = NULL) {
  check_parts(brief, aside)
  sealed <- new.env(parent = emptyenv())
  sealed$table <- frame_of_rows(brief$table, aside)
  sealed$fingerprint <- fingerprint_table(sealed$table)
  sealed$rows <- brief$rows[aside]
  sealed$n <- sum(aside)
  sealed$seed <- seed
  sealed$how <- Filter(Negate(is.null), how)
  brief$sealed <- sealed
  # taking changes back must not bring sealed rows back
  if (!is.null(brief$before)) brief$before <- rows_of_brief(brief$before, brief$rows[!aside])
  brief$table <- frame_of_rows(brief$table, !aside)
  brief$rows <- brief$rows[!aside]
  refresh_brief(brief)
}

# The brief for plans, which travel and are kept: only what names the seal. The sealed rows
# themselves stay in this session, in the brief and in the vault.
without_sealed <- function(brief) {
  brief$before <- NULL
  sealed <- brief$sealed
  if (!is.environment(sealed)) return(brief)
  assign(sealed$fingerprint, sealed, envir = seal_vault)
  brief$sealed <- mget(c("fingerprint", "n", "seed", "how"), envir = sealed)
  brief
}

seal_vault <- new.env(parent = emptyenv())

# The sealed part of a brief, or of a plan's brief if it was sealed in this session; else NULL.
sealed_part <- function(brief) {
  if (is.environment(brief$sealed)) return(brief$sealed)
  seal_vault[[brief$sealed$fingerprint]]
}

# A brief with some of the rows of its table (numbers of the table given to brief()) only.
rows_of_brief <- function(brief, rows) {
  keep <- brief$rows %in% rows
  brief$table <- frame_of_rows(brief$table, keep)
  brief$rows <- brief$rows[keep]
  brief
}

# `keep`: TRUE/FALSE a row, or row numbers.
frame_of_rows <- function(table, keep) {
  plain_frame(lapply(table, function(x) x[keep]), if (is.logical(keep)) sum(keep) else length(keep))
}

check_parts <- function(brief, aside) {
  for (part in c("set-aside", "working")) {
    inside <- if (part == "working") !aside else aside
    if (!any(inside)) {
      stop_kw("set_aside", paste0("No ", part, " rows would remain."),
        remedy = if (is.null(brief$roles$group)) "Choose another share." else
          "Groups are kept whole; choose another share, or keep_groups = FALSE."
      )
    }
    if (part == "working" && length(unique(brief$table[[brief$outcome]][inside])) < 2L) {
      stop_kw("set_aside", "The working rows would hold only one outcome value.",
        remedy = "Choose another share or seed."
      )
    }
  }
}

# Openings of sealed rows in this session, by fingerprint.
seal_register <- new.env(parent = emptyenv())

openings <- function(fingerprint) {
  if (is.null(fingerprint)) 0L else seal_register[[fingerprint]] %||% 0L
}

record_opening <- function(fingerprint, at_least = 0L) {
  count <- max(openings(fingerprint), at_least) + 1L
  assign(fingerprint, count, envir = seal_register)
  count
}
