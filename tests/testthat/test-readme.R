test_that("the README's R example runs as printed, in at most 10 lines", {
  lines <- readLines(file.path(source_folder(), "README.md"))
  start <- which(lines == "```r")[1]
  code <- lines[(start + 1):(start + which(lines[-seq_len(start)] == "```")[1] - 1)]
  expect_lte(length(code), 10)
  home <- new.env(parent = globalenv())
  withr::local_pdf(NULL)
  local_nothing_opened()
  capture.output(eval(parse(text = code), home))
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

# The code of a vignette that its reader sees, chunk after chunk.
shown_code <- function(file) {
  lines <- readLines(file)
  starts <- grep("^```\\{r", lines)
  shown <- starts[!grepl("(include|echo) = FALSE", lines[starts])]
  fences <- which(lines == "```")
  unlist(lapply(shown, function(start) {
    end <- fences[fences > start][1]
    if (end > start + 1L) lines[(start + 1L):(end - 1L)]
  }))
}

# Names that code uses before it gives them: not the package's, nor R's own, nor the demo's columns,
# nor an argument's (of a hyperparameter, say).
names_not_given <- function(lines) {
  known <- c("library", getNamespaceExports("kilnwright"), names(demo_pots()))
  missing <- character()
  for (expr in as.list(parse(text = lines))) {
    wrapped <- function() NULL
    body(wrapped) <- expr
    found <- codetools::findGlobals(wrapped, merge = FALSE)
    calls <- Filter(Negate(function(f) exists(f, asNamespace("stats"))), found$functions)
    values <- Filter(function(name) {
      given <- get0(name, asNamespace("stats"))
      is.null(given) || is.function(given)
    }, found$variables)
    known <- c(known, arguments_in(expr))
    missing <- c(missing, setdiff(c(calls, values), known))
    if (is.call(expr) && identical(expr[[1]], as.symbol("<-"))) {
      known <- c(known, all.vars(expr[[2]])[1])
    }
  }
  missing
}

arguments_in <- function(expr) {
  if (!is.call(expr)) return(character())
  unlist(c(names(expr), lapply(as.list(expr)[-1], arguments_in)))
}

test_that("what a vignette shows is enough to repeat it", {
  files <- list.files(file.path(source_folder(), "vignettes"), "[.]Rmd$", full.names = TRUE)
  expect_length(files, 7)
  for (file in files) {
    code <- shown_code(file)
    if (length(code) == 0L) next
    expect_identical(names_not_given(code), character(), info = basename(file))
    expect_true("library(kilnwright)" %in% code, info = basename(file))
  }
  expect_identical(names_not_given(c("a <- 1", "b <- paste0(a, url)", "b")), "url")
})
