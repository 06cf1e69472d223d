pots <- as.data.frame(demo_pots())[
  1:60,
  c("pot_id", "fired_on", "kiln", "wall_mm", "humidity_pct", "notes", "cracked")
]
same <- function(read, expected = pots) {
  expect_equal(as.data.frame(read), expected, ignore_attr = TRUE)
}

test_that("the same table comes back from every kind of file", {
  folder <- withr::local_tempdir()
  at <- function(name) file.path(folder, name)
  write.csv(pots, at("a.csv"), row.names = FALSE, na = "")
  write.csv(pots, gzfile(at("a.csv.gz")), row.names = FALSE, na = "")
  write.table(pots, at("a.tsv"), sep = "\t", row.names = FALSE, na = "")
  write.table(pots, at("semi.csv"), sep = ";", row.names = FALSE, na = "")
  nanoparquet::write_parquet(pots, at("a.parquet"))
  lines <- vapply(
    seq_len(nrow(pots)),
    function(i) {
      jsonlite::toJSON(as.list(pots[i, !is.na(pots[i, ])]), auto_unbox = TRUE, digits = NA)
    },
    ""
  )
  writeLines(lines, at("a.jsonl"))
  for (name in c("a.csv", "a.csv.gz", "a.tsv", "semi.csv", "a.parquet")) same(read_data(at(name)))
  same(read_data(at("a.jsonl"))[names(pots)])

  db <- DBI::dbConnect(RSQLite::SQLite(), at("a.sqlite"))
  stored <- transform(pots, fired_on = as.character(fired_on))
  DBI::dbWriteTable(db, "pots", stored)
  same(
    read_data(db, query = "select * from pots where kiln = 'south'"),
    pots[pots$kiln == "south", ]
  )
  DBI::dbDisconnect(db)
  same(read_data(at("a.sqlite")))
  expect_error(
    read_data(at("a.sqlite"), query = "select nothing from nowhere"),
    "query failed",
    class = "kw_error_file"
  )

  excel <- readxl::readxl_example("datasets.xlsx")
  expect_equal(as.data.frame(read_data(excel, sheet = "mtcars")), mtcars, ignore_attr = TRUE)
  expect_error(read_data(excel, sheet = "absent"), class = "kw_error_file")
})

test_that("a folder of texts becomes a table of text and class", {
  folder <- withr::local_tempdir()
  for (class in c("praise", "complaint")) {
    dir.create(file.path(folder, class))
    for (i in 1:3) writeLines(c(class, i), file.path(folder, class, paste0(i, ".txt")))
  }
  found <- read_data(folder)
  expect_identical(found$class, rep(c("complaint", "praise"), each = 3))
  expect_identical(found$text[4], "praise\n1")
  expect_error(read_data(withr::local_tempdir()), "subfolders", class = "kw_error_file")
})

test_that("damage is said with its place", {
  folder <- withr::local_tempdir()
  at <- function(name) file.path(folder, name)
  writeLines(c('{"a": 1}', "{broken", '{"a": 2}'), at("x.jsonl"))
  expect_error(read_data(at("x.jsonl")), "row 2", class = "kw_error_file")
  writeLines(c('{"a": 1, "b": [1, 2]}'), at("y.jsonl"))
  expect_error(read_data(at("y.jsonl")), "nested values in 'b'", class = "kw_error_file")
  writeLines("no parquet", at("z.parquet"))
  expect_error(read_data(at("z.parquet")), "could not be read", class = "kw_error_file")
  writeBin(
    c(charToRaw("name,town\nann,ok\nbob,M"), as.raw(0xfc), charToRaw("nster\n")), at("latin.csv")
  )
  expect_error(
    read_data(at("latin.csv")), "not UTF-8.*Column 'town', rows 2",
    class = "kw_error_file"
  )
  writeLines("not a database", at("b.sqlite"))
  expect_error(read_data(at("b.sqlite")), class = "kw_error_file")
})

written <- function(x, ending = ".csv", env = parent.frame()) {
  file <- withr::local_tempfile(fileext = ending, .local_envir = env)
  if (is.raw(x)) writeBin(x, file) else writeLines(x, file)
  file
}

test_that("what other programs do to a table is mended or refused with its place", {
  plain <- data.frame(a = c(1, 2), b = c("x", "y"))
  utf16 <- iconv("a,b\n1,x\n2,y\n", to = "UTF-16LE", toRaw = TRUE)[[1]]
  swapped <- as.vector(matrix(utf16, 2)[2:1, ])
  for (bytes in list(
    utf16, c(as.raw(c(0xff, 0xfe)), utf16), swapped, c(as.raw(c(0xfe, 0xff)), swapped)
  )) {
    expect_equal(as.data.frame(read_data(written(bytes))), plain)
  }
  refused <- list(
    "first line is 'a,b'" = c("a,b", "1,2,3", "4,5,6"),
    "first line is 'a,b,c'" = c("a,b,c", "1,2", "3,4,5", "6,7,8"),
    "first line is 'a,b,c'" = c("a,b,c", "1,2", "3,4"),
    "line 3" = c(charToRaw("a,b\n1,x\n2,"), as.raw(0), charToRaw("y\n")),
    "names of columns 1" = c(charToRaw("h"), as.raw(0xf6), charToRaw("he,b\n1,2\n3,4\n"))
  )
  for (i in seq_along(refused)) {
    file <- written(refused[[i]])
    expect_error(read_data(file), names(refused)[i], class = "kw_error_file", fixed = TRUE)
  }
  twice <- written(c("a,a", "1,x", "2,y"))
  expect_error(read_data(twice), "called 'a'", class = "kw_error_table")
  noise <- written(as.raw(c(200:255, 10, 129:180)), ".jsonl")
  expect_error(read_data(noise), class = "kw_error_file")
  # blanks within the texts of a single column stand between no columns
  single <- read_data(written(c("remark", "\"a b\"", "c", "\"d e f\"")))
  expect_identical(as.list(single), list(remark = c("a b", "c", "d e f")))
  # a blank line is no row, but in a single column a gap
  expect_equal(as.data.frame(read_data(written(c("a,b", "1,x", "", "2,y", "")))), plain)
  expect_identical(read_data(written(c("a", "1", "", "3")))$a, c(1L, NA, 3L))
  lined <- read_data(written(c("a,b", "\"one", "", "two\",1", "", "z,2")))
  expect_identical(lined$a, c("one\n\ntwo", "z"))
  odd <- read_data(written(c("..1,...,y", paste(1:30, 30:1, (1:30)^2, sep = ","))))
  expect_named(odd, c("..1", "...", "y"))
  cmp <- quiet_run(
    brief(odd, "y"), candidates(l = fam_linear()), splits = split_kfold(3), seed = 1
  )
  expect_false(anyNA(standings(cmp)$place))
})

test_that("commas in numbers are read where they can be one thing only, alike old and new", {
  comma <- read_data(written(c("a;b;c", "1,5;1,182;x", "-2,125;2,500;y", ";;z")))
  expect_equal(as.vector(comma$a), c(1.5, -2.125, NA))
  expect_type(comma$b, "character")
  late <- read_data(written(c("a;b", paste0(rep(c("", "3"), 75), ";x"), "2,5;y")))
  expect_equal(late$a[149:151], c(NA, 3, 2.5))
  expect_identical(names(read_data(written(c("", "  ", "a,b", "1,2")))), c("a", "b"))
  table <- data.frame(a = 1:40 / 4, y = (1:40)^2)
  model <- fit_final(select_final(quiet_run(
    brief(table, "y"), candidates(l = fam_linear()), splits = split_kfold(3), seed = 1
  )))
  by_file <- function(...) {
    out <- withr::local_tempfile(fileext = ".csv")
    rows <- c(...)
    write_predictions(model, written(c("a;b", paste0(rows, ";1", recycle0 = TRUE))), out)
    data.table::fread(out)$value
  }
  expect_equal(by_file("1,5", "2,25"), predict(model, data.frame(a = c(1.5, 2.25)))$value)
  expect_error(by_file("3", "1,182"), "'1,182'.*row 2", class = "kw_error_new_data")
  expect_error(by_file("1.5", "2,5"), "row 2", class = "kw_error_new_data")
  expect_error(by_file("1,182,00"), class = "kw_error_new_data")
  # before thousands, and nothing else
  large <- c(1182000, 1180.5)
  expect_equal(by_file("1,182,000", "1,180.5"), predict(model, data.frame(a = large))$value)
  expect_length(by_file(character()), 0)
})

test_that("tables of thousands of columns are looked at without pairs of all of them in memory", {
  pairs <- kw("correlated_pairs")
  x <- withr::with_seed(3, matrix(rnorm(30 * 1100), 30))
  x[, 900] <- -2 * x[, 3] + 1
  x[, 1100] <- x[, 899] + rnorm(30) / 100
  found <- pairs(x, 0.95)
  expect_identical(found$first, c(3L, 899L))
  expect_identical(found$second, c(900L, 1100L))
  expect_equal(found$r, diag(stats::cor(x[, found$first], x[, found$second])))
  x[5, 3] <- NA
  expect_identical(pairs(x, 0.95)$second, c(900L, 1100L))
})

test_that("a gzipped table that was cut off is refused, wherever the cut is", {
  folder <- withr::local_tempdir()
  at <- function(name) file.path(folder, name)
  table <- data.frame(x = 1:3000, y = withr::with_seed(1, round(rnorm(3000), 6)))
  write.csv(table, gzfile(at("whole.csv.gz")), row.names = FALSE)
  bytes <- readBin(at("whole.csv.gz"), raw(), 1e6)
  same(read_data(at("whole.csv.gz")), table)
  for (keep in c(12 / length(bytes), 0.3, 0.5, 0.9, 1 - 4 / length(bytes))) {
    writeBin(utils::head(bytes, round(keep * length(bytes))), at("cut.csv.gz"))
    expect_error(read_data(at("cut.csv.gz")), "damaged", class = "kw_error_file")
  }
  # files that were joined are one table; a part of the second does not pass for it
  write.table(table, gzfile(at("more.gz")), sep = ",", row.names = FALSE, col.names = FALSE)
  more <- readBin(at("more.gz"), raw(), 1e6)
  writeBin(c(bytes, more), at("joined.csv.gz"))
  same(read_data(at("joined.csv.gz")), rbind(table, table))
  writeBin(c(bytes, utils::head(more, 9000)), at("joined.csv.gz"))
  expect_error(read_data(at("joined.csv.gz")), "damaged", class = "kw_error_file")
  # text that is called gzipped
  writeLines(c("x,y", "1,2", "3,4"), at("text.csv.gz"))
  same(read_data(at("text.csv.gz")), data.frame(x = c(1L, 3L), y = c(2L, 4L)))
})
