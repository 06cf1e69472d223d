# The script that only predicts: what steps learned and what the family is stand in it as text, so
# that it needs base R alone, and no table. The preparations are those of the script that learns,
# run once here on the working rows; what their functions then know is written out.

plain_script_lines <- function(model, new_data) {
  members <- members_of_model(model)
  refuse_no_plain_form(model, members)
  unused <- unused_predictors(members, model$schema)
  model$schema <- model$schema[setdiff(names(model$schema), unused)]
  members <- lapply(members, without_predictors, unused)
  c(
    plain_script_head(model), "", paste0("new_file <- ", r_text(new_data)), "",
    "# ---- 1. the data ----", "",
    script_reader(model), script_moments(model), plain_script_known(model),
    "# the columns that the model looks at, each as what it is",
    "predictors <- function(table) {", paste0("  ", script_types(model)), "  x", "}", "",
    if (has_classes(model$kind)) paste0("y_levels <- ", r_vector(model$levels)),
    "", "# ---- 2. how plain models predict ----", "", script_file("predict-plainly.R"), "",
    plain_script_members(model, members), "",
    "# ---- predictions ----", "", plain_script_predictions(model)
  )
}

refuse_no_plain_form <- function(model, members) {
  kept <- parts_with_rows(model)
  if (length(kept) > 0L) {
    stop_kw("select", paste0(enumerate(kept), "() cannot predict without training rows, and a ",
      "script that only predicts holds none."
    ), remedy = "Write the one that learns again: only_predicts = FALSE.")
  }
  for (member in members) {
    if (!is.null(member$family$scale$own) || is.null(plain_family(member$family, member$value))) {
      stop_kw("select", paste0(
        called_family(member$family$definition$name), " with these settings has no plain form."
      ), remedy = paste0(
        "Write the script that learns again, only_predicts = FALSE; plain forms are had of ",
        enumerate(plain_family_names(), 20L), "."
      ))
    }
  }
}

plain_family_names <- function() {
  can <- Filter(function(make) !is.null(make()$plain), shipped_members("fam"))
  paste0("fam_", names(can), "()")
}

plain_script_head <- function(model) {
  setting <- if (nzchar(model$facts$setting)) paste0(" (", model$facts$setting, ")")
  r_comment(c(
    strwrap(paste0(
      "Predicts ", model$outcome, " by ", called_family(model$facts$family), setting,
      ", as it was fitted to ", count_of(model$facts$working_rows, "row"),
      "; none of these is in here. Needs base R alone."
    ), 90),
    strwrap(paste0("Chosen by the rule ", model$facts$rule, ": ", model$facts$reason), 90),
    strwrap(words_of_versions(model), 90)
  ))
}

words_of_versions <- function(model) {
  versions <- model$facts$versions
  packages <- unlist(versions$packages)
  paste0("Made with R ", versions$r, if (length(packages) > 0L) {
    paste0(", ", paste(names(packages), packages, collapse = ", "))
  }, ".")
}

plain_script_known <- function(model) {
  categories <- script_categories(model)
  if (length(categories) == 0L || !sorted_levels(model)) return(NULL)
  levels <- vapply(model$schema[categories], function(entry) r_vector(entry$levels, 4L), "")
  c("", split_lines(paste0("known <- ", r_named_list(levels, categories))))
}

# Each member with what it needs; of a blend in a function of its own.
plain_script_members <- function(model, members) {
  if (length(members) == 1L) {
    return(c(
      "# ---- 3. the preparation, and the model, as they were learned ----", "",
      plain_script_member(members[[1]])
    ))
  }
  each <- lapply(seq_along(members), function(i) {
    lines <- c(plain_script_member(members[[i]]), "function(x) predict_prepared(prepare(x))")
    c(
      paste0("# ---- member ", i, ", as it was learned ----"), "",
      paste0("member_", i, " <- local({"), ifelse(nzchar(lines), paste0("  ", lines), ""), "})", ""
    )
  })
  weights <- vapply(model$family$settings$weights, r_text, "")
  c(
    unlist(each), "prepare <- function(x) x", "predict_prepared <- function(x) {",
    paste0(
      "  ", weights, " * member_", seq_along(members), "(x)", c(rep(" +", length(members) - 1L), "")
    ),
    "}"
  )
}

plain_script_member <- function(model) {
  chain <- script_chain(model)
  form <- plain_family(model$family, model$value)
  family <- model$family
  made <- list(fit = character(), predict = "predict_plainly(model, x)")
  if (!is.null(family$recalibration)) made <- script_recalibrated(family$recalibration, made)
  if (has_classes(model$kind) && length(family$present) < length(model$levels)) {
    made$predict <- c(
      "p <- local({", paste0("  ", made$predict), "})",
      paste0("all <- matrix(0, nrow(x), ", length(model$levels), ")"),
      paste0("all[, ", r_vector(match(family$present, model$levels)), "] <- p"), "all"
    )
  }
  c(
    learned_lines(chain, model), "",
    if (length(chain$does) == 0L) "prepare <- function(x) x" else
      sub("predictors\\(table\\)", "x", sub("function\\(table\\)", "function(x)",
        script_prepare(chain$does))),
    "", split_lines(paste0("model <- ", r_plain(form))), made$fit,
    if (is.null(family$scale)) c(
      "predict_prepared <- function(x) {", paste0("  ", made$predict), "}"
    ) else plain_scale_lines(family$scale)
  )
}

# The way back from the scale on which the outcome was learned.
plain_scale_lines <- function(scale) {
  power <- r_text(scale$power)
  back <- switch(scale$by,
    log = "exp(z)", log1p = "expm1(z)", sqrt = "pmax(z, 0)^2",
    paste0("straight_outcome(z, ", power, ")")
  )
  code_lines(r"(
<<bend>>
# no prediction is further from the outcomes than they are from one another
back <- function(z) {
  z <- pmin(pmax(z, <<low>>), <<high>>)
  <<back>>
}
<<predict>>
)",
    bend = if (scale$by %in% c("box_cox", "yeo_johnson")) script_power_back(scale$by),
    low = r_text(scale$reach[1]), high = r_text(scale$reach[2]), back = back,
    predict = if (scale$back == "median") {
      "predict_prepared <- function(x) back(predict_plainly(model, x))"
    } else {
      c(
        "# means by the smearing estimate (Duan 1983), over fifty quantiles of the errors",
        split_lines(paste0("errors <- ", r_vector(as.vector(scale$errors)))),
        "predict_prepared <- function(x) {", "  z <- predict_plainly(model, x)",
        "  Reduce(`+`, lapply(errors, function(error) back(z + error))) / length(errors)", "}"
      )
    }
  )
}

plain_script_predictions <- function(model) {
  lowest <- model$family$lowest
  found <- paste0(
    if (!is.null(lowest)) "pmax(", "predict_prepared(prepare(predictors(new)))",
    if (!is.null(lowest)) paste0(", ", r_text(lowest), ")")
  )
  lines <- prediction_columns_lines(model, found)
  lines <- gsub("levels(y)", "y_levels", gsub("all_classes", "y_levels", lines), fixed = TRUE)
  c(
    "predict_new <- function(new) {", lines, "}", "",
    "if (file.exists(new_file)) {",
    "  file <- file.path(dirname(new_file), \"predictions.csv\")",
    "  write.csv(predict_new(read_table(new_file)), file, row.names = FALSE)", "}"
  )
}

# ---- what the preparation knows ----

# The functions of the preparation as they are written in the other script, and all that they use.
learned_lines <- function(chain, model) {
  home <- prepared_home(chain, model)
  wanted <- needed_names(chain$does, home)
  unlist(lapply(wanted, function(name) {
    value <- get(name, home)
    if (is.function(value)) {
      text <- source_text(value)
      return(c(paste(name, "<-", text[1]), text[-1], ""))
    }
    if (!is_plain_value(value)) {
      stop_kw("select", "A step of this model has no plain form.",
        where = paste0("It keeps ", quoted(name), ", which is no numbers and texts."),
        remedy = "Write the script that learns again: only_predicts = FALSE."
      )
    }
    split_lines(paste0(name, " <- ", r_plain(value)))
  }))
}

# An environment in which the preparation was run on the working rows.
prepared_home <- function(chain, model) {
  data <- working_data(brief_of(model$origin$choice$cmp))
  home <- new.env(parent = globalenv())
  columns <- unclass(data$frame$columns)[names(model$schema)]
  home$x <- as.data.frame(columns, optional = TRUE, stringsAsFactors = FALSE)
  names(home$x) <- names(model$schema)
  home$y <- data$target$outcome
  home$w <- data$target$weights
  home$exposure <- data$target$exposure
  home$group <- data$target$group
  home$row <- seq_along(home$y)
  # reason: lines that this package wrote, or functions of steps that the user runs anyway
  with_seed(1L, for (expr in parse(text = chain$lines, keep.source = TRUE)) eval(expr, home))
  home
}

# Names in `home` that these functions use, however far down, in the order in which they must stand.
needed_names <- function(functions, home) {
  found <- character()
  visit <- function(name) {
    if (name %in% found || !exists(name, home, inherits = FALSE)) return(invisible())
    value <- get(name, home, inherits = FALSE)
    if (is.function(value)) {
      for (used in codetools::findGlobals(value, merge = TRUE)) visit(used)
    }
    if (!name %in% found) found <<- c(found, name)
  }
  for (name in functions) visit(name)
  setdiff(found, c("x", "y", "w", "exposure", "group", "row", "known"))
}

is_plain_value <- function(x) {
  if (is.null(x) || (is.atomic(x) && !isS4(x))) return(TRUE)
  is.list(x) && !is.object(x) && all(vapply(x, is_plain_value, NA))
}

# Nested lists, with names and vectors in lines.
r_plain <- function(x, indent = 2L) {
  if (!is.list(x)) {
    if (is.numeric(x) && is.null(attributes(x)) && length(x) > 1L) return(r_numbers(x, indent))
    if (is.integer(x) && !is.object(x)) storage.mode(x) <- "double"
    if (identical(names(attributes(x)), "names")) return(r_named_vector(x, indent))
    usual <- is.null(attributes(x)) && length(x) > 0L
    return(if (usual) r_vector(x, indent) else r_text(x))
  }
  if (length(x) == 0L) return("list()")
  values <- vapply(x, r_plain, "", indent = indent + 2L)
  if (!is.null(names(x))) values <- paste(r_names(names(x)), "=", values)
  if (sum(nchar(values)) < 60L && !any(grepl("\n", values, fixed = TRUE))) {
    return(paste0("list(", paste(values, collapse = ", "), ")"))
  }
  inner <- paste0("\n", strrep(" ", indent))
  whole <- paste(values, collapse = paste0(",", inner))
  paste0("list(", inner, whole, "\n", strrep(" ", indent - 2L), ")")
}

# Many numbers, with all their digits, in lines.
r_numbers <- function(x, indent) {
  text <- ifelse(is.na(x) & !is.nan(x), "NA", number_text(as.double(x)))
  whole <- paste0("c(", paste(text, collapse = ", "), ")")
  if (nchar(whole) <= 70L) return(whole)
  ends <- cumsum(nchar(text) + 2L)
  lines <- list()
  done <- 0L
  while (done < length(text)) {
    before <- if (done > 0L) ends[done] else 0L
    last <- max(done + 1L, findInterval(before + 98L - indent, ends))
    lines[[length(lines) + 1L]] <- paste(text[(done + 1L):last], collapse = ", ")
    done <- last
  }
  inner <- paste0("\n", strrep(" ", indent))
  paste0(
    "c(", inner, paste(unlist(lines), collapse = paste0(",", inner)), "\n",
    strrep(" ", indent - 2L), ")"
  )
}

r_named_vector <- function(x, indent) {
  parts <- paste(r_names(names(x)), "=", vapply(unname(x), r_text, ""))
  lines <- strwrap(paste0(gsub(" ", "\u0001", parts), collapse = ", "), 98L - indent)
  inner <- paste0("\n", strrep(" ", indent))
  text <- paste0("c(", inner, paste(lines, collapse = inner), "\n", strrep(" ", indent - 2L), ")")
  gsub("\u0001", " ", text, fixed = TRUE)
}

r_names <- function(names) ifelse(is_plain_name(names), names, r_string(names))
