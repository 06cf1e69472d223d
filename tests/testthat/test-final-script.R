# Scripts hold names and values of any kind, and run nothing but themselves.

test_that("a script of hostile names and levels is ASCII, parses, and predicts alike", {
  made <- 0
  for (seed in 1:30) {
    job <- hostile_brief(seed)
    if (is.null(job)) next
    model <- hostile_model(job$brief)
    file <- withr::local_tempfile(fileext = ".R")
    write_script(model, file, data = names(job$table)[1], new_data = "nowhere")
    expect_false(any(grepl("[^ -~\t]", readLines(file))))
    scripted <- run_script(file, job$table)$predict_new(job$table)
    ours <- as.data.frame(predict(model, job$table))
    numbers <- function(x) unname(Filter(is.numeric, as.list(x)))
    expect_equal(numbers(scripted), numbers(ours), tolerance = 1e-10)
    made <- made + 1
  }
  expect_gt(made, 20)
})

test_that("scripts read separators, quotes and missing values as the package does", {
  # kept with two spaces: a level that looks like a missing value, blanks, doubled quotes
  cells <- c("NA in quotes" = "\"NA\"", plain = "b", quoted = "\"say \"\"hi\"\"\"", none = "")
  read <- function(file) {
    home <- new.env()
    home$schema <- list(k = list(kind = "category"), t = list(kind = "category"))
    home$outcome <- "y"
    home$levels <- NULL
    for (expr in parse(system.file("script", "read-table.R", package = "kilnwright"))) {
      eval(expr, home)
    }
    home$read_table(file)
  }
  for (between in c(",", ";", "\t")) {
    file <- withr::local_tempfile(fileext = ".csv")
    lines <- c(
      paste("k", "\"t\"", "y", sep = between),
      paste(cells, "\"two, words\"", c("1", "2.5", "", "NA"), sep = between),
      paste("  a  ", "\"x,y;z\"", "7", sep = between)
    )
    writeLines(lines, file, sep = "\r\n")
    ours <- as.data.frame(read_data(file))
    theirs <- read(file)
    expect_identical(theirs$k, ours$k, info = between)
    expect_identical(theirs$t, ours$t, info = between)
    expect_equal(theirs$y, ours$y, info = between)
  }
})
