# The part of a page that can be looked at closely; what stands in its place without scripts has the
# class "replaced".

page_look <- function(id = "look") {
  tags <- htmltools::tags
  tags$div(
    id = id, class = "look", hidden = NA,
    tags$p(
      "Every setting, and the splits of those that are marked: press a point or a row to mark it,",
      "turn the wheel or draw a box to zoom."
    ),
    tags$div(
      class = "look-tools", tags$span(class = "look-candidates"),
      tags$label("Score against ", tags$select(class = "look-x")),
      tags$label("and ", tags$select(class = "look-y")),
      tags$label(tags$input(type = "checkbox", class = "look-near", checked = NA),
        " near the best half"),
      tags$label(tags$input(type = "checkbox", class = "look-when"),
        " darker, the later it was proposed")
    ),
    tags$div(class = "look-chart look-scores", role = "img",
      `aria-label` = "Mean score of every setting; the table below has the same"),
    tags$div(class = "look-chart look-splits", role = "img",
      `aria-label` = "Scores split by split of the marked settings"),
    tags$div(
      class = "look-tools",
      tags$input(type = "search", class = "look-search", placeholder = "search settings",
        `aria-label` = "search settings"),
      tags$label(tags$input(type = "checkbox", class = "look-short"), " shortlist only"),
      tags$span(class = "look-said", `aria-live` = "polite")
    ),
    tags$div(class = "look-table")
  )
}

page_style <- function() paste(page_file("tables.min.css.xz"), page_file("page.css"))

# Charts and tables, the page's own code, and more of it.
page_code <- function(...) {
  files <- c("charts.min.js.xz", "tables.min.js.xz", "page.js", ...)
  paste0("<script>", vapply(files, page_file, ""), "</script>", collapse = "")
}

# The same, and what draws the facts.
page_scripts <- function(facts) {
  htmltools::HTML(paste0(
    page_code(), "<script type=\"application/json\" id=\"facts\">", page_json(facts), "</script>",
    "<script>const look = openCloseLook(\"look\", ",
    "JSON.parse(document.getElementById(\"facts\").textContent));</script>"
  ))
}
