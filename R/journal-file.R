# The journal: an SQLite file with one row for every fit, split and path value, never
# keyed by unit or worker. Rows wait for one another, at most a second long. One
# process writes, held by an exclusive lock on a small second file, which dies with the
# process; others may read. Every row has a checksum, made of the job's facts as well: a row
# that was damaged, or that is of another job, is not taken.

journal_batch_seconds <- 0.8
# so often at most the time so far is written, of which a kill may lose a fit's anyway
journal_time_seconds <- 3

# Opens or makes a journal for this plan and says what does not fit. A journal has
#   rows(), steps()     what it held when it was opened, data frames
#   earlier()           list(seconds, units): time that earlier runs took
#   round(round, number, plan)  writes down what is tried in a round; later ones of an earlier
#                       run are taken away
#   write(rows, steps, took)  keeps rows for the next time of writing; took: seconds of a unit
#   tend(ahead)         writes what waits, if it is time, or will be before one can look again;
#                       ahead: seconds until then, NA where nobody knows
#   forget(fits, split, share)  takes rows away again
#   finish(took, names, ledger, plan)  how it ended, and what it took of what was held
#   flush(); close(); failure()  NULL, or why it could not be written
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
  run_sql(con, "PRAGMA synchronous = NORMAL")
  pages <- getOption("kilnwright.journal_pages")
  if (!is.null(pages)) DBI::dbGetQuery(con, paste("PRAGMA max_page_count =", as.integer(pages)))
  con
}

# The exclusive lock: a transaction on a file beside the journal that is never ended.
lock_journal <- function(file) {
  beside <- lock_file(file)
  con <- tryCatch(for_owner_only(connect_file(beside, RSQLite::SQLITE_RWC)), error = function(e) {
    stop_kw("journal", paste0("The journal ", quoted(file), " cannot be written."),
      where = plain_message(e), remedy = "Give a file in a folder that can be written to."
    )
  })
  tryCatch(
    {
      # as long as a reader may take to see whether somebody writes
      run_sql(con, "PRAGMA busy_timeout = 1000")
      run_sql(con, "BEGIN EXCLUSIVE")
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

# A journal and what may lie beside it, also after its process was killed.
journal_files <- function(file) c(sqlite_files(file), sqlite_files(lock_file(file)))

sqlite_files <- function(file) paste0(file, c("", "-wal", "-shm", "-journal"))

lock_file <- function(journal) paste0(journal, "-lock")

# Refused while another process writes it.
remove_journal <- function(file) {
  lock <- lock_journal(file)
  on.exit(unlock_journal(lock))
  # reason: the caller was asked to replace it, and nobody else can hold it now
  unlink(sqlite_files(file))
}

# Nothing is left of a journal that could not be made whole.
make_journal <- function(file, plan, facts) {
  con <- NULL
  tryCatch(
    for_owner_only({
      con <- connect_journal(file)
      in_transaction(con, {
        for (statement in c(
          create_facts, create_plan, create_own, create_rounds, create_steps,
          create_fits(length(plan$metrics))
        )) {
          run_sql(con, statement)
        }
        write_journal_facts(con, c(facts, state = "running"))
        write_plan_tables(con, plan)
      })
    }),
    error = function(e) {
      if (!is.null(con)) DBI::dbDisconnect(con)
      # reason: made just now, or a file without a table
      unlink(sqlite_files(file))
      stop_kw("journal", paste0("The journal ", quoted(file), " cannot be made."),
        where = plain_message(e),
        remedy = "Make room, or give a file elsewhere. Nothing was fitted."
      )
    }
  )
  list(con = con, failure = NULL, facts = list(), fresh = TRUE)
}

# An existing journal, if it is of the same job. One that cannot be written any more is read,
# and the run goes on in memory.
resume_journal <- function(file, plan, facts, accept_versions) {
  check_journal_fits(file, facts, accept_versions)
  con <- NULL
  tryCatch(
    {
      con <- connect_journal(file)
      written <- mend_journal(con, plan, facts)
      list(con = con, failure = NULL, facts = written, fresh = FALSE)
    },
    error = function(e) {
      said <- plain_message(e)
      if (!is.null(con)) DBI::dbDisconnect(con)
      say_journal_failure(said)
      con <- connect_sqlite(file)
      list(con = con, failure = said, facts = read_journal_facts(con), fresh = FALSE)
    }
  )
}

# All or nothing. Where the disk is full SQLite has rolled back by itself.
in_transaction <- function(con, expr) {
  run_sql(con, "BEGIN")
  done <- FALSE
  on.exit(if (!done) try(run_sql(con, "ROLLBACK"), silent = TRUE))
  expr
  run_sql(con, "COMMIT")
  done <- TRUE
}

# Facts that were damaged are written again: what a row belongs to is in its checksum. The plan
# is that of the last call: there may be a candidate more. Returns the facts as they were.
mend_journal <- function(con, plan, facts) {
  in_transaction(con, {
    written <- read_journal_facts(con)
    facts$versions <- joined_versions(written$versions, facts$versions)
    facts$searches <- joined_versions(written$searches, facts$searches)
    write_journal_facts(con, c(facts, state = "running", beside = ""))
    form <- plan_as_text(plan)
    same <- identical(read_plan_tables(con)$plan, form$text)
    if (!same || !working_rows_whole(con, plan)) {
      clear_plan_tables(con)
      write_plan_tables(con, plan, form)
    }
  })
  written
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
  last_round <- if (journal$fresh) 0L else Inf
  waiting <- list()
  opened <- waits_since <- seconds_now()
  noted <- -Inf
  held <- if (journal$fresh) no_rows(fits_columns(length(metrics)))
  steps <- if (journal$fresh) no_rows(steps_columns)
  earlier <- earlier_time(journal$facts)
  units <- earlier$units
  guarded <- function(expr) {
    if (!is.null(failure)) return(invisible())
    tryCatch(expr, error = function(e) {
      failure <<- plain_message(e)
      say_journal_failure(failure)
    })
  }
  flush <- function() {
    if (length(waiting) == 0L) return(invisible())
    written <- waiting
    waiting <<- list()
    guarded(in_transaction(con, {
      insert_rows(con, "fits", lapply(written, `[[`, "rows"), job, replace = TRUE)
      insert_rows(con, "steps", lapply(written, `[[`, "steps"), job)
      if (seconds_now() - noted >= journal_time_seconds) note()
    }))
  }
  # the time so far, and other facts
  note <- function(facts = list()) {
    noted <<- seconds_now()
    write_journal_facts(con, c(facts, list(
      seconds = number_text(earlier$seconds + noted - opened), units = number_text(units)
    )))
  }
  tend <- function(ahead = 0) {
    if (length(waiting) == 0L) return(invisible())
    soon <- seconds_now() - waits_since + ahead < journal_batch_seconds
    if (!isTRUE(soon)) flush()
  }
  list(
    rows = function() {
      if (is.null(held)) held <<- read_journal_rows(con, job, mend = is.null(failure))
      held
    },
    steps = function() {
      if (is.null(steps)) steps <<- read_step_rows(con, job)
      steps
    },
    earlier = function() earlier,
    round = function(round, number, plan) {
      guarded(in_transaction(con, {
        if (number <= last_round) {
          run_sql(con, "DELETE FROM rounds WHERE number >= ?", list(number))
        }
        text <- round_as_text(round, plan)
        run_sql(con, "INSERT INTO rounds VALUES (?, ?, ?)", list(
          number, text, row_sums_of(list(text), paste("round", number))
        ))
        note(list(rounds = as.character(number)))
        last_round <<- number
      }))
    },
    write = function(rows, steps, took = 0) {
      units <<- units + took
      if (length(waiting) == 0L) waits_since <<- seconds_now()
      waiting[[length(waiting) + 1L]] <<- list(rows = rows, steps = steps)
      tend()
    },
    tend = tend,
    forget = function(fits, split, share) {
      flush()
      n <- length(fits)
      guarded(run_sql(
        con, "DELETE FROM fits WHERE fit = ? AND split = ? AND share = ?",
        list(fits, rep(split, n), rep(share, n))
      ))
    },
    flush = flush,
    finish = function(took, names, ledger, plan) {
      flush()
      state <- if (is.null(took$stopped)) "finished" else paste("stopped by", took$stopped)
      try(write_journal_facts(con, list(
        state = state, seconds = number_text(took$seconds),
        processes = number_text(took$processes), units = number_text(units),
        beside = rows_beside(held, names, ledger, plan)
      )), silent = TRUE)
    },
    close = function() {
      flush()
      # what is beside the file belongs into it, as far as readers allow that
      mode <- try(DBI::dbGetQuery(con, "PRAGMA journal_mode = DELETE"), silent = TRUE)
      if (!identical(mode[[1]], "delete")) {
        try(DBI::dbGetQuery(con, "PRAGMA wal_checkpoint(TRUNCATE)"), silent = TRUE)
      }
      DBI::dbDisconnect(con)
      unlock_journal(lock)
    },
    failure = function() failure, metrics = metrics
  )
}

# `rows`: a list of columns, or several, one below the other.
insert_rows <- function(con, table, several, job, replace = FALSE) {
  rows <- several[[1]]
  if (length(several) > 1L) {
    for (name in names(rows)) {
      parts <- lapply(several, `[[`, name)
      rows[[name]] <- if (is.list(rows[[name]])) {
        do.call(c, parts)
      } else {
        unlist(parts, use.names = FALSE)
      }
    }
  }
  if (length(rows[[1]]) == 0L) return(invisible())
  rows$sum <- row_sums_of(rows, job)
  run_sql(
    con,
    paste0(
      "INSERT ", if (replace) "OR REPLACE ", "INTO ", table, " VALUES (",
      paste(rep("?", length(rows)), collapse = ", "), ")"
    ),
    unname(rows)
  )
}

# Steps whose rows are as they were written.
read_step_rows <- function(con, job) {
  rows <- DBI::dbGetQuery(con, "SELECT * FROM steps")
  rows[(rows$sum == row_sums_of(rows[names(rows) != "sum"], job)) %in% TRUE, , drop = FALSE]
}

# Rounds as they were written down, as far as they are whole and without a gap; with a warning
# where some were lost.
read_rounds <- function(con, plan, written) {
  rows <- DBI::dbGetQuery(con, "SELECT number, round, sum FROM rounds ORDER BY number")
  rounds <- list()
  for (i in seq_len(nrow(rows))) {
    sum <- row_sums_of(list(rows$round[i]), paste("round", rows$number[i]))
    if (rows$number[i] != i || !identical(rows$sum[i], sum)) break
    rounds[[i]] <- round_from_text(rows$round[i], plan)
  }
  lost <- max(nrow(rows), as.integer(written %||% 0L)) - length(rounds)
  if (lost > 0L) {
    warn_kw(
      "journal",
      paste0("What was tried in ", count_of(lost, "round"), " of the journal is lost."),
      remedy = "run_comparison() with the same plan and journal asks the searches again."
    )
  }
  list(rounds = rounds, lost = lost)
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
      run_sql(
        con, "DELETE FROM fits WHERE split IS ? AND fit IS ? AND share IS ? AND value IS ?",
        unname(as.list(rows[!whole, c("split", "fit", "share", "value")]))
      )
    }
  }
  rows[whole, , drop = FALSE]
}

# Where no other journal is asked for, the run keeps one beside its results.
results_journal <- "journal.sqlite"

# The journal in a folder of results; a journal is itself.
journal_of <- function(path) {
  if (!dir.exists(path)) return(path)
  file <- file.path(path, results_journal)
  if (file.exists(file)) return(file)
  stop_kw("results", paste0("The folder ", quoted(path), " holds no journal."),
    remedy = "Give the journal of the run, or run the plan again."
  )
}
