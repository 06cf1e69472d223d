# Model files: what they hold, and files that somebody made.

saved_model <- function(candidates, kind = "number", env = parent.frame()) {
  file <- withr::local_tempfile(fileext = ".kilnwright", .local_envir = env)
  cmp <- quiet_run(toy_brief(kind), candidates, splits = split_kfold(3), seed = 1)
  save_model(fit_final(select_final(cmp, rule = "best_mean")), file)
}

manifest_of <- function(file) {
  folder <- withr::local_tempdir()
  zip::unzip(file, exdir = folder)
  jsonlite::read_json(file.path(folder, "manifest.json"))
}

# The parts of a model file, changed by a function, packed again with true checksums.
forged <- function(file, change, env = parent.frame(),
                   parts = c("manifest.json", "plain.json", "model.rds")) {
  folder <- withr::local_tempdir()
  zip::unzip(file, exdir = folder)
  manifest <- jsonlite::read_json(file.path(folder, "manifest.json"))
  manifest <- change(manifest, folder)
  jsonlite::write_json(manifest, file.path(folder, "manifest.json"), auto_unbox = TRUE)
  sums <- file.path(folder, "checksums.txt")
  if (!isTRUE(attr(manifest, "sums_as_they_are"))) {
    writeLines(paste(cli::hash_file_sha256(file.path(folder, parts)), parts), sums)
  }
  packed <- withr::local_tempfile(fileext = ".kilnwright", .local_envir = env)
  zip::zip(packed, c(parts, "checksums.txt"), root = folder)
  packed
}

test_that("a model says which of its parts hold training rows", {
  rows <- function(...) unlist(manifest_of(saved_model(candidates(...)))$holds_rows)
  expect_null(rows(t = fam_tree()))
  expect_identical(rows(n = fam_neighbours()), "fam_neighbours")
  expect_identical(
    rows(f = pipeline(
      pre_missing(fill = "nearest", columns = x1), pre_missing(), pre_onehot(), fam_linear()
    )), "pre_missing"
  )
  cmp <- quiet_run(
    toy_brief("number"), candidates(n = fam_neighbours()), splits = split_kfold(3), seed = 1
  )
  expect_output(print(fit_final(select_final(cmp))), "holds working rows")
})

test_that("the manifest says without R what the model is, as docs/model-file.md has it", {
  file <- withr::local_tempfile(fileext = ".kilnwright")
  cmp <- quiet_run(toy_brief(), candidates(t = fam_tree()), splits = split_kfold(3), seed = 1)
  model <- fit_final(select_final(cmp))
  save_model(model, file)
  said <- manifest_of(file)
  expect_identical(unlist(said$classes), c("no", "yes"))
  expect_identical(said$facts$versions$packages$rpart, format(packageVersion("rpart")))
  expect_equal(said$scores[[1]]$validation, model$scores$validation[1])
  about <- readLines(file.path(source_folder(), "docs", "model-file.md"))
  for (key in c(names(said), names(said$facts), names(said$facts$versions))) {
    expect_match(about, paste0("`", key, "`"), fixed = TRUE, all = FALSE)
  }
})

test_that("bombs, doubled checksums and odd manifests are refused before anything is read", {
  file <- saved_model(candidates(t = fam_tree()))
  odd <- list(
    function(m, folder) {
      m$kind <- list("kilnwright model", 1)
      m
    },
    function(m, folder) {
      m$format <- "1; 2"
      m
    },
    function(m, folder) {
      m$facts$openings <- "often"
      m
    },
    function(m, folder) {
      m$facts <- 3
      m
    },
    function(m, folder) list(1, 2),
    function(m, folder) {
      writeBin(raw(5e7), file.path(folder, "model.rds"))
      m
    },
    function(m, folder) {
      sums <- readLines(file.path(folder, "checksums.txt"))
      writeLines(sums[c(2, 2)], file.path(folder, "checksums.txt"))
      structure(m, sums_as_they_are = TRUE)
    },
    function(m, folder) {
      cat("\n", file = file.path(folder, "checksums.txt"), append = TRUE)
      structure(m, sums_as_they_are = TRUE)
    }
  )
  for (change in odd) {
    expect_error(open_model(forged(file, change), trust = TRUE), class = "kw_error_model_file")
  }
  expect_s3_class(
    open_model(forged(file, function(m, folder) m), trust = TRUE), "kw_model"
  )
})

test_that("files of the first form, which had no plain part, are read; what is neither is not", {
  file <- saved_model(candidates(t = fam_tree()))
  first <- function(m, folder) {
    m$format <- 1L
    m
  }
  older <- forged(file, first, parts = c("manifest.json", "model.rds"))
  new <- toy_brief("number")$table
  expect_identical(
    predict(open_model(older, trust = TRUE), new), predict(open_model(file, trust = TRUE), new)
  )
  # a form that the file does not have
  expect_error(open_model(forged(file, first), trust = TRUE), class = "kw_error_model_file")
  as_it_is <- function(m, folder) m
  lacking <- forged(file, as_it_is, parts = c("manifest.json", "model.rds"))
  expect_error(open_model(lacking, trust = TRUE), class = "kw_error_model_file")
})

test_that("a model whose parts keep another state than this version reads is refused by name", {
  model <- fit_final(select_final(quiet_run(
    toy_brief("number"), candidates(a = pipeline(pre_missing(), pre_onehot(), fam_linear())),
    splits = split_kfold(3), seed = 1
  )))
  file <- withr::local_tempfile(fileext = ".kilnwright")
  model$steps[[1]]$definition$state_version <- 7L
  save_model(model, file)
  expect_error(open_model(file, trust = TRUE), "pre_missing.*another form \\(7\\)",
    class = "kw_error_model_file"
  )
  model$steps[[1]]$definition$state_version <- 1L
  model$family$definition$name <- "unheard_of"
  save_model(model, file)
  expect_error(open_model(file, trust = TRUE), "fam_unheard_of.*does not know",
    class = "kw_error_model_file"
  )
})
