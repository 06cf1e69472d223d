# Installs what is missing: Debian's built packages where they can be had, then
# package sources. Usage: Rscript tools/setup.R demo|test|develop|site
#
# demo    = what the package imports, and what the command line and the report use
# test    = demo + every model package and what the tests use
# develop = test + documentation with its vignettes, linting, coverage, benchmarks
# site    = develop + what makes a folder of pages
#
# lightgbm is left to the user: it takes long to compile. ANN2 brings new versions of much
# else, so only developers get it.

wanted_packages <- function(level, description = "DESCRIPTION") {
  fields <- read.dcf(description, fields = c("Imports", "LinkingTo", "Suggests"))[1, ]
  split_field <- function(field) {
    packages <- trimws(sub("\\(.*\\)", "", strsplit(field, ",")[[1]]))
    setdiff(packages[nzchar(packages)], c("R", NA))
  }
  imports <- c(split_field(fields[["Imports"]]), split_field(fields[["LinkingTo"]]))
  command_line <- c("htmltools", "httpuv", "lhs", "nnet", "optparse")
  models <- c(
    "C50", "Cubist", "earth", "gbm", "kernlab", "LiblineaR", "MASS", "naivebayes", "quadprog",
    "quantreg"
  )
  tests <- c(models, "openssl", "processx", "testthat", "withr", "readxl", "nanoparquet")
  everything <- setdiff(
    c(imports, command_line, tests, split_field(fields[["Suggests"]])), "lightgbm"
  )
  wanted <- switch(level,
    demo = c(imports, command_line),
    test = c(imports, command_line, tests),
    develop = everything,
    site = c(everything, "pkgdown"),
    stop("setup: the level is one of demo, test, develop, site; got '", level, "'", call. = FALSE)
  )
  unique(wanted)
}

missing_packages <- function(packages) {
  present <- vapply(packages, function(package) nzchar(system.file(package = package)), logical(1))
  packages[!present]
}

can_use_apt <- function() {
  nzchar(Sys.which("apt-get")) && identical(Sys.info()[["effective_user"]], "root")
}

# Only names that the archive knows are asked for: one unknown name would make
# apt-get install nothing at all. `update`: ask first what it has by now.
install_built <- function(packages, update = TRUE) {
  message("setup: asking Debian for ", paste(packages, collapse = ", "))
  quiet <- c("-qq", "-y", "-o", "Dpkg::Use-Pty=0")
  if (update && system2("apt-get", c(quiet, "update"), stdout = FALSE) != 0L) {
    message("setup: apt-get update failed; going on with package sources")
    return(invisible())
  }
  names <- paste0("r-cran-", tolower(packages))
  known <- vapply(names, function(name) {
    found <- suppressWarnings(system2("apt-cache", c("show", name), stdout = TRUE, stderr = FALSE))
    length(found) > 0L
  }, logical(1))
  if (any(known)) {
    status <- system2("apt-get", c(quiet, "--no-install-recommends", "install", names[known]),
      stdout = FALSE, env = "DEBIAN_FRONTEND=noninteractive"
    )
    if (status != 0L) message("setup: apt-get install ended with status ", status)
  }
  invisible()
}

writable_library <- function() {
  writable <- .libPaths()[file.access(.libPaths(), 2) == 0L]
  if (length(writable) > 0L) return(writable[1])
  personal <- path.expand(strsplit(Sys.getenv("R_LIBS_USER"), .Platform$path.sep)[[1]][1])
  if (is.na(personal) || !dir.create(personal, recursive = TRUE, showWarnings = FALSE)) {
    stop("setup: no library can be written; set R_LIBS_USER to a folder of yours", call. = FALSE)
  }
  .libPaths(c(personal, .libPaths()))
  personal
}

choose_repository <- function() {
  repos <- getOption("repos")
  if (is.null(repos) || identical(unname(repos["CRAN"]), "@CRAN@")) {
    utils::chooseCRANmirror(ind = 1L)
  }
}

# As many at once as there are cores; few large ones also by files of compiled code.
install_sources <- function(packages) {
  choose_repository()
  message("setup: building from sources (minutes): ", paste(packages, collapse = ", "))
  cores <- max(1L, parallel::detectCores(), na.rm = TRUE)
  if (!nzchar(Sys.getenv("MAKEFLAGS"))) Sys.setenv(MAKEFLAGS = paste0("-j", cores))
  utils::install.packages(packages, lib = writable_library(), quiet = TRUE, Ncpus = cores)
}

# What packages need that are to be built from sources.
needed_by <- function(packages) {
  choose_repository()
  known <- utils::available.packages()
  unique(unlist(tools::package_dependencies(packages, known, recursive = TRUE)))
}

# Taken where it comes built; without it figures use the cairo device of R, since
# building it needs system libraries.
welcome <- "ragg"

# Tools that are no package, by their names in Debian.
install_tools <- function(tools, what) {
  if (!can_use_apt()) return(invisible())
  message("setup: asking Debian for ", tools[1], ", ", what)
  system2("apt-get", c("-qq", "-y", "-o", "Dpkg::Use-Pty=0", "--no-install-recommends", "install",
    tools), stdout = FALSE, env = "DEBIAN_FRONTEND=noninteractive")
}

# The browser that tests look at pages with; where it is not to be had they say that they skip.
install_browser <- function() {
  if (all(nzchar(Sys.which(c("chromium", "chromedriver"))))) return(invisible())
  install_tools(c("chromium", "chromium-driver"), "in which the tests open pages")
  if (!nzchar(Sys.which("chromedriver"))) {
    message("setup: no chromium with its driver; tests of pages in a browser will be skipped")
  }
}

# What makes pages of the vignettes, and their figures a third of the size.
install_page_tools <- function() {
  if (!nzchar(Sys.which("pngquant"))) install_tools("pngquant", "which makes figures smaller")
  if (rmarkdown::pandoc_available()) return(invisible())
  install_tools("pandoc", "which makes pages of the vignettes")
  if (!rmarkdown::pandoc_available() && !nzchar(Sys.which("pandoc"))) {
    stop("setup: no pandoc, without which vignettes cannot be built. ",
      "Install it by hand and try again.",
      call. = FALSE
    )
  }
}

main <- function(level) {
  wanted <- setdiff(wanted_packages(level), welcome)
  absent <- missing_packages(wanted)
  if (length(absent) > 0L && can_use_apt()) {
    install_built(c(absent, missing_packages(welcome)))
    absent <- missing_packages(wanted)
    # what those need may come built all the same, which saves most of the time
    if (length(absent) > 0L) install_built(missing_packages(needed_by(absent)), update = FALSE)
  }
  if (length(absent) > 0L) {
    install_sources(absent)
    absent <- missing_packages(wanted)
  }
  if (length(absent) > 0L) {
    stop("setup: could not install ", paste(absent, collapse = ", "),
      ". Install them by hand with install.packages() and try again; ",
      "the messages above say what went wrong.",
      call. = FALSE
    )
  }
  if (level != "demo") install_browser()
  if (level %in% c("develop", "site")) install_page_tools()
  message("setup: everything needed for '", level, "' is installed")
}

arguments <- commandArgs(trailingOnly = TRUE)
main(if (length(arguments) == 0L) "demo" else arguments[1])
