# Commands that look: at a table, at a model on known rows, at the parts that there are; and one
# that drafts a plan for a table.

role_options <- function() {
  list(
    option("outcome", help = "the column to predict"),
    option("event", help = "of two classes the one that counts"),
    option("outcome-kind", help = paste(outcome_kinds(), collapse = ", ")),
    option("exposure", help = "of counts: the column that says how long or of how many"),
    option("quantiles", help = "predict these quantiles of a number, such as 0.1,0.5,0.9"),
    option("id", help = "columns that name the rows, separated by commas"),
    option("group", help = "the column that says which rows belong together"),
    option("time", help = "the column that says when"),
    option("weight", help = "the column that says what rows weigh"),
    option("ignore",
      help = "columns to leave out, separated by commas; with a comma in it: in double quotes"
    ),
    option("ordered", help = "classes from the lowest on, such as grade=waste<second<first"),
    option("read-as", help = "how columns are read, such as price=number,day=%d/%m/%Y"),
    option("missing-codes", help = "codes for missing values, such as days=-999,glaze=n/r")
  )
}

# The brief that the role options describe; of rows with an outcome.
brief_of_table <- function(file, options) {
  if (is.null(options$outcome)) wrong_call("Say what is to be predicted: --outcome NAME.")
  table <- read_data(file)
  job <- brief(table,
    outcome = options$outcome, event = options$event, id = names_given(options$id),
    group = options$group, time = options$time, weight = options$weight,
    ignore = names_given(options$ignore),
    read_as = pairs_given(options[["read-as"]], "--read-as", names(table)),
    missing_codes = codes_given(options[["missing-codes"]], names(table)),
    outcome_kind = options[["outcome-kind"]], exposure = options$exposure,
    quantiles = numbers_given(options$quantiles, "--quantiles"),
    ordered = orders_given(options$ordered, table),
    rows_without_outcome = "leave_out"
  )
  lacking <- job$n_without_outcome
  if (lacking > 0L) {
    complain(paste0("! ", count_of(lacking, "row"), " without ", options$outcome,
      if (lacking == 1L) " is" else " are", " left out; ", nrow(job$table), " remain."))
  }
  job
}

# "a=1,b=2,b=3" as list(a = "1", b = c("2", "3")). Where there are several "=" the name is a
# column's if it can be.
pairs_given <- function(text, option, columns) {
  pairs <- names_given(text)
  if (is.null(pairs)) return(NULL)
  at <- as.integer(mapply(function(pair, places) {
    known <- places[substring(pair, 1L, places - 1L) %in% columns]
    c(known, rev(places))[1]
  }, pairs, gregexpr("=", pairs, fixed = TRUE)))
  if (any(at < 0L)) {
    wrong <- quoted(pairs[at < 0L][1])
    wrong_call(paste0(option, " wants pairs of a name, = and a value, not ", wrong, "."))
  }
  name <- substr(pairs, 1L, at - 1L)
  split(substring(pairs, at + 1L), factor(name, unique(name)))
}

# "grade=waste<first" as list(grade = c("waste", "first")); `table` tells what is a class of which
# the name has a "<".
orders_given <- function(text, table) {
  orders <- pairs_given(text, "--ordered", names(table))
  if (is.null(orders)) return(NULL)
  Map(function(order, name) {
    parts <- strsplit(order[1], "<", fixed = TRUE)[[1]]
    as_classes(parts, unique(as.character(table[[name]]))) %||% trimws(parts)
  }, orders, names(orders))
}

# Parts of a text that was cut at every "<", put together so that all are classes; NULL: they cannot
# be.
as_classes <- function(parts, classes) {
  if (length(parts) == 0L) return(character())
  for (n in seq_along(parts)) {
    first <- trimws(paste(parts[seq_len(n)], collapse = "<"))
    if (!first %in% classes) next
    others <- as_classes(parts[-seq_len(n)], setdiff(classes, first))
    if (!is.null(others)) return(c(first, others))
  }
}

numbers_given <- function(text, option) {
  numbers <- suppressWarnings(as.numeric(names_given(text)))
  if (anyNA(numbers)) wrong_call(paste0(option, " wants numbers, not ", quoted(text), "."))
  if (length(numbers) > 0L) numbers
}

codes_given <- function(text, columns) {
  codes <- pairs_given(text, "--missing-codes", columns)
  if (!is.null(codes)) lapply(codes, as_codes)
}

say_json <- function(table) {
  writeLines(json_text(as.data.frame(table)[vapply(table, is.atomic, NA)]))
}

member_command_inspect <- function() {
  new_command(
    "inspect", "look for trouble in a table, with remedies as lines of a plan file", "table",
    c(role_options(), list(json_option())),
    example = "kilnwright inspect pots.csv --outcome cracked --event yes --id pot_id",
    run = function(positional, options) {
      found <- inspect_data(brief_of_table(positional$table, options))
      lines <- vapply(seq_len(nrow(found)), function(i) {
        plan_line(found$action[[i]], found$columns[[i]]) %||% ""
      }, "")
      if (options$json) {
        found$plan_file <- lines
        return(say_json(found))
      }
      if (nrow(found) == 0L) return(say("Nothing was found."))
      for (i in seq_len(nrow(found))) {
        say_wrapped(paste0(
          found$severity[i], ": ", found$code[i], " (", found$where[i], "). ", found$detail[i]
        ))
        if (nzchar(lines[i])) {
          show_lines(paste0("    ", lines[i]))
        } else {
          say_wrapped(paste0("    ", table_words(found$action[[i]]) %||% found$remedy[i]), 4L)
        }
      }
    }
  )
}

# A remedy as a line of a plan file, in the form that JSON and YAML share; NULL: it has none.
plan_line <- function(action, columns) {
  columns <- action$columns %||% columns
  flow <- function(x) as.character(jsonlite::toJSON(x, auto_unbox = TRUE, digits = NA))
  switch(action$kind %||% "none",
    role = {
      several <- action$role %in% c("id", "ignore")
      named <- list(if (several) I(columns) else columns)
      paste0("brief: ", flow(stats::setNames(named, action$role)))
    },
    outcome = paste0("brief: ", flow(stats::setNames(list(action$value), action$key))),
    plan = paste0(names(action$value), ": ", flow(action$value[[1]])),
    missing_code = paste0("brief: ", flow(list(
      missing_codes = stats::setNames(list(action$codes), columns[1])
    ))),
    convert = paste0("brief: ", flow(c(
      list(read_as = stats::setNames(list(action$to), columns[1])),
      if (length(action$codes) > 0L) {
        list(missing_codes = stats::setNames(list(action$codes), columns[1]))
      }
    ))),
    convert_either = paste0("brief: ", vapply(action$to, function(to) {
      flow(list(read_as = stats::setNames(list(to), columns[1])))
    }, ""), collapse = "   # or "),
    step = {
      settings <- c(action$settings, if (!is.null(action$columns)) list(columns = I(columns)))
      step <- if (length(settings) == 0L) {
        action$step
      } else {
        flow(stats::setNames(list(settings), action$step))
      }
      paste0("in candidates: ", step)
    }
  )
}

# What is to be done to the table itself, where no line of a plan file would do; NULL: nothing.
table_words <- function(action) {
  switch(action$kind %||% "none",
    table = action$words,
    drop_rows = paste0(
      "Leave out ", where_rows(rep(TRUE, length(action$rows)), action$rows), " of the table, ",
      "if they are of the same case as the rows that they repeat."
    )
  )
}

member_command_draft <- function() {
  new_command(
    "draft", "draft a plan file for a table: candidates, search and splits by themselves", "table",
    c(role_options(), list(
      option("minutes", 10, "the run is to end within so many minutes [default %default]",
        "double"),
      option("effort", "usual", "quick, usual or thorough [default %default]"),
      option("blend", help = "blend the best of all candidates, and choose by the best mean",
        type = "flag"),
      option("set-aside", 0.2, "share of the rows to seal until the end [default %default]",
        "double"),
      option("seed", 1, "seed of the plan [default %default]", "double"),
      option("out", "-", "plan file to write, - for standard output [default %default]"),
      option("replace", help = "replace the file if it is there", type = "flag")
    )),
    example = "kilnwright draft pots.csv --outcome cracked --event yes --minutes 10 --out plan.yml",
    run = function(positional, options) draft_plan(positional$table, options)
  )
}

draft_plan <- function(file, options) {
  if (file == "-") wrong_call("A plan names its table: give a file, not -.")
  if (options$out != "-") {
    refuse_existing(options$out, options$replace)
    check_writable_file(options$out)
  }
  job <- brief_of_table(file, options)
  mended <- apply_remedies(job, inspect_data(job))
  job <- mended$brief
  share <- options[["set-aside"]]
  if (share > 0) job <- set_aside(job, share = share, seed = options$seed)
  plan <- plan_by_itself(job,
    minutes = options$minutes, effort = options$effort, seed = options$seed,
    blend = isTRUE(options$blend)
  )
  folder <- tempfile("draft-")
  dir.create(folder)
  # reason: a temporary folder of ours
  on.exit(unlink(folder, recursive = TRUE))
  # refused if it would not be the same plan when it is read
  plan <- with_ranges(plan)
  write_plan(plan, file.path(folder, "plan.yml"), table = file)
  named <- path_from_plan(file, if (options$out == "-") "plan.yml" else options$out)
  text <- plan_yaml(plan, named, sealed = TRUE)
  lines <- commented_plan(
    c("", unlist(strsplit(text, "\n", fixed = TRUE))), mended, left_out_words(plan$candidates)
  )
  if (options$out == "-") return(show_lines(lines))
  write_whole(options$out, c(paste("# Run it with: kilnwright run", options$out), lines))
  complain(paste0("The plan is in ", options$out, "; kilnwright preview ", options$out,
    " shows what it would do."))
  serious <- sum(mended$left$severity == "serious")
  if (serious > 0L) {
    complain(paste0("! ", count_of(serious, "serious finding"), " about the table ",
      if (serious == 1L) "is" else "are", " left to you: see the head of ", options$out, "."))
  }
}

# The plan with the ranges that sensible() stood for in this table.
with_ranges <- function(plan) {
  searched <- Filter(function(space) length(space$dimensions) > 0L, plan$spaces)
  plan$candidates$pipelines[names(searched)] <- lapply(searched, `[[`, "pipeline")
  plan
}

# What each part of a plan file is for, and what was found in the table.
plan_remarks <- c(
  brief = "what is to be predicted, from what",
  set_aside = "rows that nothing touches until the end",
  shared = "preparations that candidates have in common",
  candidates = "what is compared; several values of a hyperparameter are searched",
  splits = "how rows are held out", search = "which settings are tried",
  screen = "what is dropped before it is scored in full",
  metrics = "what is measured; the first one decides, or the one under decide",
  rule = "by which one is chosen",
  blend = "the best of all candidates are blended, and the blend may be chosen",
  minutes = "the run ends within so many minutes", seed = "the same seed gives the same numbers"
)

commented_plan <- function(lines, mended, left_out) {
  changed <- mended$changes[mended$changes$applied, ]
  left <- mended$left
  said <- c(
    if (nrow(changed) > 0L) c(
      "# Found in the table, and worked in:",
      r_comment(paste0("  ", changed$where, ": ", changed$code, "; ", changed$detail))
    ),
    if (nrow(left) > 0L) c(
      "# Found, and left to you (kilnwright inspect says more):",
      r_comment(paste0("  ", ifelse(
        startsWith(left$detail, paste0(left$where, ":")), "", paste0(left$where, ": ")
      ), left$detail))
    )
  )
  keys <- sub(":.*", "", lines)
  c(said, unlist(Map(function(line, key) {
    c(
      if (key %in% names(plan_remarks)) c("", paste("#", plan_remarks[[key]])),
      if (key == "candidates" && length(left_out) > 0L) r_comment(left_out),
      line
    )
  }, lines, keys), use.names = FALSE))
}

member_command_score <- function() {
  new_command("score", "score a saved model on rows whose outcome is known", c("model", "table"),
    list(
      option("by", help = "also for each part of this column"),
      option("weight", help = "the column that says what rows weigh"),
      option("group", help = "the column that says which rows belong together"),
      option("trust", help = "the model file comes from a place that I trust", type = "flag"),
      json_option()
    ),
    example = "kilnwright score model.kilnwright fired-pots.csv --by kiln",
    run = function(positional, options) {
      model <- open_model(positional$model, trust = options$trust)
      # classes are texts, whatever they look like
      texts <- if (has_classes(model$kind)) model$outcome
      scores <- score_known(model, read_new_rows(model, positional$table, texts),
        by = options$by, weight = options$weight, group = options$group
      )
      if (options$json) return(say_json(scores))
      print(scores, n = Inf)
      say_wrapped(paste(
        "validation: mean over the comparison's splits. Rows that the model learned from would",
        "make it seem better than it is."
      ))
    }
  )
}

member_command_drift <- function() {
  new_command("drift", "say whether new rows still look like those a model was fitted on",
    c("model", "table"),
    list(
      option("group", help = "the column that says which new rows belong together"),
      option("level", 0.05, "how often a look may find what is not there [default %default]",
        "double"),
      option("margin", 0.1, "a shift that matters: share of rows elsewhere [default %default]",
        "double"),
      option("figure", help = "also draw the columns that moved into this PNG file"),
      option("trust", help = "the model file comes from a place that I trust", type = "flag"),
      json_option()
    ),
    example = "kilnwright drift model.kilnwright new-pots.csv --trust",
    run = function(positional, options) {
      if (!is.null(options$figure)) check_writable_file(options$figure)
      model <- open_model(positional$model, trust = options$trust)
      found <- watch_drift(model, positional$table,
        level = options$level, margin = options$margin, group = options$group
      )
      if (!is.null(options$figure)) save_png(draw_drift(found), options$figure)
      if (!options$json) return(print(found, n = Inf))
      scores <- attr(found, "scores")
      writeLines(json_text(list(
        columns = as.data.frame(found), scores = if (!is.null(scores)) as.data.frame(scores)
      )))
    }
  )
}

member_command_repeat <- function() {
  new_command("repeat", "run the plan that a model records again, and compare all scores", "model",
    list(
      option("table", help = "the table that the model was made from"),
      option("workers", "auto", "number of worker processes, or auto [default %default]"),
      option("quiet", help = "no progress", type = "flag"),
      option("trust", help = "the model file comes from a place that I trust", type = "flag"),
      json_option()
    ),
    goes_on = TRUE, example = "kilnwright repeat model.kilnwright --table pots.csv --trust",
    run = function(positional, options) {
      if (is.null(options$table)) wrong_call("kilnwright repeat needs --table.")
      model <- open_model(positional$model, trust = options$trust)
      found <- repeat_model(model, options$table, asked_workers(options), options$quiet)
      if (options$json) say_json(found) else print(found, n = Inf)
      if (!all(found$same[found$matters == "result"])) {
        stop_kw("repeat", "The recorded results were not had again.")
      }
    }
  )
}

member_command_serve <- function() {
  new_command("serve", "answer requests for predictions over HTTP", "model",
    list(
      option("port", help = "port to listen on [default: any that is free]", type = "double"),
      option("host", "127.0.0.1", "address to listen on [default %default, this machine alone]"),
      option("token-file", help = "file whose first line requests must bring as bearer token"),
      option("most-rows", 10000, "refuse requests with more rows [default %default]", "double"),
      option("most-bytes", 1e7, "refuse larger requests [default %default]", "double"),
      option("trust", help = "the model file comes from a place that I trust", type = "flag")
    ),
    goes_on = TRUE, example = "kilnwright serve model.kilnwright --port 8600 --trust",
    run = function(positional, options) {
      model <- open_model(positional$model, trust = options$trust)
      service <- serve_model(model, options$port, options$host, token_of(options[["token-file"]]),
        options[["most-rows"]], options[["most-bytes"]]
      )
      on.exit(service$stop())
      note_terminations()
      writeLines(service$address)
      complain("Ctrl-C ends the service.")
      tryCatch(while (!was_terminated()) httpuv::service(250), interrupt = function(e) NULL)
      # what was asked before the end is answered
      httpuv::service(100)
      counts <- service$counts()
      complain(paste0("Ended after ", count_of(counts$requests, "request"), " and ",
        count_of(counts$rows, "row"), "; ", counts$refused, " refused."))
    }
  )
}

# A secret is no argument: others see those.
token_of <- function(file) {
  if (is.null(file)) return(NULL)
  if (!file.exists(file)) wrong_call(paste0("There is no file ", quoted(file), "."))
  token <- trimws(c(readLines(file, n = 1L, warn = FALSE), "")[1])
  if (!nzchar(token)) wrong_call(paste0("The first line of ", quoted(file), " is empty."))
  token
}

# ---- what parts there are ----

member_command_parts <- function() {
  new_command(
    "parts", "list all parts that can be named in a plan file: steps, families, rules, ...",
    character(),
    list(option("kind", help = "of this kind only; key: the plan file's keys"), json_option()),
    example = c("kilnwright parts --kind search", "kilnwright parts --kind key"),
    run = function(positional, options) {
      if (identical(options$kind, "key")) return(say_plan_keys(options$json))
      table <- list_parts(options$kind)
      if (options$json) return(say_json(table))
      for (kind in unique(table$kind)) {
        say(kind)
        for (i in which(table$kind == kind)) {
          say_wrapped(paste0("  ", table$part[i], ": ", table$does[i]), 4L)
        }
      }
    }
  )
}

say_plan_keys <- function(json) {
  table <- list_plan_keys()
  if (json) return(say_json(table))
  for (where in unique(table$where)) {
    say(where)
    for (i in which(table$where == where)) {
      must <- if (table$required[i]) ", required"
      say_wrapped(paste0("  ", table$key[i], " (", table$value[i], must, "): ", table$does[i]), 4L)
    }
  }
}

# `tell`: a function that gives the table, `describe`: one of a name; `known`: such a name.
parts_command <- function(command, does, kind, tell, describe, known) {
  new_command(command, does, "name", list(json_option()), optional = 1L,
    example = c(paste("kilnwright", command), paste("kilnwright", command, known)),
    run = function(positional, options) {
      if (!is.null(positional$name)) return(print(describe(positional$name)))
      if (options$json) return(say_json(tell()))
      for (part in part_facts(kind)) say_wrapped(paste0(part$part, ": ", part$does), 4L)
    }
  )
}

member_command_families <- function() {
  parts_command(
    "families", "list the families, or say what NAME's hyperparameters mean", "fam", list_families,
    describe_family, "forest"
  )
}

member_command_steps <- function() {
  parts_command(
    "steps", "list the steps, or say what NAME's hyperparameters mean", "step", list_steps,
    describe_step, "missing"
  )
}

member_command_metrics <- function() {
  describe <- function(name) {
    table <- list_metrics()
    check_choice(name, table$metric, "name")
    describe_row(table[table$metric == name, ])
  }
  parts_command(
    "metrics", "list the metrics, or say what NAME measures", "metric", list_metrics,
    describe, "auc"
  )
}

member_command_splits <- function() {
  tell <- function() list_parts("split")
  describe <- function(name) {
    table <- tell()
    name <- paste0("split_", sub("^split_", "", name))
    check_choice(name, table$part, "name")
    describe_row(table[table$part == name, ])
  }
  parts_command(
    "splits", "list the ways to split, or say what NAME takes", "split", tell, describe,
    "kfold"
  )
}

# A row of a list of parts, as what describe_step() gives is printed.
describe_row <- function(row) {
  facts <- Filter(function(x) !is.na(x) && nzchar(x), vapply(row, as.character, ""))
  about <- facts[setdiff(names(facts), c("metric", "part", "does", "kind"))]
  structure(list(
    title = row[[intersect(c("metric", "part"), names(row))[1]]], does = row$does,
    about = paste0(gsub("_", " ", names(about)), ": ", about)
  ), class = "kw_description")
}
