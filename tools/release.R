# Builds the tarball and checks it as a registry would; ends with what it found, and non-zero on an
# error, a warning, a note of ours, or a package that has grown too large. Notes that come with
# every first submission are known.

dir.create("build", showWarnings = FALSE)
unlink(list.files("build", "^kilnwright_.*[.]tar[.]gz$", full.names = TRUE))
setwd("build")
run <- function(...) system2(file.path(R.home("bin"), "R"), c("CMD", ...))

version <- read.dcf("../DESCRIPTION", "Version")[1]
news <- grep("^# kilnwright ", readLines("../NEWS.md"), value = TRUE)[1]
if (!identical(news, paste("# kilnwright", version))) {
  stop("NEWS.md begins with '", news, "', DESCRIPTION says ", version, call. = FALSE)
}
if (run("build", "..") != 0L) stop("the tarball could not be built", call. = FALSE)
tarball <- list.files(".", "^kilnwright_.*[.]tar[.]gz$")
if (!any(grepl("build/vignette.rds$", utils::untar(tarball, list = TRUE)))) {
  stop("the tarball has no index of its vignettes", call. = FALSE)
}
Sys.setenv("_R_CHECK_FORCE_SUGGESTS_" = "false", "_R_CHECK_CRAN_INCOMING_REMOTE_" = "false")
# The check asks the registry who keeps which package, a list that not every mirror has. Without it
# the mirror's index serves, which says that a package is there but not by whom it is kept.
has_list <- tryCatch(is.data.frame(suppressWarnings(tools::CRAN_package_db())),
  error = function(e) FALSE
)
if (!has_list) {
  message("release: the registry's list of packages is not to be had; orphaned ones are not found")
  dir.create("lists/web/packages", recursive = TRUE, showWarnings = FALSE)
  index <- data.frame(Package = rownames(utils::available.packages()), Maintainer = "not known")
  saveRDS(index, "lists/web/packages/packages.rds")
  Sys.setenv(R_CRAN_WEB = paste0("file://", normalizePath("lists")))
}
status <- run("check", "--as-cran", "--no-manual", tarball)

lines <- readLines("kilnwright.Rcheck/00check.log", warn = FALSE)
if (!any(startsWith(lines, "Status: "))) {
  stop("the check broke off (status ", status, ") after: ", lines[length(lines)], call. = FALSE)
}
starts <- grep("^\\* ", lines)
ends <- c(starts[-1] - 1L, length(lines))
bad <- grep("(ERROR|WARNING|NOTE)$", lines[starts])
# what a first submission, a machine without a clock's service, or missing tools bring about; the
# size of libraries with symbols; and stdout, to which nothing is written: it is asked whether what
# was written arrived
known <- paste(
  "New submission", "unable to verify current time", "no command 'tidy' found",
  "Skipping checking HTML validation", "Skipping checking math rendering",
  "qpdf. is needed for checks", "suggested but not available for checking",
  "Found .stdout.", "installed size is",
  sep = "|"
)
ours <- Filter(function(found) {
  said <- lines[starts[found]:ends[found]][-1]
  said <- said[nzchar(trimws(said))]
  grepl("ERROR$", lines[starts[found]]) || !any(grepl(known, said))
}, bad)
for (found in bad) {
  cat(if (found %in% ours) "OURS   " else "known  ",
    paste(lines[starts[found]:ends[found]], collapse = "\n       "), "\n", sep = "")
}
# as a registry that builds packages installs it
library <- tempfile("library")
dir.create(library)
if (run("INSTALL", "--strip", paste0("--library=", library), tarball) != 0L) {
  stop("the tarball could not be installed", call. = FALSE)
}
size <- sum(file.size(list.files(library, recursive = TRUE, full.names = TRUE))) / 1e6
cat(sprintf("\n%s: %.2f MB; installed, without symbols: %.2f MB (wanted: less than 3)\n",
  tarball, file.size(tarball) / 1e6, size
))
if (length(ours) > 0L || size >= 3) quit(status = 1L)
