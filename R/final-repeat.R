#' Repeat the comparison that a model comes from
#'
#' Runs the plan that is recorded in a model once more on the table, and says whether the recorded
#' scores are had again: those of the chosen setting on the splits, of the refitted model on its
#' working rows, and the choice itself. Where something is not the same it says what else differs:
#' the rows, R, packages, the linear algebra, the platform.
#'
#' With the same rows, versions and platform everything is the same to the last digit. A decision
#' threshold is not set again, and metrics that see it are left out; a blend is made
#' again where the plan asks for one.
#'
#' @param model A model from [fit_final()] or [open_model()].
#' @param table Path of the table that the brief was made from, or a data frame like it.
#' @param workers As for [run_comparison()].
#' @param quiet Show no progress?
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A tibble, one row a thing compared: `what`, `recorded`, `now` (texts, numbers with all
#'   their digits), `same` (a flag; scores count as the same within one part in a million millions),
#'   `matters` (`"result"` or `"circumstance"`), and a `note`.
#' @section Errors:
#' `kw_error_repeat` for a blend that was made by hand, and for a model that records no plan, since
#' a version that knew less fitted it, or since a plan file cannot hold it (functions of your own);
#' `kw_error_file` for a table that there is not; `kw_error_argument` for anything but a model;
#' those of [read_plan()] where the table does not fit the plan.
#' @seealso [write_script()], for a script that makes the model again without this package
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1, quiet = TRUE
#' )
#' repeat_model(fit_final(select_final(cmp)), demo_pots())
#' @export
repeat_model <- function(model, table, workers = "auto", quiet = FALSE, ...) {
  no_more(...)
  check_class(model, "kw_model", "model", "Make one with fit_final().")
  check_flag(quiet, "quiet")
  recorded <- model$facts$plan
  if (is.null(recorded)) {
    stop_kw("repeat", "The model records no plan.",
      where = model$facts$no_plan,
      remedy = "Run the script that made it, or fit it again with this version."
    )
  }
  plan <- plan_of_record(recorded, if (is.data.frame(table)) table else read_data(table))
  if (inherits(model$family$model, "kw_blend_parts") && isFALSE(planned_rule(plan)$blend)) {
    stop_kw("repeat", "A blend that was made by hand is not repeated.",
      remedy = "Repeat the comparison that it was made from: run_comparison()."
    )
  }
  cmp <- run_comparison(plan, workers = workers, quiet = quiet)
  repeat_listing(rbind(
    repeated_rows_of(model, plan), repeated_versions(model, cmp), repeated_scores(model, cmp)
  ))
}

# What stands for the table in a recorded plan.
recorded_table <- "the-table.csv"

# A plan as lines of a plan file: list(plan), or list(no_plan), why there is none.
record_of_plan <- function(plan) {
  tryCatch(
    list(plan = plan_yaml(plan, recorded_table, sealed = TRUE)),
    kw_error = function(e) list(no_plan = plain_message(e))
  )
}

plan_of_record <- function(recorded, table) {
  file <- tempfile("repeat-", fileext = ".yml")
  # reason: a temporary file of ours
  on.exit(unlink(file))
  writeLines(recorded, file, useBytes = TRUE)
  plan_from_file(file, NULL, absent = "stop", table = table)
}

compared_fact <- function(what, recorded, now, matters = "circumstance") {
  recorded <- as.character(recorded %||% NA)
  now <- as.character(now %||% NA)
  tibble::tibble(
    what = what, recorded = recorded, now = now, same = recorded == now, matters = matters,
    note = ""
  )
}

repeated_rows_of <- function(model, plan) {
  facts <- model$facts
  brief <- plan$brief
  sealed <- brief$sealed
  short <- function(fingerprint) if (!is.null(fingerprint)) substr(fingerprint, 1L, 16L)
  rbind(
    compared_fact("working rows", facts$working_rows, nrow(brief$table)),
    compared_fact("fingerprint of them", short(facts$data_fingerprint), short(brief$fingerprint)),
    if (facts$set_aside_rows > 0L) rbind(
      compared_fact("rows set aside", facts$set_aside_rows, sealed$n %||% 0L),
      compared_fact(
        "fingerprint of these", short(facts$seal_fingerprint), short(sealed$fingerprint)
      )
    )
  )
}

repeated_versions <- function(model, cmp) {
  then <- model$facts$versions
  now <- cmp$versions
  packages <- unlist(then$packages)
  rbind(
    compared_fact("R", then$r, now$r), compared_fact("platform", then$platform, now$platform),
    compared_fact("linear algebra", then$blas, now$blas),
    compared_fact(
      "what ended the run", model$facts$stopped %||% "its end", cmp$stopped %||% "its end"
    ),
    compared_fact(names(packages), packages, unlist(now$packages)[names(packages)])
  )
}

# Scores of the recorded setting, of the refitted model, and which setting the rule chooses now.
repeated_scores <- function(model, cmp) {
  facts <- model$facts
  choice <- select_final(cmp,
    rule = facts$rule, margin = facts$margin, candidate = facts$among,
    metric = facts$deciding_metric
  )
  # with the blend that the plan may ask for
  cmp <- choice$cmp
  names <- candidate_names(cmp)
  at <- which(names == facts$candidate & setting_label(cmp, seq_along(names)) == facts$setting)
  count <- compared_fact(
    "settings compared", facts$settings_compared, settings_fitted(cmp), "result"
  )
  if (length(at) == 0L) {
    return(rbind(count, compared_fact("the choice", facts$candidate, "not there", "result")))
  }
  chosen <- list(candidate = names[choice$at], setting = setting_label(cmp, choice$at))
  choice$at <- at[1]
  scores <- fit_final(choice)$scores
  kept <- model$scores
  moved <- if (!is.null(model$threshold)) metrics_that_see_thresholds(cmp) else character()
  kept <- kept[!kept$metric %in% moved, ]
  both <- scores[match(kept$metric, scores$metric), ]
  values <- do.call(rbind, lapply(c("validation", "validation_sd", "training"), function(which) {
    said <- c(validation = "mean", validation_sd = "sd of", training = "the refit's")
    found <- compared_fact(
      paste(said[[which]], kept$metric), number_text(kept[[which]]),
      number_text(both[[which]]), "result"
    )
    near <- abs(kept[[which]] - both[[which]]) <= 1e-12 * pmax(1, abs(kept[[which]]))
    found$same <- near %in% TRUE | (is.na(kept[[which]]) & is.na(both[[which]]))
    found
  }))
  same <- compared_fact("the choice", facts$candidate, chosen$candidate, "result")
  if (called_setting(facts) != called_setting(chosen)) {
    same$same <- FALSE
    same$note <- paste0(called_setting(facts), "; now ", called_setting(chosen))
  }
  rbind(count, same, values)
}

called_setting <- function(facts) {
  paste0(facts$candidate, if (nzchar(facts$setting)) paste0(" (", facts$setting, ")"))
}

metrics_that_see_thresholds <- function(cmp) {
  metrics <- metrics_of(cmp)
  names(metrics)[vapply(metrics, function(metric) metric$by_class, NA)]
}

repeat_listing <- function(table) {
  result <- table[table$matters == "result", ]
  other <- table$what[table$matters == "circumstance" & !(table$same %in% TRUE)]
  fine <- all(result$same)
  title <- if (fine) {
    paste0("Repeated: all ", nrow(result), " results are had again.")
  } else {
    paste0("Not repeated: ", enumerate(result$what[!result$same], 4L), ".")
  }
  listing(table,
    title = title, rows = 40, hide = c("matters", if (all(table$same %in% TRUE)) "now"),
    texts = "note",
    foot = if (length(other) > 0L) paste0("What else differs: ", enumerate(other, 8L), ".") else
      if (!fine) "Rows, versions and platform are those of then." else NULL
  )
}
