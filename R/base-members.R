# A part of any kind, as it is declared. The constructor of its kind (step_definition() and its
# like) says what the kind adds.
#   kind, name    by which it is found
#   does          one sentence
#   arguments     by name: hyperparameter() each, or the default
#   capabilities  by name: what it can do and needs, asked for wherever a name would be
#   ...           what it does: functions, and what is said of it
member <- function(kind, name, does = "", arguments = list(), capabilities = list(), ...,
                   class = NULL) {
  part <- list(kind = kind, name = name, does = does, arguments = arguments)
  structure(c(part, capabilities, list(...)), class = c(class, "kw_member"))
}

# How members of each kind are found. Those of the package are its functions whose names start with
# "member_<kind>_", by the rest of their name; those of others were made by define_<kind>() and
# registered. Both give the member when called, and are in the same order in any locale.
known_members <- function(kind) {
  others <- others_members(kind)
  if (length(others) == 0L) return(shipped_members(kind))
  all <- c(shipped_members(kind), others)
  all[order(names(all), method = "radix")]
}

shipped_members <- function(kind) {
  kept_once(kind, {
    prefix <- paste0("member_", kind, "_")
    home <- topenv(environment())
    names <- sort(ls(home, pattern = paste0("^", prefix)), method = "radix")
    stats::setNames(
      lapply(names, get, envir = home, mode = "function"),
      substring(names, nchar(prefix) + 1L)
    )
  })
}

# What is the same all the session: worked out when it is first asked for.
kept_once <- function(key, work) {
  if (is.null(member_store[[key]])) member_store[[key]] <- work
  member_store[[key]]
}

member_store <- new.env(parent = emptyenv())

# What others registered: by kind, a list by name of functions; and by kind and name, from where.
others_store <- new.env(parent = emptyenv())

others_members <- function(kind) others_store[[kind]]

is_registered <- function(kind, name) name %in% names(others_members(kind))

# What the functions that make a member are called, by kind: pre_..., fam_...
member_prefixes <- c(
  step = "pre_", fam = "fam_", metric = "metric_", split = "split_", search = "search_",
  screen = "screen_", rule = "rule_", finding = "finding_"
)

# `part`, what define_<kind>() returns, with a note of which member it is: `make` is the function
# by which known_members() gives it.
as_member <- function(part, kind, name, make) {
  attr(part, "member") <- structure(
    list(kind = kind, name = name, make = make), class = "kw_member_note"
  )
  part
}

#' Make parts of a package or a script known
#'
#' What `define_family()`, `define_step()`, `define_metric()`, `define_split()`, `define_search()`,
#' `define_screen()`, `define_rule()` and `define_finding()` return can be used in R as it is. Once
#' it is registered it is known by its name as well: in plan files, on the command line, in
#' [list_families()] and its like, in [describe_family()], [inspect_data()] and [select_final()].
#'
#' A package registers its parts when it is loaded:
#'
#' ```
#' .onLoad <- function(libname, pkgname) kilnwright::register_members(pkgname)
#' ```
#'
#' @param from Name of a package that is being loaded, or an environment such as `globalenv()`. All
#'   parts in it are registered, whatever the objects are called.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return The names of what was registered, such as `"fam_median"`, invisibly.
#' @section Errors:
#' `kw_error_definition` when there is another part of that kind and name already.
#' @examples
#' rule_second <- define_rule("second", choose = function(table, margin) min(2, nrow(table)),
#'   does = "Takes the setting that is second best."
#' )
#' register_members(environment())
#' @export
register_members <- function(from, ...) {
  no_more(...)
  by_name <- is.character(from)
  if (by_name) {
    check_string(from, "from")
    need(from, "Registering its parts")
  } else {
    check_class(from, "environment", "from", "Give the name of a package, or an environment.")
  }
  home <- if (by_name) asNamespace(from) else from
  objects <- mget(sort(ls(home), method = "radix"), envir = home)
  members <- lapply(unname(objects), attr, which = "member", exact = TRUE)
  members <- Filter(function(member) inherits(member, "kw_member_note"), members)
  source <- if (by_name) from else "this session"
  for (member in members) check_new_member(member, source)
  for (member in members) {
    others_store[[member$kind]][[member$name]] <- structure(member$make, source = source)
  }
  invisible(vapply(members, function(m) paste0(member_prefixes[[m$kind]], m$name), ""))
}

# The same package or session may register its parts anew.
check_new_member <- function(member, source) {
  other <- attr(others_members(member$kind)[[member$name]], "source")
  prefix <- member_prefixes[[member$kind]]
  ours <- c(names(shipped_members(member$kind)), names(exported_members(prefix)))
  if (member$name %in% ours) other <- "kilnwright"
  if (is.null(other) || other == source) return(invisible())
  stop_kw("definition", paste0(
    "There is ", quoted(paste0(prefix, member$name)), " of ", other, " already."
  ),
  remedy = "Define it under another name."
  )
}

# A split, a search or a screen: the function that makes one with its arguments.
maker_definition <- function(kind, name, make, does) {
  member(kind, name, does, arguments_of_maker(make), make = make)
}

# Functions by which splits, searches, screens and metrics with values are made, by the rest of
# their names.
known_makers <- function(prefix, members = known_members) {
  kind <- names(member_prefixes)[match(prefix, member_prefixes)]
  if (kind != "metric") return(lapply(members(kind), function(member) member()$make))
  c(exported_members(prefix), if (identical(members, known_members)) others_members(kind))
}

# What gives a finding when called; look(seen) -> list of finding(), or NULL.
finding_definition <- function(name, look, does) {
  function() member("finding", name, does, look = look, class = "kw_finding_part")
}

#' What parts there are
#'
#' All that can be combined: shipped parts, and those that [register_members()] made known.
#'
#' @param kind One or more of `"step"`, `"family"`, `"metric"`, `"split"`, `"search"`, `"screen"`,
#'   `"rule"`, `"finding"`; default all. [list_steps()], [list_families()] and [list_metrics()] say
#'   more of theirs.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A tibble: `kind`, `part` (what it is called, such as `split_kfold`), `does` (one
#'   sentence), `arguments` (separated by commas), `from` (a package, or `"this session"`).
#' @section Errors:
#' `kw_error_argument` for a kind that there is not.
#' @examples
#' list_parts("search")
#' @export
list_parts <- function(kind = NULL, ...) {
  no_more(...)
  kinds <- sub("^fam$", "family", names(member_prefixes))
  for (one in kind) check_choice(one, kinds, "kind")
  asked <- names(member_prefixes)[kinds %in% (kind %||% kinds)]
  facts <- unlist(lapply(asked, part_facts), recursive = FALSE)
  text <- function(field) vapply(facts, `[[`, "", field)
  table <- tibble::tibble(
    kind = text("kind"), part = text("part"), does = text("does"), arguments = text("arguments"),
    from = text("from")
  )
  listing(table, title = count_of(nrow(table), "part"), texts = "does", rows = Inf)
}

# Of all parts of a kind, each a list; without a table, whose package takes a while to load.
part_facts <- function(kind) {
  members <- known_members(kind)
  lapply(names(members), function(name) {
    part <- members[[name]]()
    # rules, metrics and findings are called by their names alone
    prefix <- if (kind %in% c("metric", "rule", "finding")) "" else member_prefixes[[kind]]
    list(
      kind = sub("^fam$", "family", kind), part = paste0(prefix, name), does = part$does,
      arguments = paste(names(part$arguments), collapse = ", "),
      from = attr(members[[name]], "source") %||% "kilnwright"
    )
  })
}

exported_members <- function(prefix) {
  home <- topenv(environment())
  names <- grep(paste0("^", prefix), getNamespaceExports(home), value = TRUE)
  stats::setNames(
    lapply(names, get, envir = home, mode = "function"),
    substring(names, nchar(prefix) + 1L)
  )
}

# The arguments of a part of someone else's: what was given, and defaults for the rest.
given_arguments <- function(given, defaults, kind, name) {
  check_named(given, paste0(member_prefixes[[kind]], name, "(...)"))
  for (one in setdiff(names(given), names(defaults))) {
    stop_kw(
      "argument", paste0("The ", kind, " ", quoted(name), " has no argument ", quoted(one), "."),
      remedy = did_you_mean(one, names(defaults), "Its arguments")
    )
  }
  defaults[names(given)] <- given
  defaults
}

# The names and defaults of the arguments of a function that makes a member.
arguments_of_maker <- function(make) {
  attr(make, "defaults") %||% as.list(formals(make))[setdiff(names(formals(make)), "...")]
}

# Most parts keep none of the rows that they learned from.
keeps_no_rows <- function(settings, kind = NULL) FALSE
