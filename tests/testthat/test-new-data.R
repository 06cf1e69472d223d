# Files are read by what they say, and new rows by what the model learned.

# A table whose codes, names and texts bite, written as a file.
biting <- function(n = 120) {
  withr::with_seed(1, {
    flag <- sample(c(TRUE, FALSE), n, TRUE)
    code <- sprintf("%03d", sample(c(10, 20, 30), n, TRUE))
    x <- rnorm(n)
    data.frame(
      id = sprintf("%05d", seq_len(n)), code, when = as.Date("2020-01-01") + sample(0:700, n),
      phone = sprintf("+49%d", sample(1e6, n)), long = sprintf("%.0f", 1e16 + 2 * seq_len(n)),
      account = sprintf("%012.0f", 123456789012 + sample(1e6, n)), flag, x,
      "say \"hi\"" = sample(c("a \"b\" c", "d, e", NA), n, TRUE), "back\\slash" = rnorm(n),
      y = (code == "020") * 5 + x + rnorm(n) / 5 + flag, check.names = FALSE
    )
  })
}

biting_file <- function(table, format = "%d/%m/%Y") {
  table$when <- format(table$when, format)
  file <- tempfile(fileext = ".csv")
  write.csv(table, file, row.names = FALSE, na = "")
  file
}

# What a model says of a file of new rows, both forms of its script say too, and a reader in another
# language.
expect_everywhere <- function(model, value, data, new_data = data, info = NULL) {
  predicted <- file.path(dirname(new_data), "predictions.csv")
  for (short in c(FALSE, TRUE)) {
    script <- withr::local_tempfile(fileext = ".R")
    write_script(model, script, data = data, new_data = new_data, only_predicts = short)
    # not those of the script before
    unlink(predicted)
    utils::capture.output(expect_silent(sys.source(script, new.env())))
    expect_equal(
      utils::read.csv(predicted)$value, value, tolerance = 1e-10, info = c(info, short)
    )
  }
  python <- Sys.which("python3")
  if (!nzchar(python)) return(invisible())
  reader <- system.file("script", "read_model.py", package = "kilnwright", mustWork = TRUE)
  save_model(model, saved <- withr::local_tempfile(fileext = ".kilnwright"))
  read <- system2(python, shQuote(c(reader, saved, new_data)), stdout = TRUE)
  expect_equal(utils::read.csv(text = read)$value, value, tolerance = 1e-10, info = info)
}

biting_model <- function(table) {
  job <- brief(table, "y", id = "id", ignore = c("phone", "long", "account"))
  steps <- list(pre_missing(), pre_dates(), pre_onehot())
  fit_final(select_final(quiet_run(
    job, candidates(l = pipeline(steps, fam_linear())),
    splits = split_kfold(3), seed = 1
  )))
}

test_that("codes keep their zeros and signs, long digits stay text, quotes are undoubled", {
  table <- biting()
  read <- as.data.frame(read_data(biting_file(table)))
  expect_identical(names(read), names(table))
  for (name in setdiff(names(table), c("when", "x", "y", "back\\slash"))) {
    expect_identical(read[[name]], table[[name]], info = name)
  }
  expect_equal(read$when, table$when, ignore_attr = TRUE)
  expect_type(read$x, "double")
})

test_that("quoted empty cells are missing like any other", {
  file <- withr::local_tempfile(lines = c("a,b", "\"\",1", "x,2", ",3"), fileext = ".csv")
  expect_identical(read_data(file)$a, c(NA, "x", NA))
})

test_that("a date's format is learned if there is one only, and checked in new rows", {
  table <- biting()
  for (format in c("%Y-%m-%d", "%d/%m/%Y", "%m/%d/%Y", "%d.%m.%Y", "%Y/%m/%d")) {
    file <- biting_file(table, format)
    expect_equal(read_data(file)$when, table$when, ignore_attr = TRUE, info = format)
  }
  ambiguous <- withr::local_tempfile(
    lines = c("when,y", "01/02/2020,1", "03/04/2020,2"), fileext = ".csv"
  )
  expect_identical(read_data(ambiguous)$when, c("01/02/2020", "03/04/2020"))
  model <- biting_model(read_data(biting_file(table)))
  expect_identical(model$schema$when$format, "%d/%m/%Y")
  other <- table
  other$when <- format(table$when, "%Y-%m-%d")
  expect_error(
    predict(model, other),
    "'when' must be a date \\(like 17/05/2031\\)",
    class = "kw_error_new_data"
  )
  expect_error(predict(model, other), "row", class = "kw_error_new_data")
  iso <- biting_model(table)
  expect_error(
    predict(iso, replace(table, "when", format(table$when, "%d/%m/%Y"))),
    "like 2031-05-17",
    class = "kw_error_new_data"
  )
})

test_that("a blank line is a gap of a single column, and else no row, whoever reads it", {
  withr::local_dir(withr::local_tempdir())
  table <- data.frame(glaze = rep(c("NA", "ash", "oribe"), 20), x = seq_len(60) / 7)
  table$y <- table$x + (table$glaze == "ash")
  utils::write.csv(table, "table.csv", row.names = FALSE)
  # a level "NA" has a reader of its own in scripts
  for (columns in list("x", "glaze", c("x", "glaze"))) {
    job <- brief(read_data("table.csv")[c(columns, "y")], "y")
    model <- fit_final(select_final(quiet_run(
      job, candidates(t = pipeline(pre_missing(), fam_tree())), splits = split_kfold(3), seed = 1
    )))
    rows <- list(x = c("x", "2", "", "5"), glaze = c("glaze", "\"ash\"", "", "\"NA\""))
    lines <- if (length(columns) == 1L) rows[[columns]] else c("x,glaze", "2,ash", "", "5,oribe")
    writeLines(lines, "new.csv")
    write_predictions(model, "new.csv", "ours.csv")
    ours <- utils::read.csv("ours.csv")$value
    expect_length(ours, if (length(columns) == 1L) 3 else 2)
    expect_everywhere(model, ours, "table.csv", "new.csv", info = columns)
  }
})

test_that("dates with names of months are read, in scripts and in another language too", {
  withr::local_dir(withr::local_tempdir())
  day <- as.Date("2030-12-20") + withr::with_seed(6, sample(400, 60))
  part <- as.POSIXlt(day)
  y <- part$mon + withr::with_seed(7, rnorm(60))
  short <- month.abb[part$mon + 1L]
  forms <- list(
    "%d-%b-%Y" = paste(part$mday, toupper(short), part$year + 1900, sep = "-"),
    "%d %b %Y" = paste(part$mday, short, part$year + 1900),
    "%b %d, %Y" = paste0(month.name[part$mon + 1L], " ", part$mday, ", ", part$year + 1900)
  )
  for (form in names(forms)) {
    utils::write.csv(data.frame(day = forms[[form]], y), "table.csv", row.names = FALSE)
    table <- read_data("table.csv")
    expect_equal(as.double(table$day), as.double(day), info = form)
    job <- brief(table, "y")
    expect_identical(job$schema$day$format, form)
    model <- fit_final(select_final(quiet_run(
      job, candidates(l = pipeline(pre_dates(parts = "month"), fam_linear())),
      splits = split_kfold(3), seed = 1
    )))
    expect_everywhere(model, predict(model, table)$value, "table.csv", info = form)
  }
  expect_error(predict(model, data.frame(day = "Mai 5, 2031")), "'Mai 5, 2031'",
    class = "kw_error_new_data")
  expect_length(kw("possible_date_formats")(c("5-May-2031", "7-Mayo-2031")), 0)
})

test_that("points in time keep their hours, whether read as text or as times", {
  table <- data.frame(
    at = as.POSIXct("2031-01-01", tz = "UTC") + 3600 * withr::with_seed(2, sample(5000, 80)),
    y = withr::with_seed(3, rnorm(80))
  )
  job <- brief(table, "y")
  model <- fit_final(select_final(quiet_run(
    job, candidates(l = pipeline(pre_dates(parts = "elapsed"), fam_linear())),
    splits = split_kfold(3), seed = 1
  )))
  text <- transform(table, at = format(at, "%Y-%m-%dT%H:%M:%SZ"))
  expect_equal(predict(model, text), predict(model, table))
  expect_error(
    predict(model, transform(text, at = sub("T[0-9]+", "T25", at))),
    "point in time \\(like 2031-05-17 14:30:00\\)",
    class = "kw_error_new_data"
  )
})

test_that("points in time are read from files, and a script reads them alike", {
  n <- 90
  at <- as.POSIXct("2031-03-02 07:11:05", tz = "UTC") + withr::with_seed(4, sample(9e6, n))
  hour <- as.POSIXlt(at)$hour
  y <- hour + withr::with_seed(5, rnorm(n))
  write <- function(written) {
    file <- withr::local_tempfile(fileext = ".csv", .local_envir = parent.frame())
    utils::write.csv(data.frame(at = written, y = y), file, row.names = FALSE)
    file
  }
  plain <- write(format(at, "%Y-%m-%d %H:%M:%S"))
  expect_equal(read_data(plain)$at, at)
  expect_equal(read_data(write(format(at, "%Y-%m-%dT%H:%M:%SZ")))$at, at)
  minutes <- read_data(write(format(at, "%Y-%m-%d %H:%M")))$at
  expect_equal(as.double(minutes), as.double(at) %/% 60 * 60)
  # without the time it is midnight; what is none stays what it was
  some <- replace(format(at, "%Y-%m-%d %H:%M:%S"), 2:3, c(NA, "2031-04-01"))
  expect_equal(read_data(write(some))$at[2:3], as.POSIXct(c(NA, "2031-04-01"), tz = "UTC"))
  odd <- c(
    "2031-04-01 24:30:00", "2031-02-30 10:00", "2031-04-01 10:00:05 ca", "10:00",
    "2031-04-01 10:60", "2031-04-01 10:00+2", "2031-04-01 13:00 PM"
  )
  for (one in odd) expect_type(read_data(write(replace(some, 7, one)))$at, "character")

  # days first, months first, and zones, which may differ from row to row
  zones <- rep(c(-7.5, 0, 2), length.out = n)
  marks <- rep(c("-0730", "Z", "+02:00"), length.out = n)
  forms <- list(
    plain = plain,
    day_first = write(format(at, "%d.%m.%Y %H:%M:%S")),
    month_first = write(format(at, "%m/%d/%Y %H:%M:%S")),
    zones = write(paste0(format(at + 3600 * zones, "%Y-%m-%dT%H:%M:%S"), marks)),
    halves = write(paste0(
      format(at, "%m/%d/%Y "), (hour + 11) %% 12 + 1, format(at, ":%M:%S "),
      ifelse(hour < 12, "AM", "p.m.")
    ))
  )
  for (name in names(forms)) {
    file <- forms[[name]]
    table <- read_data(file)
    expect_equal(as.double(table$at), as.double(at), info = name)
    model <- fit_final(select_final(quiet_run(
      brief(table, "y"), candidates(l = pipeline(pre_dates(parts = "hour"), fam_linear())),
      splits = split_kfold(3), seed = 1
    )))
    value <- predict(model, table)$value
    # of single rows it could not be told which is the month
    texts <- data.frame(at = as.character(utils::read.csv(file)$at[1:2]))
    expect_equal(predict(model, texts)$value, value[1:2], info = name)
    expect_everywhere(model, value, file, info = name)
  }
  # where day and month could change places it stays text, and is said so
  unclear <- read_data(write(format(at, "0%u/%m/2031 %H:%M")))
  expect_type(unclear$at, "character")
  found <- inspect_data(brief(unclear, "y"))
  expect_match(found$detail[found$code == "ambiguous_date"], "change places")
})

test_that("points in time that a data frame holds as text are found, and read as what they are", {
  at <- as.POSIXct("2031-03-02 07:11", tz = "UTC") + 3600 * withr::with_seed(4, sample(9e3, 80))
  table <- data.frame(at = format(at, "%d.%m.%Y %H:%M"), y = withr::with_seed(5, rnorm(80)))
  table$wall <- c("unknown", sprintf("%.4f", withr::with_seed(6, rnorm(79))))
  job <- brief(table, "y")
  found <- inspect_data(job)
  # times and measures are all different, and yet no ids
  expect_false("id_like" %in% found$code)
  said <- found[found$code == "date_as_text", ]
  expect_match(said$detail, "points in time")
  read <- eval(parse(text = sub("(...", "(table, \"y\"", said$remedy, fixed = TRUE)))
  expect_equal(read$table$at, at)
  mended <- apply_remedies(job, found)$brief
  expect_equal(mended$table$at, at)
  expect_identical(mended$schema$at$format, "%d.%m.%Y")
  expect_identical(mended$schema$wall$kind, "number")
  table$at <- as.character(1e4 + seq_len(80))
  expect_true("id_like" %in% inspect_data(brief(table, "y"))$code)
})

test_that("columns are read as what they are said to be, in R, plan files, models and scripts", {
  withr::local_dir(withr::local_tempdir())
  n <- 80
  table <- withr::with_seed(7, data.frame(
    wall = sub(".", ",", sprintf("%.2f", runif(n, 4, 9)), fixed = TRUE), kiln = sample(3, n, TRUE),
    fired = sprintf("%02d/%02d/2031", sample(12, n, TRUE), sample(12, n, TRUE)), y = rnorm(n)
  ))
  table$y <- table$y + c(0, 4, 1)[table$kiln] + as.numeric(substr(table$fired, 1, 2))
  table$wall[5] <- "thick"
  utils::write.csv(table, "table.csv", row.names = FALSE)
  about <- list(wall = "number", kiln = "category", fired = "%d/%m/%Y")
  say <- function(read_as = about, codes = list(wall = "thick")) {
    brief(read_data("table.csv"), "y", read_as = read_as, missing_codes = codes)
  }
  job <- say()
  expect_identical(
    unname(kw("schema_kinds")(job$schema)), c("number", "category", "date")
  )
  expect_identical(job$table$wall[1:5], c(as.numeric(sub(",", ".", table$wall[1:4])), NA))
  expect_identical(job$table$fired, as.Date(table$fired, "%d/%m/%Y"))
  expect_error(say(codes = NULL), "'wall' cannot be read as numbers: 'thick'.*\n.*row 5",
    class = "kw_error_brief")
  expect_error(say(list(fired = "%Y-%m-%d")), "dates of the form %Y-%m-%d",
    class = "kw_error_brief")
  expect_error(say(list(fired = "day first")), "read_as", class = "kw_error_argument")
  expect_error(say(list(foot = "number")), "'foot'", class = "kw_error_brief")
  found <- inspect_data(brief(read_data("table.csv"), "y"))
  expect_match(found$remedy[found$code == "ambiguous_date"], "read_as = list(fired = \"%d/%m/%Y\"",
    fixed = TRUE)
  # where the word is not there the column comes as numbers, and their commas are known as well
  table$wall[5] <- "4,50"
  utils::write.csv(table, "whole.csv", row.names = FALSE)
  whole <- brief(read_data("whole.csv"), "y", read_as = about, missing_codes = list(wall = "thick"))
  expect_identical(whole$schema$wall, job$schema$wall)
  expect_identical(job$schema$wall$commas, "decimal")
  # what is no number would be lost, so that it is asked for
  expect_match(found$detail[found$code == "number_as_text"], "1 other text, such as 'thick'")
  kept <- apply_remedies(brief(read_data("table.csv"), "y"), found)$brief
  expect_identical(kept$schema$wall$kind, "category")
  asked <- apply_remedies(brief(read_data("table.csv"), "y"), found, also = "number_as_text")$brief
  expect_identical(asked$table$wall, job$table$wall)

  plan <- plan_comparison(set_aside(job, 0.2, seed = 1), candidates(
    tree = pipeline(pre_missing(), pre_dates(parts = "day"), fam_tree(min_leaf = 2))
  ), splits = split_kfold(3), seed = 1)
  write_plan(plan, "plan.yml", table = "table.csv")
  expect_match(readLines("plan.yml"), "fired: .*%d/%m/%Y", all = FALSE)
  model <- fit_final(select_final(quiet_run(read_plan("plan.yml"))))
  expect_identical(score_set_aside(model)$rows[1], 16L)
  # new rows without the word hold numbers, and those of 1 to 3 are levels
  new <- transform(read_data("table.csv")[1:4, ], wall = c(4.5, 5, 6, 7))
  expect_identical(
    predict(model, new)$value, predict(model, transform(new, wall = as.character(wall)))$value
  )
  expect_everywhere(model, predict(model, read_data("table.csv"))$value, "table.csv")
})

test_that("numbers with commas are what they are in models, scripts and another language", {
  withr::local_dir(withr::local_tempdir())
  n <- 60
  x <- withr::with_seed(8, round(runif(n, 900, 3000), 3))
  y <- round(x / 100 + withr::with_seed(9, rnorm(n)), 2)
  written <- list(
    decimal = function(v) format(v, decimal.mark = ",", trim = TRUE),
    grouped = function(v) format(v, decimal.mark = ",", big.mark = ".", trim = TRUE),
    thousands = function(v) format(v, big.mark = ",", trim = TRUE)
  )
  for (name in names(written)) {
    cells <- written[[name]]
    writeLines(c("x;y", paste(cells(x), cells(y), sep = ";")), "table.csv")
    table <- read_data("table.csv")
    expect_equal(as.vector(table$x), x, info = name)
    model <- fit_final(select_final(quiet_run(
      brief(table, "y"), candidates(l = fam_linear()), splits = split_kfold(3), seed = 1
    )))
    value <- predict(model, table)$value
    expect_everywhere(model, value, "table.csv", info = name)
    # what is no number is no gap
    writeLines(c("x;y", "some;1"), "new.csv")
    write_script(model, "new.R", data = "table.csv", new_data = "new.csv", only_predicts = TRUE)
    expect_error(suppressWarnings(sys.source("new.R", new.env())), "a cell holds no number")
    # alone it could be either
    one <- data.frame(x = c(decimal = "1,182", grouped = "1,182", thousands = "1,182")[[name]])
    wanted <- data.frame(x = c(decimal = 1.182, grouped = 1.182, thousands = 1182)[[name]])
    expect_equal(predict(model, one), predict(model, wanted))
  }
})

test_that("numbers with units are found, and are what they are everywhere once that is said", {
  withr::local_dir(withr::local_tempdir())
  n <- 60
  wall <- withr::with_seed(8, round(runif(n, -3, 30), 2))
  price <- 1000 + 50 * wall + withr::with_seed(9, round(rnorm(n), 2))
  cells <- data.frame(
    wall = paste(wall, "kg/m2"), clay = format(1e4 + 1e3 * seq_len(n), big.mark = "\u00a0"),
    share = paste0(seq_len(n), c("%", " %")),
    price = sub("^(-?)", "\\1$", format(price, big.mark = ",", trim = TRUE))
  )
  cells$wall[3:4] <- c("-999 kg/m2", "unknown")
  utils::write.csv(cells, "table.csv", row.names = FALSE)
  table <- read_data("table.csv")
  expect_error(brief(table, "price"),
    "numbers written as text, such as '[$].*read_as = list\\(price", class = "kw_error_brief")
  repeated <- table[rep(1:10, 6), ]
  repeated$digit <- rep(as.character(0:9), 6)
  expect_identical(brief(repeated, "digit")$kind, "many_class")
  expect_identical(brief(repeated, "price", outcome_kind = "many_class")$kind, "many_class")
  codes <- list(wall = -999)
  job <- brief(table, "price", read_as = list(price = "number"), missing_codes = codes)
  found <- inspect_data(job)
  said <- found$detail[found$code == "number_as_text"]
  expect_identical(grepl("'(kg/m2|%)' behind them", said), c(TRUE, FALSE, TRUE))
  job <- apply_remedies(job, found)$brief
  seen <- replace(wall, 3:4, NA)
  # a code that is a number is one with its unit, too, in old rows as in new ones
  expect_identical(job$table$wall, seen)
  job <- brief(table, "price",
    read_as = list(price = "number", wall = "number", share = "number", clay = "number"),
    missing_codes = list(wall = c("-999", "unknown"))
  )
  expect_identical(job$table[c("price", "wall", "share", "clay")], data.frame(
    price = price, wall = seen, share = as.double(seq_len(n)), clay = 1e4 + 1e3 * seq_len(n)
  ))
  model <- fit_final(select_final(quiet_run(
    job, candidates(l = pipeline(pre_missing(), fam_linear())), splits = split_kfold(3), seed = 1
  )))
  value <- predict(model, table)$value
  expect_equal(
    predict(model, data.frame(
      wall = seen, share = paste(seq_len(n), "%"), clay = job$table$clay
    ))$value, value
  )
  # in another unit it is another number
  expect_error(predict(model, data.frame(wall = "3 g/cm2", share = 1, clay = 1)), "'3 g/cm2'",
    class = "kw_error_new_data")
  save_model(model, "final.kilnwright")
  coded <- rbind(table, transform(table[1, ], price = "sold"))
  model$missing_codes$price <- "sold"
  expect_identical(score_known(model, coded)$left_out[1], 1L)
  known <- score_known(open_model("final.kilnwright", trust = TRUE), table)
  expect_equal(known$score[known$metric == "rmse"], sqrt(mean((value - price)^2)))
  expect_everywhere(model, value, "table.csv")
})

test_that("codes, ranges and mixed units are no numbers", {
  written <- list(
    c("A1", "A2", "A7", "A9", "A12", "A31", "A40", "A52"), paste0(1:9, "-", 2:10),
    paste(1:10, c("mm", "cm")), paste(1:9, 1:9), paste0(110 + 1:9, " 0", 1:9),
    paste0("0", 1:9, " x"), paste0(1:9, "/", 3), paste0(1:9, "a", 1:9)
  )
  for (texts in written) expect_null(kw("mostly_numbers")(texts), info = texts[1])
  written <- list(
    paste("EUR", 1:9), paste0("\u20ac", 1:9), paste0(1:9, " \u00b0C"), c("1", paste0(2:9, "mm"))
  )
  for (texts in written) {
    form <- kw("number_form")(texts)
    expect_identical(kw("as_numbers")(texts, form), as.double(1:9), info = texts[2])
  }
})

test_that("a column of levels stays one, also where all of the new rows look like times", {
  n <- 60
  table <- data.frame(
    mark = rep(c("2031-05-17 10:00", "2031-05-18", "none"), length.out = n), shelf = seq_len(n),
    y = withr::with_seed(6, rnorm(n)) + rep(c(0, 5, 9), length.out = n)
  )
  model <- fit_final(select_final(quiet_run(
    brief(table, "y"), candidates(t = fam_tree()), splits = split_kfold(3), seed = 1
  )))
  new <- table[c(1, 4), c("mark", "shelf")]
  folder <- withr::local_tempdir()
  at <- function(name) file.path(folder, name)
  utils::write.csv(new, at("new.csv"), row.names = FALSE)
  jsonlite::stream_out(new, file(at("new.jsonl")), verbose = FALSE)
  connection <- DBI::dbConnect(RSQLite::SQLite(), at("new.sqlite"))
  DBI::dbWriteTable(connection, "new", new)
  DBI::dbDisconnect(connection)
  for (name in c("new.csv", "new.jsonl", "new.sqlite")) {
    out <- at("out.csv")
    write_predictions(model, at(name), out)
    expect_equal(utils::read.csv(out)$value, predict(model, new)$value, info = name)
  }
})

test_that("dates and points in time in a SQLite file, which has none of its own, are read", {
  file <- withr::local_tempfile(fileext = ".sqlite")
  connection <- DBI::dbConnect(RSQLite::SQLite(), file)
  DBI::dbWriteTable(connection, "pots", data.frame(
    day = c("2031-05-17", "2031-05-18"), at = c("2031-05-17 10:00:00", "2031-05-18 11:30:00"),
    shelf = c("a1", "b2")
  ))
  DBI::dbDisconnect(connection)
  table <- read_data(file)
  expect_equal(as.double(diff(table$day)), 1)
  expect_equal(format(table$at, "%H:%M"), c("10:00", "11:30"))
  expect_identical(table$shelf, c("a1", "b2"))
})

test_that("a file, a data frame and an exported script predict the same, codes and all", {
  table <- biting()
  file <- biting_file(table)
  model <- biting_model(read_data(file))
  expected <- predict(model, read_data(file))$value
  out <- withr::local_tempfile(fileext = ".csv")
  write_predictions(model, file, out)
  written <- read.csv(out, colClasses = c(id = "character"))
  expect_identical(written$id, table$id)
  expect_equal(written$value, expected, tolerance = 1e-12)
  script <- withr::local_tempfile(fileext = ".R")
  write_script(model, script, data = file, new_data = file)
  ran <- system2(file.path(R.home("bin"), "Rscript"), script, stdout = TRUE, stderr = TRUE)
  expect_null(attr(ran, "status"))
  scripted <- read.csv(file.path(dirname(file), "predictions.csv"))
  expect_equal(scripted$value, expected, tolerance = 1e-10)
  saved <- withr::local_tempfile(fileext = ".kilnwright")
  save_model(model, saved)
  by_command <- withr::local_tempfile(fileext = ".csv")
  command_here("predict", saved, file, "--trust", "--out", by_command)
  expect_equal(read.csv(by_command)$value, expected, tolerance = 1e-10)
})

test_that("types that can be read in one way are mended and said; others are refused", {
  table <- biting()
  model <- biting_model(table)
  expected <- predict(model, table)
  changed <- table
  changed$code <- as.numeric(table$code)
  changed$flag <- as.integer(table$flag)
  expect_equal(predict(model, changed), expected)
  remarks <- check_new_data(model, changed)
  expect_identical(remarks$where[remarks$code == "mended"], c("code", "flag"))
  changed$flag <- ifelse(table$flag, "T", "false")
  expect_equal(predict(model, changed), expected)
  changed$flag <- "maybe"
  expect_error(predict(model, changed), "TRUE or FALSE; found 'maybe'", class = "kw_error_new_data")
  strange <- table
  strange$code[1:4] <- "099"
  strange$more <- 1
  remarks <- check_new_data(model, strange)
  expect_match(remarks$detail[remarks$code == "never_seen"], "4 rows.*'099'")
  expect_identical(remarks$where[remarks$code == "not_used"], "more")
  expect_output(print(remarks), "never seen")
  expect_output(print(check_new_data(model, table)), "as the model knows them")
  # what was ignored on purpose is no news, from a file either
  save_model(model, saved <- withr::local_tempfile(fileext = ".kilnwright"))
  remarks <- check_new_data(open_model(saved, trust = TRUE), strange)
  expect_identical(remarks$where[remarks$code == "not_used"], "more")
})

test_that("matrices of one column are the columns that they were made from", {
  table <- toy(60)
  plain <- toy_brief("number", table)
  table$x1 <- matrix(table$x1)
  table$colour <- array(table$colour)
  table$number <- structure(matrix(table$number), "scaled:center" = 0)
  job <- toy_brief("number", table)
  expect_identical(job$schema, plain$schema)
  fit <- function(job) {
    fit_final(select_final(quiet_run(job, candidates(tree = fam_tree()), splits = split_kfold(3),
      seed = 1)))
  }
  expect_identical(predict(fit(job), table), predict(fit(plain), toy(60)))
})

test_that("levels that are one number in two writings are not guessed", {
  table <- data.frame(k = rep(c("1", "01", "2"), 20), y = withr::with_seed(4, rnorm(60)))
  schema <- brief(table, "y")$schema
  mend <- kw("mend_kind")
  expect_identical(mend(2, schema$k, "k"), "2")
  expect_identical(mend(1, schema$k, "k"), "1")
  only <- list(kind = "category", levels = c("01", "001", "2"))
  expect_error(mend(1, only, "k"), "more than one level", class = "kw_error_new_data")
})

test_that("differences of times are refused with the unit to say", {
  table <- data.frame(wait = as.difftime(1:30, units = "mins"), y = rnorm(30))
  expect_error(brief(table, "y"), "units = \"mins\"", class = "kw_error_table")
})

test_that("any level and any column name survive every family", {
  table <- withr::with_seed(5, {
    levels <- c(
      "a, b", "c: d", "N/A", "?", "a b", "a  b", "\u00e4\u00f6 \u00fc", "x=\"1\"", "",
      "100%"
    )
    levels[9] <- "{z}"
    k <- sample(levels, 240, TRUE)
    data.frame(
      "my, level: \u00e9" = k, "a b" = rnorm(240), "x`1\\" = rnorm(240),
      y = 3 * match(k, levels) %% 4 + rnorm(240, sd = 0.3), check.names = FALSE
    )
  })
  plain <- table
  names(plain) <- c("k", "a", "b", "y")
  plain$k <- paste0("l", match(table[[1]], unique(table[[1]])))
  table$two <- plain$two <- ifelse(table$y > median(table$y), "yes, \u00e9", "no: n/a")
  families <- lapply(kw("shipped_members")("fam"), function(make) {
    kw("new_family")(make(), list())
  })
  families <- families[setdiff(names(families), "count_bayes")]
  for (outcome in c("y", "two")) {
    scores <- lapply(list(table, plain), function(t) {
      t[[setdiff(c("y", "two"), outcome)]] <- NULL
      job <- brief(t, outcome)
      usable <- Filter(function(family) job$kind %in% family$definition$kinds, families)
      cmp <- quiet_run(job, do.call(candidates, usable),
        splits = split_kfold(2), metrics = if (outcome == "y") "rmse" else "log_loss", seed = 1
      )
      expect_identical(failures(cmp)$message, character())
      t <- standings(cmp)
      stats::setNames(t$mean, t$candidate)
    })
    # seeds differ with the data's fingerprint, so families that draw differ a little
    both <- scores[[1]][names(scores[[2]])] / scores[[2]]
    expect_true(
      all(abs(both - 1) < 0.35),
      info = paste(names(both), round(both, 2), collapse = " ")
    )
    exact <- c("tree", "rules", "adaptive_splines", "penalised", "linear", "discriminant")
    exact <- intersect(exact, names(both))
    expect_equal(unname(both[exact]), rep(1, length(exact)), tolerance = 0.15)
  }
})

test_that("rules are shown with their true names", {
  table <- withr::with_seed(6, {
    data.frame(
      "my kind" = sample(c("a, b", "c d", "e"), 200, TRUE), w = rnorm(200),
      check.names = FALSE
    )
  })
  table$y <- ifelse(table[[1]] == "a, b" & table$w > 0, "good one", "bad")
  cmp <- quiet_run(
    brief(table, "y"), candidates(r = fam_rules()),
    splits = split_kfold(2), seed = 1
  )
  expect_output(lines <- show_rules(fit_final(select_final(cmp))), "my kind")
  expect_match(paste(lines, collapse = " "), "my kind = a, b")
  expect_match(paste(lines, collapse = " "), "class good one")
})
