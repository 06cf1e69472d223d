# The page of a live view: the close look, and what asks the server.

view_page <- function() {
  tags <- htmltools::tags
  body <- tags$body(
    tags$header(
      tags$h1(id = "view-title", "Comparison"),
      tags$p(id = "view-progress", `aria-live` = "polite", "Reading ..."),
      tags$progress(id = "view-bar", max = 1, value = 0),
      tags$p(id = "view-best", class = "say"), tags$p(id = "view-note", role = "status")
    ),
    tags$main(
      tags$div(class = "look-tools", tags$label("Metric ", tags$select(id = "view-metric"))),
      page_look(),
      view_taken("look-code", "What is zoomed to, as a range to try next"),
      tags$section(
        id = "view-choose", tags$h2("The choice"),
        tags$div(
          class = "look-tools", tags$label("Rule ", tags$select(id = "view-rule")),
          tags$label(id = "view-margin-label", "margin ", tags$input(
            type = "range", id = "view-margin", min = 0, max = 100, value = 20
          ), " ", tags$output(id = "view-margin-said"))
        ),
        tags$p(id = "view-choice", class = "say"),
        view_taken("choice-code", "The same in R, and in a plan file")
      ),
      tags$section(
        id = "view-threshold", hidden = NA, tags$h2("The decision threshold"),
        tags$div(
          class = "look-tools",
          view_slider("missed", "a missed event costs"),
          view_slider("false_alarm", "a false alarm costs")
        ),
        tags$p(id = "view-threshold-said", class = "say"),
        view_taken("threshold-code", "The same in R")
      ),
      tags$section(
        id = "view-pairs", hidden = NA, tags$h2("Pairs"),
        tags$p("The best setting of each candidate against each other, with corrected intervals."),
        tags$div(class = "wide", tags$table(id = "view-pairs-table"))
      )
    )
  )
  paste0(
    "<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" ",
    "content=\"width=device-width\"><title>Comparison</title><style>", report_style, page_style(),
    "</style></head>", as.character(body), page_code("view.js"), "</html>"
  )
}

view_slider <- function(id, text) {
  tags <- htmltools::tags
  tags$label(
    text, " ",
    tags$input(type = "range", id = paste0("view-", id), min = 1, max = 50, value = 10), " ",
    tags$output(id = paste0("view-", id, "-said"))
  )
}

# Lines to take along.
view_taken <- function(id, title) {
  tags <- htmltools::tags
  tags$details(tags$summary(title), tags$pre(id = id, tabindex = 0))
}
