#' Apply the remedies of findings
#'
#' @param brief The [brief()] that was inspected, before or after [set_aside()].
#' @param findings What [inspect_data()] found, or the rows of it that you agree with.
#' @return A list: `brief`, the brief with ids, groups, ignored columns, missing codes and
#'   types as the findings say; `steps`, a list of steps to begin a [pipeline()]
#'   with; `left`, the findings that no remedy could be applied for.
#' @section Errors:
#' `kw_error_set_aside` when a group is to be declared after rows were set aside.
#' @examples
#' job <- brief(demo_pots(), outcome = "cracked", event = "yes", ignore = c("shrinkage_pct", "grade"))
#' mended <- apply_remedies(job, inspect_data(job))
#' mended$brief
#' pipeline(mended$steps, fam_penalised())
#' @export
apply_remedies <- function(brief, findings) {
  check_class(brief, "kw_brief", "brief", "Make one with brief().")
  check_class(findings, "kw_findings", "findings", "Get them from inspect_data().")
  kind <- vapply(findings$action, function(action) action$kind %||% "none", character(1))
  changes <- lapply(
    which(kind %in% c("role", "missing_code", "convert", "drop_rows")),
    function(i) {
      c(findings$action[[i]], list(about = findings$action[[i]]$columns %||% findings$columns[[i]]))
    }
  )
  mended <- change_brief(brief, changes)
  list(
    brief = mended, steps = starter_steps(findings[kind == "step", ], mended),
    left = findings[kind == "none", ]
  )
}

# Steps in the order in which they work together; each once.
starter_steps <- function(findings, brief) {
  wanted <- vapply(findings$action, `[[`, character(1), "step")
  about <- function(step) {
    columns <- unique(unlist(lapply(which(wanted == step), function(i) findings$columns[[i]])))
    intersect(columns, names(brief$schema))
  }
  on <- function(columns) rlang::new_quosure(columns, emptyenv())
  has <- function(step) length(about(step)) > 0L
  kinds <- schema_kinds(brief$schema)
  codes <- length(brief$missing_codes) > 0L
  gaps <- any(vapply(brief$table[names(brief$schema)], anyNA, logical(1)))
  c(
    list(pre_missing(flag = gaps || codes)),
    if (has("outliers")) list(new_step(member_step_outliers(), list(), on(about("outliers")))),
    if (has("skew")) list(new_step(member_step_skew(), list(), on(about("skew")))),
    if ("near_constant" %in% findings$code) list(pre_drop_constant(share = 0.99)),
    if ("correlated" %in% findings$code) list(pre_drop_correlated(above = 0.95)),
    if (has("target_mean")) {
      list(new_step(member_step_target_mean(), list(), on(about("target_mean"))))
    },
    if (has("rare_levels")) list(pre_rare_levels(at_least = 20)),
    if (has("dates")) list(pre_dates()),
    if (has("text")) list(pre_text()),
    if (any(kinds %in% c("category", "ordered"))) list(pre_onehot()),
    list(pre_scale())
  )
}
