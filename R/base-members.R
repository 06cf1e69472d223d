# How members of each kind are found: functions in the package whose names start with
# "member_<kind>_", by the rest of their name, in the same order in any locale. Looked for once.
shipped_members <- function(kind) {
  if (is.null(member_store[[kind]])) {
    prefix <- paste0("member_", kind, "_")
    home <- topenv(environment())
    names <- sort(ls(home, pattern = paste0("^", prefix)), method = "radix")
    member_store[[kind]] <- stats::setNames(
      lapply(names, get, envir = home, mode = "function"),
      substring(names, nchar(prefix) + 1L)
    )
  }
  member_store[[kind]]
}

member_store <- new.env(parent = emptyenv())
