# The script of a model with a part that cannot say in a few lines what it does: the functions of
# this package that it needs are written out, compiled ones as the plain twins of
# inst/script/twins.R.

spelled_script <- function(model, data, new_data) {
  library <- new_script_library()
  steps <- lapply(seq_along(model$steps), function(i) script_step(model$steps[[i]], i, library))
  family <- script_family(model, library)
  for (name in c("frame_from_new", "brief_target_plain", "family_input", "all_levels",
    "with_seed")) {
    library$need(name)
  }
  classes <- if (has_classes(model$kind)) model$levels
  c(
    script_head(
      model, family_packages(model$family$definition, model$family$settings, model$kind)
    ),
    "", paste0("data_file <- ", r_text(data)), paste0("new_file <- ", r_text(new_data)), "",
    "# ---- functions (explained where they are used, below) ----", "", library$lines(), "",
    "# ---- 1. the data ----", "",
    paste0("schema <- ", r_text(model$schema)),
    paste0("outcome <- ", r_text(model$outcome)), paste0("levels <- ", r_text(classes)), "",
    script_file("read-table.R"), "table <- read_table(data_file)",
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
    prediction_columns_lines(model, "levels"), "}", "",
    "if (file.exists(new_file)) {",
    "  new <- read_table(new_file)",
    paste(
      "  utils::write.csv(predict_new(new), file.path(dirname(new_file),",
      "\"predictions.csv\"), row.names = FALSE)"
    ), "}"
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
  seed <- script_fit_seed(plan, work, at, described)
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
