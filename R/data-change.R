# Changing a brief after it was made, as if it had been said so at the start. The
# seal stays as it is.

change_brief <- function(job, changes) {
  for (change in changes) job <- change_once(job, change)
  refresh_brief(job)
}

change_once <- function(job, change) {
  about <- setdiff(change$about, unlist(job$roles))
  if (change$kind == "drop_rows") return(drop_working_rows(job, change$rows))
  if (length(about) == 0L) return(job)
  if (change$kind == "role") return(add_role(job, change$role, about))
  if (change$kind == "missing_code") {
    job$missing_codes[[about]] <- unique(c(job$missing_codes[[about]], change$codes))
    return(on_working_rows(job, about, function(x) recode_missing(x, change$codes, about)))
  }
  on_working_rows(job, about, function(x) convert_column(x, change$to))
}

add_role <- function(job, role, columns) {
  if (role == "group") {
    if (!is.null(job$sealed)) {
      stop_kw("set_aside", paste0("The group ", quoted(columns[1]), " cannot be declared after rows were set aside."),
              where = "Groups may already lie on both sides of the seal.",
              remedy = "Start again: brief(..., group = ), then set_aside().")
    }
    if (!is.null(job$roles$group)) return(job)
    columns <- columns[1]
  }
  job$roles[[role]] <- c(job$roles[[role]], columns)
  job
}

on_working_rows <- function(job, column, change) {
  job$table[[column]] <- change(job$table[[column]])
  # sealed rows are read like new ones when they are opened: by schema and codes
  job
}

convert_column <- function(x, to) {
  if (to == "date") return(as.Date(as.character(x)))
  suppressWarnings(as.numeric(sub(",", ".", trimws(as.character(x)), fixed = TRUE)))
}

drop_working_rows <- function(job, rows) {
  keep <- !seq_len(nrow(job$table)) %in% rows
  job$table <- frame_of_rows(job$table, keep)
  job$rows <- job$rows[keep]
  job
}
