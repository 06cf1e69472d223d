test_that("the example scripts run from start to end", {
  scripts <- list.files(
    system.file("examples", package = "kilnwright"),
    pattern = "[.]R$", full.names = TRUE
  )
  expect_gt(length(scripts), 0)
  for (script in scripts) {
    out <- withr::local_tempfile()
    status <- system2(file.path(R.home("bin"), "Rscript"), script, stdout = out, stderr = out)
    expect_identical(status, 0L, info = paste(readLines(out), collapse = "\n"))
    expect_match(readLines(out), "Best of each candidate", all = FALSE)
  }
})
