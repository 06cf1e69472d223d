test_that("the example scripts run from start to end", {
  scripts <- list.files(
    system.file("examples", package = "kilnwright"),
    pattern = "[.]R$", full.names = TRUE
  )
  expect_gt(length(scripts), 0)
  # figures of reports are drawn where they are looked at
  local_no_pictures()
  run <- function(script) {
    local_nothing_opened()
    home <- new.env(parent = globalenv())
    utils::capture.output(source(script, local = home, print.eval = TRUE))
  }
  for (script in scripts) {
    said <- run(script)
    expect_match(said, "Best of each candidate", all = FALSE, info = script)
  }
})
