# The journal: an SQLite file with one row for every fit, split and path value, never
# keyed by unit or worker. Rows are committed in batches less than a second apart. One
# process writes, held by an exclusive lock on a small second file, which dies with the
# process; others may read. Every row has a checksum, made of the job's facts as well: a row
# that was damaged, or that is of another job, is not taken.

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
  made <- FALSE
  on.exit(if (!made) unlock_journal(lock))
  facts <- journal_facts(plan)
  journal <- if (fresh) {
    make_journal(file, plan, facts)
  } else {
    resume_journal(file, plan, facts, accept_versions)
  }
  made <- TRUE
  journal_handle(journal, lock, names(plan$metrics), job_of(facts))
}

connect_journal <- function(file) {
  con <- connect_sqlite(file, write = TRUE)
  DBI::dbGetQuery(con, "PRAGMA journal_mode = WAL")
  DBI::dbExecute(con, "PRAGMA synchronous = NORMAL")
  pages <- getOption("kilnwright.journal_pages")
  if (!is.null(pages)) DBI::dbGetQuery(con, paste("PRAGMA max_page_count =", as.integer(pages)))
  con
}

# The exclusive lock: a transaction on a file beside the journal that is never ended.
lock_journal <- function(file) {
  beside <- paste0(file, "-lock")
  con <- tryCatch(for_owner_only(connect_sqlite(beside, write = TRUE)), error = function(e) {
    stop_kw("journal", paste0("The journal ", quoted(file), " cannot be written."),
      where = plain_message(e), remedy = "Give a file in a folder that can be written to."
    )
  })
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
  # reason: made by lock_journal(), and held by nobody now
  unlink(lock$file)
}

# What a journal is a journal of: everything that can change a score, by its content.
journal_facts <- function(plan) {
  list(
    schema = journal_schema, data = plan$brief$fingerprint,
    roles = short_hash(canonical_text(plan$brief[c("outcome", "levels", "roles", "schema")])),
    splits = short_hash(paste(vapply(plan$splits, `[[`, "", "key"), collapse = " ")),
    seed = canonical_number(plan$seed),
    metrics = paste(names(plan$metrics), collapse = ", "),
    measures = short_hash(paste(vapply(plan$metrics, metric_key, ""), collapse = " ")),
    outcome = plan$brief$outcome, versions = versions_text(software_versions(plan))
  )
}

versions_text <- function(versions) {
  versions <- c(versions[c("r", "platform", "blas")], versions$packages)
  paste(names(versions), versions, collapse = "; ")
}

# By name, of a text of versions_text().
read_versions <- function(text) {
  one <- strsplit(text, "; ", fixed = TRUE)[[1]]
  stats::setNames(sub("^\\S+ ", "", one), sub(" .*", "", one))
}

# Do versions differ that both name? A candidate more may need a package more.
unlike_versions <- function(then, now) {
  then <- read_versions(then)
  now <- read_versions(now)
  both <- intersect(names(then), names(now))
  any(then[both] != now[both])
}

joined_versions <- function(then, now) {
  if (is.null(then)) return(now)
  then <- read_versions(then)
  now <- read_versions(now)
  whole <- c(now, then[setdiff(names(then), names(now))])
  paste(names(whole), whole, collapse = "; ")
}

# Of a metric: its name and arguments, of a user's own all that it says.
metric_key <- function(metric) {
  known <- !is.null(named_member(metric))
  canonical_text(if (known) metric[c("name", "arguments")] else unclass(metric))
}

# Versions may differ where the user accepts that.
job_of <- function(facts) short_hash(canonical_text(facts[names(facts) != "versions"]))

fact_words <- c(
  schema = "the journal's format", data = "the data", roles = "the columns' roles or types",
  splits = "the splits", seed = "the seed", metrics = "the metrics",
  measures = "what the metrics measure", outcome = "the outcome",
  versions = "R or package versions"
)

# Nothing is left of a journal that could not be made whole.
make_journal <- function(file, plan, facts) {
  con <- NULL
  tryCatch(
    for_owner_only({
      con <- connect_journal(file)
      in_transaction(con, {
        for (statement in c(
          create_facts, create_plan, create_own, create_fits(length(plan$metrics))
        )) {
          DBI::dbExecute(con, statement)
        }
        write_journal_facts(con, c(facts, state = "running"))
        write_plan_tables(con, plan)
      })
    }),
    error = function(e) {
      if (!is.null(con)) DBI::dbDisconnect(con)
      # reason: made just now, or a file without a table
      unlink(paste0(file, c("", "-wal", "-shm", "-journal")))
      stop_kw("journal", paste0("The journal ", quoted(file), " cannot be made."),
        where = plain_message(e),
        remedy = "Make room, or give a file elsewhere. Nothing was fitted."
      )
    }
  )
  list(con = con, failure = NULL)
}

# An existing journal, if it is of the same job. One that cannot be written any more is read,
# and the run goes on in memory.
resume_journal <- function(file, plan, facts, accept_versions) {
  check_journal_fits(file, facts, accept_versions)
  con <- NULL
  tryCatch(
    {
      con <- connect_journal(file)
      mend_journal(con, plan, facts)
      list(con = con, failure = NULL)
    },
    error = function(e) {
      said <- plain_message(e)
      if (!is.null(con)) DBI::dbDisconnect(con)
      say_journal_failure(said)
      list(con = connect_sqlite(file), failure = said)
    }
  )
}

# All or nothing. Where the disk is full SQLite has rolled back by itself.
in_transaction <- function(con, expr) {
  DBI::dbBegin(con)
  done <- FALSE
  on.exit(if (!done) try(DBI::dbRollback(con), silent = TRUE))
  expr
  DBI::dbCommit(con)
  done <- TRUE
}

# Facts that were damaged are written again: what a row belongs to is in its checksum. The plan
# is that of the last call: there may be a candidate more.
mend_journal <- function(con, plan, facts) {
  in_transaction(con, {
    facts$versions <- joined_versions(read_journal_facts(con)$versions, facts$versions)
    write_journal_facts(con, c(facts, state = "running"))
    written <- plan_as_text(plan)
    same <- identical(read_plan_tables(con)$plan, written$text)
    if (!same || !working_rows_whole(con, plan)) write_plan_tables(con, plan, written)
  })
}

write_journal_facts <- function(con, facts) {
  facts <- unlist(facts)
  DBI::dbExecute(con, "INSERT OR REPLACE INTO facts VALUES (?, ?, ?)", list(
    names(facts), unname(facts), fact_sums(names(facts), facts)
  ))
}

fact_sums <- function(names, values) short_hash(paste(names, values, sep = "\t"))

# Facts whose checksum is right, a list by name.
read_journal_facts <- function(con) {
  facts <- DBI::dbGetQuery(con, "SELECT name, value, sum FROM facts")
  facts <- facts[facts$sum %in% fact_sums(facts$name, facts$value), , drop = FALSE]
  stats::setNames(as.list(facts$value), facts$name)
}

check_journal_fits <- function(file, asked, accept_versions) {
  written <- with_reader(file, read_journal_facts)
  differ <- names(asked)[vapply(names(asked), function(name) {
    if (is.null(written[[name]])) return(FALSE)
    if (name == "versions") return(unlike_versions(written[[name]], asked[[name]]))
    !identical(written[[name]], asked[[name]])
  }, logical(1))]
  if (accept_versions) differ <- setdiff(differ, "versions")
  if (length(differ) == 0L) return(invisible())
  shown <- setdiff(differ, c("data", "roles", "splits", "measures"))
  stop_kw(
    "journal",
    paste0(
      "The journal ", quoted(file), " is of another comparison: ",
      enumerate(fact_words[differ], 9L), " differ."
    ),
    where = if (length(shown) > 0L) {
      paste0(
        fact_words[shown[1]], ": ", clean_line(written[[shown[1]]]), " there, ",
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

say_journal_failure <- function(why) {
  warn_kw("journal", paste0("The journal can no longer be written: ", why, "."),
    remedy = paste(
      "The run goes on in memory; what is done from now on would be lost with",
      "this process."
    )
  )
}

journal_handle <- function(journal, lock, metrics, job) {
  con <- journal$con
  failure <- journal$failure
  waiting <- list()
  flushed <- seconds_now()
  flush <- function() {
    flushed <<- seconds_now()
    if (length(waiting) == 0L || !is.null(failure)) return(invisible())
    rows <- waiting
    waiting <<- list()
    tryCatch(write_journal_rows(con, rows, job), error = function(e) {
      failure <<- plain_message(e)
      say_journal_failure(failure)
    })
  }
  list(
    rows = function() read_journal_rows(con, job, mend = is.null(failure)),
    write = function(rows) {
      waiting[[length(waiting) + 1L]] <<- rows
      if (seconds_now() - flushed >= journal_batch_seconds) flush()
    },
    flush = flush,
    finish = function(state) {
      flush()
      try(write_journal_facts(con, list(state = state)), silent = TRUE)
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

write_journal_rows <- function(con, batches, job) {
  rows <- lapply(stats::setNames(nm = names(batches[[1]])), function(name) {
    parts <- lapply(batches, `[[`, name)
    if (is.list(parts[[1]])) do.call(c, parts) else unlist(parts, use.names = FALSE)
  })
  rows$sum <- row_sums_of(rows, job)
  in_transaction(con, DBI::dbExecute(
    con,
    paste0(
      "INSERT OR REPLACE INTO fits VALUES (", paste(rep("?", length(rows)), collapse = ", "),
      ")"
    ),
    unname(rows)
  ))
}

# The rows of the job that are as they were written; the others are counted and left out, and
# taken away where the journal is to be mended.
read_journal_rows <- function(con, job, mend = FALSE) {
  rows <- DBI::dbGetQuery(con, "SELECT * FROM fits")
  whole <- (rows$sum == row_sums_of(rows[names(rows) != "sum"], job)) %in% TRUE
  if (!all(whole)) {
    warn_kw(
      "journal",
      paste0(
        count_of(sum(!whole), "row"), " of the journal ",
        if (sum(!whole) == 1L) "is" else "are", " damaged, and left out."
      ),
      remedy = "run_comparison() with the same plan and journal fits them again."
    )
    if (mend) {
      DBI::dbExecute(
        con, "DELETE FROM fits WHERE split IS ? AND fit IS ? AND value IS ?",
        unname(as.list(rows[!whole, c("split", "fit", "value")]))
      )
    }
  }
  rows[whole, , drop = FALSE]
}
