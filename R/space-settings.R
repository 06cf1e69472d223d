# The settings of one candidate as a table: one row a setting, one column a
# dimension; NA where a value has no effect.

# A space is a candidate that has met its brief: everything needed to make,
# clean and fill settings.
new_space <- function(candidate, pipeline, kind, rules, about) {
  dimensions <- pipeline_dimensions(pipeline)
  fitting <- Filter(function(rule) {
    (is.null(rule$candidate) || candidate %in% rule$candidate) &&
      all(rule$uses %in% names(dimensions))
  }, rules)
  structure(list(
    candidate = candidate, pipeline = pipeline, dimensions = dimensions, kind = kind,
    rules = fitting, about = about
  ), class = "kw_space")
}

# Every combination; the last dimension moves fastest.
grid_settings <- function(space, points) {
  values <- lapply(space$dimensions, dimension_values, points = points)
  if (length(values) == 0L) return(plain_frame(list(), 1L))
  sizes <- lengths(values)
  total <- prod(sizes)
  if (total > 5e6) {
    stop_kw("plan", paste0(
      "The grid of candidate ", quoted(space$candidate), " has ",
      format(total, big.mark = ","), " combinations."
    ),
    remedy = "Use fewer points, or search_random()."
    )
  }
  each <- rev(cumprod(c(1, rev(sizes)[-length(sizes)])))
  columns <- Map(function(v, times) rep(rep(v, each = times), length.out = total), values, each)
  plain_frame(columns, as.integer(total))
}

random_settings <- function(space, n) {
  columns <- lapply(space$dimensions, function(dimension) {
    dimension_draws(dimension, stats::runif(n))
  })
  plain_frame(columns, n)
}

# The setting that comes nearest to the defaults: first alternatives, no optional steps, and of
# what varies the value next to the part's own default, or the middle one.
usual_setting <- function(space) {
  plain_frame(lapply(space$dimensions, usual_value, about = space$about), 1L)
}

# A table of settings without rows.
no_settings <- function(space) frame_of_rows(usual_setting(space), integer())

usual_value <- function(dimension, about) {
  if (dimension$kind == "alternative") return(dimension_values(dimension, NULL)[1])
  default <- dimension$declared$default
  if (is.function(default)) default <- default(about$rows, about$columns, about$classes)
  # of a range so finely cut that rounding is the only loss
  values <- dimension_values(dimension, 101L)
  if (length(default) != 1L) return(values[(length(values) + 1L) %/% 2L])
  if (!is.numeric(values)) {
    return(values[max(1L, match(as.character(default), as.character(values), 0L))])
  }
  apart <- abs(values - default)
  if (inherits(dimension$varying, "kw_range") && min(values) > 0 && default > 0) {
    apart <- abs(log(values / default))
  }
  values[which.min(apart)]
}

# Removes what cannot work or was ruled out, blanks values without effect, merges
# settings that become equal. Returns the settings, what happened to the rest, and
# the first of those left out with the reason.
clean_settings <- function(space, settings) {
  n <- nrow(settings)
  judged <- judge_settings(space, settings)
  settings <- judged$settings
  why <- judged$why
  kept <- frame_of_rows(settings, is.na(why))
  same <- seq_len(nrow(kept)) > 1L
  if (any(same) && length(kept) > 0L) same <- duplicated(group_rows(kept, nrow(kept)))
  gone <- utils::head(which(!is.na(why)), most_listed)
  list(
    settings = frame_of_rows(kept, !same),
    counts = c(
      combinations = n, impossible = judged$impossible, ruled_out = judged$ruled_out,
      merged = sum(same)
    ),
    by_rule = judged$by_rule,
    left_out = list(settings = frame_of_rows(settings, gone), why = why[gone])
  )
}

# The settings with NA for values without effect, and why each cannot be tried, NA where it can.
judge_settings <- function(space, settings) {
  settings <- blank_inactive(space, settings)
  why <- why_impossible(space, settings)
  impossible <- !is.na(why)
  ruled <- lapply(space$rules, function(rule) {
    out <- settings_ruled_out(rule, settings)
    !is.na(out) & out & !impossible
  })
  out <- Reduce(`|`, ruled, rep(FALSE, nrow(settings)))
  why[out] <- "ruled out by rule_out()"
  list(
    settings = settings, why = why, impossible = sum(impossible), ruled_out = sum(out),
    by_rule = vapply(ruled, sum, numeric(1))
  )
}

# So many settings that were left out are kept for list_ruled_out().
most_listed <- 10000L

blank_inactive <- function(space, settings) {
  for (dimension in space$dimensions) {
    for (condition in dimension$conditions) {
      chosen <- settings[[condition$dimension]]
      off <- is.na(chosen) | chosen != condition$value
      settings[[dimension$name]][off] <- NA
    }
    active_when <- dimension$declared$active_when
    if (dimension$kind == "value" && !is.null(active_when)) {
      part <- part_values(space, dimension$address, settings)
      off <- !active_when(part, space$kind)
      settings[[dimension$name]][off] <- NA
    }
  }
  settings
}

# The settings of one part, fixed and varying, as columns.
part_values <- function(space, address, settings) {
  part <- part_at(space$pipeline, address)
  n <- nrow(settings)
  values <- lapply(part$settings, function(value) {
    if (length(value) == 1L && !is_varying(value)) rep(value, n)
  })
  for (dimension in space$dimensions) {
    if (identical(dimension$address, address) && dimension$kind == "value") {
      values[[dimension$argument]] <- settings[[dimension$name]]
    }
  }
  values
}

part_at <- function(pipeline, address) {
  if (address == "family") return(pipeline$family)
  nodes <- pipeline$steps
  path <- as.integer(strsplit(address, "/", fixed = TRUE)[[1]])
  repeat {
    part <- nodes[[path[1]]]$part
    if (length(path) == 1L) return(part)
    nodes <- part$alternatives[[path[2]]]
    path <- path[-(1:2)]
  }
}

# For every setting the reason why it cannot work, or NA.
why_impossible <- function(space, settings) {
  why <- rep(NA_character_, nrow(settings))
  family <- part_values(space, "family", settings)
  for (combination in space$pipeline$family$definition$impossible) {
    hit <- rep_len(combination$test(family, space$kind, space$about), nrow(settings))
    why[is.na(why) & !is.na(hit) & hit] <- combination$says
  }
  why
}

# One row of a settings table as a named list.
setting_values <- function(settings, row) lapply(settings, function(column) column[[row]])

# The family's settings of every row, as columns, whole: for simplicity() and keys.
family_columns <- function(space, settings) part_values(space, "family", settings)

settings_ruled_out <- function(rule, settings) {
  if (is.null(rule$values)) return(work_out(rule$expr, settings))
  # reason: the user's own rule, or by read_code() from a journal
  eval(rule$expr, c(as.list(settings), rule$values), baseenv())
}

# The grammar of rules in plan files.
grammar <- list(
  "==" = function(a, b) a == b, "!=" = function(a, b) a != b, "<" = function(a, b) a < b,
  "<=" = function(a, b) a <= b, ">" = function(a, b) a > b, ">=" = function(a, b) a >= b,
  "&" = function(a, b) a & b, "|" = function(a, b) a | b, "!" = function(a) !a, "(" = function(a) a,
  "-" = function(a) -a
)

work_out <- function(expr, settings) {
  if (is.symbol(expr)) return(settings[[as.character(expr)]])
  if (!is.call(expr)) return(expr)
  values <- lapply(as.list(expr)[-1], work_out, settings = settings)
  do.call(grammar[[as.character(expr[[1]])]], values)
}
