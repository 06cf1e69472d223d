#' Write a report: one HTML file that needs nothing else
#'
#' The first screen is the verdict: what was chosen, what it is worth beside all others on one axis,
#' what is as good, and what to worry about. Then, in the order in which one reads: question and
#' data, what was tried and what it cost,
#' standings and ties, spread by split, tuning pictures, the choice and its reason, an honest
#' estimate, the set-aside result, what the model looks at, failures, and how to repeat it.
#' All figures are inside the file; nothing is loaded from a network; every name and value of
#' the data is escaped.
#'
#' @param x A model from [fit_final()] (whose comparison is reported with it), or a
#'   comparison.
#' @param file Path of the HTML file; an existing one is replaced when the new one is
#'   complete.
#' @param explain Also column importance, dependence and learning curve? They need more fits.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return The path, invisibly.
#' @section Errors:
#' `kw_error_report` for a model that was opened from a file: it carries no comparison.
#' `kw_error_file` when the report cannot be written.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline(), tree = fam_tree()),
#'   splits = split_kfold(3),
#'   seed = 1, quiet = TRUE
#' )
#' write_report(cmp, file.path(tempdir(), "pots.html"))
#' @export
write_report <- function(x, file, explain = inherits(x, "kw_model"), ...) {
  no_more(...)
  check_string(file, "file")
  check_flag(explain, "explain")
  choice <- NULL
  model <- NULL
  if (inherits(x, "kw_model")) {
    model <- x
    choice <- model$origin$choice
    if (is.null(choice)) {
      stop_kw("report", "A model that was opened from a file carries no comparison to report.",
        remedy = "Use write_card(), or report the model from fit_final()."
      )
    }
  }
  cmp <- if (is.null(choice)) x else choice$cmp
  check_class(cmp, "kw_comparison", "x", "Give a model from fit_final() or a comparison.")
  check_writable_file(file)
  need("htmltools", "Writing a report")
  if (is.null(choice)) cmp <- blended_as_planned(cmp)$cmp
  parts <- c(
    list(
      report_verdict(cmp, choice, model), report_question(cmp), report_tried(cmp),
      report_standings(cmp), report_spread(cmp), report_tuning(cmp)
    ),
    if (!is.null(choice)) list(report_choice(choice)),
    list(report_estimate(cmp)),
    if (!is.null(model)) list(report_set_aside(model)),
    if (explain && !is.null(model)) list(report_explanation(model, choice)),
    list(report_failures(cmp), report_repeat(cmp, choice))
  )
  write_whole(file, as.character(report_page(cmp, parts, choice$at)))
}

# `at`: the chosen setting.
report_page <- function(cmp, parts, at = NULL) {
  tags <- htmltools::tags
  title <- paste("Predicting", brief_of(cmp)$outcome)
  head <- paste0(
    paste(
      "<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta",
      "name=\"viewport\" content=\"width=device-width\">"
    ),
    "<title>", htmltools::htmlEscape(title), "</title><style>", report_style,
    page_style(), "</style></head>"
  )
  contents <- tags$nav(lapply(parts[-1],
    function(part) tags$a(href = paste0("#", part$id), part$title)))
  sections <- lapply(parts[-1], function(part) {
    tags$section(id = part$id, tags$h2(part$title), part$body)
  })
  body <- tags$body(
    tags$header(tags$h1(title), tags$section(id = "verdict", parts[[1]]$body), contents),
    tags$main(sections),
    htmltools::HTML(paste0("<script>", report_script, "</script>")),
    page_scripts(page_facts(cmp, at = at))
  )
  paste0(head, as.character(body), "</html>")
}

report_style <- paste(
  "body{font:16px/1.5 system-ui,sans-serif;color:#1c1c1c;margin:0;background:#fff}",
  "header,main{max-width:1080px;margin:0 auto;padding:1rem 1.5rem}",
  paste(
    "h1{margin:.4rem 0;font-size:1.9rem}h2{border-top:2px solid",
    "#222;padding-top:.5rem;margin-top:2.4rem;font-size:1.35rem}"
  ),
  "nav a{margin-right:1.1rem;color:#0a4a78;white-space:nowrap}",
  "table{border-collapse:collapse;font-size:.92rem;margin:.8rem 0}",
  ".two{display:grid;grid-template-columns:1fr 1fr;gap:0 2rem;font-size:.94rem;line-height:1.42}",
  "h2.brief{margin:.3rem 0;",
  "border:0;font-size:1.05rem}.two ul,.two p{margin:.2rem 0}.about{color:#444;margin:.2rem 0}",
  "#verdict .say{margin:.5rem 0}#verdict figure{margin:.4rem 0}#verdict img{margin:0;border:0}",
  "@media(max-width:700px){#verdict figure{overflow-x:auto}",
  "#verdict img{max-width:none;width:720px}}",
  "nav{border-top:1px solid #ccc;margin-top:.8rem;padding-top:.5rem;line-height:1.9}",
  "@media(max-width:700px){.two{grid-template-columns:1fr}header,main{padding:.6rem .8rem}}",
  ".wide{overflow:auto;max-height:34rem}figure{margin:1rem 0}",
  "th,td{padding:.25rem .7rem;border-bottom:1px solid #ccc;text-align:left;vertical-align:top}",
  "td.n,th.n{text-align:right;font-variant-numeric:tabular-nums}",
  paste(
    "th",
    "button{font:inherit;font-weight:600;background:none;border:0;padding:0;cursor:pointer;",
    "text-decoration:underline dotted}"
  ),
  paste(
    "img{max-width:100%;height:auto;display:block;margin:1rem 0;border:1px solid",
    "#e3e3e3}figcaption{color:#444;font-size:.92rem}"
  ),
  paste(
    ".say{font-size:1.08rem}code,pre{background:#f3f3f3;padding:.1rem",
    ".3rem}pre{padding:.8rem;overflow-x:auto}"
  ),
  ".paper{display:none}",
  # on paper nothing can be scrolled
  "@media print{nav{display:none}.wide{overflow:visible;max-height:none}",
  "table{font-size:.72rem}th,td{padding:.15rem .35rem}",
  "td:not(.n){overflow-wrap:break-word}.replaced tr:nth-child(n+21){display:none}",
  "figure,img,tr,pre{break-inside:avoid}h2,h3{break-after:avoid}header,main{padding:0}",
  "pre{white-space:pre-wrap}body{font-size:13px}.paper{display:block}}",
  sep = "\n"
)

# Sorts a table by the column whose heading is pressed; again: the other way round.
report_script <- paste(
  paste(
    "document.querySelectorAll('th",
    "button').forEach(function(b){b.addEventListener('click',function(){"
  ),
  "var th=b.parentNode,t=th.closest('table'),body=t.tBodies[0];",
  "var i=Array.prototype.indexOf.call(th.parentNode.children,th);",
  "var up=th.getAttribute('aria-sort')!=='ascending';",
  "t.querySelectorAll('th').forEach(function(x){x.removeAttribute('aria-sort')});",
  "th.setAttribute('aria-sort',up?'ascending':'descending');",
  paste(
    "Array.prototype.slice.call(body.rows).sort(function(r,s){var",
    "x=r.cells[i].dataset.v||r.cells[i].textContent,"
  ),
  "y=s.cells[i].dataset.v||s.cells[i].textContent;",
  "var p=parseFloat(x),q=parseFloat(y),c=(isNaN(p)||isNaN(q))?x.localeCompare(y):p-q;",
  "return up?c:-c}).forEach(function(r){body.appendChild(r)})})});",
  sep = "\n"
)

report_part <- function(id, title, ...) list(id = id, title = title, body = htmltools::tagList(...))

say_html <- function(...) htmltools::tags$p(class = "say", paste0(...))

# A listing as it prints, with its sentences as further columns.
report_listing <- function(table) {
  shown <- unclass(as.data.frame(tibble::as_tibble(table)))
  spec <- attr(table, "listing")
  cells <- listing_cells(shown, spec)
  texts <- lapply(shown[spec$texts], function(x) ifelse(is.na(x), "", x))
  text <- c(cells$text, texts)
  right <- c(cells$align == "right", logical(length(texts)))
  tags <- htmltools::tags
  heads <- Map(function(name, n) tags$th(class = if (n) "n", name), names(text), right)
  rows <- lapply(seq_along(text[[1]]), function(i) {
    tags$tr(unname(Map(function(x, n) tags$td(class = if (n) "n", x[i]), text, right)))
  })
  tags$div(class = "wide", tags$table(tags$thead(tags$tr(unname(heads))), tags$tbody(rows)))
}

# A table of a data frame; columns of numbers sort as numbers. `scores`: names of columns that are
# rounded to `certain`.
report_table <- function(table, sortable = FALSE, scores = NULL, certain = NA) {
  tags <- htmltools::tags
  numeric <- vapply(table, is.numeric, logical(1))
  heads <- Map(
    function(name, n) {
      tags$th(class = if (n) "n", if (sortable) tags$button(type = "button", name) else name)
    },
    names(table),
    numeric
  )
  texts <- Map(function(x, name) {
    if (name %in% scores) {
      ifelse(is.na(x), "", vapply(x, round_to, "", certain))
    } else if (is.numeric(x)) {
      ifelse(is.na(x), "", format_each(x))
    } else {
      ifelse(is.na(x), "", as.character(x))
    }
  }, table, names(table))
  rows <- lapply(seq_len(nrow(table)), function(i) {
    tags$tr(Map(
      function(text, x, n) {
        tags$td(
          class = if (n) "n",
          `data-v` = if (n && !is.na(x[i])) format(x[i], digits = 12),
          text[i]
        )
      },
      texts,
      table,
      numeric
    ))
  })
  tags$div(class = "wide", tags$table(tags$thead(tags$tr(unname(heads))), tags$tbody(rows)))
}

format_each <- function(x) {
  vapply(x, function(v) format(signif(v, 4), digits = 4, big.mark = ","), "")
}

# A figure inside the page; one that cannot be drawn says why.
report_figure <- function(plot, alt, height = 680) {
  drawn <- tryCatch(png_bytes(force(plot), width = 1100, height = height), error = plain_message)
  if (is.character(drawn)) return(htmltools::tags$p(paste0(alt, ": not drawn. ", drawn)))
  text <- gsub("\n", "", jsonlite::base64_enc(drawn), fixed = TRUE)
  htmltools::tags$figure(htmltools::tags$img(
    src = paste0("data:image/png;base64,", text), alt = alt
  ))
}

report_question <- function(cmp) {
  brief <- brief_of(cmp)
  outcome <- brief$table[[brief$outcome]]
  about <- outcome_kind(brief$kind)$about(outcome, row_weights(brief))
  kinds <- schema_kinds(brief$schema)
  counts <- table(kinds)
  report_part(
    "question", "Question and data",
    say_html("Predict ", outcome_words(brief), " (", about, ") from ", length(kinds), " columns."),
    htmltools::tags$p(paste0(
      count_of(nrow(brief$table), "working row"),
      if (!is.null(brief$sealed)) paste0(
        "; ", count_of(brief$sealed$n, "row"),
        " set aside, unseen by all that follows until the end"
      ),
      if (brief$n_without_outcome > 0L) {
        paste0("; ", count_of(brief$n_without_outcome, "row"), " without outcome left out")
      },
      ". Columns: ", paste0(counts, " ", names(counts), collapse = ", "),
      if (!is.null(brief$roles$group)) {
        paste0(". Rows of one ", brief$roles$group, " are kept together")
      }, "."
    )),
    if (length(brief$changes) > 0L) {
      htmltools::tags$p(paste0(
        "Changed after looking at the data: ",
        paste(vapply(brief$changes, `[[`, "", "said"), collapse = "; "), "."
      ))
    }
  )
}

report_tried <- function(cmp) {
  spent <- time_spent(cmp)
  table <- tried_by_candidate(cmp)
  cost <- spent[spent$what != "elapsed", c("what", "seconds", "share")]
  cost$share <- round(100 * cost$share, 1)
  cost$seconds <- signif(cost$seconds, 3)
  names(cost)[3] <- "% of the whole"
  report_part(
    "tried", "What was tried, and what it cost",
    say_html(
      count_of(length(cmp$results$candidate), "setting"), " of ",
      count_of(nrow(table), "candidate"), ", by ",
      splits_label(cmp$plan),
      ": ", count_of(
        sum(cmp$results$done), "score"
      ), " from ",
      count_of(fits_done(cmp), "fit"), " in ",
      format_duration(cmp$seconds), "."
    ),
    lapply(c(search_sentence(cmp), settled_sentence(cmp)), htmltools::tags$p),
    if (!is.null(cmp$stopped)) {
      htmltools::tags$p(htmltools::tags$strong(paste0("The run was stopped by ", cmp$stopped, ".")))
    },
    if (!is.null(cmp$plan$screen)) htmltools::tags$p(paste0("Screen: ", screen_words(cmp), ".")),
    report_table(table), report_table(cost)
  )
}

# What was done, which is more than a plan says where a search proposes as it goes.
tried_by_candidate <- function(cmp) {
  n <- length(spaces_of(cmp))
  fits <- cmp$ledger$fit[cmp$ledger$stage != "blend"]
  data.frame(
    candidate = names(spaces_of(cmp)), settings = tabulate(cmp$results$candidate, n),
    fits = tabulate(work_of(cmp)$fits$candidate[fits], n),
    varies = vapply(cmp$results$tables, varying_text, "")
  )
}

most_report_rows <- 200L

report_standings <- function(cmp) {
  table <- standings_rows(cmp)
  cut <- nrow(table) > most_report_rows
  shown <- report_rows_of(utils::head(table, most_report_rows), cmp)
  said <- Filter(
    function(line) !startsWith(line, "To look at:") && !startsWith(line, "- "),
    unclass(summary(cmp))
  )
  odd <- diagnose(cmp)
  report_part(
    "standings", "Standings and ties",
    lapply(said[-1], function(line) htmltools::tags$p(class = "say", line)),
    report_figure(draw_standings(cmp), "The best setting of each candidate"),
    page_look(),
    htmltools::tags$div(
      class = "replaced", report_table(shown,
        sortable = TRUE, certain = middle(table$se),
        scores = c("mean", "sd", "se", "lowest", "highest", "training", "gap")
      ),
      htmltools::tags$p(class = "paper", "On paper the first 20 rows; the page itself has more."),
      if (cut) {
        htmltools::tags$p(paste0("The first ", most_report_rows, " of ", nrow(table), " rows."))
      }
    ),
    if (nrow(odd) > 0L) htmltools::tagList(htmltools::tags$h3("To look at"), report_listing(odd))
  )
}

# Rows of the standings with their settings in words.
report_rows_of <- function(table, cmp) {
  kept <- c("place", "candidate", "mean", "sd", "se", "lowest", "highest")
  if (any(!is.na(table$training))) kept <- c(kept, "training", "gap")
  kept <- c(kept, if (any(table$failed > 0)) "failed", intersect("provided", names(table)))
  shown <- as.data.frame(table[c(kept, "seconds")])
  shown$seconds <- signif(shown$seconds, 3)
  shown$setting <- setting_label(cmp, rows_in_standings(cmp, table), all = FALSE)
  shown
}

report_spread <- function(cmp) {
  pairs <- tryCatch(compare_pairs(cmp), kw_error_select = function(e) NULL)
  report_part(
    "spread",
    "Spread by split",
    say_html(
      "How the best setting of each candidate scores on every single split: lines that cross say ",
      "that the order changes from split to split."
    ),
    report_figure(draw_split_scores(cmp), "Scores split by split"),
    if (!is.null(pairs)) {
      htmltools::tagList(
        htmltools::tags$p(paste0(
          "Differences between the candidates' best settings, with corrected paired ",
          "intervals (Nadeau & Bengio 2003), and the probabilities that the first is better or ",
          "both are practically the same (within ", format(signif(attr(pairs, "margin"), 2)), "):"
        )),
        report_listing(pairs)
      )
    }
  )
}

report_tuning <- function(cmp) {
  varied <- varied_by_candidate(cmp)
  tuned <- names(varied)[lengths(varied) > 0L]
  tuned <- intersect(unique(candidate_names(cmp)[best_of_candidates(cmp)]), tuned)
  report_part(
    "tuning", "Scores against hyperparameters",
    if (length(tuned) == 0L) htmltools::tags$p("Nothing varied.") else say_html(
      "What each hyperparameter does to the score, candidate by candidate, the best first; the ",
      "table says how much of the scores' spread it explains."
    ),
    lapply(utils::head(tuned, 8L), function(name) {
      report_figure(draw_tuning(cmp, name), paste("Tuning of", name))
    }),
    if (nrow(shares <- hyperparameter_importance(cmp)) > 0L) {
      report_listing(shares)
    }
  )
}

report_choice <- function(choice) {
  rules <- explain_choice(choice)
  report_part(
    "choice",
    "The choice, and why",
    say_html(choice_name(choice$cmp, choice$at)),
    say_html(choice$reason), say_html(honest_text(choice)),
    if (!is.null(choice$threshold)) say_html(choice$threshold$reason),
    htmltools::tags$p("What each rule would have chosen:"),
    report_listing(rules)
  )
}

report_estimate <- function(cmp) {
  if (length(best_of_candidates(cmp)) == 0L) {
    return(report_part(
      "estimate",
      "An honest estimate",
      htmltools::tags$p("No setting is ranked, so there is nothing to estimate.")
    ))
  }
  found <- optimism(cmp)
  report_part(
    "estimate", "An honest estimate",
    say_html(
      "The best of many means is too good, since it was picked for being best. Corrections for ",
      "that:"
    ),
    report_figure(draw_optimism(found), "Naive and corrected scores", height = 420),
    report_listing(found)
  )
}

report_set_aside <- function(model) {
  scores <- model$origin$set_aside
  body <- if (is.null(scores)) {
    htmltools::tags$p(if (is.null(model$brief$sealed)) "No rows were set aside." else
      "The set-aside rows have not been opened: score_set_aside(model).")
  } else {
    htmltools::tagList(
      say_html(
        "The ", count_of(scores$rows[1], "set-aside row"), " were opened ",
        times_word(scores$openings[1]), "."
      ),
      report_listing(scores),
      if (!is.null(attr(scores, "intervals"))) say_html(coverage_text(attr(scores, "intervals"))),
      if (scores$openings[1] > 1L) {
        htmltools::tags$p(
          "They were opened more than once: a model changed after ",
          "looking at them will seem better than it is."
        )
      }
    )
  }
  report_part("set-aside", "Rows set aside", body)
}

report_explanation <- function(model, choice) {
  choice$cmp <- with_held_out(choice$cmp, settings_explained(choice))
  cmp <- choice$cmp
  kind <- brief_of(cmp)$kind
  importance <- tryCatch(column_importance(choice, times = 3, most_splits = 5), kw_error = identity)
  explained <- inherits(importance, "kw_importance")
  top <- if (explained) utils::head(importance$column[importance$importance > 0], 4L)
  errors <- tibble::as_tibble(largest_errors(choice, top = 10))
  report_part(
    "explanation", "What the model looks at",
    say_html(
      "Which columns the chosen setting lives on, how predictions move with them, where it is ",
      "wrong, and whether more rows would help; all on rows that were held out."
    ),
    if (explained) report_figure(draw_importance(importance), "Importance of columns") else
      htmltools::tags$p(paste("Importance of columns could not be had:",
        plain_message(importance))),
    lapply(top, function(column) {
      report_figure(draw_dependence(model, column), paste("Dependence on", column), height = 520)
    }),
    report_weak_parts(cmp, if (explained) utils::head(importance$column, 6L)),
    if (!is_wide(kind)) report_figure(draw_observed(choice), "Observed against predicted"),
    if (is_wide(kind) && !has_classes(kind)) {
      report_figure(draw_intervals(choice), "Predicted intervals")
    },
    if (has_classes(kind)) report_figure(draw_confusion(choice), "Confusion table"),
    if (has_event(kind)) report_figure(draw_roc(cmp), "ROC curves", height = 760),
    if (has_event(kind)) report_figure(draw_calibration(cmp), "Calibration"),
    if (has_event(kind)) report_figure(draw_net_benefit(cmp), "Net benefit"),
    report_figure(
      draw_learning_curve(learning_curve(choice, shares = c(0.25, 0.5, 0.75, 1), most_splits = 5)),
      "Learning curve"
    ),
    htmltools::tags$h3("The rows that it gets most wrong"),
    report_table(errors[seq_len(min(ncol(errors), 10L))])
  )
}

# Those whose held-out predictions the explanation's figures and tables are made of.
settings_explained <- function(choice) {
  cmp <- choice$cmp
  if (!has_pooled_scores(cmp)) return(c(choice$at, best_of_candidates(cmp)))
  c(choice$at, if (has_event(brief_of(cmp)$kind)) shown_candidates(cmp, NULL))
}

# Where candidates are better or worse than over all, of the columns that matter.
report_weak_parts <- function(cmp, columns) {
  found <- tryCatch(telling_parts(cmp, columns), kw_error_select = function(e) NULL)
  if (is.null(found)) return(NULL)
  if (length(found) == 0L) {
    return(htmltools::tags$p(
      "Within the levels or ranges of the columns that matter most no candidate's scores differ",
      "beyond chance from those over all."
    ))
  }
  lapply(found, function(one) {
    column <- attr(one, "about")$column
    report_figure(draw_scores_by(one), paste("Scores by", column), height = 520)
  })
}

report_failures <- function(cmp) {
  gone <- failures(cmp)
  warned <- cmp$results$warnings
  report_part(
    "failures", "Failures",
    if (nrow(gone) == 0L) {
      say_html("No fit failed.")
    } else {
      htmltools::tagList(
        say_html(count_of(nrow(gone), "fit or score", "fits or scores"), " failed, and why:"),
        report_listing(utils::head(gone, 50L))
      )
    },
    if (length(warned) > 0L) {
      htmltools::tags$p(paste0(
        length(warned), " fits or steps gave warnings, such as: ",
        warned[[1]]$message
      ))
    }
  )
}

report_repeat <- function(cmp, choice) {
  plan <- cmp$plan
  tags <- htmltools::tags
  facts <- c(
    paste0("seed ", plan$seed),
    paste0("data fingerprint ", substr(plan$brief$fingerprint, 1, 16)),
    paste0("R ", cmp$versions$r),
    paste(names(cmp$versions$packages), unlist(cmp$versions$packages)),
    cmp$versions$platform, paste("BLAS", cmp$versions$blas)
  )
  report_part(
    "repeat", "How to repeat it",
    say_html(
      "The same plan on the same data gives the same numbers, on any number of workers, with:"
    ),
    tags$ul(lapply(facts, tags$li)),
    if (!is.null(choice)) {
      tags$p(paste0(
        "The final model: select_final(cmp, rule = \"", choice$rule,
        "\") |> fit_final()"
      ))
    }
  )
}
