#' Predict new rows with the final model
#'
#' New rows may have their columns in any order, more columns than needed, levels
#' never seen and missing values. Numbers that came as text are mended; what
#' cannot be read as the column's type is an error. The brief's missing codes apply.
#'
#' @param object A model from [fit_final()] or [open_model()].
#' @param new_data Data frame with the brief's predictor columns.
#' @param type `"value"` for numeric outcomes, `"quantiles"` for several quantiles; `"class"`,
#'   `"probability"` or both (the default) for classes; `"interval"` of a model that was fitted with
#'   `fit_final(intervals = TRUE)`.
#' @param level Of intervals: the share of new rows that they are to hold.
#' @param ... Not used.
#' @return A tibble, one row a new row, in order: `value` (of counts with an exposure
#'   the rate per unit of it); `q_10`, ... for quantiles; or `class`
#'   and `p_<level>` for every class. The class is the most probable one, or the event from
#'   the threshold of [set_threshold()] on. With `"interval"`: `value`, `low` and `high`, or `class`
#'   and a logical `may_be_<level>` for every class: those that cannot be left out.
#' @section Intervals:
#' By the comparison's folds: every fold's model predicts the new row, and the held-out rows say how
#' far off it may be (CV+; Barber, Candes, Ramdas & Tibshirani 2021, Annals of Statistics 49; for
#' classes Romano, Sesia & Candes 2020). They hold `level` of new rows of the same kind, whatever
#' the model is worth - sure in theory are 2 `level` - 1 - on average over all rows, not in every
#' corner of the table. Where rows come in groups they are for rows of new groups (Dunn, Wasserman &
#' Ramdas 2023), and few groups allow no high `level`. A row of which every class is less likely
#' than the true one of nearly all held-out rows has none that may be.
#' @section Errors:
#' `kw_error_argument` for a `type` that the outcome or the model does not have, or a `level` that
#' is too high for so few rows or groups;
#' `kw_error_new_data` when a column is absent or of another type, naming it;
#' `kw_error_versions` when a model package of another version than the model's fails.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1,
#'   quiet = TRUE
#' )
#' predict(fit_final(select_final(cmp)), demo_pots()[1:3, ])
#' @export
predict.kw_model <- function(object, new_data, type = NULL, level = 0.9, ...) {
  choices <- if (has_classes(object$kind)) {
    c("class", "probability")
  } else {
    if (is_wide(object$kind)) "quantiles" else "value"
  }
  if (!is.null(type)) check_choice(type, c(choices, "interval"), "type")
  frame <- frame_from_new(new_data, object$schema, object$missing_codes)
  prediction_table(object, frame, type, level)
}

# What predict() gives, of rows that are a frame already.
prediction_table <- function(object, frame, type, level) {
  if (identical(type, "interval")) {
    usual <- prediction_table(object, frame, if (has_classes(object$kind)) "class", level)
    return(tibble::add_column(usual, !!!interval_columns(object, frame, level)))
  }
  prediction <- tryCatch(predict_frame(object, frame), error = function(e) {
    explain_failed_prediction(object, e)
  })
  if (!is_wide(object$kind)) return(tibble::tibble(value = prediction))
  if (!has_classes(object$kind)) {
    colnames(prediction) <- object$levels
    return(tibble::as_tibble(prediction))
  }
  colnames(prediction) <- paste0("p_", object$levels)
  probabilities <- tibble::as_tibble(prediction)
  called <- if (is.null(object$threshold)) {
    unname(prediction)
  } else {
    calls_at(prediction, object$threshold)
  }
  class <- factor(object$levels[predicted_class(as_path_prediction(factor(object$levels), called))],
    levels = object$levels
  )
  switch(type %||% "both",
    class = tibble::tibble(class = class),
    probability = probabilities,
    tibble::add_column(probabilities, class = class, .before = 1L)
  )
}

# A package of another version than the one that fitted the model is the likeliest reason.
explain_failed_prediction <- function(model, e) {
  then <- unlist(model$facts$versions$packages)
  now <- vapply(names(then), function(package) {
    if (requireNamespace(package, quietly = TRUE)) {
      as.character(utils::packageVersion(package))
    } else {
      "none"
    }
  }, "")
  other <- names(then)[now != then]
  if (inherits(e, "kw_error") || length(other) == 0L) stop(e)
  stop_kw("versions", "The model cannot predict with the packages that are installed.",
    where = paste0(
      plain_message(e), " (",
      paste0(other, ": fitted with ", then[other], ", installed ", now[other],
        collapse = "; "
      ),
      ")"
    ),
    remedy = "Install the versions that it was fitted with, or fit it again."
  )
}

#' Predict new rows and write the predictions to a file
#'
#' @param model A model from [fit_final()] or [open_model()].
#' @param new_data Data frame, or path of a table as [read_data()] takes it; a delimited
#'   file is read by the model's schema. See [check_new_data()] for what is mended.
#' @param file Path ending in `.csv` or `.parquet`; an existing file is replaced only when
#'   the new one is complete.
#' @param id Names of columns to copy; default the brief's id columns that `new_data` has.
#' @param type,level As for [predict()][predict.kw_model].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return The path, invisibly.
#' @section Errors:
#' `kw_error_argument` for anything but a model, `kw_error_file` when a file is absent or cannot be
#' written, `kw_error_table` when the new rows cannot be read.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()), splits = split_kfold(3), seed = 1,
#'   quiet = TRUE)
#' write_predictions(fit_final(select_final(cmp)), demo_pots()[1:5, ], file.path(tempdir(),
#'   "predicted.csv"))
#' @export
write_predictions <- function(model, new_data, file, id = NULL, type = NULL, level = 0.9, ...) {
  no_more(...)
  check_class(model, "kw_model", "model", "Make one with fit_final().")
  check_string(file, "file")
  ending <- tolower(sub("^.*[.]", "", basename(file)))
  if (!ending %in% c("csv", "parquet")) {
    stop_kw("argument", paste0("The file ", quoted(file), " must end in .csv or .parquet."))
  }
  check_writable_file(file)
  if (is.character(new_data)) new_data <- read_new_rows(model, new_data, id)
  both <- with_ids(model, new_data, id, type, level)
  write_whole(file, if (ending == "csv") csv_bytes(both) else parquet_bytes(both))
}

parquet_bytes <- function(columns) {
  need("nanoparquet", "Writing Parquet")
  table <- as.data.frame(columns, check.names = FALSE)
  write <- function(path) nanoparquet::write_parquet(table, path)
  bytes_made_by(write, ".parquet", function(bytes) ends_with_bytes(bytes, charToRaw("PAR1")))
}

# Id columns, then predictions.
with_ids <- function(model, new_data, id, type, level) {
  beside_ids(model, new_data, predict(model, new_data, type = type, level = level), id)
}

beside_ids <- function(model, new_data, prediction, id = NULL) {
  check_columns_exist(id, names(new_data), "id")
  id <- id %||% intersect(model$id, names(new_data))
  c(unclass(new_data)[id], as.list(prediction))
}
