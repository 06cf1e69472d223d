test_that("the README's R example runs as printed, in at most 10 lines", {
  lines <- readLines(file.path(source_folder(), "README.md"))
  start <- which(lines == "```r")[1]
  code <- lines[(start + 1):(start + which(lines[-seq_len(start)] == "```")[1] - 1)]
  expect_lte(length(code), 10)
  home <- new.env(parent = globalenv())
  withr::local_pdf(NULL)
  # other tests may have opened the same rows in this session
  capture.output(suppressWarnings(
    eval(parse(text = code), home),
    classes = "kw_warning_opened_again"
  ))
  expect_s3_class(home$model, "kw_model")
  expect_identical(failures(home$cmp)$message, character())
})

test_that("every screenshot that the README shows is there", {
  lines <- readLines(file.path(source_folder(), "README.md"))
  shown <- unlist(regmatches(lines, gregexpr("docs/screenshots/[a-z-]+[.]png", lines)))
  there <- file.path(
    "docs", "screenshots", list.files(file.path(source_folder(), "docs", "screenshots"))
  )
  expect_setequal(shown, there)
})

test_that("the reference has all calls and parts that there are, as the code says them", {
  withr::local_dir(source_folder())
  withr::local_libpaths(dirname(system.file(package = "kilnwright")), action = "prefix")
  expect_identical(
    system2(
      file.path(R.home("bin"), "Rscript"),
      c("tools/write-reference.R", "--check"),
      stdout = FALSE,
      stderr = FALSE
    ),
    0L
  )
})

test_that("the index of the vignettes stays in the tarball, our own files in build/ do not", {
  ignored <- readLines(file.path(source_folder(), ".Rbuildignore"))
  left_out <- function(path) any(vapply(ignored, grepl, NA, x = path, perl = TRUE))
  expect_false(left_out("build/vignette.rds"))
  expect_false(left_out("build"))
  expect_true(left_out("build/installed"))
  expect_true(left_out("build/kilnwright_0.3.0.tar.gz"))
  expect_true(left_out("build/kilnwright.Rcheck"))
})
