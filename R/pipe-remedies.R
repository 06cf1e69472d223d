#' Apply the remedies of findings, and take them back
#'
#' Only what loses nothing is applied by itself: missing codes that are words or stand off
#' from all other values, types, ids, groups, columns that are constant or repeat another one
#' exactly. What would delete rows, drop a column that tells something, or may be wrong is
#' applied only if it is named in `also`. The brief lists what was changed when it is printed,
#' and `undo_remedies()` takes it back.
#'
#' @param brief The [brief()] that was inspected, before or after [set_aside()].
#' @param findings What [inspect_data()] found, or the rows of it that you agree with.
#' @param also Codes of findings whose remedies are applied although something is lost by
#'   them, e.g. `"duplicate_rows"`, `"gives_outcome_away"`, `"zeros_apart"`.
#' @param codes Codes of the findings whose changes are taken back; default all.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return `apply_remedies()`: a list of `brief`, the changed brief; `steps`, a list of steps
#'   to begin a [pipeline()] with; `changes`, a tibble with one row a change: `code`, `where`,
#'   `detail` (what it changes, and how much), `remedy`, `applied`; `left`, the findings that
#'   were not applied. `undo_remedies()`: the brief without those changes.
#' @section Errors:
#' `kw_error_set_aside` when a group is to be declared after rows were set aside,
#' `kw_error_argument` for a code that no finding has.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "cracked", event = "yes", ignore = c("shrinkage_pct", "grade")
#' )
#' mended <- apply_remedies(job, inspect_data(job))
#' mended$changes
#' mended$brief
#' undo_remedies(mended$brief, "groups")
#' pipeline(mended$steps, fam_penalised())
#' @export
apply_remedies <- function(brief, findings, also = NULL, ...) {
  no_more(...)
  check_class(brief, "kw_brief", "brief", "Make one with brief().")
  check_class(findings, "kw_findings", "findings", "Get them from inspect_data().")
  check_argument(is.null(also) || is.character(also), "also", "codes of findings", also)
  for (code in also) check_choice(code, unique(findings$code), "also")
  kind <- vapply(findings$action, function(action) action$kind %||% "none", character(1))
  asked <- findings$code %in% also | !loses_something(findings, kind)
  changing <- kind %in% c("role", "missing_code", "convert", "drop_rows")
  mended <- change_brief(brief, lapply(which(changing & asked), function(i) {
    change <- changes_of(findings, i)
    c(change, list(said = change_words(brief, change)))
  }))
  steps <- kind == "step" & vapply(findings$action, has_known_step, logical(1))
  list(
    brief = mended, steps = starter_steps(findings[steps, ], mended),
    changes = change_table(brief, findings, changing, asked),
    left = findings[!(changing & asked) & !steps, ]
  )
}

#' @rdname apply_remedies
#' @export
undo_remedies <- function(brief, codes = NULL, ...) {
  no_more(...)
  check_class(brief, "kw_brief", "brief", "Make one with brief().")
  made <- vapply(brief$changes, `[[`, "", "code")
  for (code in codes) check_choice(code, unique(made), "codes")
  if (length(made) == 0L) return(brief)
  kept <- if (!is.null(codes)) brief$changes[!made %in% codes]
  # a group that is kept was declared before rows were set aside, if any were
  undone <- change_brief(brief$before, kept)
  undone["sealed"] <- list(brief$sealed)
  undone
}

# Would a remedy lose rows, a column that tells something, or values that may be true?
loses_something <- function(findings, kind) {
  harmless <- c("id_like", "groups", "constant", "all_missing", "repeated_column")
  made_missing <- vapply(findings$action, function(action) {
    identical(action$kind, "convert") && any(!means_missing(action$codes))
  }, NA)
  kind == "drop_rows" | made_missing | (kind == "role" & !findings$code %in% harmless) |
    (kind == "missing_code" & findings$code != "disguised_missing")
}

changes_of <- function(findings, i) {
  action <- findings$action[[i]]
  about <- action$columns %||% findings$columns[[i]]
  c(action[setdiff(names(action), "columns")], list(code = findings$code[i], about = about))
}

change_table <- function(brief, findings, changing, asked) {
  at <- which(changing)
  tibble::tibble(
    code = findings$code[at], where = findings$where[at],
    detail = vapply(at, function(i) change_words(brief, changes_of(findings, i)), ""),
    remedy = findings$remedy[at], applied = asked[at]
  )
}

# What a change does, and to how much of the table.
change_words <- function(brief, change) {
  column <- change$about[1]
  switch(change$kind,
    drop_rows = paste("deletes", count_of(length(change$rows), "row")),
    role = if (change$role == "ignore") {
      paste0("no longer predicts from ", enumerate(change$about))
    } else {
      paste0("takes ", enumerate(change$about), " as ", change$role)
    },
    missing_code = paste0(
      "makes ", count_of(sum(brief$table[[column]] %in% change$codes), "value"), " of ", column,
      " missing (", enumerate(as.character(change$codes)), ")"
    ),
    convert = paste0(
      "reads ", column, " as ",
      if (change$to == "number") "numbers" else paste0("dates (", change$to, ")"),
      if (length(change$codes) > 0L) {
        paste0(", without ", enumerate(quoted(change$codes), 3L))
      }
    )
  )
}

has_known_step <- function(action) {
  isTRUE(action$kind == "step") && action$step %in% names(known_members("step"))
}

# Steps in the order in which they work together; each once. A step that names no columns
# works on all that it makes sense for.
step_order <- c(
  "outliers", "skew", "drop_constant", "drop_correlated", "target_mean", "rare_levels", "dates",
  "text"
)

starter_steps <- function(findings, brief) {
  wanted <- vapply(findings$action, `[[`, character(1), "step")
  named <- setdiff(wanted, "missing")
  named <- c(intersect(step_order, named), setdiff(named, step_order))
  kinds <- schema_kinds(brief$schema)
  gaps <- any(vapply(brief$table[names(brief$schema)], anyNA, logical(1)))
  made <- lapply(named, function(step) {
    mine <- which(wanted == step)
    settings <- do.call(c, lapply(findings$action[mine], `[[`, "settings"))
    settings <- settings[!duplicated(names(settings))]
    narrow <- vapply(findings$action[mine], function(a) !is.null(a$columns), logical(1))
    columns <- intersect(unlist(findings$columns[mine]), names(brief$schema))
    if (all(narrow) && length(columns) == 0L) return(NULL)
    selection <- if (all(narrow)) rlang::new_quosure(columns, emptyenv()) else rlang::quo(NULL)
    new_step(known_members("step")[[step]](), settings %||% list(), selection)
  })
  c(
    list(pre_missing(flag = gaps || length(brief$missing_codes) > 0L)),
    Filter(Negate(is.null), made),
    if (any(kinds %in% c("category", "ordered"))) list(pre_onehot()),
    list(pre_scale())
  )
}
