# The tables of a journal, and whether a file has exactly those. A file may come from anywhere:
# triggers, views and columns that are worked out could change what is read, so that anything
# but our own tables is refused before one of them is read.

journal_schema <- "3"

columns_text <- function(columns) paste(names(columns), columns, collapse = ", ")

# What is beside the rows of fits: facts of the job; the plan as text; a user's own functions,
# which are read only from trusted files; the working rows, some hundred columns a table.
create_facts <- "CREATE TABLE facts (name TEXT PRIMARY KEY, value TEXT, sum TEXT)"
create_plan <- "CREATE TABLE plan (plan TEXT, sum TEXT)"
create_own <- "CREATE TABLE own (own BLOB, sum TEXT)"
# The rounds of settings that were tried, as text; the steps that were learned.
create_rounds <- "CREATE TABLE rounds (number INTEGER PRIMARY KEY, round TEXT, sum TEXT)"
steps_columns <- c(
  split = "TEXT", node = "TEXT", share = "REAL", stage = "TEXT", warnings = "TEXT",
  seconds = "REAL", sum = "TEXT"
)
create_steps <- paste0("CREATE TABLE steps (", columns_text(steps_columns), ")")

fits_columns <- function(n_metrics) {
  scores <- journal_columns(n_metrics)
  c(
    split = "TEXT", fit = "TEXT", share = "REAL", value = "TEXT", status = "TEXT",
    stage = "TEXT", message = "TEXT", warnings = "TEXT", fit_seconds = "REAL",
    predict_seconds = "REAL", seconds = "REAL",
    stats::setNames(rep("REAL", length(scores)), scores),
    prediction = "BLOB", sum = "TEXT"
  )
}

create_fits <- function(n_metrics) {
  paste0(
    "CREATE TABLE fits (", columns_text(fits_columns(n_metrics)),
    ", PRIMARY KEY (split, fit, share, value)) WITHOUT ROWID"
  )
}

# What a table has that was made just now, without being asked.
no_rows <- function(columns) {
  kinds <- list(TEXT = character(), REAL = numeric(), BLOB = list())
  plain_frame(stats::setNames(kinds[columns], names(columns)), 0L)
}

# Validation, training and no-information scores of every metric.
journal_columns <- function(n_metrics) {
  as.vector(outer(
    seq_len(n_metrics),
    c("validation", "training", "no_information"),
    function(i, what) paste0(what, "_", i)
  ))
}

columns_a_table <- 500L

create_rows <- function(number, types) {
  paste0("CREATE TABLE rows_", number, " (", paste0("c", seq_along(types), " ", types,
    collapse = ", "
  ), ")")
}

sql_types <- c(double = "REAL", integer = "INTEGER", logical = "INTEGER", character = "TEXT")

# A reader's or the writer's connection: what the file says about itself is not believed.
connect_sqlite <- function(file, write = FALSE) {
  con <- connect_file(file, if (write) RSQLite::SQLITE_RWC else RSQLite::SQLITE_RO)
  run_sql(con, "PRAGMA trusted_schema = OFF")
  run_sql(con, "PRAGMA cell_size_check = ON")
  run_sql(con, "PRAGMA busy_timeout = 5000")
  con
}

connect_file <- function(file, flags) {
  DBI::dbConnect(RSQLite::SQLite(), file, flags = flags, synchronous = NULL)
}

# Of which nothing comes back, not even how many rows it changed: that takes a third longer.
run_sql <- function(con, statement, params = NULL) {
  DBI::dbClearResult(DBI::dbSendStatement(con, statement, params = params))
}

# Why a file is no journal of ours, or NULL. An empty file has no tables.
foreign_schema <- function(con) {
  found <- DBI::dbGetQuery(con, "SELECT type, name, sql FROM sqlite_master")
  if (nrow(found) == 0L) return(NULL)
  automatic <- found$type == "index" & is.na(found$sql)
  found <- found[!automatic, , drop = FALSE]
  n_metrics <- lengths(regmatches(found$sql, gregexpr("validation_[0-9]+ REAL", found$sql)))
  fits <- vapply(n_metrics, function(n) if (n > 0L) create_fits(n) else "", "")
  rows <- "^CREATE TABLE rows_[0-9]+ \\((c[0-9]+ (REAL|INTEGER|TEXT)(, |\\)$))+$"
  ours <- found$type == "table" & (
    found$sql %in% c(create_facts, create_plan, create_own, create_rounds, create_steps) |
      found$sql == fits | grepl(rows, found$sql)
  )
  if (!all(c("facts", "plan", "own", "rounds", "steps", "fits") %in% found$name)) {
    return("It is no journal of a comparison, or one of another version.")
  }
  if (all(ours)) return(NULL)
  first <- which(!ours)[1]
  paste0(
    "It has a ", found$type[first], " that is not ours: ", quoted(clean_line(found$name[first])),
    "."
  )
}

# Is this an undamaged file with a journal in it, or with nothing? The file is only read.
# Returns the number of its tables.
check_journal_sound <- function(file) {
  n_tables <- 0L
  problem <- tryCatch(
    with_reader(file, function(con) {
      checked <- DBI::dbGetQuery(con, "PRAGMA quick_check")[[1]]
      n_tables <<- length(DBI::dbListTables(con))
      if (identical(checked, "ok")) {
        foreign_schema(con)
      } else {
        paste0("It is damaged: ", clean_line(checked[1]), ".")
      }
    }),
    error = function(e) paste0("It cannot be read: ", plain_message(e), ".")
  )
  if (!is.null(problem)) refuse_journal(file, problem)
  n_tables
}

refuse_journal <- function(file, where, remedy = "Give another file, or take an undamaged copy.") {
  stop_kw(
    "journal",
    paste0("The journal ", quoted(file), " cannot be used, and was left as it is."),
    where = where, remedy = remedy
  )
}

# A reader. Where nothing can be written beside the file, SQLite cannot open a journal that was
# left in the middle: a copy is read then.
with_reader <- function(file, read) {
  beside <- file.exists(paste0(file, "-wal"))
  if (beside && file.access(dirname(file), 2L) != 0L) {
    folder <- tempfile("kilnwright-journal-")
    dir.create(folder, mode = "0700")
    # reason: a temporary folder of ours
    on.exit(unlink(folder, recursive = TRUE))
    copy <- file.path(folder, "copy.sqlite")
    # reason: into a temporary folder of ours, readable by its owner only
    copied <- file.copy(paste0(file, c("", "-wal")), paste0(copy, c("", "-wal")))
    if (!all(copied)) stop("there is no room for a copy in ", tempdir(), call. = FALSE)
    file <- copy
  }
  con <- connect_sqlite(file)
  on.exit(DBI::dbDisconnect(con), add = TRUE, after = FALSE)
  read(con)
}
