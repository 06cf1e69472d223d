# Pipelines and candidates: descriptions, until they meet a brief.

#' Chain preprocessing steps and a family
#'
#' A pipeline is zero or more steps, then one family. It is only a description:
#' steps are learned, and the family fitted, on the training rows of each split.
#'
#' @param ... Steps, lists of steps, [either()] / [optional()], and last the
#'   family. A named step puts its name before its hyperparameters, which settles
#'   clashes: `pipeline(first = pre_scale(by = among("sd", "iqr")), ...)` gives
#'   `first_by`.
#' @return A pipeline for [candidates()].
#' @section Errors:
#' `kw_error_pipeline` when the family is absent or not last, or when two varying
#' hyperparameters share a name.
#' @examples
#' ready <- list(pre_missing(), pre_rare_levels(at_least = 20), pre_onehot())
#' pipeline(ready, pre_scale(), fam_penalised(penalty = from_to(1e-4, 1, "log", 30)))
#' @export
pipeline <- function(...) {
  parts <- list(...)
  names <- names(parts) %||% rep("", length(parts))
  nodes <- list()
  for (i in seq_along(parts)) nodes <- c(nodes, as_nodes(parts[[i]], names[i]))
  is_family <- vapply(nodes, function(node) inherits(node$part, "kw_family"), logical(1))
  if (!any(is_family)) {
    stop_kw("pipeline", "A pipeline ends with a family, but none was given.",
      remedy = "Add one, e.g. fam_penalised()."
    )
  }
  if (sum(is_family) > 1L || !is_family[length(nodes)]) {
    stop_kw("pipeline", "A pipeline has one family, and it comes last.",
      remedy = "To compare families, give each its own pipeline in candidates()."
    )
  }
  made <- structure(list(steps = nodes[!is_family], family = nodes[[length(nodes)]]$part),
    class = "kw_pipeline"
  )
  check_dimension_names(made)
  made
}

#' Name the candidates of a comparison
#'
#' @param ... Named pipelines; a bare family stands for
#'   `pipeline(pre_minimal(), family)`.
#' @return A `kw_candidates`; more can be added with `c()`.
#' @section Errors:
#' `kw_error_argument` for missing or repeated names, `kw_error_pipeline` for
#' anything that is neither a pipeline nor a family.
#' @examples
#' candidates(
#'   baseline = fam_baseline(),
#'   tree = pipeline(pre_missing(), fam_tree(pruning = sensible()))
#' )
#' @export
candidates <- function(...) {
  given <- list(...)
  if (length(given) == 0L) stop_kw("argument", "`candidates()` needs at least one candidate.")
  check_named(given, "candidates(...)")
  made <- lapply(names(given), function(name) as_candidate(given[[name]], name))
  structure(list(pipelines = stats::setNames(made, names(given)), rules = list()),
    class = "kw_candidates"
  )
}

as_candidate <- function(part, name) {
  if (inherits(part, "kw_pipeline")) return(part)
  if (inherits(part, "kw_family")) return(pipeline(pre_minimal(), part))
  stop_kw(
    "pipeline",
    paste0(
      "The candidate ", quoted(name), " must be a pipeline or a family; got ",
      describe_value(part), "."
    ),
    remedy = "Write pipeline(steps..., fam_...())."
  )
}

#' @export
c.kw_candidates <- function(...) {
  sets <- list(...)
  pipelines <- unlist(lapply(sets, `[[`, "pipelines"), recursive = FALSE)
  check_named(pipelines, "candidates")
  structure(
    list(pipelines = pipelines, rules = unlist(lapply(sets, `[[`, "rules"), recursive = FALSE)),
    class = "kw_candidates"
  )
}

#' Rule out combinations of values
#'
#' Settings for which the expression is true are not tried. The number removed is
#' shown by [preview()].
#'
#' @param candidates [candidates()].
#' @param ... Expressions in the names of hyperparameters that vary, e.g.
#'   `impurity == "gini" & pruning < 0.001`. Other variables are looked up
#'   where you call it, at once.
#' @param candidate Names of the candidates concerned; default all that have
#'   hyperparameters of these names.
#' @return The candidates with the rules attached.
#' @section Errors:
#' `kw_error_rule` when no candidate has such hyperparameters. That a rule
#' removes nothing, or everything, is an error of [plan_comparison()].
#' @examples
#' rivals <- candidates(tree = fam_tree(pruning = sensible(), impurity = sensible()))
#' rule_out(rivals, impurity == "gini" & pruning < 0.001, candidate = "tree")
#' @export
rule_out <- function(candidates, ..., candidate = NULL) {
  check_class(candidates, "kw_candidates", "candidates", "Make them with candidates().")
  for (name in candidate) {
    if (!name %in% names(candidates$pipelines)) {
      stop_kw("rule", paste0("There is no candidate ", quoted(name), "."),
        remedy = did_you_mean(name, names(candidates$pipelines), "Candidates")
      )
    }
  }
  for (quosure in rlang::enquos(...)) {
    candidates$rules <- c(candidates$rules, list(capture_rule(quosure, candidates, candidate)))
  }
  candidates
}

capture_rule <- function(quosure, candidates, candidate) {
  expr <- portable_code(rlang::quo_get_expr(quosure))
  values <- list()
  for (name in setdiff(all.vars(expr), varied_names(candidates, candidate))) {
    value <- own_value(name, rlang::quo_get_env(quosure))
    if (!is.null(value)) {
      values[[name]] <- portable_value(value, paste0(quoted(name), " in the rule"))
    }
  }
  new_rule(expr, candidates, candidate, values)
}

varied_names <- function(candidates, candidate) {
  concerned <- candidate %||% names(candidates$pipelines)
  unique(unlist(lapply(candidates$pipelines[concerned], function(p) names(pipeline_dimensions(p)))))
}

# A rule: an expression, TRUE for the settings (columns) to be left out, and the values in it
# that are no hyperparameters. `values` NULL: the grammar of plan files, which is worked out
# without evaluating anything.
new_rule <- function(expr, candidates, candidate, values) {
  varied <- varied_names(candidates, candidate)
  used <- setdiff(all.vars(expr), names(values))
  strange <- setdiff(used, varied)
  if (length(strange) > 0L || length(used) == 0L) {
    name <- if (length(strange) > 0L) strange[1] else rlang::expr_deparse(expr)
    stop_kw("rule", paste0("No candidate varies ", quoted(name), "."),
      where = paste0("In the rule ", rlang::expr_deparse(expr), "."),
      remedy = did_you_mean(name, varied, "Varied")
    )
  }
  list(expr = expr, candidate = candidate, uses = used, values = values)
}
