# What a journal says of itself: of which job it is, which versions wrote it, how far it came.

# What a journal is a journal of: everything that can change a score, by its content.
journal_facts <- function(plan) {
  list(
    schema = journal_schema, data = plan$brief$fingerprint,
    roles = short_hash(canonical_text(
      c(
        plan$brief[c("outcome", "kind", "levels", "quantiles", "roles", "schema")],
        if (!is.null(plan$brief$costs)) plan$brief["costs"]
      )
    )),
    splits = short_hash(paste(vapply(plan$splits, `[[`, "", "key"), collapse = " ")),
    seed = canonical_number(plan$seed),
    metrics = paste(names(plan$metrics), collapse = ", "),
    measures = short_hash(paste(vapply(plan$metrics, metric_key, ""), collapse = " ")),
    outcome = plan$brief$outcome, searches = searches_text(plan),
    screen = if (is.null(plan$screen)) "none" else canonical_text(
      plan$screen[c("name", "arguments")]
    ),
    versions = versions_text(software_versions(plan))
  )
}

# The search of every candidate, in the form of versions_text().
searches_text <- function(plan) {
  names <- names(plan$spaces)
  searches <- lapply(names, function(name) search_of(plan$seats, name))
  # several candidates mostly have the same
  first <- vapply(searches, function(search) {
    Position(function(other) identical(other, search), searches)
  }, 1L)
  keys <- vapply(searches[unique(first)], function(search) {
    form <- search[c("name", "arguments", if (!is_shipped_search(search)) "propose")]
    canonical_text(c(form, if (!is.null(plan$search_seed)) plan["search_seed"]))
  }, "")
  paste(short_hash(names), short_hash(keys)[match(first, unique(first))], collapse = "; ")
}

is_shipped_search <- function(search) !is.null(named_member(search))

versions_text <- function(versions) {
  versions <- c(versions[c("r", "platform", "blas")], versions$packages)
  paste(names(versions), versions, collapse = "; ")
}

# By name, of a text of versions_text().
read_versions <- function(text) {
  one <- strsplit(text, "; ", fixed = TRUE)[[1]]
  stats::setNames(sub("^\\S+ ", "", one), sub(" .*", "", one))
}

# Do versions differ that both name? A candidate more may need a package more.
unlike_versions <- function(then, now) {
  then <- read_versions(then)
  now <- read_versions(now)
  both <- intersect(names(then), names(now))
  any(then[both] != now[both])
}

joined_versions <- function(then, now) {
  if (is.null(then)) return(now)
  then <- read_versions(then)
  now <- read_versions(now)
  whole <- c(now, then[setdiff(names(then), names(now))])
  paste(names(whole), whole, collapse = "; ")
}

# Of a metric: its name and arguments, of a user's own all that it says.
metric_key <- function(metric) {
  known <- !is.null(named_member(metric))
  canonical_text(if (known) metric[c("name", "arguments")] else unclass(metric))
}

# Versions may differ where the user accepts that; searches and screens change no score.
job_of <- function(facts) {
  short_hash(canonical_text(facts[setdiff(names(facts), c("versions", "searches", "screen"))]))
}

fact_words <- c(
  schema = "the journal's format", data = "the data", roles = "the columns' roles or types",
  splits = "the splits", seed = "the seed", metrics = "the metrics",
  measures = "what the metrics measure", outcome = "the outcome", searches = "the searches",
  screen = "the screen",
  versions = "R or package versions"
)

write_journal_facts <- function(con, facts) {
  facts <- unlist(facts)
  run_sql(con, "INSERT OR REPLACE INTO facts VALUES (?, ?, ?)", list(
    names(facts), unname(facts), fact_sums(names(facts), facts)
  ))
}

fact_sums <- function(names, values) short_hash(paste(names, values, sep = "\t"))

# Facts whose checksum is right, a list by name.
read_journal_facts <- function(con) {
  facts <- DBI::dbGetQuery(con, "SELECT name, value, sum FROM facts")
  facts <- facts[facts$sum %in% fact_sums(facts$name, facts$value), , drop = FALSE]
  stats::setNames(as.list(facts$value), facts$name)
}

check_journal_fits <- function(file, asked, accept_versions) {
  written <- with_reader(file, read_journal_facts)
  differ <- names(asked)[vapply(names(asked), function(name) {
    if (is.null(written[[name]])) return(FALSE)
    if (name %in% c("versions", "searches")) {
      return(unlike_versions(written[[name]], asked[[name]]))
    }
    !identical(written[[name]], asked[[name]])
  }, logical(1))]
  if (accept_versions) differ <- setdiff(differ, "versions")
  if (length(differ) == 0L) return(invisible())
  shown <- setdiff(differ, c("data", "roles", "splits", "measures", "searches", "screen"))
  stop_kw(
    "journal",
    paste0(
      "The journal ", quoted(file), " is of another comparison: it differs in ",
      enumerate(fact_words[differ], 9L), "."
    ),
    where = if (length(shown) > 0L) {
      paste0(
        fact_words[shown[1]], ": ", clean_line(written[[shown[1]]]), " there, ",
        asked[[shown[1]]], " here."
      )
    },
    remedy = if (identical(differ, "versions")) {
      "Say accept_versions = TRUE to go on all the same."
    } else {
      "Give another file."
    }
  )
}

# Time that earlier runs took, by what the journal says of itself.
earlier_time <- function(facts) {
  number <- function(text, none) {
    found <- suppressWarnings(as.numeric(text %||% none))
    if (is.na(found)) none else found
  }
  list(
    seconds = number(facts$seconds, 0), units = number(facts$units, 0),
    processes = number(facts$processes, 1)
  )
}

# Of R and of every package that can change a score.
software_versions <- function(plan) {
  packages <- unlist(lapply(plan$spaces, function(space) {
    family <- space$pipeline$family
    c(
      family_packages(family$definition, family$settings, plan$brief$kind),
      node_packages(space$pipeline$steps)
    )
  }))
  packages <- unique(c("kilnwright", packages))
  list(
    r = paste(R.version$major, R.version$minor, sep = "."), platform = R.version$platform,
    blas = basename(extSoftVersion()[["BLAS"]]),
    packages = vapply(packages, version_of_package, "")
  )
}

# Of what is loaded, if it is: it may have been installed anew meanwhile.
version_of_package <- function(package) {
  loaded <- isNamespaceLoaded(package)
  version <- if (loaded) package_version(getNamespaceVersion(package)[[1]])
  as.character(version %||% utils::packageVersion(package))
}

node_packages <- function(nodes) {
  unlist(lapply(nodes, function(node) {
    if (!inherits(node$part, "kw_either")) return(node$part$definition$packages)
    lapply(node$part$alternatives, node_packages)
  }))
}
