# A plan as plain text and plain columns, and back. Steps, families, metrics, splitters and
# searches of this package are written by name and arguments; splits are made again, and their
# keys compared; a user's own functions are kept apart, in one object that is read only from
# files that are trusted.

# list(text, own = list of what is kept apart). The table's values are not in it.
plan_as_text <- function(plan) {
  own <- list()
  keep_apart <- function(x) {
    own[[length(own) + 1L]] <<- x
    length(own)
  }
  form <- unclass(plan)
  form["splits"] <- list(NULL)
  form$brief$table <- column_prototypes(plan$brief$table)
  form$spaces <- lapply(plan$spaces, `[`, c("pipeline", "kind", "about"))
  list(text = json_of(write_plain(form, keep_apart, special = named_member)), own = own)
}

# `table`: the working rows, columns without their attributes. `own`: a list, empty where it is
# not to be read.
plan_from_text <- function(text, table, own) {
  form <- read_plain(of_json(text), ours = known_member, apart = function(number) own[[number]])
  form$brief$table <- filled_columns(form$brief$table, table)
  # journals of earlier versions know of no costs, and all their rows have an outcome
  form$brief["costs"] <- list(form$brief[["costs"]])
  form$brief$n_without_outcome <- form$brief$n_without_outcome %||% 0L
  form$splits <- make_splits(form$splitter, form$brief, form$seed)
  for (name in names(form$spaces)) {
    space <- form$spaces[[name]]
    form$spaces[[name]] <- new_space(
      name, space$pipeline, space$kind, form$candidates$rules, space$about
    )
  }
  check_record(structure(form, class = "kw_plan"), "kw_plan", "journal")
}

# A round of settings as text. Tables that are the plan's own are only named.
round_as_text <- function(round, plan) {
  planned <- vapply(names(round$tables), function(name) {
    identical(round$tables[[name]], plan$round[[name]]$settings)
  }, logical(1))
  form <- list(
    names = names(round$tables), tables = round$tables[!planned], kept = round$kept,
    dropped = round$dropped, tasks = round$tasks
  )
  json_of(write_plain(form, function(x) stop("a round holds an object that is no table")))
}

round_from_text <- function(text, plan) {
  form <- read_plain(of_json(text), ours = function(form) NULL, apart = function(number) NULL)
  tables <- lapply(stats::setNames(nm = form$names), function(name) {
    form$tables[[name]] %||% plan$round[[name]]$settings
  })
  new_round(tables, form$kept, form$dropped, form$tasks)
}

# The form of a member that every session with this version has; NULL for others.
named_member <- function(x) {
  if (inherits(x, "kw_step_definition")) return(shipped_form(x, "step"))
  if (inherits(x, "kw_family_definition")) return(shipped_form(x, "fam"))
  if (inherits(x, "kw_metric")) return(shipped_form(x, "metric") %||% made_form(x, "metric_"))
  if (inherits(x, "kw_splitter")) return(made_form(x, "split_"))
  if (inherits(x, "kw_search")) return(made_form(x, "search_"))
  if (inherits(x, "kw_screen")) return(made_form(x, "screen_"))
  if (is.function(x)) return(function_form(x))
  NULL
}

function_form <- function(x) {
  ours <- our_functions()
  at <- Position(function(one) same_member(one, x), ours)
  if (is.na(at)) NULL else list(ours = list(kind = "function", name = names(ours)[at]))
}

# Functions of ours that stand in members of a user's own, and defaults that are worked out
# when the pipeline meets the brief.
our_functions <- function() {
  kept_once("function", {
    members <- c(shipped_members("fam"), shipped_members("step"))
    defaults <- lapply(members, function(make) {
      lapply(make()$arguments, function(declared) declared$default)
    })
    c(
      list(
        no_simplicity = no_simplicity, keep_model = keep_model, keeps_no_rows = keeps_no_rows,
        never_undefined = never_undefined
      ),
      Filter(is.function, unlist(defaults, recursive = FALSE))
    )
  })
}

shipped_form <- function(x, kind) {
  make <- shipped_members(kind)[[x$name]]
  if (is.null(make)) return(NULL)
  if (!same_member(kept_once(paste(kind, x$name), make()), x)) return(NULL)
  list(ours = list(kind = kind, name = x$name))
}

# By the exported function, and the arguments, with which it was made.
made_form <- function(x, prefix) {
  makers <- shipped_makers(prefix)
  # mostly it is the one of its name
  for (name in union(intersect(x$name, names(makers)), names(makers))) {
    if (!setequal(names(arguments_of_maker(makers[[name]])), names(x$arguments))) next
    made <- tryCatch(do.call(makers[[name]], x$arguments), error = function(e) NULL)
    if (!same_member(made, x)) next
    return(list(ours = list(
      kind = prefix, name = name,
      arguments = write_plain(x$arguments, function(x) 0L)
    )))
  }
  NULL
}

shipped_makers <- function(prefix) kept_once(prefix, known_makers(prefix, shipped_members))

same_member <- function(a, b) {
  identical(a, b, ignore.bytecode = TRUE, ignore.environment = TRUE, ignore.srcref = TRUE)
}

known_member <- function(form) {
  known <- switch(form$kind,
    step = ,
    fam = ,
    metric = shipped_members(form$kind),
    metric_ = ,
    split_ = ,
    search_ = ,
    screen_ = shipped_makers(form$kind),
    "function" = our_functions(),
    list()
  )
  found <- known[[form$name]]
  if (is.null(found)) {
    stop_kw("journal", paste0(
      "It holds ", quoted(clean_line(paste(form$kind, form$name))),
      ", which this version does not have."
    ))
  }
  if (form$kind == "function") return(found)
  if (is.null(form$arguments)) return(found())
  do.call(found, read_plain(form$arguments, known_member, function(number) NULL))
}

# Types and attributes of columns, and where a number is NaN rather than missing, which the
# file cannot tell.
column_prototypes <- function(table) {
  columns <- unclass(table)[names(table)]
  nan <- lapply(columns, function(x) if (is.double(x)) which(is.nan(unclass(x))))
  list(
    types = vapply(columns, typeof, ""),
    attributes = Filter(Negate(is.null), lapply(columns, attributes)),
    nan = nan[lengths(nan) > 0L]
  )
}

filled_columns <- function(prototypes, values) {
  names <- names(prototypes$types)
  columns <- Map(function(name, type, x) {
    storage.mode(x) <- type
    if (!is.null(prototypes$nan[[name]])) x[prototypes$nan[[name]]] <- NaN
    attributes(x) <- prototypes$attributes[[name]]
    x
  }, names, prototypes$types, values)
  plain_frame(columns, length(columns[[1]]))
}

# Of a journal that is written once more.
clear_plan_tables <- function(con) {
  for (table in c("plan", "own")) run_sql(con, paste("DELETE FROM", table))
  for (name in grep("^rows_", DBI::dbListTables(con), value = TRUE)) DBI::dbRemoveTable(con, name)
}

# Into the journal: the plan, what came with it, and the working rows.
write_plan_tables <- function(con, plan, written = plan_as_text(plan)) {
  own <- if (length(written$own) > 0L) serialize(written$own, NULL)
  run_sql(con, "INSERT INTO plan VALUES (?, ?)", list(
    written$text, row_sums_of(list(written$text), "plan")
  ))
  if (!is.null(own)) {
    run_sql(con, "INSERT INTO own VALUES (?, ?)", list(
      list(own), row_sums_of(list(list(own)), "own")
    ))
  }
  write_working_rows(con, plan$brief$table)
}

write_working_rows <- function(con, table) {
  columns <- unname(lapply(unclass(table), function(x) {
    attributes(x) <- NULL
    if (is.character(x)) enc2utf8(x) else x
  }))
  parts <- split(seq_along(columns), (seq_along(columns) - 1L) %/% columns_a_table)
  for (number in seq_along(parts)) {
    mine <- columns[parts[[number]]]
    run_sql(con, create_rows(number, sql_types[vapply(mine, typeof, "")]))
    run_sql(con, paste0(
      "INSERT INTO rows_", number, " VALUES (", paste(rep("?", length(mine)), collapse = ", "), ")"
    ), mine)
  }
}

# Are the working rows in the journal those of the plan?
working_rows_whole <- function(con, plan) {
  found <- tryCatch(
    filled_columns(column_prototypes(plan$brief$table), read_working_rows(con)),
    error = function(e) NULL
  )
  !is.null(found) && identical(fingerprint_table(found), plan$brief$fingerprint)
}

# list(plan, own), texts and bytes as they were written; NULL where they are damaged.
read_plan_tables <- function(con) {
  plan <- DBI::dbGetQuery(con, "SELECT plan, sum FROM plan")
  own <- DBI::dbGetQuery(con, "SELECT own, sum FROM own")
  whole <- nrow(plan) == 1L && nrow(own) <= 1L &&
    identical(plan$sum, row_sums_of(list(plan$plan), "plan")) &&
    (nrow(own) == 0L || identical(own$sum, row_sums_of(list(own$own), "own")))
  if (!whole) return(NULL)
  list(plan = plan$plan, own = if (nrow(own) == 1L) own$own[[1]])
}

read_working_rows <- function(con) {
  tables <- grep("^rows_[0-9]+$", DBI::dbListTables(con), value = TRUE)
  tables <- tables[order(as.integer(sub("rows_", "", tables)))]
  parts <- lapply(tables, function(table) {
    as.list(DBI::dbGetQuery(con, paste("SELECT * FROM", table, "ORDER BY rowid")))
  })
  unlist(unname(lapply(parts, unname)), recursive = FALSE)
}
