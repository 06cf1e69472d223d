#' Bring a comparison back from its journal
#'
#' Works while the comparison is still running in another process, too: what is not done
#' has no place yet.
#'
#' @param file The file given as `journal` to [run_comparison()].
#' @param trust Results, settings and the working rows are plain text and numbers, and need no
#'   trust. Functions of the user's own - metrics, families and steps made with
#'   [define_metric()] and the like, functions in selections of columns - came into the file as
#'   R objects, and reading those can run code that the file's maker put into it. With `FALSE`
#'   they are left unread: whatever needs them, such as fitting a model, stops and says so.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A `kw_comparison` as [run_comparison()] gives it. To go on with an unfinished
#'   one call [run_comparison()] with the same plan and the same journal, or with
#'   `open_comparison(file)$plan`.
#' @section Errors:
#' `kw_error_journal` when the file is absent, damaged, or no journal; `kw_error_trust` when
#' something later needs what was not read.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' file <- tempfile(fileext = ".sqlite")
#' run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1,
#'   journal = file, quiet = TRUE
#' )
#' open_comparison(file)
#' @export
open_comparison <- function(file, trust = FALSE, ...) {
  no_more(...)
  check_string(file, "file")
  check_flag(trust, "trust")
  if (!file.exists(file) || dir.exists(file)) {
    stop_kw("journal", paste0("There is no journal ", quoted(file), "."))
  }
  if (check_journal_sound(file) == 0L) {
    stop_kw("journal", paste0("The journal ", quoted(file), " holds nothing yet."))
  }
  with_reader(file, function(con) {
    facts <- read_journal_facts(con)
    plan <- read_plan_of(con, file, facts, trust)
    job <- job_of(facts[names(fact_words)])
    comparison_from_rows(
      plan, read_rounds(con, plan, facts$rounds),
      without_beside(read_journal_rows(con, job), facts$beside), read_step_rows(con, job), facts
    )
  })
}

# The plan in a journal, after it was compared with what the journal says of itself.
read_plan_of <- function(con, file, facts, trust) {
  damaged <- function(what) {
    refuse_journal(file, paste0("Its ", what, " damaged."), paste(
      "run_comparison() with the same plan and this journal goes on with what is whole",
      "in it."
    ))
  }
  absent <- setdiff(names(fact_words), names(facts))
  if (length(absent) > 0L) damaged(paste("record of", fact_words[[absent[1]]], "is"))
  if (facts$schema != journal_schema) refuse_journal(file, "Another version wrote it.")
  tables <- read_plan_tables(con)
  if (is.null(tables)) damaged("plan is")
  plan <- tryCatch(
    plan_from_text(
      tables$plan, read_working_rows(con),
      # reason: only from files that the user trusts, see the help of `trust`
      if (trust && !is.null(tables$own)) unserialize(tables$own)
    ),
    kw_error_journal = stop,
    error = function(e) refuse_journal(file, paste0("Its plan cannot be read: ", plain_message(e)))
  )
  if (!identical(fingerprint_table(plan$brief$table), facts$data)) damaged("working rows are")
  now <- journal_facts(plan)
  for (name in c("data", "roles", "splits", "seed")) {
    if (facts[[name]] != now[[name]]) {
      damaged(paste("plan does not go with", fact_words[[name]], "and is"))
    }
  }
  plan
}

comparison_from_rows <- function(plan, found, rows, steps, facts) {
  rounds <- found$rounds
  # a run that was killed at once has written down no round
  if (length(rounds) == 0L) {
    rounds <- list(new_round(lapply(plan$round, `[[`, "settings")))
  }
  work <- work_of_rounds(plan$spaces, rounds)
  scored <- rows$status == "ok" & rows$split %in% vapply(
    plan$splits[!is_apparent(plan$splits)], `[[`, "", "key"
  )
  kept <- !vapply(rows$prediction[scored], is.null, logical(1))
  wanted <- list(
    training = any(scored) && !anyNA(rows$training_1[scored]),
    predictions = plan$pooled || (any(scored) && all(kept)),
    held = !plan$pooled && any(kept) && !all(kept),
    no_information = identical(plan$splitter$summary, "632plus")
  )
  asked <- matrix(TRUE, length(work$fits$node), length(plan$splits))
  names <- row_names_of_fits(work)
  parts <- lapply(sort(unique(rows$share)), function(share) {
    journal_parts(rows, work, names, asked, share, plan, wanted)
  })
  ledger <- bind_ledgers(c(list(empty_ledger(plan$metrics)), unlist(parts, recursive = FALSE)))
  ledger$steps <- steps_of_rows(steps, work, plan$splits)
  dropped <- work$settings$fit[dropped_settings(rounds, work)$at]
  lasting <- setdiff(seq_along(work$fits$node), dropped)
  wanted_splits <- splits_of_all(plan)
  there <- ledger$share == 1 & ledger$fit %in% lasting & ledger$split %in% wanted_splits
  whole <- found$lost == 0L && sum(there) == length(lasting) * length(wanted_splits)
  state <- facts$state %||% "unknown"
  stopped <- if (startsWith(state, "stopped by ")) {
    sub("^stopped by ", "", state)
  } else if (!whole) {
    paste0("its journal's state (", state, ")")
  }
  took <- earlier_time(facts)
  took$stopped <- stopped
  finish_comparison(plan, rounds, ledger, work, took, took$units, held = wanted$held)
}

# Is a process holding the journal's lock?
journal_is_written <- function(file) {
  beside <- lock_file(file)
  if (!file.exists(beside)) return(FALSE)
  con <- DBI::dbConnect(RSQLite::SQLite(), beside, synchronous = NULL)
  on.exit(DBI::dbDisconnect(con))
  inherits(try(DBI::dbExecute(con, "BEGIN IMMEDIATE"), silent = TRUE), "try-error")
}
