#' Write a script that makes the final model again without this package
#'
#' The script reads the table, takes the working rows, learns the steps, fits the family,
#' and predicts - with base R and the packages of the family only. Its predictions are those
#' of the model, to 1e-10.
#'
#' It is what an analyst would have written: the preparations in a few lines each, the model by its
#' package's own call. What rests on the weights of rows, and a few rarer things (cuts by a tree),
#' stands in it as the values that were learned. Functions of your own steps and families are copied
#' as they are.
#'
#' @param model A model from [fit_final()].
#' @param file Path of the R script; an existing one is replaced when the new one is complete.
#' @param data Path of the table as CSV, as the script is to read it.
#' @param only_predicts Write a script that learns nothing, but predicts by what was learned, which
#'   stands in it as text (numbers and levels, no training row)? It needs base R alone. Models have
#'   this plain form whose family is the baseline, linear, penalised or cumulative regression, a
#'   tree, a forest, boosted trees (package gbm), adaptive splines, or a blend of these.
#' @param new_data Path of a CSV with rows to predict; when the script is run and finds it, it
#'   writes `predictions.csv` beside it.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return The path, invisibly.
#' @section Errors:
#' `kw_error_select` for a model that was opened from a file, or that has no plain form where
#' `only_predicts` asks for one (saying why), `kw_error_file` when the script cannot be written.
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
write_script <- function(
  model, file, data = "table.csv", new_data = "new.csv", only_predicts = FALSE, ...
) {
  no_more(...)
  check_class(model, "kw_model", "model", "Make one with fit_final().")
  for (one in c("file", "data", "new_data")) check_string(get(one), one)
  check_flag(only_predicts, "only_predicts")
  check_writable_file(file)
  if (is.null(model$origin)) {
    stop_kw(
      "select",
      "A model that was opened from a file does not carry the rows it was fitted on.",
      remedy = "Use the model from fit_final()."
    )
  }
  write_whole(file, if (only_predicts) {
    plain_script_lines(model, new_data)
  } else {
    script_lines(model, data, new_data)
  })
}

# In a script `x` is a data frame of the prepared columns, `y` the outcome, `w` the weights.
#
# A step's script(state, about) gives list(lines, does, training): what defines the function `does`,
# by which any rows are prepared; `training`, lines for where training rows are treated otherwise.
# A family's script(settings, about) gives list(fit, predict): lines that make a model of `x` and
# `y`, and lines whose last value is the prediction for `x`.
script_lines <- function(model, data, new_data) {
  members <- members_of_model(model)
  unused <- unused_predictors(members, model$schema)
  model$schema <- model$schema[setdiff(names(model$schema), unused)]
  members <- lapply(members, without_predictors, unused)
  body <- if (length(members) == 1L) script_one_model(members[[1]]) else
    script_blend(model, members)
  called <- regmatches(body, gregexpr("[A-Za-z][A-Za-z0-9.]*(?=::)", body, perl = TRUE))
  c(
    script_head(model, setdiff(unlist(called), c("stats", "utils", "splines"))), "",
    if (any(grepl("set.seed(", body, fixed = TRUE))) {
      c("RNGkind(\"Mersenne-Twister\", \"Inversion\", \"Rejection\")", "")
    },
    paste0("data_file <- ", r_text(data)), paste0("new_file <- ", r_text(new_data)), "",
    "# ---- 1. the data ----", "", script_data(model), "", body, "",
    "# ---- 4. predictions ----", "", script_predictions(model)
  )
}

script_one_model <- function(model) {
  chain <- script_chain(model)
  c(
    if (length(chain$lines) > 0L) {
      c("# ---- 2. the preparation: learned on these rows, used on any ----", "", chain$lines)
    },
    script_prepare(chain$does), "",
    "# ---- 3. the model ----", "", script_family_lines(model, chain)
  )
}

script_prepare <- function(does) {
  if (length(does) == 0L) return("prepare <- predictors")
  steps <- paste0("predictors(table) |> ", paste0(does, "()", collapse = "_|> "))
  code <- paste("prepare <- function(table)", gsub("_|>", " |>", steps, fixed = TRUE))
  if (nchar(code) <= 100L) return(code)
  lines <- strwrap(steps, 95L, exdent = 2L, prefix = "  ")
  c("prepare <- function(table) {", gsub("_|>", " |>", lines, fixed = TRUE), "}")
}

# Each member with preparations of its own, which no other sees.
script_blend <- function(model, members) {
  each <- lapply(seq_along(members), function(i) {
    chain <- script_chain(members[[i]])
    lowest <- members[[i]]$family$lowest
    found <- if (is_wide(model$kind)) "predict_prepared(x)" else "as.numeric(predict_prepared(x))"
    lines <- c(
      chain$lines, script_family_lines(members[[i]], chain), "", "function(x) {",
      paste0("  x <- ", chain$does, "(x)", recycle0 = TRUE),
      paste0("  ", if (is.null(lowest)) found else paste0("pmax(", found, ", ", lowest, ")")), "}"
    )
    c(
      paste0("# ---- ", i + 1L, ". member ", i, " ----"), "",
      paste0("member_", i, " <- local({"), ifelse(nzchar(lines), paste0("  ", lines), ""), "})", ""
    )
  })
  weights <- vapply(model$family$settings$weights, r_text, "")
  c(
    unlist(each), "# ---- the blend ----", "", "prepare <- predictors",
    "predict_prepared <- function(x) {",
    paste0(
      "  ", weights, " * member_", seq_along(members), "(x)",
      c(rep(" +", length(members) - 1L), "")
    ),
    "}"
  )
}

# A model, or as many as a blend has members.
members_of_model <- function(model) {
  if (!inherits(model$family$model, "kw_blend_parts")) return(list(model))
  Map(function(part, at) {
    model[c("steps", "family", "value")] <- part[c("steps", "family", "value")]
    choice <- model$origin$choice
    choice$at <- at
    model$origin <- list(choice = choice)
    model
  }, model$family$model$parts, model$family$settings$members)
}

script_head <- function(model, packages) {
  packages <- sort(unique(packages), method = "radix")
  setting <- if (nzchar(model$facts$setting)) paste0(" (", model$facts$setting, ")")
  r_comment(c(
    strwrap(paste0(
      "Final model: predicts ", model$outcome, " by ", called_family(model$facts$family), setting,
      "."
    ), 90),
    strwrap(paste0("Chosen by the rule ", model$facts$rule, ": ", model$facts$reason), 90), "",
    "Reads the table, learns the preparation and fits the model as it was done then; needs R",
    paste0("and ", if (length(packages) > 0L) paste(packages, collapse = ", ") else
      "nothing else", "."),
    strwrap(words_of_versions(model), 90)
  ))
}

# ---- the data ----

script_data <- function(model) {
  c(
    script_reader(model), script_moments(model), "",
    "# the columns that the model looks at, each as what it is",
    "predictors <- function(table) {", paste0("  ", script_types(model)), "  x", "}", "",
    "table <- read_table(data_file)", script_working(model),
    script_predictors(model), script_target(model)
  )
}

script_predictors <- function(model) {
  categories <- script_categories(model)
  if (length(categories) == 0L || !sorted_levels(model)) return("x <- predictors(table)")
  c(
    "known <- list()", "x <- predictors(table)",
    paste0("known <- lapply(x[", r_vector(categories), "], levels)")
  )
}

# Points in time, as they are usually written.
script_moments <- function(model) {
  moments <- vapply(model$schema, function(entry) isTRUE(entry$moment), NA)
  if (any(moments)) code_lines(r"---(
as_moment <- function(v, format) {
  v <- sub(" ?(Z|UTC)$", "", sub("T", " ", trimws(v), fixed = TRUE))
  clock <- ifelse(grepl(" ", v), sub("^[^ ]+ ", "", v), "0:00")
  part <- function(pattern) {
    found <- regmatches(clock, regexec(pattern, clock))
    vapply(found, function(one) if (length(one) < 2L) 0 else as.numeric(one[2]), 1)
  }
  zone <- part("[+-]([0-9]{2})") * 3600 + part("[+-][0-9]{2}:?([0-9]{2})$") * 60
  hours <- part("^([0-9]+)")
  halved <- grepl("[ap][.]?m", clock, ignore.case = TRUE)
  hours[halved] <- (hours %% 12 + 12 * grepl("p[.]?m", clock, ignore.case = TRUE))[halved]
  seconds <- hours * 3600 + part("^[0-9]+:([0-9]{2})") * 60 +
    part("^[0-9]+:[0-9]+:([0-9.]+)") + ifelse(grepl("-", clock), zone, -zone)
  day <- as.numeric(as.Date(sub(" .*", "", v), format))
  as.POSIXct(day * 86400 + seconds, origin = "1970-01-01", tz = "UTC")
}
)---")
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
  one_by_one <- lapply(names(schema), function(name) {
    column <- r_column(name)
    entry <- schema[[name]]
    switch(entry$kind,
      text = paste0(column, " <- as.character(", column, ")"),
      date = paste0(
        column, " <- ", if (isTRUE(entry$moment)) "as_moment(" else "as.Date(as.character(", column,
        if (isTRUE(entry$moment)) ", " else "), ", r_string(entry$format %||% usual_date_format),
        ")"
      ),
      ordered = paste0(
        column, " <- factor(", column, ", levels = ", r_vector(entry$levels), ", ordered = TRUE)"
      ),
      category = if (flags[[name]]) paste0(column, " <- as.logical(", column, ")")
    )
  })
  lines <- c(
    paste0("x <- as.data.frame(table)[", r_vector(names(schema)), "]"),
    script_missing_codes(model, script_missing_words),
    script_number_forms(schema),
    if (any(vapply(schema, function(entry) names_months(entry$format %||% ""), NA))) {
      "invisible(Sys.setlocale(\"LC_TIME\", \"C\")) # names of months are English"
    },
    "there <- !is.na(x) & sapply(x, as.character) != \"NaN\"",
    script_numbers(numbers, names(schema)),
    unlist(one_by_one[kinds != "ordered"]),
    # what is none is no gap; a level of an order that was never seen is one
    "stopifnot(\"a cell holds no number, date or flag\" = !is.na(x)[there])",
    unlist(one_by_one[kinds == "ordered"]),
    script_missing_codes(model, script_missing_numbers),
    if (length(categories) > 0L && !sorted_levels(model)) code_lines(r"(
known <- <<levels>>
)", levels = r_named_list(
      vapply(schema[categories], function(entry) r_vector(entry$levels, 4L), ""), categories
    )),
    if (length(categories) > 0L) code_lines(r"(
# the levels of then come first; others are kept behind them
for (name in <<names>>) {
  v <- as.character(x[[name]])
  x[[name]] <- factor(v, levels = union(known[[name]], sort(v, method = "radix")))
}
)", names = r_vector(categories))
  )
  split_lines(lines)
}

# Of a text, without the unit, the blanks and the commas that a number may have.
script_number <- function(text, form) {
  for (change in if (!is.null(form$unit)) unit_changes(form$unit)) {
    text <- paste0("sub(", r_string(change[1]), ", ", r_string(change[2]), ", ", text,
      ", perl = TRUE)")
  }
  if (isTRUE(form$blanks)) {
    text <- paste0("gsub(", r_string(blank_form), ", \"\", ", text, ", perl = TRUE)")
  }
  switch(form$commas %||% "none",
    none = text,
    thousands = paste0("gsub(\",\", \"\", ", text, ", fixed = TRUE)"),
    decimal = paste0(
      "sub(\",\", \".\", gsub(\"[.](?=.*,)\", \"\", ", text, ", perl = TRUE), fixed = TRUE)"
    )
  )
}

script_number_forms <- function(schema) {
  forms <- Filter(function(entry) any(c("commas", "blanks", "unit") %in% names(entry)), schema)
  unlist(lapply(names(forms), function(name) {
    paste(r_column(name), "<-", script_number(r_column(name), forms[[name]]))
  }))
}

script_numbers <- function(numbers, all) {
  others <- setdiff(all, numbers)
  if (length(numbers) == 0L) return(NULL)
  if (length(others) == 0L) return("x[] <- lapply(x, as.numeric)")
  few <- length(others) < length(numbers)
  c(
    if (few) paste0("numbers <- setdiff(names(x), ", r_vector(others), ")"),
    if (!few) paste0("numbers <- ", r_vector(numbers)),
    "x[numbers] <- lapply(x[numbers], as.numeric)"
  )
}

script_categories <- function(model) names(which(schema_kinds(model$schema) == "category"))

# Whether the levels are those of the fitted rows in alphabetical order: then a script finds them.
sorted_levels <- function(model) {
  columns <- working_data(model$brief)$frame$columns
  all(vapply(script_categories(model), function(name) {
    found <- sort(unique(as.character(columns[[name]])), method = "radix")
    identical(as.character(model$schema[[name]]$levels), found)
  }, NA))
}

# Lines of every column that has codes for missing values; `lines(column, codes, is_number)`.
script_missing_codes <- function(model, lines) {
  unlist(lapply(intersect(names(model$missing_codes), names(model$schema)), function(name) {
    lines(r_column(name), model$missing_codes[[name]], model$schema[[name]]$kind == "number")
  }))
}

script_missing_words <- function(column, codes, is_number) {
  words <- as.character(codes)
  if (is_number) words <- words[is.na(suppressWarnings(as.numeric(words)))]
  if (length(words) == 0L) return(NULL)
  paste0(column, "[as.character(", column, ") %in% ", r_vector(words), "] <- NA")
}

# Of what has become numbers.
script_missing_numbers <- function(column, codes, is_number) {
  numbers <- stats::na.omit(suppressWarnings(as.numeric(codes)))
  if (!is_number || length(numbers) == 0L) return(NULL)
  paste0(column, "[", column, " %in% ", r_vector(as.double(numbers)), "] <- NA")
}

# The rows that the model learned from, in the shorter of two forms.
script_working <- function(model) {
  rows <- model$brief$rows
  others <- setdiff(seq_len(model$brief$n_total), rows)
  if (length(others) == 0L) return(NULL)
  inside <- r_rows(rows)
  outside <- paste0("-", r_rows(others))
  shorter <- if (nchar(outside) < nchar(inside)) outside else inside
  c(
    "# the rows that the model was fitted on; the others were set aside or left out",
    strsplit(paste0("table <- table[", shorter, ", ]"), "\n", fixed = TRUE)[[1]]
  )
}

script_target <- function(model) {
  roles <- model$brief$roles
  number <- function(name) {
    form <- model$brief$declared$numbers[[name]]
    paste0("as.numeric(", script_number(r_column(name, "table"), form), ")")
  }
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
    if (has_own_parts(model)) c(
      if (!is.null(roles$group)) paste("group <-", r_column(roles$group, "table")),
      "row <- seq_along(y)"
    ),
    if (!is.null(exposure)) c(
      "# a rate, each row counting as its exposure", paste("exposure <-", number(exposure)),
      "y <- y / exposure", paste("w <-", if (!is.null(roles$weight)) "w *", "exposure")
    )
  ), "\n", fixed = TRUE))
}

# Steps and families that a user wrote may ask for more of the rows.
has_own_parts <- function(model) {
  any(vapply(members_of_model(model), function(member) {
    own <- !vapply(member$steps, function(learned) learned$definition$shipped, NA)
    any(own) || !member$family$definition$shipped
  }, NA))
}

# What is known of every training row beside its columns, by the script's names.
script_beside <- function(model) {
  roles <- model$brief$roles
  weighted <- !is.null(roles$weight) || !is.null(roles$exposure)
  c(
    "y", if (weighted) "w", if (!is.null(roles$exposure)) "exposure",
    if (has_own_parts(model)) c(if (!is.null(roles$group)) "group", "row")
  )
}

# ---- predictions ----

script_predictions <- function(model) {
  lowest <- model$family$lowest
  found <- paste0(
    if (!is.null(lowest)) "pmax(", "predict_prepared(prepare(new))",
    if (!is.null(lowest)) paste0(", ", r_text(lowest), ")")
  )
  c(
    "predict_new <- function(new) {", prediction_columns_lines(model, found), "}", "",
    "if (file.exists(new_file)) {",
    "  file <- file.path(dirname(new_file), \"predictions.csv\")",
    "  write.csv(predict_new(read_table(new_file)), file, row.names = FALSE)", "}"
  )
}

prediction_columns_lines <- function(model, found) {
  lacking <- length(members_of_model(model)) == 1L &&
    length(model$family$present) < length(model$levels)
  levels <- if (lacking) "all_classes" else "levels(y)"
  if (!is_wide(model$kind)) return(paste0("  data.frame(value = as.numeric(", found, "))"))
  as_matrix <- paste0("  prediction <- matrix(", found, ", nrow(new))")
  if (!has_classes(model$kind)) {
    return(c(
      as_matrix, paste0("  colnames(prediction) <- ", r_vector(model$levels)),
      "  data.frame(prediction, check.names = FALSE)"
    ))
  }
  c(
    as_matrix, paste0("  colnames(prediction) <- paste0(\"p_\", ", levels, ")"),
    if (is.null(model$threshold)) {
      paste0(
        "  data.frame(class = ", levels, "[max.col(prediction, \"first\")], prediction, ",
        "check.names = FALSE)"
      )
    } else {
      c(
        paste0(
          "  class <- ifelse(prediction[, 2] >= ", r_text(model$threshold),
          ", ", levels, "[2], ", levels, "[1])"
        ),
        "  data.frame(class = class, prediction, check.names = FALSE)"
      )
    }
  )
}
