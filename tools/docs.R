# Help pages, NAMESPACE and docs/reference.md from the sources, in one go.

# A NAMESPACE that names a function which is gone cannot be installed, and only what is
# installed can be documented: such names are taken out first.
drop_stale_exports <- function(file = "NAMESPACE") {
  defined <- unlist(lapply(list.files("R", "[.]R$", full.names = TRUE), function(path) {
    vapply(parse(path), function(call) if (is.call(call)) as.character(call[[2]])[1] else "", "")
  }))
  lines <- readLines(file)
  named <- sub("^export\\((.*)\\)$", "\\1", lines)
  named <- sub("^S3method\\((.*),(.*)\\)$", "\\1.\\2", named)
  stale <- grepl("^(export|S3method)\\(", lines) & !named %in% defined
  if (any(stale)) writeLines(lines[!stale], file)
}

run <- function(...) if (system2("Rscript", c(...)) != 0L) quit(status = 1L)

Rcpp::compileAttributes()
drop_stale_exports()
run("tools/install.R")
roxygen2::roxygenise(load_code = "installed")
source("tools/reference.R")
add_see_also()
run("tools/install.R")
run("tools/write-reference.R")
