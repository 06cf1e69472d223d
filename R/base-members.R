# How members of each kind are found: functions in the package whose names start with
# "member_<kind>_", by the rest of their name, in the same order in any locale.
shipped_members <- function(kind) {
  prefix <- paste0("member_", kind, "_")
  home <- topenv(environment())
  names <- sort(ls(home, pattern = paste0("^", prefix)), method = "radix")
  stats::setNames(
    lapply(names, get, envir = home, mode = "function"),
    substring(names, nchar(prefix) + 1L)
  )
}
