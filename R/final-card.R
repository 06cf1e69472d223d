#' A model card: one page in Markdown
#'
#' What the model predicts, from what, how it was chosen, how good it is, and what to
#' know before using it.
#'
#' @param model A model from [fit_final()] or [open_model()].
#' @param file Path of the Markdown file; an existing one is replaced when the new one is
#'   complete.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return The path, invisibly.
#' @section Errors:
#' `kw_error_argument` for anything but a model, `kw_error_file` when the file cannot be written.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1,
#'   quiet = TRUE
#' )
#' write_card(fit_final(select_final(cmp)), file.path(tempdir(), "card.md"))
#' @export
write_card <- function(model, file, ...) {
  no_more(...)
  check_class(model, "kw_model", "model", "Make one with fit_final().")
  check_string(file, "file")
  write_whole(file, card_lines(model))
}

card_lines <- function(model) {
  facts <- model$facts
  steps <- vapply(model$steps, function(learned) paste0("`pre_", learned$definition$name, "`"), "")
  kinds <- schema_kinds(model$schema)
  kept <- model$origin$set_aside
  called <- called_family(facts$family)
  is_made <- model$family$definition$combines
  c(
    paste0("# Model card: ", escape_markdown(model$outcome)), "",
    paste0(
      "Predicts **", escape_markdown(model$outcome), "** (", outcome_phrase(model), ") from ",
      count_of(length(kinds), "column"),
      "."
    ), "",
    "## The model", "",
    paste0(
      "- Family: ", if (is_made) called else paste0("`", called, "`"), ", candidate \"",
      escape_markdown(facts$candidate),
      "\"",
      if (nzchar(facts$setting)) paste0(": ", facts$setting)
    ),
    paste0(
      "- Preparation: ",
      if (length(steps) > 0L) paste(steps, collapse = ", then ") else if (is_made)
        "every member has its own" else "none"
    ),
    if (!is.null(model$threshold)) {
      paste0(
        "- ", escape_markdown(model$event), " is called from a probability of ",
        format(signif(model$threshold, 3)), " on"
      )
    },
    paste0(
      "- Fitted on ", count_of(facts$working_rows, "row"), ", seed ", facts$seed,
      if ((facts$rows_without_outcome %||% 0L) > 0L) {
        paste0("; ", count_of(facts$rows_without_outcome, "row"), " without outcome left out")
      }
    ),
    "", "## How it was chosen", "",
    paste0(
      "From ", count_of(facts$settings_compared, "setting"), " by ", facts$splits,
      ", metric `", facts$deciding_metric, "`, rule `",
      facts$rule, "`. ",
      escape_markdown(facts$reason)
    ),
    "", "## How good it is", "", score_table(model$scores, kept),
    "", if (is.null(kept)) {
      paste0(
        "Rows set aside: ", facts$set_aside_rows, ". Opened ",
        times_word(max(
          openings(facts$seal_fingerprint),
          facts$openings %||% 0L
        )), "."
      )
    } else {
      paste0(
        "The ", kept$rows[1], " set-aside rows were opened ", times_word(kept$openings[1]),
        "; the interval is of 95 %.",
        if (!is.null(attr(kept, "intervals"))) paste0(" ", coverage_text(attr(kept, "intervals")))
      )
    },
    "",
    paste(c(
      "The validation score was had on rows that the fits had not seen; being the best of",
      "many it is a little too good.", escape_markdown(facts$worth %||% "")
    ), collapse = " "),
    "", "## Columns that it needs", "", "| column | kind |", "|---|---|",
    paste0("| ", escape_markdown(names(kinds)), " | ", kinds, " |"),
    "",
    paste(
      "Levels that were never seen and missing values are handled as the preparation says; a",
      "column that is absent is an error."
    ),
    "", "## To repeat it", "",
    paste0("- Data fingerprint: `", substr(facts$data_fingerprint, 1, 16), "`"),
    paste0(
      "- R ", facts$versions$r, ", ",
      paste(names(facts$versions$packages), unlist(facts$versions$packages), collapse = ", ")
    ),
    paste(
      "- Numbers are the same to the last digit with the same versions, linear algebra",
      "library and platform."
    )
  )
}

outcome_phrase <- function(model) {
  escape_markdown(outcome_kind(model$kind)$foretells(model))
}

times_word <- function(n) if (n == 0L) "never" else if (n == 1L) "once" else paste(n, "times")

score_table <- function(scores, kept) {
  number <- function(x) vapply(x, function(v) if (is.na(v)) "-" else format(signif(v, 3)), "")
  rows <- paste0(
    "| ", scores$metric, " | ", number(scores$training), " | ",
    number(scores$validation), " (sd ",
    number(scores$validation_sd), ") |"
  )
  head <- c("| metric | training | validation |", "|---|---|---|")
  if (is.null(kept)) return(c(head, rows))
  c(
    paste0(head[1], " set aside |"), paste0(head[2], "---|"),
    paste0(
      rows, " ", number(kept$set_aside), " (", number(kept$low), " to ", number(kept$high),
      ") |"
    )
  )
}

# Text of a table's or a user's, so that it is text and nothing else.
escape_markdown <- function(text) {
  gsub("([][\\\\`*_|<>#~!&])", "\\\\\\1", visible(gsub("[[:space:]]+", " ", text)))
}
