# Journals, and how tests look into them and break them.

journal_file <- function(env = parent.frame()) {
  withr::local_tempfile(fileext = ".sqlite", .local_envir = env)
}

in_journal <- function(file, work) {
  con <- DBI::dbConnect(RSQLite::SQLite(), file, synchronous = NULL)
  on.exit(DBI::dbDisconnect(con))
  work(con)
}

count_rows <- function(file) {
  in_journal(file, function(con) DBI::dbGetQuery(con, "SELECT count(*) AS n FROM fits")$n)
}

# Of a journal that may not be there yet, or be written.
rows_so_far <- function(file) tryCatch(count_rows(file), error = function(e) 0L)

# `sums`: with checksums that are right again afterwards.
change_rows <- function(file, statement, sums = FALSE) {
  in_journal(file, function(con) {
    changed <- DBI::dbExecute(con, statement)
    if (sums) {
      rows <- DBI::dbGetQuery(con, "SELECT * FROM fits")
      facts <- kw("read_journal_facts")(con)
      job <- kw("job_of")(facts[names(kw("fact_words"))])
      rows$sum <- kw("row_sums_of")(rows[names(rows) != "sum"], job)
      DBI::dbExecute(con, "DELETE FROM fits")
      places <- paste(rep("?", ncol(rows)), collapse = ", ")
      DBI::dbExecute(con, paste0("INSERT INTO fits VALUES (", places, ")"), unname(as.list(rows)))
    }
    changed
  })
}

# Standings, failures and scores of a comparison, without what takes time.
numbers_of <- function(cmp) {
  table <- standings(cmp)
  table$seconds <- NULL
  list(
    table, failures(cmp), lapply(cmp$results$scores, unname),
    lapply(cmp$results$training, unname)
  )
}

same_numbers <- function(a, b) expect_identical(numbers_of(a), numbers_of(b))
