# Commands that run plans: the demo, a plan file, workers, the view of a run.

member_command_demo <- function() {
  new_command(
    "demo", "compare four candidates, or all families, on the made-up firing ledger", character(),
    list(
      option("all", help = "every family there is, a few settings each", type = "flag"),
      option("guided", help = "a search that learns, and a screen", type = "flag"),
      option("out", "kilnwright-demo", "folder for the results [default %default]"),
      option("replace", help = "replace the folder if it is there", type = "flag"),
      no_report_option(),
      option("quiet", help = "no progress", type = "flag")
    ),
    goes_on = TRUE, example = "kilnwright demo --out demo-results",
    run = function(positional, options) {
      if (options$all && options$guided) {
        stop_kw("argument", "Give --all or --guided, not both.")
      }
      name <- if (options$all) "all" else if (options$guided) "guided" else "plan"
      name <- paste0("pots-", name, ".yml")
      file <- system.file("extdata", name, package = "kilnwright", mustWork = TRUE)
      run_plan_file(file, options, absent = function(candidate, packages) {
        complain(paste0(
          "Left out: ", candidate, ", since package ", enumerate(packages),
          " is not installed."
        ))
      })
    }
  )
}

member_command_run <- function() {
  new_command("run", "run a plan file and write the results into a folder", "plan",
    list(
      option("out", "kilnwright-results", "folder for the results [default %default]"),
      option("replace", help = "replace the folder if it is there", type = "flag"),
      option("seed", help = "use this seed instead of the plan's", type = "double"),
      option(
        "journal",
        help = paste(
          "SQLite file to write fits into; a run with the same file goes on",
          "[default: journal.sqlite in the folder]; none: keep no journal"
        )
      ),
      option(
        "accept-versions",
        help = "go on with a journal of other versions of R or packages", type = "flag"
      ),
      option("workers", "auto", "number of worker processes, or auto [default %default]"),
      option(
        "listen",
        help = "let workers join at this address, such as tls+tcp://192.168.1.20:7701"
      ),
      option("certificate", help = "with --listen: file to write that the workers need"),
      option("minutes", help = "end within so many minutes (else: the plan's)", type = "double"),
      option("fit-seconds", help = "stop a fit that takes longer than this", type = "double"),
      option("log", help = "CSV file that gets a line for every setting as it is completed"),
      intervals_option(), no_report_option(),
      option("quiet", help = "no progress", type = "flag")
    ),
    goes_on = TRUE, example = "kilnwright run plan.yml --out results --workers 2",
    run = function(positional, options) run_plan_file(positional$plan, options)
  )
}

member_command_worker <- function() {
  new_command("worker", "join a run on another machine that listens, and work for it until it ends",
    character(),
    list(
      option("url", help = "the address at which the run listens"),
      option("certificate", help = "the file that the run has written"),
      option("wait", 60, "try to reach it for so many seconds [default %default]", "double")
    ),
    goes_on = TRUE,
    example = "kilnwright worker --url tls+tcp://192.168.1.20:7701 --certificate kiln.crt",
    run = function(positional, options) {
      if (is.null(options$url)) wrong_call("kilnwright worker needs --url.")
      complain(paste0("Working for ", options$url, " until the run there ends."))
      be_worker(options$url, options$certificate, options$wait)
      complain("The run has ended.")
    }
  )
}

member_command_view <- function() {
  new_command("view", "watch a run, or look at one that is over, in the browser", "results",
    list(
      option("port", help = "port to listen on [default: any that is free]", type = "double"),
      option("no-browser", help = "only print the address", type = "flag"),
      option("trust", help = "also read what can run code: its maker's functions", type = "flag")
    ),
    goes_on = TRUE, example = "kilnwright view results",
    run = function(positional, options) {
      view <- view_comparison(
        positional$results, options$port, open = FALSE, trust = isTRUE(options$trust)
      )
      on.exit(view$stop())
      if (!isTRUE(options[["no-browser"]])) open_page(view$address)
      writeLines(view$address)
      complain("Ctrl-C ends the view; it only reads.")
      repeat httpuv::service(1000)
    }
  )
}

member_command_preview <- function() {
  new_command("preview", "show settings, scores and fits of a plan file without running it", "plan",
    list(
      option("seed", help = "use this seed instead of the plan's", type = "double"), json_option()
    ),
    example = "kilnwright preview plan.yml",
    run = function(positional, options) {
      with_plan(positional$plan, options$seed, "stop", function(plan, file) {
        found <- preview(plan)
        if (options$json) say_json(found$candidates) else print(found)
      })
    }
  )
}

no_report_option <- function() {
  option("no-report", help = "write no report, which takes some seconds", type = "flag")
}

intervals_option <- function() {
  option("intervals",
    help = "keep the folds' fits too, for intervals of single predictions", type = "flag"
  )
}

run_plan_file <- function(file, options, absent = "stop") {
  with_plan(file, options$seed, absent, function(plan, file) run_plan(plan, file, options))
}

# The plan in a file, or in what comes over standard input, and a file that holds it.
with_plan <- function(file, seed, absent, use) {
  folder <- dirname(file)
  if (file == "-") {
    file <- plain_file("-")
    # reason: a temporary copy of standard input
    on.exit(unlink(file))
  }
  plan <- plan_from_file(file, seed, absent, folder)
  use(plan, file)
}

run_plan <- function(plan, file, options) {
  limits <- limits(minutes = options$minutes, fit_seconds = options[["fit-seconds"]])
  asked_processes(options)
  made <- !dir.exists(options$out)
  journal <- options$journal %||% file.path(options$out, results_journal)
  if (journal == "none") journal <- NULL
  prepare_results_folder(options$out, options$replace, journal)
  if (is.null(options$journal) && options$replace) remove_journal(journal)
  on.exit(if (made && length(list.files(options$out, all.files = TRUE, no.. = TRUE)) == 0L) {
    # reason: made by us, and still empty
    unlink(options$out, recursive = TRUE)
  })
  complain(capture_print(preview(plan, pilots = FALSE)), "")
  workers <- asked_workers(options)
  cmp <- tryCatch(
    run_comparison(plan,
      quiet = options$quiet, workers = workers, journal = journal,
      accept_versions = isTRUE(options[["accept-versions"]]), log = options$log, limits = limits
    ),
    kw_error_journal = function(e) {
      if (!is.null(options$journal)) stop(e)
      stop_kw("journal", plain_message(e),
        where = paste0("It is ", quoted(journal), "."),
        remedy = "Say --replace to begin anew, --out for another folder, or --journal none."
      )
    }
  )
  chosen <- choose_if_any(cmp, isTRUE(options$intervals))
  cmp <- chosen$cmp
  said <- c(capture_print(cmp), "", chosen$said)
  trouble <- write_results(
    options$out, file, cmp, chosen$choice, chosen$model, chosen$aside, said,
    report = !isTRUE(options[["no-report"]])
  )
  cat(said, sep = "\n")
  say("")
  say("Results are in ", normalizePath(options$out), ":")
  say_wrapped(paste0("  ", enumerate(list.files(options$out), 14L)))
  page <- file.path(normalizePath(options$out), results_report)
  if (file.exists(page)) say("Open this page first: ", page)
  trouble <- c(chosen$trouble, trouble)
  if (length(trouble) > 0L) {
    stop_kw("results", "Not everything could be made.",
      where = paste(c(trouble[1], if (length(trouble) > 1L) {
        paste0("Nor ", enumerate(sub(": .*", "", trouble[-1]), 9L), ".")
      }), collapse = " ")
    )
  }
}

# The choice and what follows from it, as far as it goes: where it fails, the comparison is kept
# all the same. `trouble`: what failed, unless the run was broken off too early for a model.
choose_if_any <- function(cmp, intervals) {
  choice <- model <- aside <- NULL
  failed <- tryCatch(
    {
      choice <- select_final(cmp)
      model <- fit_final(choice, intervals)
      if (!is.null(brief_of(cmp)$sealed)) aside <- score_set_aside(model)
      NULL
    },
    kw_error = plain_message
  )
  said <- c(
    if (is.null(choice)) "Nothing is chosen." else capture_print(choice), "",
    if (is.null(model)) {
      NULL
    } else if (is.null(aside) && !is.null(failed)) {
      "The set-aside rows could not be scored."
    } else {
      set_aside_lines(aside, model)
    },
    if (!is.null(failed)) strwrap(paste("!", failed), 80L, exdent = 2L),
    if (!is.null(model)) c("", strwrap(in_one_sentence(choice, aside), 80L, exdent = 2L))
  )
  list(
    # with the blend that the plan may ask for
    cmp = choice$cmp %||% cmp, choice = choice, model = model, aside = aside, said = said,
    trouble = if (is.null(cmp$stopped) || !is.null(model)) failed
  )
}

asked_processes <- function(options) {
  said <- options$workers %||% "auto"
  number <- if (said == "auto") said else suppressWarnings(as.numeric(said))
  if (is.na(number)) wrong_call(paste0("--workers wants a number or auto, not ", quoted(said), "."))
  number
}

# With --listen: as many workers here as asked for, and whoever joins.
asked_workers <- function(options) {
  workers <- asked_processes(options)
  if (is.null(options$listen)) return(workers)
  at <- workers_at(
    options$listen, options$certificate, if (identical(workers, "auto")) 1 else workers
  )
  complain(paste0(
    "Workers may join: kilnwright worker --url ", at$url,
    " --certificate ", basename(at$certificate), " (a copy of ", at$certificate, ")"
  ))
  at
}

capture_print <- function(x) utils::capture.output(print(x))

# How the interval was had; of few groups it is wide, and a word is due.
interval_words <- function(aside) {
  units <- if (is.na(aside$groups[1])) aside$rows[1] else aside$groups[1]
  what <- if (is.na(aside$groups[1])) "row" else "group"
  by <- if (units < enough_units) {
    paste0("by the jackknife, since ", count_of(units, what), " are few")
  } else {
    paste0("by bootstrap draws of ", count_of(units, what))
  }
  strwrap(paste0("low and high: 95 % interval of the set-aside score, ", by), 80L, exdent = 2L)
}

set_aside_lines <- function(aside, model) {
  if (is.null(aside)) return("No rows were set aside.")
  rows <- data.frame(
    metric = aside$metric, training = mapply(round_to, aside$training, aside$validation_se),
    validation = mapply(round_to, aside$validation, aside$validation_se),
    sd = mapply(round_to, aside$validation_sd, aside$validation_se),
    set_aside = mapply(round_to, aside$set_aside, aside$validation_se),
    low = mapply(round_to, aside$low, aside$validation_se),
    high = mapply(round_to, aside$high, aside$validation_se)
  )
  c(
    paste0(
      "The final model on the ", count_of(aside$rows[1], "set-aside row"), ", opened ",
      if (aside$openings[1] == 1L) "once" else paste(aside$openings[1], "times"), ":"
    ),
    utils::capture.output(print_table(rows, align = c("left", rep("right", 6L)))),
    interval_words(aside),
    if (!is.null(attr(aside, "intervals"))) {
      strwrap(coverage_text(attr(aside, "intervals")), 80L, exdent = 2L)
    }
  )
}
