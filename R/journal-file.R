# The journal: an SQLite file with one row for every fit, split and path value, never
# keyed by unit or worker. Rows are committed in batches less than a second apart. One
# process writes, held by an exclusive lock on a small second file, which dies with the
# process; others may read.

journal_schema <- "1"
journal_batch_seconds <- 0.5

# Opens or makes a journal for this plan and says what does not fit. A journal has
#   rows()      what it holds, a data frame
#   write(rows) keeps rows for the next batch
#   flush(); finish(state); close(); failure()  NULL, or why it could not be written
open_journal <- function(file, plan, accept_versions = FALSE) {
  check_string(file, "journal")
  if (dir.exists(file) || !dir.exists(dirname(file))) {
    stop_kw("journal", paste0("The journal ", quoted(file), " cannot be made."),
      where = if (dir.exists(file)) {
        "It is a folder."
      } else {
        paste0("There is no folder ", quoted(dirname(file)), ".")
      }
    )
  }
  # a process that was killed while making a journal leaves a file without tables
  fresh <- !file.exists(file) || check_journal_sound(file) == 0L
  lock <- lock_journal(file)
  con <- tryCatch(
    {
      con <- connect_journal(file)
      if (fresh) make_journal(con, plan) else check_journal_fits(con, file, plan, accept_versions)
      con
    },
    error = function(e) {
      unlock_journal(lock)
      stop(e)
    }
  )
  journal_handle(con, lock, names(plan$metrics))
}

connect_journal <- function(file) {
  con <- DBI::dbConnect(RSQLite::SQLite(), file, synchronous = NULL)
  DBI::dbExecute(con, "PRAGMA busy_timeout = 5000")
  DBI::dbGetQuery(con, "PRAGMA journal_mode = WAL")
  DBI::dbExecute(con, "PRAGMA synchronous = NORMAL")
  pages <- getOption("kilnwright.journal_pages")
  if (!is.null(pages)) DBI::dbGetQuery(con, paste("PRAGMA max_page_count =", as.integer(pages)))
  con
}

# The exclusive lock: a transaction on a file beside the journal that is never ended.
lock_journal <- function(file) {
  beside <- paste0(file, "-lock")
  con <- DBI::dbConnect(RSQLite::SQLite(), beside, synchronous = NULL)
  tryCatch(
    {
      DBI::dbExecute(con, "PRAGMA locking_mode = EXCLUSIVE")
      DBI::dbExecute(con, "BEGIN EXCLUSIVE")
    },
    error = function(e) {
      DBI::dbDisconnect(con)
      stop_kw(
        "journal",
        paste0("The journal ", quoted(file), " is being written by another process."),
        remedy = "Wait for it, or give another file. Reading it with open_comparison() is possible."
      )
    }
  )
  list(con = con, file = beside)
}

unlock_journal <- function(lock) {
  DBI::dbDisconnect(lock$con)
  unlink(lock$file)
}

# Is this an undamaged SQLite file with a journal in it, or with nothing? The file is
# only read. Returns the number of its tables.
check_journal_sound <- function(file) {
  n_tables <- 0L
  problem <- tryCatch(
    {
      con <- DBI::dbConnect(RSQLite::SQLite(), file, flags = RSQLite::SQLITE_RO, synchronous = NULL)
      on.exit(DBI::dbDisconnect(con))
      checked <- DBI::dbGetQuery(con, "PRAGMA quick_check")[[1]]
      tables <- DBI::dbListTables(con)
      n_tables <- length(tables)
      if (!identical(checked, "ok")) paste0("It is damaged: ", checked[1], ".")
      else if (n_tables > 0L && !all(c("facts", "fits") %in% tables)) {
        "It is no journal of a comparison."
      }
    },
    error = function(e) paste0("It cannot be read: ", plain_message(e), ".")
  )
  if (!is.null(problem)) {
    stop_kw(
      "journal",
      paste0("The journal ", quoted(file), " cannot be used, and was left as it is."),
      where = problem,
      remedy = "Give another file, or take an undamaged copy."
    )
  }
  n_tables
}

# What a journal is a journal of.
journal_facts <- function(plan) {
  list(
    schema = journal_schema, data = plan$brief$fingerprint,
    splits = short_hash(paste(vapply(plan$splits, `[[`, "", "key"), collapse = " ")),
    seed = canonical_number(plan$seed),
    metrics = paste(names(plan$metrics), collapse = ", "), outcome = plan$brief$outcome,
    versions = paste(names(unlist(software_versions(plan))), unlist(software_versions(plan)),
      collapse = "; "
    )
  )
}

make_journal <- function(con, plan) {
  DBI::dbBegin(con)
  on.exit(if (!made) DBI::dbRollback(con))
  made <- FALSE
  numbers <- paste0(journal_columns(names(plan$metrics)), " REAL", collapse = ", ")
  DBI::dbExecute(con, "CREATE TABLE facts (name TEXT PRIMARY KEY, value TEXT)")
  DBI::dbExecute(con, "CREATE TABLE plan (plan BLOB)")
  DBI::dbExecute(
    con,
    paste0(
      paste(
        "CREATE TABLE fits (split TEXT, fit TEXT, value TEXT, status TEXT, stage TEXT,",
        "message TEXT, "
      ),
      "warnings TEXT, fit_seconds REAL, seconds REAL, ", numbers,
      ", prediction BLOB, ",
      "PRIMARY KEY (split, fit, value)) WITHOUT ROWID"
    )
  )
  facts <- journal_facts(plan)
  DBI::dbWriteTable(
    con,
    "facts",
    data.frame(name = c(names(facts), "state"), value = c(unlist(facts), "running")),
    append = TRUE
  )
  DBI::dbExecute(con, "INSERT INTO plan VALUES (?)", list(list(packed_plan(plan))))
  DBI::dbCommit(con)
  made <- TRUE
}

# Small plans are kept as they are: squeezing them would take longer than many a fit.
packed_plan <- function(plan) {
  bytes <- serialize(plan, NULL)
  if (length(bytes) > 5e6) memCompress(bytes, "gzip") else bytes
}

# Squeezed bytes begin with 78, serialised ones with 58.
unpacked_plan <- function(bytes) {
  unserialize(if (bytes[1] == as.raw(0x78)) memDecompress(bytes, "gzip") else bytes)
}

# Validation, training and no-information scores of every metric.
journal_columns <- function(metrics) {
  as.vector(outer(
    seq_along(metrics),
    c("validation", "training", "no_information"),
    function(i, what) paste0(what, "_", i)
  ))
}

check_journal_fits <- function(con, file, plan, accept_versions) {
  written <- DBI::dbGetQuery(con, "SELECT * FROM facts")
  written <- stats::setNames(as.list(written$value), written$name)
  asked <- journal_facts(plan)
  words <- c(
    schema = "the journal's format", data = "the data", splits = "the splits",
    seed = "the seed", metrics = "the metrics",
    outcome = "the outcome", versions = "R or package versions"
  )
  differ <- names(asked)[!vapply(
    names(asked), function(name) identical(written[[name]], asked[[name]]), logical(1)
  )]
  if (accept_versions) differ <- setdiff(differ, "versions")
  if (length(differ) == 0L) {
    DBI::dbExecute(con, "UPDATE facts SET value = 'running' WHERE name = 'state'")
    return(invisible())
  }
  shown <- setdiff(differ, c("data", "splits"))
  DBI::dbDisconnect(con)
  stop_kw(
    "journal",
    paste0(
      "The journal ", quoted(file), " is of another comparison: ", enumerate(words[differ]),
      " differ."
    ),
    where = if (length(shown) > 0L) {
      paste0(
        words[shown[1]], ": ", written[[shown[1]]] %||% "none", " there, ",
        asked[[shown[1]]], " here."
      )
    },
    remedy = if (identical(differ, "versions")) {
      "Say accept_versions = TRUE to go on all the same."
    } else {
      "Give another file."
    }
  )
}

journal_handle <- function(con, lock, metrics) {
  waiting <- list()
  flushed <- seconds_now()
  failure <- NULL
  flush <- function() {
    flushed <<- seconds_now()
    if (length(waiting) == 0L || !is.null(failure)) return(invisible())
    rows <- waiting
    waiting <<- list()
    tryCatch(write_journal_rows(con, rows), error = function(e) {
      failure <<- plain_message(e)
      warn_kw("journal", paste0("The journal can no longer be written: ", failure, "."),
        remedy = paste(
          "The run goes on in memory; what is done from now on would be lost with",
          "this process."
        )
      )
    })
  }
  list(
    rows = function() DBI::dbGetQuery(con, "SELECT * FROM fits"),
    write = function(rows) {
      waiting[[length(waiting) + 1L]] <<- rows
      if (seconds_now() - flushed >= journal_batch_seconds) flush()
    },
    flush = flush,
    finish = function(state) {
      flush()
      try(
        DBI::dbExecute(con, "UPDATE facts SET value = ? WHERE name = 'state'", list(state)),
        silent = TRUE
      )
    },
    close = function() {
      flush()
      # what is beside the file belongs into it
      try(DBI::dbGetQuery(con, "PRAGMA wal_checkpoint(TRUNCATE)"), silent = TRUE)
      try(DBI::dbGetQuery(con, "PRAGMA journal_mode = DELETE"), silent = TRUE)
      DBI::dbDisconnect(con)
      unlock_journal(lock)
    },
    failure = function() failure, metrics = metrics
  )
}

write_journal_rows <- function(con, batches) {
  rows <- lapply(stats::setNames(nm = names(batches[[1]])), function(name) {
    parts <- lapply(batches, `[[`, name)
    if (is.list(parts[[1]])) do.call(c, parts) else unlist(parts, use.names = FALSE)
  })
  DBI::dbBegin(con)
  done <- FALSE
  on.exit(if (!done) try(DBI::dbRollback(con), silent = TRUE))
  DBI::dbExecute(
    con,
    paste0(
      "INSERT OR REPLACE INTO fits VALUES (", paste(rep("?", length(rows)), collapse = ", "),
      ")"
    ),
    unname(rows)
  )
  DBI::dbCommit(con)
  done <- TRUE
}
