# Files are old or whole, and a full disk is an error.

test_that("a file that could not be written whole is an error, and leaves what was there", {
  expect_identical(kw("write_bytes")(tempfile(), as.raw(1:9)), "")
  skip_if_not(file.exists("/dev/full"))
  # a device is not replaced by a file
  expect_false(kw("is_ordinary_file")("/dev/full"))
  expect_error(kw("check_writable_file")("/dev/full"), "no ordinary file", class = "kw_error_file")
  expect_match(kw("write_bytes")("/dev/full", as.raw(1:9)), "space")
  folder <- withr::local_tempdir()
  file <- file.path(folder, "kept.csv")
  writeLines("old", file)
  local_stand_in("write_bytes", function(path, bytes) {
      writeBin(utils::head(bytes, -3), path)
      ""
    })
  expect_error(kw("write_whole")(file, "new and longer"), "read back", class = "kw_error_file")
  expect_identical(readLines(file), "old")
  expect_identical(list.files(folder, all.files = TRUE, no.. = TRUE), "kept.csv")
})

test_that("every writer goes through the one that checks", {
  folder <- withr::local_tempdir()
  cmp <- toy_comparison()
  model <- fit_final(select_final(cmp))
  writers <- list(
    model = function(file) save_model(model, file), card = function(file) write_card(model, file),
    script = function(file) write_script(model, file),
    page.html = function(file) write_report(cmp, file),
    rows.csv = function(file) write_predictions(model, toy(20), file),
    rows.parquet = function(file) write_predictions(model, toy(20), file),
    figure.png = function(file) kw("save_png")(draw_standings(cmp), file)
  )
  local_stand_in("write_bytes", function(path, bytes) "No space left on device")
  local_no_pictures()
  for (name in names(writers)) {
    file <- file.path(folder, name)
    expect_error(writers[[name]](file), "No space left", class = "kw_error_file", info = name)
    expect_false(file.exists(file))
  }
  expect_length(list.files(folder, all.files = TRUE, no.. = TRUE), 0)
})

test_that("what a full temporary folder cut off is seen", {
  bytes <- kw("bytes_made_by")
  whole <- function(made) kw("ends_with_bytes")(made, charToRaw("end"))
  expect_error(
    bytes(function(path) cat("beginning", file = path), ".x", whole), "temporary",
    class = "kw_error_file"
  )
  expect_identical(rawToChar(bytes(function(path) cat("to the end", file = path), ".x", whole)),
    "to the end")
})

test_that("what a table says cannot steer the terminal or the card", {
  table <- toy(80)
  names(table)[1] <- "x\u001b[2J\u001b]0;gone\u0007"
  table$colour <- sub("red", "[red](http://nowhere) <b>", table$colour, fixed = TRUE)
  job <- brief(table, "two", event = "yes", ignore = c("number", "three", "batch"))
  model <- fit_final(select_final(quiet_run(
    job, candidates(t = fam_tree(pruning = among(0.001, 0.1))),
    splits = split_kfold(3), seed = 1
  )))
  shown <- capture.output({
    print(job)
    print(inspect_data(job))
    print(model)
    print(model$scores)
  })
  expect_false(any(grepl("[\u001b\u0007]", shown)))
  expect_identical(kw("visible")("a\u001b[2J\tb\nc"), "a\\x1b[2J\tb\nc")
  said <- tryCatch(brief(table, "two", ignore = "x\u001b[2J"), error = conditionMessage)
  expect_false(grepl("\u001b[2J", said, fixed = TRUE))
  card <- withr::local_tempfile(fileext = ".md")
  write_card(model, card)
  expect_false(any(grepl("\u001b", readLines(card))))
})
