#' What model families there are, and what their hyperparameters mean
#'
#' @param name Name of a family with or without `fam_`, e.g. `"forest"`, or a family
#'   made with [define_family()].
#' @param brief A [brief()]: sensible ranges and defaults are then those for its
#'   working rows after the least preparation that the family needs. Without it,
#'   for 1,000 rows, 20 columns and two classes.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return `list_families()`: a tibble with `family`, `does`, `predicts`, `takes`
#'   (what its input may hold), `path` (hyperparameters of which one fit serves all
#'   values), `hyperparameters`, `packages`, `installed`. `describe_family()`: a
#'   `kw_description`; printing it shows for every hyperparameter meaning, type,
#'   default, sensible range and what going up does, and which combinations cannot
#'   work.
#' @section Errors:
#' `kw_error_argument` for a name that there is not.
#' @examples
#' list_families()
#' describe_family("forest")
#' @export
list_families <- function() {
  members <- lapply(known_members("fam"), function(make) make())
  text <- function(f) vapply(members, f, character(1), USE.NAMES = FALSE)
  needed <- lapply(members, all_packages)
  table <- tibble::tibble(
    family = text(function(m) paste0("fam_", m$name)), does = text(function(m) m$does),
    predicts = text(function(m) paste(kind_words(m$kinds), collapse = ", ")),
    takes = text(takes_words),
    path = text(function(m) paste(m$path$along, collapse = ", ")),
    hyperparameters = text(function(m) paste(names(m$arguments), collapse = ", ")),
    packages = vapply(needed, paste, character(1), collapse = ", ", USE.NAMES = FALSE),
    installed = vapply(
      needed,
      function(p) {
        # looked for, not loaded, which would take seconds
        all(nzchar(vapply(setdiff(p, optional_packages), function(one) {
          system.file(package = one)
        }, "")))
      },
      logical(1),
      USE.NAMES = FALSE
    )
  )
  listing(table,
    title = paste0(count_of(nrow(table), "family", "families"), ": describe_family() says more"),
    hide = c("takes", "path", "hyperparameters"), texts = "does",
    last = "predicts", rows = Inf
  )
}

# Packages that a family can do without.
optional_packages <- "lightgbm"

# Every package that some setting of the family needs.
all_packages <- function(definition) {
  settings <- lapply(definition$arguments, function(h) {
    if (is.null(h$choices)) h$default else among(h$choices)
  })
  unique(unlist(lapply(definition$kinds,
    function(kind) family_packages(definition, settings, kind))))
}

takes_words <- function(definition) {
  a <- definition$accepts
  taken <- c(
    "categories"[a$factors], "gaps"[a$missing], "sparse columns"[a$sparse],
    "case weights"[a$weights]
  )
  paste(c("numbers", taken, "scale matters"[a$wants_scaling]), collapse = ", ")
}

#' @rdname list_families
#' @export
describe_family <- function(name, brief = NULL, ...) {
  no_more(...)
  definition <- family_by_name(name)
  if (!is.null(brief)) check_class(brief, "kw_brief", "brief", "Make one with brief().")
  sizes <- if (is.null(brief)) usual_sizes else family_sizes(definition, brief)
  structure(
    list(
      title = paste0("fam_", definition$name), does = definition$does,
      about = family_facts(definition, sizes),
      hyperparameters = definition$arguments,
      impossible = vapply(definition$impossible, `[[`, character(1), "says"),
      sizes = sizes
    ),
    class = "kw_description"
  )
}

family_by_name <- function(name) {
  if (is.function(name)) name <- name()
  if (inherits(name, "kw_family")) return(name$definition)
  check_string(name, "name")
  members <- known_members("fam")
  check_choice(sub("^fam_", "", name), names(members), "name")
  members[[sub("^fam_", "", name)]]()
}

usual_sizes <- list(rows = 1000, columns = 20, classes = 2)

# Rows, columns after the least preparation, classes.
family_sizes <- function(definition, brief) {
  check_family_fits("described", definition, brief)
  about <- list(
    rows = nrow(brief$table), columns = length(brief$schema),
    classes = class_count(brief)
  )
  bare <- write_out_minimal(pipeline(pre_minimal(), new_family(definition, list())), brief)
  frame <- default_frame(
    "described", list(steps = resolve_nodes(bare$steps, about)),
    frame_columns(brief$table, brief$schema), brief_target(brief), 1
  )$frame
  about$columns <- frame_width(frame)
  about
}

family_facts <- function(definition, sizes) {
  c(
    paste0(
      "Predicts ", enumerate(kind_words(definition$kinds)), ". Takes ",
      takes_words(definition), "."
    ),
    if (!is.null(definition$path)) {
      paste0("One fit serves every value of ", enumerate(definition$path$along), ".")
    },
    if (length(all_packages(definition)) > 0L) {
      paste0("Fitted by package ", paste(all_packages(definition), collapse = " or "), ".")
    },
    paste0(
      "Ranges below are for ", count_of(sizes$rows, "row"), ", ",
      count_of(sizes$columns, "column"),
      if (sizes$classes > 0) paste0(", ", sizes$classes, " classes"), "."
    )
  )
}

# The parts of a family's help page that its definition knows: roxygen evaluates
# this, so page and definition cannot drift apart.
family_help <- function(name) {
  definition <- known_members("fam")[[name]]()
  sizes <- usual_sizes
  params <- vapply(names(definition$arguments), function(name) {
    h <- definition$arguments[[name]]
    range <- if (!is.null(h$sensible)) h$sensible(sizes$rows, sizes$columns, sizes$classes)
    paste0(
      "@param ", name, " ", h$meaning, if (!is.null(h$rising)) paste0(" Going up: ", h$rising),
      if (!is.null(h$choices)) {
        paste0(" One of ", paste0("`\"", h$choices, "\"`", collapse = ", "), ".")
      },
      if (!is.null(range)) paste0(" A sensible search: ", sensible_words(range), ".")
    )
  }, character(1), USE.NAMES = FALSE)
  wrong <- vapply(definition$impossible, function(i) paste0("* ", i$says), character(1))
  c(
    params,
    paste0(
      "@section What it takes: Predicts ", enumerate(kind_words(definition$kinds)), ". Takes ",
      takes_words(definition), "."
    ),
    if (length(wrong) > 0L) {
      paste0("@section Combinations that cannot work:\n", paste(wrong, collapse = "\n"))
    }
  )
}

sensible_words <- function(range) {
  number <- function(x) format(signif(x, 4), digits = 4)
  if (inherits(range, "kw_range")) {
    return(paste0(
      number(range$from), " to ", number(range$to),
      if (range$spacing == "log") ", evenly on the log scale"
    ))
  }
  paste(
    vapply(
      range$values,
      function(v) if (is.numeric(v)) number(v) else paste0("`", format(v), "`"),
      character(1)
    ),
    collapse = ", "
  )
}
