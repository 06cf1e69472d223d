#' Write a script that makes the final model again without this package
#'
#' The script reads the table, takes the working rows, learns the steps, fits the family,
#' and predicts - with base R and the packages of the family only. Its predictions are those
#' of the model (to 1e-10; compiled helpers of this package are replaced by plain R ones, so
#' that some families are slower).
#'
#' @param model A model from [fit_final()].
#' @param file Path of the R script; an existing one is replaced when the new one is complete.
#' @param data Path of the table as CSV, as the script is to read it.
#' @param new_data Path of a CSV with rows to predict; when the script is run and finds it, it
#'   writes `predictions.csv` beside it.
#' @return The path, invisibly.
#' @section Errors:
#' `kw_error_select` for a model that was opened from a file, `kw_error_file` when the
#' script cannot be written.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1,
#'   quiet = TRUE
#' )
#' write_script(fit_final(select_final(cmp)), file.path(tempdir(), "final.R"), data = "pots.csv")
#' @export
write_script <- function(model, file, data = "table.csv", new_data = "new.csv") {
  check_class(model, "kw_model", "model", "Make one with fit_final().")
  for (one in c("file", "data", "new_data")) check_string(get(one), one)
  check_writable_file(file)
  if (is.null(model$origin)) {
    stop_kw(
      "select",
      "A model that was opened from a file does not carry the rows it was fitted on.",
      remedy = "Use the model from fit_final()."
    )
  }
  write_whole(file, script_lines(model, data, new_data))
}

script_lines <- function(model, data, new_data) {
  library <- new_script_library()
  steps <- lapply(seq_along(model$steps), function(i) script_step(model$steps[[i]], i, library))
  family <- script_family(model, library)
  for (name in c("frame_from_new", "brief_target_plain", "family_input", "all_levels",
    "with_seed")) {
    library$need(name)
  }
  packages <- family_packages(model$family$definition, model$family$settings, model$kind)
  classes <- if (has_classes(model$kind)) model$levels
  c(
    r_comment(c(
      paste0(
        "Final model: predicts ", model$outcome, " by fam_", model$facts$family,
        if (nzchar(model$facts$setting)) paste0(
          " (",
          model$facts$setting, ")"
        ), "."
      ),
      strwrap(paste0("Chosen by the rule ", model$facts$rule, ": ", model$facts$reason), 90), "",
      "Reads the table, learns the preparation and fits the model as it was done then; needs R",
      paste0(
        "and ",
        if (length(packages) > 0L) paste(packages, collapse = ", ") else "nothing else", "."
      )
    )),
    "", paste0("data_file <- ", r_text(data)), paste0("new_file <- ", r_text(new_data)), "",
    "# ---- functions (explained where they are used, below) ----", "", library$lines(), "",
    "# ---- 1. the data ----", "",
    paste0("schema <- ", r_text(model$schema)),
    paste0("outcome <- ", r_text(model$outcome)), paste0("levels <- ", r_text(classes)), "",
    script_reader(), "table <- read_table(data_file)",
    "# rows that the model was fitted on; the others were set aside",
    paste0("working <- ", r_text(model$brief$rows)),
    paste0("missing_codes <- ", r_text(model$missing_codes)),
    "frame <- frame_from_new(table[working, , drop = FALSE], schema, missing_codes)",
    paste0(
      "target <- brief_target_plain(table[working, , drop = FALSE], outcome, levels, weight = ",
      r_text(model$brief$roles$weight), ", group = ", r_text(model$brief$roles$group),
      ", exposure = ", r_text(model$brief$roles$exposure), ")"
    ), "",
    "# ---- 2. the preparation: learned on the working rows, used on any ----", "",
    unlist(lapply(steps, `[[`, "learn")), "",
    "prepare <- function(frame) {", paste0("  ", unlist(lapply(steps, `[[`, "use"))), "  frame",
    "}", "",
    "# ---- 3. the model ----", "", family, "",
    "# ---- 4. predictions ----", "",
    "predict_new <- function(new) {",
    "  prediction <- predict_frame(prepare(frame_from_new(new, schema, missing_codes)))",
    prediction_lines(model), "}", "",
    "if (file.exists(new_file)) {",
    "  new <- read_table(new_file)",
    paste(
      "  utils::write.csv(predict_new(new), file.path(dirname(new_file),",
      "\"predictions.csv\"), row.names = FALSE)"
    ), "}"
  )
}

# Everything is read as it is written; numbers are the columns that the schema says, and the
# outcome or weights if they look like numbers. The reader itself is inst/script/read-table.R.
script_reader <- function() {
  readLines(system.file("script", "read-table.R", package = "kilnwright", mustWork = TRUE))
}

prediction_lines <- function(model) {
  if (!is_wide(model$kind)) return("  data.frame(value = as.vector(prediction))")
  as_matrix <- "  prediction <- matrix(prediction, nrow(new))"
  if (!has_classes(model$kind)) {
    return(c(
      as_matrix, paste0("  colnames(prediction) <- ", r_text(model$levels)),
      "  data.frame(prediction, check.names = FALSE)"
    ))
  }
  c(
    as_matrix, "  colnames(prediction) <- paste0(\"p_\", levels)",
    if (is.null(model$threshold)) {
      "  class <- levels[max.col(prediction, \"first\")]"
    } else {
      paste0(
        "  class <- ifelse(prediction[, 2] >= ", r_text(model$threshold),
        ", levels[2], levels[1])"
      )
    },
    "  data.frame(class = class, prediction, check.names = FALSE)"
  )
}

# Truth of the working rows, in the form that steps and families take.
brief_target_plain <- function(table, outcome, levels, weight, group, exposure) {
  y <- table[[outcome]]
  weights <- if (!is.null(weight)) table[[weight]]
  if (!is.null(exposure)) {
    y <- y / table[[exposure]]
    weights <- (if (is.null(weights)) 1 else weights) * table[[exposure]]
  }
  new_target(
    outcome = if (is.null(levels)) as.double(y) else factor(as.character(y), levels = levels),
    weights = weights, group = if (!is.null(group)) table[[group]],
    source_row = seq_len(nrow(table)), exposure = if (!is.null(exposure)) table[[exposure]]
  )
}

# What learning and using one step looks like in the script.
script_step <- function(learned, number, library) {
  definition <- learned$definition
  state <- paste0("step_", number)
  learn <- library$name_of(definition$learn, paste0("learn_step_", number))
  use <- library$name_of(definition$use, paste0("use_step_", number))
  call <- paste0(learn, "(frame, target, settings, ", learned$seed, ")")
  list(
    learn = c(
      r_comment(paste0(
        "pre_", definition$name, if (nzchar(definition$does)) paste0(": ", definition$does)
      )),
      paste0("settings <- ", r_text(learned$settings)),
      paste0(
        "learned <- ",
        if (definition$random) paste0("with_seed(", learned$seed, ", ", call, ")") else call
      ),
      paste0(state, " <- learned$state"),
      if (definition$changes_rows || definition$cross_fitted) {
        c(
          paste0(
            "frame <- if (is.null(learned$training)) ", use, "(", state,
            ", frame) else learned$training$frame"
          ),
          "if (!is.null(learned$training)) target <- learned$training$target"
        )
      } else {
        paste0("frame <- ", use, "(", state, ", frame)")
      }, ""
    ),
    use = paste0("frame <- ", use, "(", state, ", frame)")
  )
}

script_family <- function(model, library) {
  choice <- model$origin$choice
  plan <- choice$cmp$plan
  work <- work_of(choice$cmp)
  at <- choice$at
  described <- fit_description(work, work$settings$fit[at])
  node <- work$settings$node[at]
  seed <- derive_seed(
    plan$seed,
    paste(
      paste(plan$brief$fingerprint, "all working rows"),
      if (node == 0L) "" else work$nodes[[node]]$key,
      described$key
    )
  )
  definition <- described$definition
  fit <- library$name_of(definition$fit, "fit_family")
  predict <- library$name_of(definition$path$predict %||% definition$predict, "predict_family")
  more <- names(formals(definition$fit))
  scaled <- !is.null(model$family$scale)
  kind <- if (scaled) "number" else kind_among(definition$kinds, model$kind)
  accepts <- r_text(list(
    name = definition$name,
    accepts = definition$accepts[c("factors", "sparse", "missing")]
  ))
  arguments <- paste0(
    "x, y, weights, settings, seed = ", seed, ", threads = 1L",
    if ("unit" %in% more) ", unit = inner_unit(target)",
    if ("kind" %in% more) paste0(", kind = ", r_text(kind)),
    if ("exposure" %in% more) ", exposure = target$exposure",
    if ("quantiles" %in% more) paste0(", quantiles = ", r_text(model$quantiles))
  )
  if ("unit" %in% more) library$need("inner_unit")
  coded <- definition$shipped
  if (coded) for (name in c("learn_coding", "encode_input", "code_names")) library$need(name)
  call <- paste0(fit, "(", arguments, ")")
  if (scaled) for (name in c("to_scale", "with_smear", "in_own_unit")) library$need(name)
  lowest <- model$family$lowest
  value <- if (is.null(definition$path)) "NULL" else r_text(model$value)
  predicted <- paste0(
    predict, "(model, x", if (!is.null(definition$path)) paste0(", ", value), ")"
  )
  c(
    r_comment(paste0(
      "fam_", definition$name, if (nzchar(definition$does)) paste0(": ", definition$does)
    )),
    paste0("family <- ", accepts), paste0("settings <- ", r_text(described$settings)),
    "x <- family_input(frame, family)",
    if (scaled) "y <- to_scale(target$outcome, target$scale)" else "y <- target$outcome",
    if (coded) c("coding <- learn_coding(x)", "x <- encode_input(x, coding)"),
    "present <- if (is.factor(y)) levels(y)[tabulate(y, nlevels(y)) > 0L]",
    "if (is.factor(y) && length(present) < nlevels(y)) y <- factor(y, levels = present)",
    if (coded) "if (is.factor(y)) levels(y) <- code_names(\"k\", nlevels(y))",
    paste0("weights <- ", if (definition$accepts$weights) "target$weights" else "NULL"),
    paste0(
      "model <- ",
      if (definition$random) paste0("with_seed(", seed, ", ", call, ")") else call
    ),
    if (scaled) {
      c(
        "# errors on the scale, by which means in the outcome's own unit are found (Duan 1983)",
        paste0("scale <- with_smear(target$scale, y, ", predicted, ", ", value, ", target$weights)")
      )
    }, "",
    "predict_frame <- function(frame) {", "  x <- family_input(frame, family)",
    if (coded) "  x <- encode_input(x, coding)",
    paste0(
      "  ", if (!is.null(lowest)) "prediction <- ", if (scaled) "in_own_unit(",
      "all_levels(", predicted, ", present, levels)",
      if (scaled) paste0(", scale, ", value, ")")
    ),
    if (!is.null(lowest)) paste0("  pmax(prediction, ", r_text(lowest), ")"), "}"
  )
}

# Functions that the script needs, gathered with all that they call.
new_script_library <- function() {
  home <- topenv()
  twins <- new.env(parent = home)
  sys.source(
    system.file("script", "twins.R", package = "kilnwright", mustWork = TRUE),
    twins,
    keep.source = TRUE
  )
  known <- as.list(home, all.names = TRUE)
  plain <- Filter(function(f) is.function(f) && identical(environment(f), home), known)
  parts <- list()
  need <- function(name) {
    if (name %in% names(parts)) return(invisible())
    twin <- exists(name, twins, inherits = FALSE)
    value <- get(name, if (twin) twins else home)
    if (twin) environment(value) <- home
    parts[[name]] <<- ""
    text <- if (is.function(value)) function_text(value, need_all) else r_text(value)
    if (any(grepl(".Call(", text, fixed = TRUE))) {
      stop_kw("select", paste0("The function ", name, " cannot be written as a script."))
    }
    parts[[name]] <<- c(paste0(r_name(name), " <- ", text[1]), text[-1], "")
  }
  need_all <- function(names) for (name in intersect(names, ls(home, all.names = TRUE))) need(name)
  list(
    need = need,
    # the function's own name, or `otherwise`, under which it is written out
    name_of = function(f, otherwise) {
      own <- names(plain)[vapply(plain, identical, logical(1), f)]
      if (length(own) > 0L) {
        need(own[1])
        return(own[1])
      }
      text <- function_text(f, need_all)
      parts[[otherwise]] <<- c(paste0(otherwise, " <- ", text[1]), text[-1], "")
      otherwise
    },
    lines = function() unlist(parts[order(names(parts))], use.names = FALSE)
  )
}

# A function as text, with the values around it that it uses.
function_text <- function(f, need_all) {
  used <- unlist(codetools::findGlobals(f, merge = FALSE), use.names = FALSE)
  captured <- values_around(f, used)
  need_all(setdiff(used, names(captured)))
  text <- source_text(f)
  if (length(captured) == 0L) return(text)
  around <- unlist(lapply(names(captured), function(name) {
    value <- captured[[name]]
    lines <- if (is.function(value)) function_text(value, need_all) else r_text(value)
    c(paste0("  ", r_name(name), " <- ", lines[1]), if (length(lines) > 1L) paste0("  ", lines[-1]))
  }))
  c("local({", around, paste0("  ", text), "})")
}

# Values by these names in the environments between a function and its package.
values_around <- function(f, names) {
  found <- list()
  place <- environment(f)
  while (!is.null(place) && !isNamespace(place) && !identical(place, globalenv()) &&
    !identical(place, emptyenv())) {
    found <- c(
      found,
      mget(setdiff(intersect(names, ls(place, all.names = TRUE)), names(found)), envir = place)
    )
    place <- parent.env(place)
  }
  found
}

source_text <- function(f) {
  written <- attr(f, "srcref")
  if (!is.null(written)) return(as.character(written))
  attributes(f) <- NULL
  deparse(
    f,
    width.cutoff = 100L,
    control = c("keepNA", "keepInteger", "niceNames", "showAttributes", "digits17")
  )
}

# Code that gives x, to the last digit: ASCII, every text quoted by r_string(). Attributes are
# written out, since deparse() does not mask quotes and backslashes in names.
r_text <- function(x) {
  if (is.function(x)) return(ascii_code(paste(source_text(x), collapse = "\n")))
  if (is.language(x)) return(paste0("quote(", ascii_code(deparsed(x)), ")"))
  if (is.null(x)) return("NULL")
  attributes <- attributes(x)
  bare <- x
  attributes(bare) <- NULL
  text <- if (is.list(x)) {
    paste0("list(", paste(vapply(bare, r_text, ""), collapse = ",\n"), ")")
  } else if (is.character(x)) {
    texts <- r_string(bare)
    if (length(x) == 1L) texts else paste0("c(", paste(texts, collapse = ", "), ")")
  } else {
    deparsed(bare)
  }
  if (is.character(x) && length(x) == 0L) text <- "character()"
  if (length(attributes) == 0L) return(text)
  # as structure() takes them
  written <- paste0(vapply(names(attributes), r_name, ""), " = ", vapply(attributes, r_text, ""))
  paste0("structure(", text, ", ", paste(written, collapse = ", "), ")")
}

deparsed <- function(x) {
  paste(
    deparse(x, width.cutoff = 100L, control = c("keepNA", "keepInteger", "digits17")),
    collapse = "\n"
  )
}

# Texts as R code, in ASCII: nothing in them ends the text or is taken for anything else.
r_string <- function(x) {
  text <- gsub("([\\\\\"])", "\\\\\\1", enc2utf8(x))
  ifelse(is.na(x), "NA_character_", paste0("\"", ascii_code(text, all = TRUE), "\""))
}

r_name <- function(x) {
  if (make.names(x) == x && !grepl("[^ -~]", x)) return(x)
  paste0("`", ascii_code(gsub("([\\\\`])", "\\\\\\1", enc2utf8(x)), all = TRUE), "`")
}

# Signs beyond ASCII, and with `all` control characters, as \u and \U escapes.
ascii_code <- function(text, all = FALSE) {
  found <- gregexpr(if (all) "[^ -~]" else "[^ -~\t\n]", text, perl = TRUE)
  regmatches(text, found) <- lapply(regmatches(text, found), function(signs) {
    codes <- vapply(signs, utf8ToInt, 1L, USE.NAMES = FALSE)
    ifelse(codes > 65535L, sprintf("\\U%08x", codes), sprintf("\\u%04x", codes))
  })
  text
}

# Lines of a comment, whatever they hold.
r_comment <- function(text) {
  trimws(paste0("# ", ascii_code(gsub("[[:space:]]+", " ", text), all = TRUE)), "right")
}
