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
    stored[stored$kiln == "south", ]
  )
  DBI::dbDisconnect(db)
  same(read_data(at("a.sqlite")), stored)
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
