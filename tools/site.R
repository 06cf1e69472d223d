# Makes site/: the vignettes, the reference by job with what its examples print, and the news, as
# pages that open from disk and load nothing from anywhere.

options(pkgdown.internet = FALSE)
root <- normalizePath(".")
out <- file.path(root, "site")
unlink(out, recursive = TRUE)
package <- pkgdown::as_pkgdown(root, override = list(destination = "site"))
pkgdown::init_site(package)
pkgdown::build_home(package, preview = FALSE)
pkgdown::build_reference(package, preview = FALSE, devel = FALSE)
pkgdown::build_articles(package, preview = FALSE)
pkgdown::build_news(package, preview = FALSE)

# What lies in docs/, in the same place, with its pictures.
dir.create(file.path(out, "docs"))
file.copy(file.path(root, "docs", "screenshots"), file.path(out, "docs"), recursive = TRUE)
style <- tempfile(fileext = ".html")
writeLines(paste0(
  "<style>body { max-width: 60em; margin: 2em auto; padding: 0 1em; font-family: sans-serif; ",
  "line-height: 1.5 } img { max-width: 100% } td, th { padding: 0.2em 0.8em 0.2em 0; ",
  "vertical-align: top; text-align: left }</style>"
), style)
for (file in list.files(file.path(root, "docs"), "[.]md$", full.names = TRUE)) {
  title <- sub("^# ", "", readLines(file, n = 1L))
  rmarkdown::pandoc_convert(file,
    from = "gfm", to = "html5", wd = file.path(out, "docs"),
    output = sub("[.]md$", ".html", basename(file)),
    options = c(
      "--standalone", "--include-in-header", style, "--metadata", paste0("pagetitle=", title)
    )
  )
}

# Scripts and styles from elsewhere are comfort (a search box, smooth tables of contents): the pages
# do without them, so that they are whole without a network.
elsewhere <- paste0(
  "<script[^>]*src=\"https?://[^>]*></script>|<link[^>]*href=\"https?://[^>]*>",
  "|<script>[^<]*docsearch[^<]*</script>",
  # what these pages cannot do without them
  "|(?s)<form class=\"form-inline.*?</form>|<nav id=\"toc\".*?</nav>"
)
pages <- list.files(out, "[.]html$", recursive = TRUE, full.names = TRUE)
for (page in pages) {
  text <- paste(readLines(page, warn = FALSE, encoding = "UTF-8"), collapse = "\n")
  text <- gsub(elsewhere, "", text, perl = TRUE)
  # links between files of the sources are links between pages here
  text <- gsub("href=\"((docs/)?[A-Za-z-]+)[.]md\"", "href=\"\\1.html\"", text)
  writeLines(text, page, useBytes = TRUE)
}
left <- unlist(lapply(pages, function(page) {
  lines <- readLines(page, warn = FALSE, encoding = "UTF-8")
  grep("(src|<link[^>]*href)=\"https?://", lines, value = TRUE)
}))
if (length(left) > 0L) stop("pages would load from elsewhere: ", left[1], call. = FALSE)
message(length(pages), " pages; open ", file.path("site", "index.html"))
