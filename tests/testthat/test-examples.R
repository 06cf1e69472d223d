test_that("the example scripts run from start to end", {
  scripts <- list.files(
    system.file("examples", package = "kilnwright"),
    pattern = "[.]R$", full.names = TRUE
  )
  expect_gt(length(scripts), 0)
  # figures of reports are drawn where they are looked at
  local_no_pictures()
  for (script in scripts) {
    said <- utils::capture.output(sys.source(script, new.env(parent = globalenv())))
    expect_match(said, "Best of each candidate", all = FALSE, info = script)
  }
})
