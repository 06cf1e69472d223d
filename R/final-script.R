#' Write a script that makes the final model again without this package
#'
#' The script reads the table, takes the working rows, learns the steps, fits the family,
#' and predicts - with base R and the packages of the family only. Its predictions are those
#' of the model, to 1e-10.
#'
#' It is what an analyst would have written: the usual preparations in a few lines each, the
#' model by its package's own call. Where a step or a setting has no such short form (steps that
#' weigh rows, made-up rows, a few families' rarer settings), the functions that do it are written
#' out in full, which is long but runs just as well. Functions of your own steps and families are
#' copied as they are.
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
  readable_script(model, data, new_data) %||% spelled_script(model, data, new_data)
}

# The parts of a script, or NULL where a part of the model has no short form. In it `x` is a data
# frame of the prepared columns, `y` the outcome, `w` the weights.
#
# A step's script(state, about) gives list(lines, does, training): what defines the function `does`,
# by which any rows are prepared; `training`, lines for where training rows are treated otherwise.
# A family's script(settings, about) gives list(fit, predict): lines that make a model of `x` and
# `y`, and lines whose last value is the prediction for `x`. Either may give NULL.
readable_script <- function(model, data, new_data) {
  if (!plain_enough(model)) return(NULL)
  chain <- script_chain(model)
  if (is.null(chain)) return(NULL)
  family <- script_family_lines(model, chain)
  if (is.null(family)) return(NULL)
  called <- regmatches(c(chain$lines, family), gregexpr(
    "[A-Za-z][A-Za-z0-9.]*(?=::)", c(chain$lines, family), perl = TRUE
  ))
  c(
    script_head(model, setdiff(unlist(called), c("stats", "utils", "splines"))), "",
    paste0("data_file <- ", r_text(data)), paste0("new_file <- ", r_text(new_data)), "",
    "# ---- 1. the data ----", "", script_data(model), "",
    if (length(chain$lines) > 0L) {
      c("# ---- 2. the preparation: learned on these rows, used on any ----", "", chain$lines)
    },
    "prepare <- function(table) {", "  x <- predictors(table)",
    paste0("  x <- ", chain$does, "(x)", recycle0 = TRUE), "  x", "}", "",
    "# ---- 3. the model ----", "", family, "",
    "# ---- 4. predictions ----", "", script_predictions(model)
  )
}

# Points in time, outcomes without a short way back from their scale, classes that no row has.
plain_enough <- function(model) {
  scale <- model$family$scale
  present <- model$family$present
  moments <- vapply(model$schema, function(entry) isTRUE(entry$moment), NA)
  scaled <- is.null(scale) ||
    (scale$by %in% c("log", "log1p", "sqrt") && is.null(model$brief$roles$weight))
  scaled && !any(moments) && (is.null(present) || length(present) == length(model$levels)) &&
    length(model$schema) > 0L
}

script_head <- function(model, packages) {
  packages <- sort(unique(packages), method = "radix")
  setting <- if (nzchar(model$facts$setting)) paste0(" (", model$facts$setting, ")")
  c(
    r_comment(c(
      strwrap(paste0(
        "Final model: predicts ", model$outcome, " by fam_", model$facts$family, setting, "."
      ), 90),
      strwrap(paste0("Chosen by the rule ", model$facts$rule, ": ", model$facts$reason), 90), "",
      "Reads the table, learns the preparation and fits the model as it was done then; needs R",
      paste0("and ", if (length(packages) > 0L) paste(packages, collapse = ", ") else
        "nothing else", ".")
    )), "",
    if (model$family$definition$random || any(vapply(model$steps, function(one) {
      one$definition$random
    }, NA))) "RNGkind(\"Mersenne-Twister\", \"Inversion\", \"Rejection\")"
  )
}

# ---- the data ----

script_data <- function(model) {
  c(
    script_reader(model), "", "# the columns that the model looks at, each as what it is",
    "predictors <- function(table) {", paste0("  ", script_types(model)), "  x", "}", "",
    "table <- read_table(data_file)", script_working(model),
    "x <- predictors(table)", script_target(model)
  )
}

# A table's texts as they are written. Where "NA" in quotes is a text of its own, reading takes
# more care: inst/script/read-table.R.
script_reader <- function(model) {
  levels <- c(unlist(lapply(model$schema, `[[`, "levels")), model$levels)
  if ("NA" %in% levels) {
    return(c(
      paste0("schema <- ", r_text(lapply(model$schema, `[`, "kind"))),
      paste0("outcome <- ", r_text(model$outcome)),
      paste0("levels <- ", r_text(if (has_classes(model$kind)) model$levels)),
      script_file("read-table.R")
    ))
  }
  script_file("read-plainly.R")
}

script_file <- function(name) {
  readLines(system.file("script", name, package = "kilnwright", mustWork = TRUE))
}

script_types <- function(model) {
  schema <- model$schema
  kinds <- schema_kinds(schema)
  flags <- vapply(schema, function(entry) identical(entry$levels, c("FALSE", "TRUE")), NA)
  numbers <- names(schema)[kinds == "number"]
  categories <- names(schema)[kinds == "category"]
  one_by_one <- unlist(lapply(names(schema), function(name) {
    column <- r_column(name)
    entry <- schema[[name]]
    switch(entry$kind,
      text = paste0(column, " <- as.character(", column, ")"),
      date = paste0(
        column, " <- as.Date(as.character(", column, "), ", r_string(entry$format), ")"
      ),
      ordered = paste0(
        column, " <- factor(", column, ", levels = ", r_vector(entry$levels), ", ordered = TRUE)"
      ),
      category = if (flags[[name]]) paste0(column, " <- as.logical(", column, ")")
    )
  }))
  lines <- c(
    paste0("x <- as.data.frame(table)[", r_vector(names(schema)), "]"),
    unlist(lapply(names(model$missing_codes), script_missing_code, model = model)),
    if (length(numbers) > 0L) c(
      paste0("numbers <- ", r_vector(numbers)), "x[numbers] <- lapply(x[numbers], as.numeric)"
    ),
    one_by_one,
    if (length(categories) > 0L) code_lines(r"(
# the levels of then come first; others are kept behind them
known <- <<levels>>
for (name in names(known)) {
  v <- as.character(x[[name]])
  x[[name]] <- factor(v, levels = union(known[[name]], v))
}
)", levels = r_named_list(
      vapply(schema[categories], function(entry) r_vector(entry$levels, 4L), ""), categories
    ))
  )
  split_lines(lines)
}

script_missing_code <- function(model, name) {
  if (!name %in% names(model$schema)) return(NULL)
  column <- r_column(name)
  codes <- model$missing_codes[[name]]
  if (model$schema[[name]]$kind == "number") {
    codes <- suppressWarnings(as.numeric(codes))
    return(paste0(column, "[as.numeric(", column, ") %in% ", r_vector(codes), "] <- NA"))
  }
  paste0(column, "[as.character(", column, ") %in% ", r_vector(as.character(codes)), "] <- NA")
}

# All rows but those that were set aside, in the shorter of two forms.
script_working <- function(model) {
  rows <- model$brief$rows
  aside <- model$facts$set_aside_rows
  if (aside == 0L && identical(as.integer(rows), seq_along(rows))) return(NULL)
  inside <- r_rows(rows)
  others <- setdiff(seq_len(length(rows) + aside), rows)
  outside <- if (length(others) == aside) paste0("-", r_rows(others))
  shorter <- if (!is.null(outside) && nchar(outside) < nchar(inside)) outside else inside
  c(
    "# the rows that the model was fitted on; the others were set aside",
    strsplit(paste0("table <- table[", shorter, ", ]"), "\n", fixed = TRUE)[[1]]
  )
}

script_target <- function(model) {
  roles <- model$brief$roles
  number <- function(name) paste0("as.numeric(", r_column(name, "table"), ")")
  outcome <- if (has_classes(model$kind)) {
    paste0(
      "y <- factor(as.character(", r_column(model$outcome, "table"), "), levels = ",
      r_vector(model$levels), ")"
    )
  } else {
    paste("y <-", number(model$outcome))
  }
  exposure <- roles$exposure
  unlist(strsplit(c(
    outcome,
    if (!is.null(roles$weight)) paste("w <-", number(roles$weight)),
    if (!is.null(roles$group) && any(!vapply(model$steps, script_shipped, NA))) {
      paste("group <-", r_column(roles$group, "table"))
    },
    if (!is.null(exposure)) c(
      "# a rate, each row counting as its exposure", paste("y <- y /", number(exposure)),
      paste("w <-", if (!is.null(roles$weight)) "w *", number(exposure))
    )
  ), "\n", fixed = TRUE))
}

script_shipped <- function(learned) learned$definition$shipped

# ---- the preparation ----

# Walks the steps with the training rows: list(lines, does, kinds, frame, target).
script_chain <- function(model) {
  choice <- model$origin$choice
  data <- working_data(choice$cmp$plan$brief)
  kinds <- frame_kinds(data$frame)
  lines <- does <- character()
  named <- character()
  for (i in seq_along(model$steps)) {
    learned <- model$steps[[i]]
    definition <- learned$definition
    named <- c(named, definition$name)
    count <- sum(named == definition$name)
    about <- list(
      i = if (count > 1L) paste0("_", count) else "", kinds = kinds, frame = data$frame,
      target = data$target, settings = learned$settings, seed = learned$seed,
      sparse = colnames(data$frame$sparse), weighted = !is.null(data$target$weights)
    )
    made <- if (!definition$shipped) {
      script_own_step(learned, about, i)
    } else if (!is.null(definition$script)) {
      definition$script(learned$state, about)
    }
    if (is.null(made)) return(NULL)
    if (length(c(made$lines, made$training)) > 0L) {
      training <- made$training %||% paste0("x <- ", made$does, "(x)")
      lines <- c(
        lines, script_comment("pre_", definition), made$lines,
        training, ""
      )
      does <- c(does, made$does)
    }
    data <- script_after(learned, data)
    now <- frame_kinds(data$frame)
    # where a column is replaced by one of its name, it keeps its place
    kinds <- now[c(intersect(names(kinds), names(now)), setdiff(names(now), names(kinds)))]
  }
  list(
    lines = split_lines(lines), does = does, kinds = kinds,
    frame = data$frame, target = data$target
  )
}

script_comment <- function(prefix, definition) {
  r_comment(strwrap(paste0(prefix, definition$name, ": ", definition$does), 95L))
}

frame_kinds <- function(frame) {
  words <- colnames(frame$sparse)
  c(vapply(frame$columns, column_kind, ""), stats::setNames(rep("number", length(words)), words))
}

# The training rows as the next step sees them.
script_after <- function(learned, data) {
  definition <- learned$definition
  if (!definition$changes_rows && !definition$cross_fitted) {
    return(list(frame = use_step(learned, data$frame), target = data$target))
  }
  learn_settled(definition, learned$settings, data$frame, data$target, learned$seed)
}

# A step that its author wrote, by the author's functions. What belongs to the rows beside the
# outcome (weights, groups) is in the script as it was read, so rows must not have changed, nor
# may they where they weigh.
script_own_step <- function(learned, about, i) {
  definition <- learned$definition
  changes <- definition$changes_rows || definition$cross_fitted
  read <- identical(as.integer(about$target$source_row), seq_along(about$target$outcome))
  if (length(about$sparse) > 0L || !read || (changes && about$weighted)) return(NULL)
  call <- code_lines("learn_<<i>>(frame_<<i>>(x), target_<<i>>, settings_<<i>>, <<seed>>)",
    i = as.character(i), seed = as.character(learned$seed)
  )
  list(
    does = paste0("use_step_", i),
    lines = c(
      own_function(paste0("learn_", i), definition$learn),
      own_function(paste0("use_", i), definition$use),
      code_lines(r"(
settings_<<i>> <- <<settings>>
frame_<<i>> <- function(x) list(columns = x, sparse = NULL, n = nrow(x))
target_<<i>> <- list(outcome = y, weights = <<w>>, group = <<group>>, source_row = seq_along(y))
<<seed>>
learned_<<i>> <- <<call>>
use_step_<<i>> <- function(x) as.data.frame(use_<<i>>(learned_<<i>>$state, frame_<<i>>(x))$columns)
)",
        i = as.character(i), settings = r_settings(learned$settings), call = call,
        w = if (about$weighted) "w" else "NULL",
        group = if (is.null(about$target$group)) "NULL" else "group",
        seed = if (definition$random) r_seed(learned$seed)
      )
    ),
    training = if (changes) code_lines(r"(
x <- if (is.null(learned_<<i>>$training)) use_step_<<i>>(x) else {
  as.data.frame(learned_<<i>>$training$frame$columns)
}
y <- if (is.null(learned_<<i>>$training)) y else learned_<<i>>$training$target$outcome
)", i = as.character(i))
  )
}

# ---- the model ----

script_family_lines <- function(model, chain) {
  choice <- model$origin$choice
  plan <- choice$cmp$plan
  work <- work_of(choice$cmp)
  described <- fit_description(work, work$settings$fit[choice$at])
  definition <- described$definition
  input <- script_input(chain, definition)
  if (is.null(input)) return(NULL)
  scaled <- !is.null(model$family$scale)
  about <- c(input, list(
    kind = if (scaled) "number" else kind_among(definition$kinds, model$kind),
    value = model$value, seed = script_fit_seed(plan, work, choice$at, described),
    weighted = definition$accepts$weights && !is.null(chain$target$weights),
    exposure = !is.null(chain$target$exposure), target = chain$target,
    levels = if (has_classes(model$kind)) model$levels, quantiles = model$quantiles,
    model = model$family$model
  ))
  made <- if (!definition$shipped) {
    script_own_family(described, about)
  } else if (!is.null(definition$script)) {
    definition$script(described$settings, about)
  }
  if (is.null(made)) return(NULL)
  c(
    script_comment("fam_", definition), about$pick,
    if (any(grepl("sparse_inputs(", unlist(made), fixed = TRUE))) about$as_sparse,
    if (any(grepl("renamed(", unlist(made), fixed = TRUE))) {
      "renamed <- function(x) setNames(x, paste0(\"x\", seq_along(x)))"
    },
    if (scaled) script_scaled(model, made) else c(
      made$fit, "", "predict_prepared <- function(x) {", paste0("  ", made$predict), "}"
    )
  )
}

script_fit_seed <- function(plan, work, at, described) {
  node <- work$settings$node[at]
  derive_seed(plan$seed, paste(
    paste(plan$brief$fingerprint, "all working rows"),
    if (node == 0L) "" else work$nodes[[node]]$key, described$key
  ))
}

# How `x` becomes what the family takes, columns in the engine's order, without texts and dates:
# list(pick and as_sparse, lines for that; frame, matrix, sparse, the expressions; named, a matrix
# like `frame` under names that no package stumbles over; native, factors, n_columns, gaps).
script_input <- function(chain, definition) {
  usable <- names(chain$kinds)[chain$kinds %in% c("number", "category", "ordered")]
  ordered <- intersect(frame_names(chain$frame), usable)
  if (length(ordered) == 0L) return(NULL)
  words <- intersect(colnames(chain$frame$sparse), usable)
  pick <- c(
    if (length(usable) < length(chain$kinds)) {
      "  x <- Filter(function(v) is.numeric(v) || is.factor(v), x)"
    },
    if (!identical(ordered, usable)) c(
      paste0("  words <- ", r_columns(words, chain$kinds[usable])),
      "  x <- x[c(setdiff(names(x), words), words)]"
    )
  )
  columns_of <- if (length(pick) > 0L) "inputs(x)" else "x"
  rename <- !all(is_plain_name(ordered)) || any(c("y", "w", "z", "x") %in% ordered)
  frame <- if (rename) paste0("renamed(", columns_of, ")") else columns_of
  matrix <- paste0("as.matrix(", columns_of, ")")
  kinds <- chain$kinds[ordered]
  columns <- unclass(chain$frame$columns)[intersect(ordered, names(chain$frame$columns))]
  sparse <- !is.null(chain$frame$sparse) && definition$accepts$sparse
  list(
    pick = if (length(pick) > 0L) {
      c("inputs <- function(x) {", split_lines(pick), "  x", "}")
    },
    as_sparse = paste0("sparse_inputs <- function(x) Matrix::Matrix(", matrix, ", sparse = TRUE)"),
    frame = frame, matrix = matrix, named = paste0("as.matrix(", frame, ")"),
    sparse = if (sparse) "sparse_inputs(x)" else matrix,
    native = takes_columns(definition, kinds), n_columns = length(ordered),
    factors = ordered[kinds != "number"], gaps = any(vapply(columns, anyNA, NA))
  )
}

# A family that its author wrote, by the author's functions.
script_own_family <- function(described, about) {
  definition <- described$definition
  if (any(target_extras %in% names(formals(definition$fit)))) return(NULL)
  x <- if (about$native) about$frame else about$sparse
  path <- !is.null(definition$path)
  list(
    fit = c(
      own_function("fit_own", definition$fit),
      own_function("predict_own", if (path) definition$path$predict else definition$predict),
      code_lines(r"(
settings <- <<settings>>
<<seed>>
model <- fit_own(<<x>>, y, <<w>>, settings, <<own>>, 1)
)",
        settings = r_settings(described$settings), x = x, w = if (about$weighted) "w" else "NULL",
        own = as.character(about$seed), seed = if (definition$random) r_seed(about$seed)
      )
    ),
    predict = if (!path) paste0("predict_own(model, ", x, ")") else if (is.null(about$levels)) {
      paste0("predict_own(model, ", x, ", ", r_text(about$value), ")[, 1]")
    } else {
      paste0("predict_own(model, ", x, ", ", r_text(about$value), ")[, , 1]")
    }
  )
}

# The outcome on another scale for the fit, and back: medians, or means by Duan's smearing.
script_scaled <- function(model, made) {
  scale <- model$family$scale
  to <- switch(scale$by, log = "log(y)", log1p = "log1p(y)", sqrt = "sqrt(y)")
  back <- switch(scale$by, log = "exp(z)", log1p = "expm1(z)", sqrt = "pmax(z, 0)^2")
  code_lines(r"(
own <- y
y <- <<to>>
<<fit>>
predict_scaled <- function(x) {
<<predict>>
}
# no prediction is further from the outcomes than they are from one another
reach <- range(y) + c(-1, 1) * max(diff(range(y)), 1e-8)
back <- function(z) {
  z <- pmin(pmax(z, reach[1]), reach[2])
  <<back>>
}
<<smear>>
)",
    to = to, fit = made$fit, predict = paste0("  ", made$predict), back = back,
    smear = if (scale$back == "median") {
      "predict_prepared <- function(x) back(as.numeric(predict_scaled(x)))"
    } else {
      code_lines(r"(
# means by the smearing estimate (Duan 1983), over fifty quantiles of the errors
errors <- quantile(y - as.numeric(predict_scaled(x)), (1:50 - 0.5) / 50, names = FALSE)
predict_prepared <- function(x) {
  z <- as.numeric(predict_scaled(x))
  Reduce(`+`, lapply(errors, function(error) back(z + error))) / length(errors)
}
)")
    }
  )
}

# ---- predictions ----

script_predictions <- function(model) {
  lowest <- model$family$lowest
  c(
    "predict_new <- function(new) {",
    paste0(
      "  prediction <- ", if (!is.null(lowest)) "pmax(", "predict_prepared(prepare(new))",
      if (!is.null(lowest)) paste0(", ", r_text(lowest), ")")
    ),
    prediction_columns_lines(model, "levels(y)"), "}", "",
    "if (file.exists(new_file)) {",
    "  predictions <- predict_new(read_table(new_file))",
    "  file <- file.path(dirname(new_file), \"predictions.csv\")",
    "  write.csv(predictions, file, row.names = FALSE)", "}"
  )
}

# `levels`: code that gives the classes.
prediction_columns_lines <- function(model, levels) {
  if (!is_wide(model$kind)) return("  data.frame(value = as.numeric(prediction))")
  as_matrix <- "  prediction <- matrix(prediction, nrow(new))"
  if (!has_classes(model$kind)) {
    return(c(
      as_matrix, paste0("  colnames(prediction) <- ", r_vector(model$levels)),
      "  data.frame(prediction, check.names = FALSE)"
    ))
  }
  c(
    as_matrix, paste0("  colnames(prediction) <- paste0(\"p_\", ", levels, ")"),
    if (is.null(model$threshold)) {
      paste0("  class <- ", levels, "[max.col(prediction, \"first\")]")
    } else {
      paste0(
        "  class <- ifelse(prediction[, 2] >= ", r_text(model$threshold),
        ", ", levels, "[2], ", levels, "[1])"
      )
    },
    "  data.frame(class = class, prediction, check.names = FALSE)"
  )
}
