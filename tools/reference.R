# The reference by job, from the groups of pkgdown/_pkgdown.yml: topics with the functions that they
# are of, as Rd for the package's help page and as Markdown for docs/reference.md. Sourced by
# tools/docs.R and by the package's own roxygen block.

reference_groups <- function(root = ".") {
  yaml::read_yaml(file.path(root, "pkgdown", "_pkgdown.yml"))$reference
}

# Title and aliases of every help page, by topic.
help_topics <- function(root = ".") {
  files <- list.files(file.path(root, "man"), "[.]Rd$", full.names = TRUE)
  pages <- lapply(files, function(file) {
    lines <- readLines(file, encoding = "UTF-8")
    field <- function(tag) {
      found <- grep(paste0("^\\\\", tag, "\\{"), lines, value = TRUE)
      gsub("\\%", "%", sub(paste0("^\\\\", tag, "\\{(.*)\\}$"), "\\1", found), fixed = TRUE)
    }
    list(
      title = field("title"), aliases = field("alias"),
      hidden = any(grepl("keyword{internal}", lines, fixed = TRUE))
    )
  })
  names(pages) <- sub("[.]Rd$", "", basename(files))
  Filter(function(page) !page$hidden, pages)
}

reference_rd <- function(root = ".") {
  topics <- help_topics(root)
  unlist(lapply(reference_groups(root), function(group) {
    items <- vapply(group$contents, function(topic) {
      called <- c(intersect(topic, topics[[topic]]$aliases), topics[[topic]]$aliases)[1]
      paste0("\\item \\code{\\link{", called, "}}: ", topics[[topic]]$title)
    }, "")
    c(paste0("\\subsection{", group$title, "}{\\itemize{"), items, "}}")
  }))
}

reference_markdown <- function(root = ".") {
  topics <- help_topics(root)
  unlist(lapply(reference_groups(root), function(group) {
    rows <- vapply(group$contents, function(topic) {
      calls <- grep("^[a-z][A-Za-z0-9_]*$", topics[[topic]]$aliases, value = TRUE)
      calls <- setdiff(calls, "kilnwright")
      named <- if (length(calls) > 0L) calls else topic
      paste0("| ", paste0("`", named, "`", collapse = " "), " | ", topics[[topic]]$title, " |")
    }, "")
    c("", paste("##", group$title), "", "| calls | what |", "|---|---|", rows)
  }))
}

# Puts the others of its group under "See Also" of every help page that has none; pages of more than
# a dozen others name the list of all parts instead.
add_see_also <- function(root = ".") {
  topics <- help_topics(root)
  linked <- function(topic) {
    called <- c(intersect(topic, topics[[topic]]$aliases), topics[[topic]]$aliases)[1]
    paste0("\\code{\\link{", called, "}}")
  }
  for (group in reference_groups(root)) {
    for (topic in group$contents) {
      file <- file.path(root, "man", paste0(topic, ".Rd"))
      lines <- readLines(file, encoding = "UTF-8")
      if (any(startsWith(lines, "\\seealso"))) next
      others <- setdiff(group$contents, topic)
      if (length(others) > 12L) others <- group$contents[1]
      named <- paste(vapply(setdiff(others, topic), linked, ""), collapse = ", ")
      if (nzchar(named)) named <- paste0(named, "; ")
      said <- paste0(named, "\\link{kilnwright} for all calls by job.")
      at <- c(which(startsWith(lines, "\\examples")), length(lines) + 1L)[1]
      lines <- append(lines, c("\\seealso{", strwrap(said, 95L), "}"), at - 1L)
      writeLines(lines, file, useBytes = TRUE)
    }
  }
}

# Topics that no group has, or that there are not: none must be.
stray_topics <- function(root = ".") {
  grouped <- unlist(lapply(reference_groups(root), `[[`, "contents"))
  there <- names(help_topics(root))
  c(setdiff(there, grouped), setdiff(grouped, there), grouped[duplicated(grouped)])
}
