#' Save the final model to a file, and open it again
#'
#' The file is a zip of a JSON manifest (what, when, data fingerprint, versions,
#' scores, rule and reason), checksums, the model itself, and where there is such a form the
#' model as plain numbers and texts in JSON, for other languages. It holds no data rows,
#' but for families and steps that cannot predict without: nearest neighbours, support
#' vectors with a kernel, filling from the nearest rows; the model's print and `holds_rows`
#' in the manifest name them. The checksums detect damage, not malice: opening the model
#' part can run code if someone made the file with bad intent, so it is opened only with
#' `trust = TRUE`, or after an interactive yes.
#'
#' @param model A model from [fit_final()].
#' @param file Path of the file; an existing file is replaced only when the new
#'   one is complete.
#' @param trust Do you trust where the file comes from?
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
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
save_model <- function(model, file, ...) {
  no_more(...)
  check_class(model, "kw_model", "model", "Make one with fit_final().")
  check_string(file, "file")
  check_writable_file(file)
  facts <- model$facts
  facts$openings <- max(openings(facts$seal_fingerprint), facts$openings %||% 0L)
  # JSON keeps the names of lists only
  facts$versions$packages <- as.list(facts$versions$packages)
  manifest <- list(
    kind = "kilnwright model", format = 2L,
    written = format(Sys.time(), "%Y-%m-%dT%H:%M:%SZ", tz = "UTC"),
    outcome = model$outcome, outcome_kind = model$kind, classes = model$levels,
    event = model$event, columns = as.list(schema_kinds(model$schema)),
    threshold = model$threshold, scores = model$scores, holds_rows = parts_with_rows(model),
    facts = facts
  )
  parts <- list(
    "manifest.json" = json_bytes(manifest),
    "plain.json" = plain_model_bytes(model),
    "model.rds" = squeezed(serialize(model_core(model), NULL))
  )
  sums <- paste(vapply(parts, cli::hash_raw_sha256, ""), names(parts))
  parts[["checksums.txt"]] <- bytes_of_lines(sums)
  write_whole(file, zipped(parts))
}

# As gzip has it: the last four bytes are the length before, by which a cut is seen.
squeezed <- function(bytes) {
  write <- function(path) {
    output <- gzfile(path, "wb")
    on.exit(close(output))
    writeBin(bytes, output)
  }
  bytes_made_by(write, ".rds", function(made) {
    length(made) > 4L &&
      readBin(utils::tail(made, 4L), "integer", endian = "little") %% 2^32 == length(bytes) %% 2^32
  })
}

# A zip of parts, raw bytes by name.
zipped <- function(parts) {
  folder <- tempfile("kilnwright-model-")
  dir.create(folder, mode = "0700")
  # reason: a temporary folder of ours
  on.exit(unlink(folder, recursive = TRUE))
  for (name in names(parts)) write_whole(file.path(folder, name), parts[[name]])
  pack <- function(path) zip::zip(path, names(parts), root = folder)
  bytes_made_by(pack, ".zip", function(bytes) {
    # the end of a zip: a record of 22 bytes that begins with PK 05 06
    n <- length(bytes)
    n > 22L && identical(bytes[n - 21:18], as.raw(c(0x50, 0x4b, 0x05, 0x06)))
  })
}

# What keeps training rows, since it cannot predict without: families and steps, as they are
# called by the user.
parts_with_rows <- function(model) {
  blended <- model$family$model
  if (inherits(blended, "kw_blend_parts")) {
    kept <- lapply(blended$parts, function(part) parts_with_rows(c(part, model["kind"])))
    return(unique(unlist(kept)))
  }
  steps <- Filter(function(learned) {
    isTRUE(learned$definition$keeps_rows(learned$settings))
  }, model$steps)
  family <- model$family$definition
  c(
    vapply(steps, function(learned) paste0("pre_", learned$definition$name), ""),
    if (isTRUE(family$keeps_rows(model$family$settings, model$kind))) paste0("fam_", family$name)
  )
}

# What goes into the file: plain data. Shipped steps and families go by name.
model_core <- function(model) {
  model$brief <- NULL
  model$origin <- NULL
  if (!is.null(model$folds)) model$folds <- lapply(model$folds, portable_parts)
  unclass(portable_parts(model))
}

portable_parts <- function(fitted) {
  fitted$steps <- lapply(fitted$steps, function(learned) {
    learned$definition <- portable_definition(learned$definition)
    learned
  })
  fitted$family$definition <- portable_definition(fitted$family$definition)
  fitted$family$model <- in_parts_of_blend(fitted$family$model, portable_parts)
  fitted
}

whole_parts <- function(fitted, file) {
  fitted$steps <- lapply(fitted$steps, function(learned) {
    learned$definition <- whole_definition(learned$definition, "step", file)
    learned
  })
  fitted$family$definition <- whole_definition(fitted$family$definition, "fam", file)
  fitted$family$model <- in_parts_of_blend(fitted$family$model, whole_parts, file)
  fitted
}

portable_definition <- function(definition) {
  if (definition$shipped) return(list(name = definition$name, state = definition$state_version))
  functions <- vapply(definition, is.function, logical(1))
  definition[functions] <- lapply(definition[functions], function(f) {
    environment(f) <- globalenv()
    f
  })
  definition
}

# A part by the name and the state version that it was saved with; both are 1 of old files, which
# have the name alone.
whole_definition <- function(saved, kind, file) {
  if (!is.character(saved) && !identical(names(saved), c("name", "state"))) {
    # a user's, who cannot say that it keeps rows; what says it took fewer arguments once
    saved$keeps_rows <- keeps_no_rows
    return(saved)
  }
  name <- if (is.character(saved)) saved else saved$name
  part <- paste0(member_prefixes[[kind]], name)
  make <- shipped_members(kind)[[name]] %||% shipped_members("combination")[[name]]
  if (is.null(make)) {
    stop_kw("model_file", paste0(
      "The model in ", quoted(file), " has ", part, "(), which this version does not know."
    ), remedy = "Open it with the version that saved it; see its manifest.")
  }
  definition <- make()
  kept <- if (is.character(saved)) 1L else saved[["state"]]
  if (kept == definition$state_version) return(definition)
  stop_kw("model_file", paste0(
    "What ", part, "() learned is in ", quoted(file), " in another form (", kept,
    ") than this version reads (", definition$state_version, ")."
  ), remedy = "Open it with the version that saved it, or fit and save the model again.")
}

#' @rdname save_model
#' @export
open_model <- function(file, trust = NULL, ...) {
  no_more(...)
  check_string(file, "file")
  folder <- tempfile("kilnwright-model-")
  dir.create(folder)
  # reason: a temporary folder of ours
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
  # reason: only after the user said that the file is trusted
  core <- tryCatch(readRDS(file.path(folder, "model.rds")), error = function(e) {
    damaged_model(file, plain_message(e))
  })
  core <- whole_parts(core, file)
  if (!is.null(core$folds)) core$folds <- lapply(core$folds, whole_parts, file = file)
  for (package in family_packages(core$family$definition, core$family$settings, core$kind)) {
    need(package, "This model")
  }
  core$facts$openings <- manifest$facts$openings
  complete_record(core, "kw_model")
}

# Unpacks and checks; nothing is unserialised here.
unpack_model <- function(file, folder) {
  if (!file.exists(file)) stop_kw("model_file", paste0("There is no file ", quoted(file), "."))
  listed <- tryCatch(zip::zip_list(file), error = function(e) NULL)
  if (is.null(listed)) damaged_model(file, "It is no zip file, or its end is missing.")
  parts <- Filter(function(form) setequal(form, listed$filename), parts_of_form)
  if (length(parts) != 1L || anyDuplicated(listed$filename) > 0L) {
    stop_kw("model_file", paste0("The file ", quoted(file), " is not a Kilnwright model."),
      where = paste0("It holds ", enumerate(quoted(clean_line(listed$filename))), ".")
    )
  }
  refuse_bomb(file, listed)
  tryCatch(zip::unzip(file, exdir = folder), error = function(e) {
    damaged_model(file, plain_message(e))
  })
  check_sums(file, folder, setdiff(parts[[1]], "checksums.txt"))
  manifest <- tryCatch(
    jsonlite::read_json(file.path(folder, "manifest.json"), simplifyVector = TRUE),
    error = function(e) damaged_model(file, "The manifest is no JSON.")
  )
  check_manifest(file, manifest, names(parts))
  manifest
}

# What the file of each form holds; the first had no plain part.
parts_of_form <- list(
  "1" = c("checksums.txt", "manifest.json", "model.rds"),
  "2" = c("checksums.txt", "manifest.json", "model.rds", "plain.json")
)

# A small file that would fill the disk: the model inside is squeezed already, so that the zip
# makes it hardly smaller; its numbers as text are a few times as long; the rest is short.
refuse_bomb <- function(file, listed) {
  most <- ifelse(listed$filename == "manifest.json", 1e7, 1e7 + 10 * file.size(file))
  large <- which(listed$uncompressed_size > most)
  if (length(large) > 0L) {
    damaged_model(file, paste0(
      "It says that its ", listed$filename[large[1]], " has ",
      format(listed$uncompressed_size[large[1]], big.mark = ","), " bytes, which cannot be true."
    ))
  }
}

# One line for each part.
check_sums <- function(file, folder, parts) {
  stated <- readLines(file.path(folder, "checksums.txt"), warn = FALSE)
  if (length(stated) != length(parts)) damaged_model(file, "Checksums are missing, or too many.")
  wanted <- paste(cli::hash_file_sha256(file.path(folder, parts)), parts)
  off <- parts[!wanted %in% stated]
  if (length(off) > 0L) damaged_model(file, paste0("The checksum of ", off[1], " does not match."))
}

check_manifest <- function(file, manifest, form) {
  known <- is.list(manifest) && identical(manifest$kind, "kilnwright model") &&
    is.numeric(manifest$format) && identical(as.character(manifest$format), form)
  if (!known) {
    stop_kw(
      "model_file",
      paste0("The file ", quoted(file), " is of a format this version cannot read."),
      remedy = "Update the package."
    )
  }
  openings <- if (is.list(manifest$facts)) manifest$facts$openings else NA
  if (!is.numeric(openings) || length(openings) != 1L || is.na(openings) || openings < 0) {
    damaged_model(file, "Its manifest does not say how often set-aside rows were opened.")
  }
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
