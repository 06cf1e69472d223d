# Commands that look at what was scored, choose, report and predict.

member_command_standings <- function() {
  new_command("standings", "show the standings in a folder of results, or in a journal", "results",
    list(
      option(
        "follow",
        help = "show them again every few seconds until the run ends",
        type = "flag"
      ),
      option("trust", help = "also read what can run code: its maker's functions", type = "flag"),
      option("metric", help = "metric to rank by [default: the deciding one]"),
      option("top", 15, "so many rows [default %default]", "double"),
      option("csv", help = "write CSV instead of a table to read", type = "flag"),
      json_option()
    ),
    example = "kilnwright standings results --metric log_loss --top 20",
    run = function(positional, options) show_saved_standings(positional$results, options)
  )
}

member_command_select <- function() {
  new_command("select", "choose the final setting of a run by a rule, and say why", "results",
    list(
      rule_option(), margin_option(), blend_option(),
      option("candidate", help = "choose among these candidates only, separated by commas"),
      option("metric", help = "choose by this metric [default: the deciding one]"),
      option(
        "model",
        help = "fit the choice on all working rows and save the model into this file"
      ),
      intervals_option(),
      option("trust", help = "also read what can run code: its maker's functions", type = "flag"),
      json_option()
    ),
    example = "kilnwright select results --rule within --margin 0.01 --model model.kilnwright",
    run = function(positional, options) {
      if (!is.null(options$model)) check_writable_file(options$model)
      choice <- choice_of_run(positional$results, options)
      if (options$json) {
        writeLines(json_text(c(describe_choice(choice), rules = list(explain_choice(choice)))))
      } else {
        print(choice)
        say("")
        print_rules(explain_choice(choice))
      }
      if (is.null(options$model)) return(invisible())
      save_model(fit_final(choice, intervals = options$intervals), options$model)
      complain(paste0("The final model is in ", options$model))
    }
  )
}

member_command_report <- function() {
  new_command("report", "write a report on a run as one HTML file", "results",
    list(
      option("out", "kilnwright-report.html", "file to write [default %default]"),
      rule_option(), margin_option(), blend_option(),
      option("trust", help = "also read what can run code: its maker's functions", type = "flag")
    ),
    example = "kilnwright report results --out report.html",
    run = function(positional, options) {
      check_writable_file(options$out)
      model <- fit_final(choice_of_run(positional$results, options))
      write_report(with_saved_aside(model, positional$results), options$out)
      complain(paste0("The report is in ", options$out))
    }
  )
}

rule_option <- function() {
  option("rule", help = paste(
    paste(names(known_members("rule")), collapse = ", "),
    "[default: that of the plan file, else one_se]"
  ))
}

blend_option <- function() {
  option("blend", help = paste(
    "first blend the best of these candidates, separated by commas, or of all; the rule chooses",
    "among all candidates and the blend [default: as the plan file says, else none]"
  ))
}

blend_given <- function(given) switch(given, all = TRUE, none = FALSE, names_given(given))

margin_option <- function() {
  option("margin", type = "double", help = paste(
    "for within, no_worse: a difference that does not matter; for steady: standard deviations"
  ))
}

# `path`: a folder of results, or a journal.
choice_of_run <- function(path, options) {
  cmp <- open_comparison(journal_of(path), trust = options$trust)
  among <- names_given(options$candidate)
  select_final(
    cmp, options$rule,
    margin = options$margin, candidate = among, metric = options$metric,
    blend = if (!is.null(options$blend)) blend_given(options$blend)
  )
}

print_rules <- function(rules) {
  known <- rules[!is.na(rules$mean), ]
  rows <- data.frame(
    rule = known$rule, mean = format(signif(known$mean, 4)),
    costs = ifelse(is.na(known$cost), "", vapply(signif(known$cost, 2), format, "")),
    picks = ifelse(known$picked, "the choice",
      paste0(known$candidate, " (", known$values, ")")
    )
  )
  print_table(rows, align = c("left", "right", "right", "left"))
}

member_command_predict <- function() {
  new_command("predict", "predict the rows of a table with a saved model", c("model", "table"),
    list(
      option("out", "-", "CSV or Parquet file to write, - for standard output [default %default]"),
      option(
        "id",
        help = "columns of the table to copy, separated by commas [default: the brief's id columns]"
      ),
      option("type", help = "class, probability or interval [default: class and probability]"),
      option("level", 0.9, "of intervals: the share of rows to hold [default %default]", "double"),
      option("trust", help = "the model file comes from a place that I trust", type = "flag")
    ),
    example = "kilnwright predict model.kilnwright new-pots.csv --id pot_id --out predicted.csv",
    run = function(positional, options) predict_to_file(positional, options)
  )
}

show_saved_standings <- function(folder, options) {
  check_number(options$top, "top", min = 1, whole = TRUE)
  running <- dir.exists(folder) && !file.exists(file.path(folder, results_marker)) &&
    file.exists(file.path(folder, results_journal))
  if (running || options$follow) folder <- journal_of(folder)
  if (file.exists(folder) && !dir.exists(folder)) return(show_journal_standings(folder, options))
  table <- read_saved_standings(folder)
  metric <- options$metric %||% table$metric[1]
  check_choice(metric, unique(table$metric), "--metric")
  table <- utils::head(table[table$metric == metric, ], options$top)
  if (options$json) return(say_json(table))
  if (options$csv) return(data.table::fwrite(table, ""))
  described <- jsonlite::read_json(file.path(folder, "comparison.json"), simplifyVector = TRUE)
  say_wrapped(paste0(
    "Standings by ", metric, " (", described$metrics[[metric]],
    " is better), predicting ",
    described$outcome, "; ", described$splits
  ))
  print_standings_rows(table, saved_labels(table))
}

# Standings of a journal; with --follow again and again until nobody writes it.
show_journal_standings <- function(file, options) {
  repeat {
    cmp <- open_comparison(file, trust = options$trust)
    table <- standings_rows(cmp, metric = options$metric, top = options$top)
    if (options$json) {
      say_json(table)
    } else if (options$csv) {
      data.table::fwrite(table, "")
    } else {
      done <- sum(!is.na(standings_rows(cmp)$place))
      say_wrapped(paste0(
        "Standings by ", table$metric[1], ", predicting ", brief_of(cmp)$outcome,
        "; ", done, " of ",
        count_of(length(cmp$results$candidate), "setting"),
        " have all their scores"
      ))
      at <- match(
        paste(table$candidate, table$setting), paste(candidate_names(cmp), cmp$results$row)
      )
      print_standings_rows(
        table, setting_label(cmp, at, all = FALSE)
      )
    }
    if (!options$follow || !journal_is_written(file)) break
    Sys.sleep(2)
  }
}

predict_to_file <- function(positional, options) {
  model <- open_model(positional$model, trust = options$trust)
  ids <- names_given(options$id)
  table <- read_new_rows(model, positional$table, ids)
  remarks <- check_new_data(model, table)
  if (nrow(remarks) > 0L) complain(capture_print(remarks))
  if (options$out == "-") return(data.table::fwrite(
    with_ids(model, table, ids, options$type, options$level), ""
  ))
  write_predictions(model, table, options$out, ids, options$type, options$level)
  complain(paste0(count_of(nrow(table), "row"), " predicted, written to ", options$out))
}
