#' Read a plan file
#'
#' A plan file holds a whole comparison in YAML, in the words of the R arguments;
#' `system.file("extdata", "pots-plan.yml", package = "kilnwright")` is one with
#' comments. Values keep what was written: `event: yes` is the text "yes", and
#' `1e-4` is a number. Nothing in the file is ever evaluated as code.
#'
#' @param file Path of the plan file. The table's path in it is relative to it.
#' @param seed Overrides the file's seed.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A plan for [preview()] and [run_comparison()], with the file's `rule`.
#' @section Errors:
#' `kw_error_plan_file` when the file is absent or no YAML, has an unknown key
#' (naming the nearest known one) or a value of the wrong type, each with its
#' place in the file; and the errors of the functions that the keys stand for.
#' @examples
#' read_plan(system.file("extdata", "pots-plan.yml", package = "kilnwright"))
#' @export
read_plan <- function(file, seed = NULL, ...) {
  no_more(...)
  plan_from_file(file, seed, absent = "stop")
}

# `absent`: what to do about candidates whose packages are not installed: "stop", or a
# function that is told their names and packages before they are left out.
# `table`: rows in place of the file that the brief names.
plan_from_file <- function(file, seed, absent, folder = dirname(file), table = NULL) {
  check_string(file, "file")
  said <- load_plan_yaml(file)
  at <- "the top"
  said <- plan_keys(said, keys_at(at), at, keys_needed_at(at))
  brief <- plan_brief(said$brief, folder, table)
  if (!is.null(said$set_aside)) brief <- plan_set_aside(brief, said$set_aside)
  candidates <- plan_candidates(said$candidates, said$shared)
  if (is.function(absent)) candidates <- leave_out_absent(candidates, brief$kind, absent)
  for (i in seq_along(said$rule_out)) {
    candidates <- plan_rule(candidates, said$rule_out[[i]], paste0("rule_out[", i, "]"))
  }
  arguments <- list(
    brief = brief, candidates = candidates,
    seed = seed %||% plan_number(said$seed, "seed"),
    search_seed = plan_number(said$search_seed, "search_seed")
  )
  if (!is.null(said$splits)) arguments$splits <- plan_member(said$splits, "split_", "splits")
  if (!is.null(said$search)) {
    arguments$search <- plan_search(said$search, names(candidates$pipelines))
  }
  if (!is.null(said$screen)) arguments$screen <- plan_member(said$screen, "screen_", "screen")
  arguments$metrics <- plan_metrics(said$metrics)
  arguments$provided <- plan_texts(said$provided, "provided")
  arguments$decide <- plan_text(said$decide, "decide")
  arguments$margin <- plan_number(said$margin, "margin")
  plan <- do.call(plan_comparison, arguments)
  plan["minutes"] <- list(plan_number(said$minutes, "minutes"))
  if (!is.null(plan$minutes)) check_number(plan$minutes, "minutes", min = 0, open_min = TRUE)
  plan["rule"] <- list(plan_choosing(said[["rule"]]))
  if (!is.null(said$blend)) {
    named <- plan_flag_or_texts(said$blend, "blend")
    check_blended(named, names(said$candidates), "blend")
    plan$rule$blend <- if (is.character(named)) intersect(named, names(plan$spaces)) else named
  }
  plan
}

leave_out_absent <- function(candidates, kind, tell) {
  wanted <- lapply(candidates$pipelines, function(p) {
    packages <- family_packages(p$family$definition, p$family$settings, kind)
    packages[!vapply(packages, requireNamespace, logical(1), quietly = TRUE)]
  })
  gone <- wanted[lengths(wanted) > 0L]
  for (name in names(gone)) tell(name, gone[[name]])
  candidates$pipelines <- candidates$pipelines[setdiff(names(wanted), names(gone))]
  candidates
}

# The rule that is to choose: its name, or {name: margin}, or {name: {margin: number}}. Rules live a
# layer higher; a plan only has to hold what select_final() will take.
plan_choosing <- function(x) {
  if (is.null(x)) return(NULL)
  known <- known_members("rule")
  if (!is_map(x)) {
    name <- plan_text(x, "rule")
    check_choice(name, names(known), "rule")
    return(list(name = name, margin = NULL))
  }
  if (length(x) != 1L) plan_error("One rule is expected here.", "rule")
  name <- names(x)
  check_choice(name, names(known), "rule")
  at <- paste0("rule > ", name)
  if (is.null(known[[name]]()$margin)) {
    plan_error("This rule takes no margin.", at, paste0("Write rule: ", name, "."))
  }
  given <- x[[1]]
  if (is_map(given)) given <- plan_keys(given, "margin", at, required = "margin")$margin
  margin <- plan_number(given, at)
  check_number(margin, at, min = 0)
  list(name = name, margin = margin)
}

plan_error <- function(problem, at, remedy = NULL) {
  stop_kw("plan_file", problem, where = paste0("At ", at, "."), remedy = remedy)
}

# YAML with every scalar as "tag<separator>text", so that types come from what is
# wanted, not from what YAML makes of the spelling.
load_plan_yaml <- function(file) {
  if (!file.exists(file) || dir.exists(file)) {
    stop_kw("plan_file", paste0("There is no plan file ", quoted(file), "."),
      remedy = "Give the path of a YAML file."
    )
  }
  text <- plan_lines(file)
  tags <- c(
    "str", "int", "int#hex", "int#oct", "int#base60", "float", "float#fix", "float#exp",
    "float#inf", "float#nan", "float#base60", "bool#yes", "bool#no", "null", "int#na",
    "float#na",
    "bool#na", "str#na", "timestamp#iso8601", "timestamp#spaced", "timestamp#ymd"
  )
  handlers <- lapply(tags, function(tag) function(x) paste0(tag, "\u0001", x))
  names(handlers) <- tags
  handlers$seq <- function(x) as.list(x)
  read <- with_conditions(yaml::yaml.load(text, handlers = handlers, eval.expr = FALSE))
  if (!is.null(read$error)) {
    stop_kw("plan_file", paste0("The plan file ", quoted(file), " is no valid YAML."),
      where = gsub("[a-z#0-9]*\u0001", "", read$error),
      remedy = "Check indentation, brackets and quotes at that line."
    )
  }
  plain_yaml(read$value)
}

most_plan_bytes <- 5e6
deepest_plan <- 40L
most_plan_values <- 1e5

# The text of a plan file, if it is of a size and a depth that a person could have written:
# deeper nesting could bring the reader down.
plan_lines <- function(file) {
  if (file.size(file) > most_plan_bytes) {
    stop_kw("plan_file", paste0("The plan file ", quoted(file), " is larger than 5 MB."),
      remedy = "A plan holds names and values; the table is a file of its own."
    )
  }
  lines <- readLines(file, encoding = "UTF-8", warn = FALSE)
  if (!all(validUTF8(lines))) {
    stop_kw("plan_file", paste0("The plan file ", quoted(file), " is not UTF-8."),
      where = where_rows(!validUTF8(lines))
    )
  }
  deepest <- max(c(0L, bracket_depth(lines), indent_depth(lines)))
  if (deepest > deepest_plan) {
    stop_kw("plan_file", paste0(
      "The plan file ", quoted(file), " is nested more than ", deepest_plan, " deep."
    ))
  }
  paste(lines, collapse = "\n")
}

bracket_depth <- function(lines) {
  signs <- unlist(regmatches(lines, gregexpr("[][{}]", lines)))
  cumsum(ifelse(signs %in% c("[", "{"), 1L, -1L))
}

# Every "- " and every further indent is a level.
indent_depth <- function(lines) {
  lead <- regmatches(lines, regexpr("^[ -]*", lines))
  dashes <- nchar(gsub(" ", "", lead, fixed = TRUE))
  levels <- integer()
  deepest <- 0L
  for (width in nchar(lead[nzchar(trimws(lines))])) {
    levels <- c(levels[levels < width], width)
    deepest <- max(deepest, length(levels))
  }
  deepest + max(c(0L, dashes))
}

plain_yaml <- function(x) {
  seen <- 0
  walk <- function(x) {
    seen <<- seen + 1
    if (seen > most_plan_values) {
      stop_kw("plan_file", paste0(
        "The plan file stands for more than ", format(most_plan_values, big.mark = ","), " values."
      ),
      remedy = "Are there aliases in it that repeat one another?"
      )
    }
    if (!is.list(x)) return(plain_scalar(x))
    if (!is.null(names(x))) names(x) <- sub("^[^\u0001]*\u0001", "", names(x))
    lapply(x, walk)
  }
  walk(x)
}

plain_scalar <- function(x) {
  if (is.null(x)) return(NULL)
  parts <- strsplit(x, "\u0001", fixed = TRUE)[[1]]
  if (length(parts) == 1L && !grepl("\u0001", x, fixed = TRUE)) parts <- c("str", parts)
  if (parts[1] == "null") return(NULL)
  structure(
    list(text = if (length(parts) > 1L) parts[2] else "", tag = parts[1]),
    class = "kw_scalar"
  )
}

is_scalar <- function(x) inherits(x, "kw_scalar")
is_map <- function(x) is.list(x) && !is_scalar(x) && !is.null(names(x))

# A map with known keys only.
plan_keys <- function(x, known, at, required = character()) {
  if (is.null(x)) x <- list()
  if (!is.list(x) || is_scalar(x) || (length(x) > 0L && is.null(names(x)))) {
    plan_error(
      "Keys with values are expected here.", at, paste0("Keys: ", enumerate(known, 20L), ".")
    )
  }
  for (key in setdiff(names(x), known)) {
    plan_error(paste0("There is no key ", quoted(key), "."), at, did_you_mean(key, known, "Keys"))
  }
  for (key in required) {
    if (is.null(x[[key]])) plan_error(paste0("The key ", quoted(key), " is missing."), at)
  }
  x
}

plan_text <- function(x, at) {
  if (is.null(x)) return(NULL)
  if (!is_scalar(x)) plan_error("One word or text is expected here.", at)
  x$text
}

plan_texts <- function(x, at) {
  if (is.null(x)) return(NULL)
  if (is_scalar(x)) return(x$text)
  if (is_map(x)) plan_error("A list of words is expected here.", at)
  vapply(seq_along(x), function(i) plan_text(x[[i]], paste0(at, "[", i, "]")), character(1))
}

number_pattern <- "^[+-]?([0-9]+\\.?[0-9]*|\\.[0-9]+)([eE][+-]?[0-9]+)?$"

plan_number <- function(x, at) {
  if (is.null(x)) return(NULL)
  if (!is_scalar(x) || !grepl(number_pattern, x$text)) {
    plan_error(
      paste0("A number is expected here", if (is_scalar(x)) paste0("; got ", quoted(x$text)), "."),
      at
    )
  }
  as.numeric(x$text)
}

plan_numbers <- function(x, at) {
  if (is.null(x)) return(NULL)
  if (is_scalar(x)) return(plan_number(x, at))
  vapply(seq_along(x), function(i) plan_number(x[[i]], paste0(at, "[", i, "]")), 1)
}

plan_number_or_texts <- function(x, at) {
  if (is_scalar(x) && grepl(number_pattern, x$text)) plan_number(x, at) else plan_texts(x, at)
}

# TRUE and FALSE, or names: what the function that gets them makes of other words is its
# own to say.
plan_flag_or_texts <- function(x, at) {
  flag <- is_scalar(x) && tolower(x$text) %in% c("yes", "true", "no", "false")
  if (flag) plan_flag(x, at) else plan_texts(x, at)
}

plan_flag <- function(x, at) {
  word <- if (is_scalar(x)) tolower(x$text) else ""
  if (word %in% c("yes", "true")) return(TRUE)
  if (word %in% c("no", "false")) return(FALSE)
  plan_error(
    paste0("yes or no is expected here", if (is_scalar(x)) paste0("; got ", quoted(x$text)), "."),
    at
  )
}

# A value whose type nobody prescribes: numbers by their spelling, unless quoted
# or a word.
# What is in quotes, and what begins with zeros, such as 007, is text; but YAML calls 1e-3 a text.
plan_any <- function(x, at) {
  if (is.null(x)) return(NULL)
  if (is_scalar(x)) {
    number <- grepl(number_pattern, x$text) && !grepl("^[+-]?0[0-9]", x$text) &&
      (x$tag != "str" || grepl("[eE]", x$text))
    return(if (number) as.numeric(x$text) else x$text)
  }
  values <- Map(plan_any, x, paste0(at, " > ", names(x) %||% seq_along(x)))
  if (is_map(x)) values else unlist(values)
}

plan_brief <- function(x, folder, table = NULL) {
  x <- plan_keys(x, keys_at("brief"), "brief", keys_needed_at("brief"))
  file <- plan_text(x$table, "brief > table")
  if (!grepl("^(/|[A-Za-z]:|~)", file)) file <- file.path(folder, file)
  map_of <- function(value, key, read) {
    if (is.null(value)) return(NULL)
    if (!is_map(value)) {
      plan_error("Column names with values are expected here.", paste0("brief > ", key))
    }
    Map(read, value, paste0("brief > ", key, " > ", names(value)))
  }
  brief(table %||% read_data(file),
    outcome = plan_text(x$outcome, "brief > outcome"),
    event = plan_text(x$event, "brief > event"), id = plan_texts(x$id, "brief > id"),
    group = plan_text(x$group, "brief > group"), weight = plan_text(x$weight, "brief > weight"),
    time = plan_text(x$time, "brief > time"), ignore = plan_texts(x$ignore, "brief > ignore"),
    ordered = map_of(x$ordered, "ordered", plan_texts),
    text = plan_texts(x$text, "brief > text"),
    missing_codes = map_of(x$missing_codes, "missing_codes", function(value, at) {
      if (!is.null(value)) as_codes(plan_texts(value, at))
    }),
    read_as = map_of(x$read_as, "read_as", plan_text),
    outcome_scale = plan_texts(x$outcome_scale, "brief > outcome_scale"),
    outcome_kind = plan_text(x$outcome_kind, "brief > outcome_kind"),
    exposure = plan_text(x$exposure, "brief > exposure"),
    quantiles = plan_numbers(x$quantiles, "brief > quantiles"),
    costs = map_of(x$costs, "costs", plan_any),
    rows_without_outcome = plan_text(
      x$rows_without_outcome, "brief > rows_without_outcome"
    ) %||% "refuse"
  )
}

plan_set_aside <- function(brief, x) {
  x <- plan_keys(x, keys_at("set_aside"), "set_aside")
  at <- function(key) paste0("set_aside > ", key)
  arguments <- list(
    brief = brief, share = plan_number(x$share, at("share")),
    seed = plan_number(x$seed, at("seed")),
    after = plan_text(x$after, at("after"))
  )
  for (key in c("latest", "keep_groups")) {
    if (!is.null(x[[key]])) arguments[[key]] <- plan_flag(x[[key]], at(key))
  }
  do.call(set_aside, Filter(Negate(is.null), arguments))
}

# A splitter or search: its name, or a map of one name to its arguments. Only
# exported functions with the prefix can be named; types come from their defaults, or, where these
# tell none, from how a value is written.
plan_member <- function(x, prefix, at) {
  members <- known_makers(prefix)
  name <- if (is_scalar(x)) x$text else if (is_map(x) && length(x) == 1L) names(x)
  if (is.null(name)) plan_error("One name, or one name with its arguments, is expected here.", at)
  if (!name %in% names(members)) {
    plan_error(paste0("There is no ", quoted(name), "."), at, did_you_mean(name, names(members)))
  }
  make <- members[[name]]
  if (is_scalar(x)) return(make())
  at <- paste0(at, " > ", name)
  # {kfold: 5} is {kfold: {k: 5}}
  wanted <- arguments_of_maker(make)
  if (!is_map(x[[1]]) && length(wanted) > 0L) {
    x[[1]] <- stats::setNames(list(x[[1]]), names(wanted)[1])
  }
  given <- plan_keys(x[[1]], names(wanted), at)
  arguments <- Map(function(value, key) {
    # an argument without a default has the empty name in its place
    open <- is.symbol(wanted[[key]])
    default <- if (!open) wanted[[key]]
    read <- if (!open && is.null(default)) {
      plan_any
    } else if (is.logical(default)) {
      plan_flag_or_texts
    } else if (open || is.numeric(default)) {
      plan_number_or_texts
    } else {
      plan_texts
    }
    read(value, paste0(at, " > ", key))
  }, given, names(given))
  do.call(make, arguments)
}

# Names of metrics, or one name with its values: {cost: {missed: 10, false_alarm: 1}}.
plan_metrics <- function(x) {
  if (is.null(x)) return(NULL)
  if (is_scalar(x) || is_map(x)) x <- list(x)
  lapply(seq_along(x), function(i) {
    at <- paste0("metrics[", i, "]")
    if (is_scalar(x[[i]])) x[[i]]$text else plan_member(x[[i]], "metric_", at)
  })
}

# One search for all, or one per candidate with "others" for the rest.
plan_search <- function(x, candidates) {
  single <- is_scalar(x) || (is_map(x) && length(x) == 1L && !names(x) %in% c(candidates, "others"))
  if (single) return(plan_member(x, "search_", "search"))
  x <- plan_keys(x, c(candidates, "others"), "search")
  searches <- Map(
    function(value, name) plan_member(value, "search_", paste0("search > ", name)), x, names(x)
  )
  names(searches)[names(searches) == "others"] <- ""
  searches
}
