#' Look at new rows before they are predicted
#'
#' Says what [predict()][predict.kw_model] will make of them: which columns are mended
#' because their type can be read in one way only, which levels were never seen, which
#' columns the model does not use.
#'
#' @param model A model from [fit_final()] or [open_model()].
#' @param new_data Data frame, or path of a table; a delimited file is read by the model's
#'   schema, so that codes keep their zeros and dates their format.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A `kw_new_data_check`, a tibble with one row a remark: `code` (`"mended"`,
#'   `"never_seen"`, `"not_used"`), `where` (column), `detail`, `remedy`.
#' @section Errors:
#' `kw_error_new_data` when a column is absent or cannot be read as the model's schema says.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1, quiet = TRUE
#' )
#' new <- demo_pots()[1:20, ]
#' new$glaze[1:3] <- "moonlight"
#' check_new_data(fit_final(select_final(cmp)), new)
#' @export
check_new_data <- function(model, new_data, ...) {
  no_more(...)
  check_class(model, "kw_model", "model", "Make one with fit_final().")
  if (is.character(new_data)) new_data <- read_new_rows(model, new_data)
  frame <- frame_from_new(new_data, model$schema, model$missing_codes)
  remarks_on_new(model, new_data, frame)
}

# A table for the model, by its schema.
read_new_rows <- function(model, file, id = NULL) {
  check_string(file, "new_data")
  read_for_schema(file, model$schema, c(model$id, id))
}

remarks_on_new <- function(model, new_data, frame) {
  each <- lapply(names(model$schema), function(name) {
    x <- recode_missing(new_data[[name]], model$missing_codes[[name]])
    list(
      mended_remark(x, model$schema[[name]], name),
      unseen_remark(unseen_levels(x, frame$columns[[name]], model$schema[[name]]), name)
    )
  })
  known <- c(names(model$schema), model$outcome, model$id, model$facts$other_columns)
  unused <- setdiff(names(new_data), known)
  last <- if (length(unused) > 0L) {
    list(remark_on("not_used", enumerate(unused, 10L), "not used by the model", ""))
  }
  rows <- c(Filter(Negate(is.null), unlist(each, recursive = FALSE)), last)
  empty <- list(code = character(), where = character(), detail = character(), remedy = character())
  found <- tibble::as_tibble(data.table::rbindlist(c(list(empty), rows)))
  mark_table(found, "kw_new_data_check", rows = nrow(new_data))
}

remark_on <- function(code, where, detail, remedy) {
  list(code = code, where = where, detail = detail, remedy = remedy)
}

# A column that came in another type than it was learned in.
mended_remark <- function(x, entry, name) {
  if (all(is.na(x))) return(NULL)
  came <- if (is.logical(x)) {
    "TRUE and FALSE"
  } else if (is.numeric(x)) {
    "numbers"
  } else if (inherits(x, c("Date", "POSIXct"))) {
    "dates"
  } else {
    "text"
  }
  flags <- identical(entry$levels, c("FALSE", "TRUE"))
  wanted <- switch(entry$kind,
    number = "numbers",
    date = "dates",
    if (flags) "TRUE and FALSE" else "text"
  )
  # a date in its own format is what a file holds
  if (came == wanted || (entry$kind == "date" && came == "text")) return(NULL)
  remark_on("mended", name, paste0("came as ", came, ", read as ", wanted), "")
}

# Texts of levels that were never seen, NA where there is none. Of ordered ones what was given
# counts, since as a column they are missing.
unseen_levels <- function(x, column, entry) {
  text <- as.character(if (entry$kind == "ordered") x else column)
  if (!entry$kind %in% c("category", "ordered")) text[] <- NA
  text[text %in% entry$levels] <- NA
  text
}

unseen_remark <- function(text, name) {
  strange <- !is.na(text)
  if (!any(strange)) return(NULL)
  remark_on(
    "never_seen", name,
    paste0(
      count_of(sum(strange), "row"), " with levels that were never seen: ",
      enumerate(quoted(unique(text[strange])), 4L)
    ),
    "They are treated as the preparation says; are they misspelt?"
  )
}
