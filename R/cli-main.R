#' The command line
#'
#' `install_command()` puts the command `kilnwright` into a folder on the PATH;
#' `run_command_line()` is what it calls. Results go to standard output or a named
#' file, messages to standard error; the exit status is not zero after an error.
#'
#' @param dir Folder to put the command into; it should be on the PATH.
#' @param arguments Character vector, as typed after `kilnwright`.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return `install_command()`: the path of the command, invisibly.
#'   `run_command_line()` ends the R session with the exit status, unless the
#'   session is interactive.
#' @section Errors:
#' `kw_error_argument` when the folder does not exist.
#' @examples
#' install_command(tempdir())
#' @export
install_command <- function(dir, ...) {
  no_more(...)
  check_string(dir, "dir")
  if (!dir.exists(dir)) stop_kw("argument", paste0("There is no folder ", quoted(dir), "."))
  from <- system.file("exec", "kilnwright", package = "kilnwright", mustWork = TRUE)
  to <- file.path(dir, "kilnwright")
  # reason: our own command, into the folder that was named
  if (!file.copy(from, to, overwrite = TRUE)) {
    stop_kw("argument", paste0("The folder ", quoted(dir), " cannot be written to."))
  }
  Sys.chmod(to, "0755")
  invisible(to)
}

#' @rdname install_command
#' @export
run_command_line <- function(arguments, ...) {
  no_more(...)
  status <- run_command(arguments)
  # a reader that has seen enough, as `| head`, is no error; a full disk is one
  if (output_state() == "failed") {
    complain("Error: the output could not be written. Is the disk full?")
    status <- 1L
  }
  if (!interactive()) quit(save = "no", status = status)
  invisible(status)
}

# Runs one command; returns the exit status: 0 done, 1 error, 2 wrong call.
run_command <- function(arguments) {
  if (length(arguments) > 0L && arguments[1] == "--with") return(run_with_parts(arguments[-1]))
  commands <- shipped_members("command")
  if (length(arguments) == 0L || arguments[1] %in% c("--help", "-h", "help")) {
    print_command_list(commands)
    return(if (length(arguments) == 0L) 2L else 0L)
  }
  if (arguments[1] == "--version") {
    say("kilnwright ", as.character(utils::packageVersion("kilnwright")))
    return(0L)
  }
  if (!arguments[1] %in% names(commands)) {
    complain(
      strwrap(paste0(
        "There is no command ", quoted(arguments[1]), ". ",
        did_you_mean(arguments[1], names(commands), "Commands")
      ), 80),
      "See kilnwright --help."
    )
    return(2L)
  }
  tryCatch(
    {
      withCallingHandlers(
        run_one_command(commands[[arguments[1]]](), arguments[1], arguments[-1]),
        kw_warning = function(w) {
          complain(paste("Warning:", conditionMessage(w)))
          invokeRestart("muffleWarning")
        }
      )
    },
    kw_usage = function(e) {
      complain(conditionMessage(e), paste0("See kilnwright ", arguments[1], " --help."))
      2L
    },
    error = function(e) {
      if (output_state() == "gone" && grepl("SIGPIPE", conditionMessage(e))) return(0L)
      complain(paste0("Error: ", command_words(cli::ansi_strip(conditionMessage(e)))))
      1L
    }
  )
}

# Packages that register parts of their own are loaded before the command; R files are run, and the
# parts that they define are known to it.
run_with_parts <- function(arguments) {
  named <- strsplit(c(arguments, "")[1], ",", fixed = TRUE)[[1]]
  if (length(named) == 0L) {
    complain("--with wants the name of a package, or an R file.", "See kilnwright --help.")
    return(2L)
  }
  for (one in named) {
    trouble <- if (grepl("[.][Rr]$", one)) {
      parts_of_file(one)
    } else if (!requireNamespace(one, quietly = TRUE)) {
      paste0("The package ", quoted(one), " is not installed, or does not load.")
    }
    if (!is.null(trouble)) {
      complain(trouble, "See kilnwright --help.")
      return(2L)
    }
  }
  run_command(arguments[-1])
}

# Not in the global environment, so that workers get what the parts need with them. NULL, or what
# went wrong.
parts_of_file <- function(file) {
  if (!file.exists(file)) return(paste0("There is no file ", quoted(file), "."))
  home <- new.env(parent = globalenv())
  tryCatch(
    {
      sys.source(file, home)
      if (length(register_members(home)) == 0L) {
        paste0("The file ", quoted(file), " defines no part, such as by define_family().")
      }
    },
    error = function(e) paste0("The file ", quoted(file), " does not run: ", plain_message(e))
  )
}

# What an error says of arguments, in the words of the command line.
command_words <- function(text) {
  text <- gsub("say open_(model|comparison)\\([^)]*trust = TRUE\\)", "add --trust", text)
  text <- gsub(
    "open it with open_comparison(file, trust = TRUE)", "add --trust", text,
    fixed = TRUE
  )
  text <- gsub("accept_versions = TRUE", "--accept-versions", text, fixed = TRUE)
  text <- gsub("replace = TRUE", "--replace", text, fixed = TRUE)
  text <- gsub("say event = ", "say --event ", text, fixed = TRUE)
  text <- gsub("say outcome_kind = ", "say --outcome-kind ", text, fixed = TRUE)
  text <- gsub(
    "rows_without_outcome = \"leave_out\"",
    "brief: {rows_without_outcome: leave_out} in the plan file", text,
    fixed = TRUE
  )
  # how a date becomes a number
  text <- sub(": as\\.numeric\\(difftime\\(.*\\)\\)\\.$", ", in the table itself.", text)
  for (argument in c("read_as", "missing_codes")) {
    option <- paste0("--", gsub("_", "-", argument))
    text <- gsub(
      paste0(argument, " = list\\(([^()]*) = \"([^\"]*)\"\\)"),
      paste0(option, " \"\\1=\\2\" or brief: {", argument, ": {\\1: \\2}} in a plan file"), text
    )
  }
  text <- ordered_option(text)
  named <- "`(seed|top|metric|rule|candidate|journal|workers|minutes|fit_seconds|out|id|type)`"
  found <- gregexpr(named, text)
  regmatches(text, found) <- lapply(regmatches(text, found), function(words) {
    paste0("--", gsub("_", "-", gsub("`", "", words)), recycle0 = TRUE)
  })
  text
}

# `ordered = list(grade = c("low", "high"))` as an option.
ordered_option <- function(text) {
  found <- regexpr("ordered = list\\(.* = c\\(.*\\)\\)", text)
  if (found < 0L) return(text)
  said <- sub("^ordered = list\\((.*)\\)$", "\\1", regmatches(text, found))
  name <- gsub("`", "", sub(" = c\\(.*$", "", said))
  levels <- gsub("\"", "", sub("^.* = c\\((.*)\\)$", "\\1", said))
  option <- paste0("--ordered \"", name, "=", gsub(", ", "<", levels), "\"")
  regmatches(text, found) <- paste(option, "or brief: {ordered: ...} in a plan file")
  text
}

# Names that an option gives, separated by commas; those with commas in them are put into double
# quotes, as in a table of text: '"size, mm",glaze'. A double quote is then written twice.
names_given <- function(text) {
  if (is.null(text)) return(NULL)
  field <- "[[:space:]]*\"([^\"]|\"\")*\"[[:space:]]*(?=,|$)|[^,]+"
  given <- trimws(regmatches(text, gregexpr(field, text, perl = TRUE))[[1]])
  whole <- grepl("^\"([^\"]|\"\")*\"$", given)
  inner <- substr(given[whole], 2L, nchar(given[whole]) - 1L)
  given[whole] <- gsub("\"\"", "\"", inner, fixed = TRUE)
  given
}

complain <- function(...) cat(visible(paste0(c(...), "\n")), sep = "", file = stderr())

wrong_call <- function(message) {
  stop(structure(class = c("kw_usage", "error", "condition"), list(message = message, call = NULL)))
}

# A command: what it does, its arguments by position (the last `optional` of them may be left out),
# its options, a function(positional, options), an example of the call, and whether it goes on for
# long.
new_command <- function(
  name, does, positional, options = list(), run, optional = 0L, example, goes_on = FALSE
) {
  member("command", name, does, options,
    positional = positional, run = run, optional = optional, example = example, goes_on = goes_on
  )
}

# What follows a command, in capitals; in brackets what may be left out.
words_of_positional <- function(command) {
  names <- toupper(command$positional)
  left <- seq_along(names) > length(names) - command$optional
  ifelse(left, paste0("[", names, "]"), names)
}

run_one_command <- function(command, name, arguments) {
  need("optparse", "The command line")
  # what is soon done would be compiled for longer than it takes
  if (!command$goes_on) {
    compiled <- compiler::enableJIT(0L)
    on.exit(compiler::enableJIT(compiled), add = TRUE)
  }
  flags <- vapply(command$arguments, function(argument) argument@long_flag, "")
  if ("--json" %in% flags) {
    before <- options(kilnwright.has_all = "--json")
    on.exit(options(before), add = TRUE)
  }
  usage <- paste(
    "kilnwright", name, paste(words_of_positional(command), collapse = " "), "[options]"
  )
  parser <- optparse::OptionParser(
    usage = usage,
    option_list = command$arguments,
    description = command$does,
    epilogue = paste0("Example:\n\t", paste(command$example, collapse = "\n\t")),
    prog = "kilnwright"
  )
  if (any(arguments %in% c("--help", "-h"))) {
    optparse::print_help(parser)
    return(0L)
  }
  parsed <- tryCatch(
    suppressWarnings(optparse::parse_args(parser, args = arguments, positional_arguments = TRUE)),
    error = function(e) wrong_call(option_words(conditionMessage(e), flags))
  )
  given <- length(parsed$args)
  wanted <- length(command$positional)
  if (given > wanted || given < wanted - command$optional) {
    wrong_call(paste0(
      "kilnwright ", name, " takes ", count_of(wanted, "argument"),
      if (wanted > 0L) {
        paste0(" (", paste(toupper(command$positional), collapse = ", "), ")")
      },
      "; got ", given, "."
    ))
  }
  positional <- stats::setNames(as.list(parsed$args), utils::head(command$positional, given))
  command$run(positional, parsed$options)
  0L
}

# What is wrong with an option, with the nearest one that there is.
option_words <- function(message, flags) {
  strange <- sub("^no such option: ", "", message)
  if (strange == message) {
    said <- plain_text(sub("^Error in getopt[^\n]*\n", "", message))
    return(paste0(sub("^(long )?flag \"([^\"]*)\"", "--\\2", said), "."))
  }
  near <- nearest_names(strange, c(flags, "--help"))
  paste0(
    "There is no option ", strange, ".", if (length(near) > 0L) paste0(" Did you mean ", near, "?")
  )
}

print_command_list <- function(commands) {
  say("kilnwright: compare candidate models on tabular data, choose by mean and spread")
  say("")
  say("Usage: kilnwright COMMAND [arguments] [options]")
  say("")
  rows <- data.frame(
    command = paste0("  ", names(commands)),
    does = vapply(commands, function(make) make()$does, character(1))
  )
  for (i in seq_len(nrow(rows))) say(formatC(rows$command[i], width = -13), rows$does[i])
  say("")
  say("kilnwright COMMAND --help says more. kilnwright --with PACKAGE,FILE.R COMMAND ... loads")
  say("packages and runs R files (as code: know what is in them) whose parts, such as families or")
  say("steps, are named in the plan file.")
}

json_option <- function() option("json", help = "write JSON instead of text to read", type = "flag")

option <- function(name, default = NULL, help, type = "character") {
  if (identical(type, "flag")) {
    return(optparse::make_option(
      paste0("--", name),
      action = "store_true", default = FALSE, help = help
    ))
  }
  optparse::make_option(paste0("--", name),
    default = default, type = type, help = help,
    metavar = toupper(name)
  )
}
