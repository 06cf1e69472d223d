# Workers from elsewhere that are no good.

free_address <- function() paste0("tls+tcp://127.0.0.1:", sample(20000:40000, 1))

# A worker of the run that does `after` units as it should and then changes its answers by `change`,
# code about `answer`. With a `secret` of its own it does not have that of the run.
start_rogue <- function(url, certificate, after, change, secret = NULL) {
  script <- tempfile(fileext = ".R")
  writeLines(c(
    sprintf("file <- '%s'", certificate),
    "whole <- function(lines) any(grepl('END KILNWRIGHT SECRET', lines))",
    "while (!file.exists(file) || !whole(readLines(file))) Sys.sleep(0.05)",
    "home <- asNamespace('kilnwright')",
    "honest <- get('timed_unit', home)",
    "done <- 0",
    "unlockBinding('timed_unit', home)",
    "assign('timed_unit', function(...) {",
    "  answer <- honest(...)",
    "  done <<- done + 1",
    sprintf("  if (done > %d) {", after), change, "  }",
    "  answer",
    "}, home)",
    if (!is.null(secret)) {
      c(
        "unlockBinding('secret_of_lines', home)",
        sprintf("assign('secret_of_lines', function(lines) as.raw(%d), home)", secret)
      )
    },
    sprintf("kilnwright:::serve_run('%s', '%s')", url, certificate)
  ), script)
  system2(
    file.path(R.home("bin"), "Rscript"), shQuote(script),
    wait = FALSE, stdout = FALSE, stderr = FALSE
  )
}
