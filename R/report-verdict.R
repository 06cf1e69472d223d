# What fits on one screen: the answer, how sure it is, and what speaks against it. Without a choice
# the plan's rule makes one.
report_verdict <- function(cmp, choice, model) {
  tags <- htmltools::tags
  planned <- is.null(choice)
  # a rule may need a spread
  if (planned) {
    choice <- tryCatch(select_final(cmp), kw_error_select = function(e) leading_choice(cmp))
  }
  about <- tags$p(class = "about", verdict_question(cmp))
  worries <- verdict_worries(cmp, model)
  beside <- tags$div(
    tags$h2(class = "brief", "What to worry about"),
    if (length(worries) == 0L) tags$p("Nothing looks odd.") else tags$ul(lapply(worries, tags$li))
  )
  if (is.null(choice)) {
    return(report_part("verdict", "The verdict", about,
      say_html("No setting is ranked, so none was chosen."), beside))
  }
  sentence <- sub("^In one sentence: ", "", in_one_sentence(choice, model$origin$set_aside))
  report_part(
    "verdict", "The verdict", about,
    tags$p(class = "say", tags$strong(sentence)),
    report_figure(
      draw_verdict(model %||% choice), paste("The verdict as a picture.", sentence),
      height = verdict_height(cmp)
    ),
    tags$div(
      class = "two",
      tags$div(
        tags$h2(
          class = "brief",
          if (planned) "What its rule would choose, and why" else "Why this one"
        ),
        tags$p(paste0("Rule ", choice$rule, ": ", choice$reason)),
        if (!is.null(choice$threshold)) tags$p(choice$threshold$reason)
      ),
      beside
    )
  )
}

# As high as lines need it, and no higher than leaves room on the screen.
verdict_height <- function(cmp) min(390, 170 + 34 * min(length(spaces_of(cmp)) + 2L, 8L))

verdict_question <- function(cmp) {
  brief <- brief_of(cmp)
  paste0(
    "Predict ", outcome_kind(brief$kind)$says(
      brief$table[[brief$outcome]], brief, row_weights(brief)
    ),
    " from ", count_of(length(brief$schema), "column"), " of ",
    count_of(nrow(brief$table), "working row"), "; ",
    count_of(length(cmp$results$candidate), "setting"), " of ",
    count_of(length(spaces_of(cmp)), "candidate"), ", ", splits_label(cmp$plan), "."
  )
}

# The three most serious things, as sentences.
verdict_worries <- function(cmp, model) {
  aside <- model$origin$set_aside
  odd <- diagnose(cmp)
  gone <- unique(unlist(lapply(cmp$results$failures, `[[`, "settings")))
  found <- c(
    if (!is.null(cmp$stopped)) {
      paste0("The run was stopped by ", cmp$stopped, ": not all settings have all their scores.")
    },
    if (sum(!is_apparent(all_splits(cmp))) == 1L) {
      "There is one split only: nothing says how sure this is. Use more splits."
    },
    if (!is.null(aside) && aside$openings[1] > 1L) {
      paste0(
        "The rows set aside were opened ", times_word(aside$openings[1]),
        ": a model changed after looking at them seems better than it is."
      )
    },
    if (length(gone) > 0L) {
      paste0(
        count_of(length(gone), "setting"), " of ", length(cmp$results$candidate),
        " failed on some split and have no place."
      )
    },
    finding_lines(odd)
  )
  utils::head(found[nzchar(found)], 3L)
}
