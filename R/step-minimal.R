#' The least preparation that the family needs
#'
#' Stands for the steps without which the family that follows could not be
#' fitted on this brief: missing values are filled unless the family takes them,
#' categories become 0/1 columns unless it takes them, numbers are scaled if it
#' depends on scale. A bare family among [candidates()] gets it by itself. The
#' steps are shown when the plan is printed.
#'
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on.
#' @examples
#' pipeline(pre_minimal(), fam_penalised())
#' @export
pre_minimal <- function() new_step(member_step_minimal(), list())

member_step_minimal <- function() {
  step_definition("minimal",
    learn = NULL, use = NULL, expand = expand_minimal,
    does = "The least that the following family needs."
  )
}

# `schema`: the brief's; `family`: its definition; `kind`: the outcome's.
expand_minimal <- function(schema, family, kind) {
  takes <- family$accepts
  if (isTRUE(takes$nothing)) return(list())
  levels <- lengths(lapply(schema, `[[`, "levels"))
  most_levels <- family_most_levels(family, kind)
  crowded <- names(levels)[levels > most_levels]
  factors <- any(schema_kinds(schema) %in% c("category", "ordered"))
  columns <- if (takes$factors) rlang::new_quosure(crowded, emptyenv()) else rlang::quo(NULL)
  list_of(
    if (!takes$missing) pre_missing(),
    if (factors && (!takes$factors || length(crowded) > 0L)) {
      new_step(member_step_onehot(), list(), columns)
    },
    if (takes$wants_scaling) pre_scale()
  )
}
