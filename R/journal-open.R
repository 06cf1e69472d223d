#' Bring a comparison back from its journal
#'
#' Works while the comparison is still running in another process, too: what is not done
#' has no place yet.
#'
#' @param file The file given as `journal` to [run_comparison()].
#' @param trust A journal holds the plan, with the working rows, as an R object; making
#'   it up again can run code that its maker put into it. Do you trust where the file
#'   comes from? Asked if not given.
#' @return A `kw_comparison` as [run_comparison()] gives it. To go on with an unfinished
#'   one call [run_comparison()] with the same plan and the same journal, or with
#'   `open_comparison(file)$plan`.
#' @section Errors:
#' `kw_error_journal` when the file is absent, damaged, no journal, or not trusted.
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
#' open_comparison(file, trust = TRUE)
#' @export
open_comparison <- function(file, trust = NULL) {
  check_string(file, "file")
  if (!file.exists(file) || dir.exists(file)) {
    stop_kw("journal", paste0("There is no journal ", quoted(file), "."))
  }
  if (check_journal_sound(file) == 0L) {
    stop_kw("journal", paste0("The journal ", quoted(file), " holds nothing yet."))
  }
  if (is.null(trust)) {
    trust <- interactive() &&
      utils::askYesNo(paste0("Do you trust where ", file, " comes from?"),
        default = FALSE) %in% TRUE
  }
  check_flag(trust, "trust")
  if (!trust) {
    stop_kw(
      "journal",
      paste0(
        "The journal ", quoted(file),
        " is sound, but was not opened: that can run code that its maker put into it."
      ),
      remedy = "If you trust where it comes from, say open_comparison(file, trust = TRUE)."
    )
  }
  con <- DBI::dbConnect(RSQLite::SQLite(), file, flags = RSQLite::SQLITE_RO, synchronous = NULL)
  on.exit(DBI::dbDisconnect(con))
  facts <- DBI::dbGetQuery(con, "SELECT * FROM facts")
  state <- facts$value[facts$name == "state"]
  plan <- unpacked_plan(DBI::dbGetQuery(con, "SELECT plan FROM plan")$plan[[1]])
  comparison_from_rows(plan, DBI::dbGetQuery(con, "SELECT * FROM fits"), state)
}

comparison_from_rows <- function(plan, rows, state) {
  work <- compile_work(plan$spaces, lapply(plan$round, `[[`, "settings"))
  wanted <- list(
    training = any(!is.na(rows$training_1)),
    predictions = plan$pooled || !all(vapply(rows$prediction, is.null, logical(1))),
    no_information = identical(plan$splitter$summary, "632plus")
  )
  known <- journal_batches(rows, work, row_names_of_fits(work), plan, wanted)
  below <- fits_below(work)
  results <- new_results(plan, work, wanted)
  for (split in seq_along(known)) {
    results <- take_batch(
      results, known[[split]], spread_batch(known[[split]], work), work, split, below
    )
  }
  if (plan$pooled) results <- pool_scores(results, plan)
  held <- sum(lengths(lapply(known, `[[`, "fit")))
  whole <- held == length(work$fits$node) * length(plan$splits)
  finish_comparison(
    plan, list(results), Sys.time(), if (!whole) paste0("its journal's state (", state, ")")
  )
}

# Is a process holding the journal's lock?
journal_is_written <- function(file) {
  beside <- paste0(file, "-lock")
  if (!file.exists(beside)) return(FALSE)
  con <- DBI::dbConnect(RSQLite::SQLite(), beside, synchronous = NULL)
  on.exit(DBI::dbDisconnect(con))
  inherits(try(DBI::dbExecute(con, "BEGIN IMMEDIATE"), silent = TRUE), "try-error")
}
