# Changing a brief after it was made, as if it had been said so at the start. The
# seal stays as it is. The changes are kept, with the brief as it was before the first, so
# that they can be shown and taken back.

change_brief <- function(brief, changes) {
  if (length(changes) == 0L) return(refresh_brief(brief))
  before <- brief$before %||% brief
  made <- brief$changes
  for (change in changes) brief <- change_once(brief, change)
  brief$before <- before
  brief$changes <- c(made, changes)
  refresh_brief(brief)
}

change_once <- function(brief, change) {
  about <- setdiff(change$about, unlist(brief$roles))
  if (change$kind == "drop_rows") return(drop_working_rows(brief, change$rows))
  if (length(about) == 0L) return(brief)
  if (change$kind == "role") return(add_role(brief, change$role, about))
  if (change$kind == "missing_code") {
    brief$missing_codes[[about]] <- unique(c(brief$missing_codes[[about]], change$codes))
    return(on_working_rows(brief, about, function(x) recode_missing(x, change$codes)))
  }
  if (change$to %in% day_forms) brief$declared$formats[[about]] <- change$to
  brief$declared$read_as[[about]] <- change$to
  if (change$to == "number") {
    text <- setdiff(trimws(as.character(brief$table[[about]])), change$codes)
    brief$declared$numbers[[about]] <- number_form(text)
  }
  codes <- unique(c(brief$missing_codes[[about]], change$codes))
  if (length(codes) > 0L) brief$missing_codes[[about]] <- codes
  on_working_rows(brief, about, function(x) {
    recode_missing(read_column_as(recode_missing(x, codes), change$to, about), codes)
  })
}

add_role <- function(brief, role, columns) {
  if (role == "group") {
    if (!is.null(brief$sealed)) {
      stop_kw(
        "set_aside",
        paste0("The group ", quoted(columns[1]), " cannot be declared after rows were set aside."),
        where = "Groups may already lie on both sides of the seal.",
        remedy = "Start again: brief(..., group = ), then set_aside()."
      )
    }
    if (!is.null(brief$roles$group)) return(brief)
    columns <- columns[1]
  }
  brief$roles[[role]] <- c(brief$roles[[role]], columns)
  brief
}

on_working_rows <- function(brief, column, change) {
  brief$table[[column]] <- change(brief$table[[column]])
  # sealed rows are read like new ones when they are opened: by schema and codes
  brief
}

drop_working_rows <- function(brief, rows) {
  rows_of_brief(brief, setdiff(brief$rows, rows))
}
