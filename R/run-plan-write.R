#' Write a plan as a plan file
#'
#' Whatever was planned in R, or found by [plan_by_itself()], can so be read, changed, repeated and
#' run from the command line. What was written is read again before it is kept: [read_plan()] gives
#' the same rows, candidates, splits, searches, metrics and seed, so that a journal of the one is a
#' journal of the other.
#'
#' @param plan A plan from [plan_comparison()].
#' @param file Path of the plan file, ending in `.yml` or `.yaml`.
#' @param table Path of the table from which the plan's brief was made; named from the plan's folder
#'   if it lies there or below. Without it the working rows
#'   are written beside the plan file, as CSV, or where that would change them as parquet (package
#'   nanoparquet).
#' @param replace Replace files that are there?
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return The path, invisibly.
#' @section Errors:
#' `kw_error_plan_file` for what a plan file cannot hold, such as functions of your own, and where
#' what is read again would be another plan; `kw_error_file` when a file exists or cannot be
#' written. Nothing is written then.
#' @examples
#' job <- brief(demo_pots(), outcome = "cracked", event = "yes", id = "pot_id")
#' plan <- plan_comparison(job, candidates(tree = sensible(fam_tree())), seed = 1)
#' file <- file.path(tempdir(), "tree.yml")
#' write_plan(plan, file, replace = TRUE)
#' cat(readLines(file), sep = "\n")
#' @export
write_plan <- function(plan, file, table = NULL, replace = FALSE, ...) {
  no_more(...)
  check_class(plan, "kw_plan", "plan", "Make one with plan_comparison().")
  check_string(file, "file")
  check_argument(grepl("\\.ya?ml$", file), "file", "a path that ends in .yml", file)
  check_string(table, "table", null_ok = TRUE)
  check_flag(replace, "replace")
  refuse_existing(file, replace)
  refused <- NULL
  for (ending in if (is.null(table)) c(".csv", ".parquet") else "") {
    beside <- if (is.null(table)) sub("\\.ya?ml$", ending, file) else NULL
    if (!is.null(beside)) refuse_existing(beside, replace)
    if (ending == ".parquet" && !requireNamespace("nanoparquet", quietly = TRUE)) next
    refused <- try_plan_file(plan, file, beside, table)
    if (is.null(refused)) return(invisible(file))
  }
  stop_kw("plan_file", "Read again, the plan file would not be the same plan.",
    where = refused,
    remedy = if (is.null(table)) {
      paste(
        "Write the table yourself, make the brief from read_data() of that file, and give `table`;",
        "or install nanoparquet: a CSV file does not keep factors, nor the order of their levels."
      )
    } else {
      paste0("Is ", quoted(table), " the table that the brief was made from?")
    }
  )
}

refuse_existing <- function(file, replace) {
  if (!replace && file.exists(file)) {
    stop_kw("file", paste0("The file ", quoted(file), " exists."),
      remedy = "Give another path, or replace = TRUE."
    )
  }
}

# Writes both into a folder of their own and reads them again; puts them into their place if it is
# the same plan, else says what differs.
try_plan_file <- function(plan, file, beside, table) {
  folder <- tempfile("plan-")
  dir.create(folder)
  # reason: a temporary folder of ours
  on.exit(unlink(folder, recursive = TRUE))
  draft <- file.path(folder, basename(file))
  if (!is.null(beside)) write_rows(whole_table(plan$brief), file.path(folder, basename(beside)))
  named <- if (is.null(beside)) normalizePath(table, mustWork = FALSE) else basename(beside)
  lines <- function(named) {
    head <- c(paste("# Run it with: kilnwright run", basename(file)), "")
    c(head, plan_yaml(plan, named, sealed = is.null(beside)))
  }
  writeLines(lines(named), draft, useBytes = TRUE)
  read <- tryCatch(read_plan(draft), kw_error = plain_message)
  if (is.character(read)) return(read)
  differs <- plan_differences(plan, read)
  if (length(differs) > 0L) return(paste0("it has other values of ", enumerate(differs)))
  if (!is.null(beside)) {
    rows <- file.path(folder, basename(beside))
    write_whole(beside, readBin(rows, "raw", file.size(rows)), private = TRUE)
  }
  write_whole(file, lines(if (is.null(beside)) path_from_plan(table, file) else named))
  NULL
}

# A table in the folder of the plan, or below it, is named from there, so that both can be moved.
path_from_plan <- function(table, file) {
  whole <- normalizePath(table, "/", mustWork = FALSE)
  folder <- paste0(normalizePath(dirname(file), "/", mustWork = FALSE), "/")
  if (startsWith(whole, folder)) substring(whole, nchar(folder) + 1L) else whole
}

# As it was given: counts, where the brief's own table holds rates.
whole_table <- function(brief) {
  table <- brief$table
  table[[brief$outcome]] <- counted_outcome(brief)
  table
}

write_rows <- function(table, file) {
  if (grepl("\\.parquet$", file)) return(nanoparquet::write_parquet(as.data.frame(table), file))
  columns <- lapply(unclass(table)[names(table)], function(x) {
    if (is.double(x) && !is.object(x)) ifelse(is.na(x), NA, number_text(x)) else x
  })
  data.table::fwrite(columns, file, quote = TRUE, na = "", dateTimeAs = "ISO")
}

# What of two plans is not the same.
plan_differences <- function(a, b) {
  facts <- function(plan) {
    list(
      "the table" = plan$brief$fingerprint,
      "the brief" = canonical_text(
        plan$brief[
          c("outcome", "kind", "levels", "quantiles", "roles", "schema", "outcome_scale", "costs")
        ]
      ),
      candidates = lapply(plan$candidates$pipelines, function(pipeline) {
        lapply(pipeline_forms(pipeline), form_yaml)
      }),
      "the settings to try" = lapply(plan$round, `[[`, "settings"),
      splits = vapply(plan$splits, `[[`, "", "key"),
      metrics = c(vapply(plan$metrics, metric_key, ""), plan$decide),
      "what is provided" = vapply(plan$provided, `[[`, "", "text"),
      searches = lapply(names(plan$spaces), function(name) {
        search_of(plan$seats, name)[c("name", "arguments")]
      }),
      "the screen" = plan$screen[c("name", "arguments")], "the seed" = plan$seed,
      "the seed of the searches" = plan$search_seed,
      "the margin" = plan$margin, "the rule" = plan$rule
    )
  }
  same <- mapply(function(x, y) isTRUE(all.equal(x, y, tolerance = 0)), facts(a), facts(b))
  names(same)[!same]
}

# As YAML ------------------------------------------------------------------------------------

# `table`: its path; `sealed`: are the rows set aside in it?
plan_yaml <- function(plan, table, sealed) {
  form <- list(
    brief = brief_yaml(plan$brief, table),
    set_aside = if (sealed && !is.null(plan$brief$sealed)) plan$brief$sealed$how,
    candidates = lapply(plan$candidates$pipelines, candidate_yaml),
    rule_out = lapply(plan$candidates$rules, rule_yaml),
    splits = member_yaml(plan$splitter, "split_"),
    search = searches_yaml(plan),
    screen = if (!is.null(plan$screen)) member_yaml(plan$screen, "screen_"),
    metrics = unname(lapply(plan$metrics, function(metric) {
      plain <- length(metric$arguments) == 0L && !is.null(named_member(metric))
      if (plain) return(metric$name)
      member_yaml(metric, "metric_")
    })),
    decide = plan$decide,
    provided = as.list(vapply(plan$provided, `[[`, "", "text")),
    margin = plan$margin, rule = choosing_yaml(plan$rule), blend = blend_yaml(plan$rule$blend),
    minutes = plan$minutes,
    seed = plan$seed, search_seed = plan$search_seed
  )
  form <- Filter(function(x) length(x) > 0L, form)
  yaml::as.yaml(yaml_values(form), indent.mapping.sequence = TRUE, unicode = TRUE)
}

# Numbers and flags as they are to be read; texts in quotes where YAML would take them for
# something else.
yaml_values <- function(x) {
  if (is.list(x)) return(lapply(x, yaml_values))
  if (is.logical(x)) return(verbatim(ifelse(x, "yes", "no")))
  if (is.numeric(x)) return(verbatim(number_text(x)))
  x
}

verbatim <- function(text) {
  if (length(text) > 1L) return(lapply(text, verbatim))
  structure(text, class = "verbatim")
}

brief_yaml <- function(brief, table) {
  predictors <- brief$table[names(brief$schema)]
  ordered <- lapply(Filter(is.ordered, predictors), function(x) as.list(levels(x)))
  if (brief$kind == "ordered") ordered[[brief$outcome]] <- as.list(brief$levels)
  form <- c(
    list(table = table, outcome = brief$outcome, event = if (brief$event_given) brief$event),
    lapply(brief$roles, function(role) if (length(role) > 1L) as.list(role) else role),
    list(
      ordered = ordered, text = as.list(brief$declared$text),
      missing_codes = lapply(brief$missing_codes, function(codes) {
        if (length(codes) > 1L) as.list(codes) else codes
      }),
      read_as = brief$declared$read_as,
      outcome_scale = if (is.list(brief$outcome_scale)) {
        cannot_hold("an outcome scale of functions")
      } else {
        as.list(brief$outcome_scale)
      },
      outcome_kind = if (brief$kind_given) brief$kind, quantiles = as.list(brief$quantiles),
      costs = brief$costs,
      rows_without_outcome = if (brief$n_without_outcome > 0L) "leave_out"
    )
  )
  Filter(function(x) length(x) > 0L, form)
}

searches_yaml <- function(plan) {
  seats <- plan$seats
  if (length(seats) == 1L) return(member_yaml(seats[[1]]$search, "search_"))
  # the seat of several candidates is that of the others
  unlist(lapply(seats, function(seat) {
    form <- member_yaml(seat$search, "search_")
    name <- if (length(seat$candidates) > 1L) "others" else seat$candidates
    stats::setNames(list(form), name)
  }), recursive = FALSE)
}

# A member by its name and the arguments that are not its defaults.
member_yaml <- function(member, prefix) {
  make <- known_makers(prefix)[[member$name]]
  if (is.null(make)) cannot_hold(paste0(sub("_$", "", prefix), " ", quoted(member$name)))
  defaults <- as.list(make()$arguments)
  given <- Filter(Negate(is.null), member$arguments)
  given <- given[!vapply(names(given), function(name) {
    isTRUE(all.equal(given[[name]], defaults[[name]]))
  }, NA)]
  if (length(given) == 0L) return(member$name)
  plain <- lapply(given, function(value) {
    if (!is.atomic(value)) cannot_hold(paste(member$name, "with arguments other than values"))
    if (length(value) > 1L) as.list(value) else value
  })
  stats::setNames(list(plain), member$name)
}

cannot_hold <- function(what) {
  stop_kw("plan_file", paste0("A plan file cannot hold ", what, "."),
    remedy = "Save the R script instead, or use what is part of the package."
  )
}

candidate_yaml <- function(pipeline) {
  forms <- lapply(pipeline_forms(pipeline), form_yaml)
  last <- length(forms)
  if (last == 2L && identical(forms[[1]], "minimal")) return(forms[[2]])
  # a family alone would get minimal steps
  if (last == 1L) c("as_is", forms) else forms
}

form_yaml <- function(form) {
  if (form$kind %in% c("pre", "fam")) return(part_yaml(form))
  if (nzchar(form$called)) cannot_hold(paste0("a name for ", form$kind, "()"))
  alternatives <- lapply(form$alternatives, function(forms) {
    if (length(forms) == 0L) return("as_is")
    unname(lapply(forms, form_yaml))
  })
  if (form$kind == "optional") return(list(optional = alternatives$yes))
  list(either = alternatives)
}

part_yaml <- function(form) {
  known <- form$shipped || is_registered(c(pre = "step", fam = "fam")[[form$kind]], form$name)
  if (!known) cannot_hold(paste0(form$kind, "_", form$name, ", which is your own"))
  where <- paste0(form$kind, "_", form$name)
  whole <- form$sensible && length(form$arguments) == 0L
  given <- c(form$arguments, if (form$sensible && !whole) form$free)
  arguments <- Map(function(value, name) value_yaml(value, paste(where, name)), given, names(given))
  if (nzchar(form$called)) arguments$called <- form$called
  if (!is.null(form$columns)) arguments$columns <- columns_yaml(form$columns)
  if (whole) return(stats::setNames(list("sensible"), form$name))
  if (length(arguments) == 0L) return(form$name)
  stats::setNames(list(arguments), form$name)
}

value_yaml <- function(value, where) {
  if (inherits(value, "kw_sensible")) return("sensible")
  if (inherits(value, "kw_range")) {
    return(Filter(Negate(is.null), list(
      from = value$from, to = value$to, spacing = if (value$spacing == "log") "log",
      points = value$points
    )))
  }
  if (inherits(value, "kw_among") && is.atomic(value$values)) return(as.list(value$values))
  # such as the order of levels by column
  by_name <- is.list(value) && !is.object(value) && length(names(value)) > 0L
  if (by_name && all(vapply(value, is.atomic, NA))) return(lapply(value, as.list))
  if (!is.atomic(value) || length(value) != 1L) {
    cannot_hold(paste0("the value of ", where, ", which is no single value"))
  }
  value
}

# Names, {kind: ...}, {except: ...}: what plan_columns() makes selections of.
columns_yaml <- function(expr) {
  names_of <- function(part) {
    if (is.character(part)) return(as.list(part))
    if (is.symbol(part)) return(list(as.character(part)))
    listing <- is_call_of(part, "c") || is_call_of(part, "all_of")
    if (listing) return(unlist(lapply(as.list(part)[-1], names_of), recursive = FALSE))
    NULL
  }
  if (is_call_of(expr, "&") && is_call_of(expr[[3]], "!")) {
    inner <- columns_yaml(expr[[2]])
    return(c(if (is.list(inner) && !is.null(names(inner))) inner, list(
      except = names_of(expr[[3]][[2]])
    )))
  }
  if (identical(expr, quote(everything()))) return(NULL)
  if (is_call_of(expr, "of_kind")) return(list(kind = as.list(expr)[-1]))
  found <- names_of(expr)
  if (length(found) == 0L) {
    cannot_hold(paste0("columns = ", rlang::expr_deparse(expr)))
  }
  found
}

choosing_yaml <- function(rule) {
  if (is.null(rule$margin)) return(rule$name)
  stats::setNames(list(list(margin = rule$margin)), rule$name)
}

# Names are a list, of one as well.
blend_yaml <- function(blend) if (is.character(blend)) as.list(blend) else blend

rule_yaml <- function(rule) {
  expr <- do.call(substitute, list(rule$expr, rule$values %||% list()))
  text <- rlang::expr_deparse(expr, width = 500L)
  if (is.null(rule$candidate)) return(text)
  list(rule = text, candidate = as.list(rule$candidate))
}
