#' Save the final model to a file, and open it again
#'
#' The file is a zip of a JSON manifest (what, when, data fingerprint, versions,
#' scores, rule and reason), checksums, and the model itself. It holds no data
#' rows. The checksums detect damage, not malice: opening the model part can run
#' code if someone made the file with bad intent, so it is opened only with
#' `trust = TRUE`, or after an interactive yes.
#'
#' @param model A model from [fit_final()].
#' @param file Path of the file; an existing file is replaced only when the new
#'   one is complete.
#' @param trust Do you trust where the file comes from?
#' @return `save_model()`: the path, invisibly. `open_model()`: the model.
#' @section Errors:
#' `kw_error_model_file` when the file is absent, damaged, foreign or not trusted,
#' `kw_error_file` when it cannot be written.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1,
#'   quiet = TRUE
#' )
#' file <- file.path(tempdir(), "pots.kilnwright")
#' save_model(fit_final(select_final(cmp)), file)
#' open_model(file, trust = TRUE)
#' @export
save_model <- function(model, file) {
  check_class(model, "kw_model", "model", "Make one with fit_final().")
  check_string(file, "file")
  check_writable_file(file)
  folder <- tempfile("kilnwright-model-")
  dir.create(folder)
  on.exit(unlink(folder, recursive = TRUE), add = TRUE)
  saveRDS(model_core(model), file.path(folder, "model.rds"))
  facts <- model$facts
  facts$openings <- max(openings(facts$seal_fingerprint), facts$openings %||% 0L)
  manifest <- list(
    kind = "kilnwright model", format = 1L,
    written = format(Sys.time(), "%Y-%m-%dT%H:%M:%SZ", tz = "UTC"),
    outcome = model$outcome, outcome_kind = model$kind, classes = model$levels,
    event = model$event, columns = as.list(schema_kinds(model$schema)),
    threshold = model$threshold, scores = model$scores, facts = facts
  )
  jsonlite::write_json(
    manifest,
    file.path(folder, "manifest.json"),
    auto_unbox = TRUE,
    pretty = TRUE,
    digits = NA,
    null = "null",
    na = "null"
  )
  files <- c("manifest.json", "model.rds")
  writeLines(
    paste(cli::hash_file_sha256(file.path(folder, files)), files),
    file.path(folder, "checksums.txt")
  )
  packed <- file.path(folder, "packed.zip")
  zip::zip(packed, c(files, "checksums.txt"), root = folder)
  replace_file(packed, file)
  invisible(file)
}

# Copies next to the target first, so that the target is either old or complete.
replace_file <- function(from, to) {
  beside <- tempfile(paste0(".", basename(to), "-"), tmpdir = dirname(to))
  on.exit(unlink(beside))
  if (!file.copy(from, beside) || !file.rename(beside, to)) {
    stop_kw("file", paste0("The file ", quoted(to), " could not be written."),
      remedy = "Is the disk full?"
    )
  }
}

# What goes into the file: plain data. Shipped steps and families go by name.
model_core <- function(model) {
  model$brief <- NULL
  model$origin <- NULL
  model$steps <- lapply(model$steps, function(learned) {
    learned$definition <- portable_definition(learned$definition)
    learned
  })
  model$family$definition <- portable_definition(model$family$definition)
  unclass(model)
}

portable_definition <- function(definition) {
  if (definition$shipped) return(definition$name)
  functions <- vapply(definition, is.function, logical(1))
  definition[functions] <- lapply(definition[functions], function(f) {
    environment(f) <- globalenv()
    f
  })
  definition
}

whole_definition <- function(definition, kind) {
  if (is.character(definition)) shipped_members(kind)[[definition]]() else definition
}

#' @rdname save_model
#' @export
open_model <- function(file, trust = NULL) {
  check_string(file, "file")
  folder <- tempfile("kilnwright-model-")
  dir.create(folder)
  on.exit(unlink(folder, recursive = TRUE), add = TRUE)
  manifest <- unpack_model(file, folder)
  if (is.null(trust)) trust <- ask_trust(file)
  check_flag(trust, "trust")
  if (!trust) {
    stop_kw("model_file", paste0(
      "The file ", quoted(file), " is sound, but was not opened: ",
      "opening a model can run code that its maker put into it."
    ),
    remedy = "If you trust where it comes from, say open_model(file, trust = TRUE)."
    )
  }
  core <- tryCatch(readRDS(file.path(folder, "model.rds")), error = function(e) {
    damaged_model(file, plain_message(e))
  })
  core$steps <- lapply(core$steps, function(learned) {
    learned$definition <- whole_definition(learned$definition, "step")
    learned
  })
  core$family$definition <- whole_definition(core$family$definition, "fam")
  for (package in family_packages(core$family$definition, core$family$settings, core$kind)) {
    need(package, "This model")
  }
  core$facts$openings <- manifest$facts$openings
  structure(core, class = "kw_model")
}

# Unpacks and checks; nothing is unserialised here.
unpack_model <- function(file, folder) {
  if (!file.exists(file)) stop_kw("model_file", paste0("There is no file ", quoted(file), "."))
  expected <- c("checksums.txt", "manifest.json", "model.rds")
  listed <- tryCatch(zip::zip_list(file)$filename, error = function(e) NULL)
  if (is.null(listed)) damaged_model(file, "It is no zip file, or its end is missing.")
  if (!identical(sort(listed, method = "radix"), expected)) {
    stop_kw("model_file", paste0("The file ", quoted(file), " is not a Kilnwright model."),
      where = paste0("It holds ", enumerate(quoted(listed)), ".")
    )
  }
  tryCatch(zip::unzip(file, exdir = folder), error = function(e) {
    damaged_model(file, plain_message(e))
  })
  stated <- strsplit(readLines(file.path(folder, "checksums.txt"), warn = FALSE), " ", fixed = TRUE)
  for (line in stated) {
    sound <- length(line) == 2L && line[2] %in% expected &&
      identical(cli::hash_file_sha256(file.path(folder, line[2])), line[1])
    if (!sound) {
      damaged_model(file, paste0("The checksum of ", line[length(line)], " does not match."))
    }
  }
  if (length(stated) != 2L) damaged_model(file, "Checksums are missing.")
  manifest <- tryCatch(
    jsonlite::read_json(file.path(folder, "manifest.json"), simplifyVector = TRUE),
    error = function(e) damaged_model(file, "The manifest is no JSON.")
  )
  if (!identical(manifest$kind, "kilnwright model") ||
    !identical(as.integer(manifest$format), 1L)) {
    stop_kw(
      "model_file",
      paste0("The file ", quoted(file), " is of a format this version cannot read."),
      remedy = "Update the package."
    )
  }
  manifest
}

damaged_model <- function(file, how) {
  stop_kw("model_file", paste0("The model file ", quoted(file), " is damaged."),
    where = how,
    remedy = "Take an undamaged copy, or save the model again."
  )
}

ask_trust <- function(file) {
  if (!interactive()) return(FALSE)
  utils::askYesNo(paste0(
    "Opening a model can run code that its maker put into it. Do you trust ",
    file, "?"
  ), default = FALSE) %in% TRUE
}
