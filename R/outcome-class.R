# Outcomes that are classes: two, of which one is the event; several; several in order.

member_outcome_two_class <- function() {
  outcome_definition("two_class", "two classes", "an outcome of two classes",
    recognises = function(values, event) {
      are_classes(values, event) && length(outcome_classes(values)) == 2L
    },
    read = read_two_class, classes = TRUE, event = TRUE, metrics = c("auc", "log_loss"),
    says = function(outcome, brief, weights) {
      paste0(
        "whether ", brief$outcome, " is ", brief$event, " (", percent(mean(outcome == brief$event)),
        " of rows", if (!brief$event_given) "; taken as the event, since none was named", ")"
      )
    },
    about = about_classes,
    foretells = function(model) paste("the probability of", model$event)
  )
}

member_outcome_many_class <- function() {
  outcome_definition("many_class", "many classes", "an outcome of many classes",
    recognises = function(values, event) {
      are_classes(values, event) && !is.ordered(values) && length(outcome_classes(values)) > 2L
    },
    read = read_many_class, classes = TRUE, metrics = c("log_loss", "balanced_accuracy"),
    says = function(outcome, brief, weights) {
      paste0("the class of ", brief$outcome, ": ", shares_in_words(outcome, enumerate, 6L))
    },
    about = about_classes,
    foretells = function(model) paste("one of", enumerate(model$levels))
  )
}

member_outcome_ordered <- function() {
  outcome_definition("ordered", "ordered classes", "an outcome of ordered classes",
    recognises = function(values, event) {
      are_classes(values, event) && is.ordered(values) && length(outcome_classes(values)) > 2L
    },
    read = read_ordered, serves = "many_class", classes = TRUE,
    metrics = c("ranked_probability", "quadratic_kappa"),
    says = function(outcome, brief, weights) {
      paste0(
        "the ordered class of ", brief$outcome, ": ",
        shares_in_words(outcome, paste, collapse = " < ")
      )
    },
    about = function(outcome, weights) {
      sub("classes", "ordered classes", about_classes(outcome))
    },
    foretells = function(model) {
      paste("one of the ordered", paste(model$levels, collapse = " < "))
    }
  )
}

are_classes <- function(values, event) !is.numeric(values) || !is.null(event)

outcome_classes <- function(values) {
  if (is.factor(values)) return(levels(droplevels(values)))
  as.character(sort(unique(values), method = "radix"))
}

read_two_class <- function(values, rows, name, event, asked) {
  classes <- outcome_classes(values)
  if (length(classes) != 2L) {
    stop_kw("brief", paste0(
      "outcome_kind = \"two_class\" is for two classes, but the outcome ", quoted(name), " has ",
      length(classes), "."
    ), remedy = "Use outcome_kind = \"many_class\", or leave it out.")
  }
  event <- check_event(event, classes, name)
  levels <- c(setdiff(classes, event), event)
  list(values = factor(as.character(values), levels = levels), levels = levels, event = event)
}

read_many_class <- function(values, rows, name, event, asked) {
  classes <- outcome_classes(values)
  if (is.character(values) && !asked) refuse_numbers_as_text(classes, name)
  if (length(classes) > length(values) / 2) {
    stop_kw("brief", paste0(
      "The outcome ", quoted(name), " has ", length(classes),
      " different values in ", length(values), " rows: ",
      "as classes that leaves too few rows of each."
    ),
    remedy = paste(
      "If it is a number, say so by `read_as`; if it is an id or a text, choose another outcome."
    )
    )
  }
  if (length(classes) == 2L) {
    stop_kw("brief", paste0(
      "The outcome ", quoted(name), " has two classes only, ", enumerate(quoted(classes)), "."
    ), remedy = "Leave `outcome_kind` out.")
  }
  list(values = factor(as.character(values), levels = classes), levels = classes, event = NULL)
}

refuse_numbers_as_text <- function(classes, name) {
  texts <- trimws(classes[!means_missing(classes)])
  found <- mostly_numbers(texts)
  # digits alone may be classes
  if (is.null(found) || all(grepl("^[0-9]+$", classes))) return(invisible())
  others <- c(classes[means_missing(classes)], texts[!found$are_numbers])
  stop_kw("brief", paste0(
    "The outcome ", quoted(name), " holds numbers written as text, such as ",
    quoted(texts[found$are_numbers][1]),
    if (length(others) > 0L) paste0("; besides ", enumerate(quoted(others), 3L)), "."
  ),
  remedy = paste0(
    "To predict a number say read_as = list(", name_text(name), " = \"number\")",
    if (length(others) > 0L) {
      paste0(" and missing_codes = list(", name_text(name), " = ", in_quotes(others), ")")
    },
    "; if they are classes, say outcome_kind = \"many_class\"."
  ), column = name)
}

# Numbers have an order of their own.
read_ordered <- function(values, rows, name, event, asked) {
  if (!is.ordered(values)) {
    classes <- outcome_classes(values)
    numbers <- suppressWarnings(as.numeric(classes))
    if (anyNA(numbers)) refuse_without_order(classes, name)
    values <- factor(as.character(values), levels = classes[order(numbers)])
  }
  read_many_class(values, rows, name, event, asked)
}

most_classes_shown <- 9L

refuse_without_order <- function(classes, name) {
  shown <- if (length(classes) <= most_classes_shown) in_quotes(classes) else "c(...)"
  stop_kw("brief", paste0("The classes of the outcome ", quoted(name), " have no order."),
    remedy = paste0("Say it, lowest first: ordered = list(", name_text(name), " = ", shown, ").")
  )
}

check_event <- function(event, classes, name) {
  if (is.null(event)) return(classes[length(classes)])
  check_argument(
    is.atomic(event) && length(event) == 1L && !is.na(event), "event", "one class", event
  )
  event <- as.character(event)
  if (!event %in% classes) {
    stop_kw("brief", paste0(
      "`event` is ", quoted(event), ", which is no class of the outcome ",
      quoted(name), "."
    ),
    remedy = paste0("Its classes: ", enumerate(quoted(classes)), ".")
    )
  }
  event
}

shares_in_words <- function(outcome, join, ...) {
  shares <- table(outcome) / length(outcome)
  join(paste0(names(shares), " (", percent(shares), ")"), ...)
}

about_classes <- function(outcome, weights = NULL) {
  shares <- round(100 * prop.table(table(outcome)))
  paste0(length(shares), " classes: ", paste0(names(shares), " ", shares, " %", collapse = ", "))
}
