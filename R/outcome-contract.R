# What an outcome is, everywhere: brief() asks here what a column's values are, and families,
# metrics, figures, prints and reports ask what fits them. An outcome definition has
#   name                 "two_class"
#   words, phrase        "two classes"; "an outcome of two classes"
#   recognises(values, event)  is a column of such values of this kind where brief() is told
#                        nothing? Of one column one kind says so at most
#   read(values, name, event, asked)  list(values, levels, event): the values as the engine has
#                        them, double or a factor, or an error; `asked`: was the kind asked for?
#   serves               other kinds, the nearest first: what is made for them takes this one too
#   classes              is a prediction a probability of each class?
#   wide                 has a prediction several columns, of classes or of quantiles? Else it is
#                        one number a row
#   event                is one class the event?
#   metrics              names of the usual metrics, the deciding one first
#   says(outcome, brief, weights)
#                        what is predicted, for prints: "whether it cracked (20 % of rows)"
#   about(outcome, weights) what it is like, for reports: "2 classes: no 80 %, yes 20 %"
#   foretells(model)     what a prediction is, for model cards
#   lowest(y, weights)   lowest prediction of a family that is made for other kinds, or NULL
#   exposure             may rows have an exposure, of which the outcome is a rate?
outcome_definition <- function(
  name, words, phrase, read, metrics, says, about, foretells, recognises = never_recognised,
  serves = character(), classes = FALSE, wide = classes, event = FALSE, lowest = no_lowest,
  exposure = FALSE
) {
  member("outcome", name, phrase,
    capabilities = list(
      serves = serves, classes = classes, wide = wide, event = event, exposure = exposure
    ),
    words = words, phrase = phrase, recognises = recognises, read = read, metrics = metrics,
    says = says, about = about, foretells = foretells, lowest = lowest,
    class = "kw_outcome_definition"
  )
}

never_recognised <- function(values, event) FALSE

no_lowest <- function(y, weights) NULL

outcome_kinds <- function() names(shipped_members("outcome"))

outcome_kind <- function(kind) shipped_members("outcome")[[kind]]()

has_classes <- function(kind) outcome_kind(kind)$classes

is_wide <- function(kind) outcome_kind(kind)$wide

has_event <- function(kind) outcome_kind(kind)$event

# A few words of each kind: "two classes".
# The outcome of a brief or a model by name; one with an exposure is a rate.
outcome_words <- function(x) {
  per <- x$exposure %||% x$roles$exposure
  if (is.null(per)) x$outcome else paste(x$outcome, "per unit of", per)
}

kind_words <- function(kinds) vapply(kinds, function(kind) outcome_kind(kind)$words, "")

# As which of these kinds is an outcome taken? NULL: as none of them.
kind_among <- function(kinds, kind) {
  fitting <- intersect(c(kind, outcome_kind(kind)$serves), kinds)
  if (length(fitting) > 0L) fitting[1]
}

check_kinds <- function(kinds, arg = "kinds") {
  check_argument(
    length(kinds) > 0L && all(kinds %in% outcome_kinds()), arg,
    paste("some of", enumerate(paste0("\"", outcome_kinds(), "\""), 20L)), kinds
  )
}

# The kind of a column's values, and the values as the engine has them. `rows`: their numbers in
# the table that was given.
understand_outcome <- function(values, rows, name, event = NULL, kind = NULL) {
  distinct <- unique(values)
  if (length(distinct) < 2L) {
    stop_kw("brief", paste0(
      "The outcome ", quoted(name), " is constant: every row is ",
      describe_value(as.character(distinct)), "."
    ),
    remedy = "There is nothing to predict; choose another outcome or other rows."
    )
  }
  if (inherits(values, c("Date", "POSIXct"))) refuse_time_as_outcome(values, name)
  asked <- !is.null(kind)
  if (asked) {
    check_choice(kind, outcome_kinds(), "outcome_kind")
  } else {
    kind <- Find(function(kind) outcome_kind(kind)$recognises(values, event), outcome_kinds())
  }
  definition <- outcome_kind(kind)
  if (!is.null(event) && !definition$event) refuse_event(values, name, definition)
  c(list(kind = kind), definition$read(values, rows, name, event, asked))
}

refuse_time_as_outcome <- function(values, name) {
  day <- inherits(values, "Date")
  stop_kw("brief", paste0(
    "The outcome ", quoted(name), " is a ", if (day) "date" else "point in time",
    ", which is neither a number nor a class."
  ),
  column = name, remedy = paste0(
    "Make it a number, such as the ", if (day) "days" else "hours", " since a fixed start: ",
    "as.numeric(difftime(table[[", in_quotes(name), "]], start, units = ",
    if (day) "\"days\"" else "\"hours\"", "))."
  )
  )
}

# The numbers of the rows that there is something to learn from.
rows_with_outcome <- function(values, name, otherwise) {
  missing <- is.na(values)
  if (all(missing)) {
    stop_kw("brief", paste0("The outcome ", quoted(name), " is missing in every row."),
      column = name, remedy = "Is it the right column? Choose another outcome or other rows."
    )
  }
  if (otherwise == "refuse" && any(missing)) {
    stop_kw("brief", paste0(
      "The outcome ", quoted(name), " is missing in ", count_of(sum(missing), "row"), "."
    ),
    where = where_rows(missing), column = name,
    remedy = "Leave them out with rows_without_outcome = \"leave_out\", or fill them in."
    )
  }
  which(!missing)
}

refuse_event <- function(values, name, definition) {
  classes <- if (definition$classes) outcome_classes(values)
  stop_kw("brief", paste0(
    "`event` is for two classes, but the outcome ", quoted(name), " ",
    if (definition$classes) {
      paste0("has ", length(classes), ": ", enumerate(quoted(classes)), ".")
    } else {
      paste0("is predicted as ", definition$words, ".")
    }
  ),
  remedy = "Leave `event` out, or make a two-class column first."
  )
}
