# Every file that is kept is written here: into a new file beside its place, down to the disk,
# read again and compared, and only then moved to its place. A file is old or whole.

# `content`: raw bytes, or lines of text. `private`: readable by its owner only.
write_whole <- function(file, content, private = FALSE) {
  check_writable_file(file)
  if (is.character(content)) content <- bytes_of_lines(content)
  beside <- tempfile(paste0(".", basename(file), "-"), tmpdir = dirname(file))
  # reason: a temporary file of ours, moved away if all went well
  on.exit(unlink(beside))
  write <- function() write_bytes(path.expand(beside), content)
  why <- if (private) for_owner_only(write()) else write()
  if (nzchar(why)) cannot_write(file, why)
  if (!identical(cli::hash_file_md5(beside), cli::hash_raw_md5(content))) {
    cannot_write(file, "What was read back is not what was written.")
  }
  if (!suppressWarnings(file.rename(beside, file))) cannot_write(file, "It could not be moved.")
  invisible(file)
}

cannot_write <- function(file, why) {
  stop_kw("file", paste0("The file ", quoted(file), " could not be written."),
    where = why, remedy = "Is there room on the disk? What was there before is untouched."
  )
}

bytes_of_lines <- function(lines) {
  charToRaw(paste0(enc2utf8(lines), "\n", collapse = "", recycle0 = TRUE))
}

# The bytes that `make(path)` writes to a temporary file; `whole(bytes)` says whether they are
# all there, where a full disk could have cut them off unseen.
bytes_made_by <- function(make, ending, whole = function(bytes) TRUE) {
  path <- tempfile(fileext = ending)
  # reason: a temporary file of ours
  on.exit(unlink(path))
  make(path)
  bytes <- if (file.exists(path)) readBin(path, "raw", file.size(path)) else raw()
  if (!whole(bytes)) {
    stop_kw("file", paste0("A temporary file in ", quoted(tempdir()), " could not be written."),
      remedy = "Is there room on the disk? TMPDIR names another place."
    )
  }
  bytes
}

ends_with_bytes <- function(bytes, ending) {
  identical(utils::tail(bytes, length(ending)), ending)
}

# A table as CSV.
csv_bytes <- function(table) {
  bytes_made_by(function(path) data.table::fwrite(table, path), ".csv", function(bytes) {
    length(table) == 0L || ends_with_bytes(bytes, charToRaw("\n"))
  })
}

json_text <- function(facts) {
  as.character(jsonlite::toJSON(
    facts,
    auto_unbox = TRUE, pretty = TRUE, digits = NA, null = "null", na = "null"
  ))
}

json_bytes <- function(facts) bytes_of_lines(json_text(facts))

# Files that are made meanwhile can be read by their owner only: they hold rows.
for_owner_only <- function(expr) {
  before <- Sys.umask("077")
  on.exit(Sys.umask(before))
  expr
}
