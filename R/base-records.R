# Records that cross rooms: what is in them, made in one place each, and refused where something
# is missing. What is inside them is said where they are made.

record_fields <- list(
  kw_brief = c(
    "table", "rows", "outcome", "kind", "kind_given", "levels", "quantiles", "event", "event_given",
    "roles", "missing_codes", "declared", "n_total", "n_without_outcome", "sealed",
    "outcome_scale", "costs"
  ),
  kw_plan = c(
    "brief", "candidates", "spaces", "splitter", "splits", "pooled", "undefined", "metrics",
    "decide", "provided", "seats", "round", "screen", "seed", "seed_drawn", "search_seed", "notes",
    "minutes", "rule", "margin", "everywhere"
  ),
  kw_comparison = c(
    "plan", "results", "rounds", "ledger", "stopped", "journal_failure", "processes", "seconds",
    "versions"
  ),
  kw_choice = c("cmp", "at", "rule", "reason", "metric", "mean", "sd", "se", "margin", "among"),
  kw_model = c(
    "brief", "schema", "missing_codes", "outcome", "outcome_form", "id", "kind", "levels", "event",
    "exposure", "quantiles", "costs", "steps", "family", "value", "folds", "metrics", "threshold",
    "scores", "facts", "reference", "origin"
  )
)

# A record of a class, of all its fields; NULL is a value like any other.
new_record <- function(class, ...) {
  fields <- list(...)
  wrong <- c(
    setdiff(names(fields), record_fields[[class]]), setdiff(record_fields[[class]], names(fields))
  )
  if (length(wrong) > 0L) stop("a ", class, " with or without ", enumerate(wrong), call. = FALSE)
  structure(fields, class = class)
}

# A record that lacks something was changed by hand, or kept by a version that knew less.
check_record <- function(x, class, arg) {
  lacking <- setdiff(record_fields[[class]], names(unclass(x)))
  if (length(lacking) > 0L) {
    stop_kw("argument", paste0(
      "`", arg, "` is a ", sub("^kw_", "", class), " without ", enumerate(quoted(lacking), 3L), "."
    ),
    remedy = "Another version kept it, or it was changed by hand; make it again."
    )
  }
  # what lies within is a record too
  inner <- switch(class,
    kw_plan = list("brief", "kw_brief"), kw_comparison = list("plan", "kw_plan"),
    kw_choice = list("cmp", "kw_comparison")
  )
  if (!is.null(inner)) check_class(x[[inner[[1]]]], inner[[2]], paste0(arg, "$", inner[[1]]))
  invisible(x)
}

# A record from a file: what it lacks, as kept by a version that knew less, is nothing.
complete_record <- function(x, class) {
  x[setdiff(record_fields[[class]], names(x))] <- list(NULL)
  structure(x, class = class)
}

# A list without what is nothing.
list_of <- function(...) Filter(Negate(is.null), list(...))
