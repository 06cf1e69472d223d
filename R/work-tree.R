# The work tree: settings compiled into what has really to be done on one split.
# Settings that begin with the same steps share those steps' nodes; settings that
# differ only along their family's path share one fit. The tree is the same for
# every split.

# Work grows by rounds: what is known of earlier ones stays as it is, with its numbers.
#   settings   candidate (number), row (among the candidate's settings) and round of every
#              setting, with its fit and its place among the fit's path values
#   tables     settings by candidate, all rounds below one another
#   nodes      parent, step, key (the whole chain's) of every step node; node 0 is
#              the untouched rows
#   only_input see only_inputs()
#   families   every candidate's family, what varies in it, and what its keys begin with
#   fits       node, candidate, row (a setting that stands for it), key, values to be
#              read off it and their count, number of the path set under which it is made
#   sets       path sets: all values that a candidate's round declared, where they matter
# With share = FALSE every setting has steps and a fit of its own; keys, and so
# seeds and scores, are the same.
new_work <- function(spaces, share = TRUE) {
  nothing <- integer()
  work <- list(
    settings = list(
      candidate = nothing, row = nothing, round = nothing, node = nothing, key = character(),
      value = numeric(), fit = nothing, place = nothing
    ),
    tables = lapply(spaces, no_settings), nodes = list(),
    spaces = spaces, share = share, rounds = 0L,
    families = lapply(spaces, function(space) {
      list(
        part = space$pipeline$family, mark = family_mark(space$pipeline$family$definition),
        family = Filter(function(d) d$address == "family", space$dimensions)
      )
    }),
    combinations = lapply(spaces, function(space) NULL),
    fits = list(
      node = nothing, candidate = nothing, row = nothing, key = character(), members = list(),
      values = list(), count = nothing, set = nothing
    ),
    sets = list()
  )
  work$only_input <- only_inputs(work)
  work
}

# The work of settings that are all known at once.
compile_work <- function(spaces, tables, share = TRUE) {
  extend_work(new_work(spaces, share), tables)
}

# The work of all rounds of a comparison.
work_of_rounds <- function(spaces, rounds) {
  Reduce(
    function(work, round) extend_work(work, round$tables, round$kept), rounds, new_work(spaces)
  )
}

# `tables`: the settings of a round by candidate; candidates that are not in it have none.
# `kept`: rows by candidate, where not all are to be tried; the path sets are those of all.
extend_work <- function(work, tables, kept = NULL) {
  nodes <- new_node_store(work$nodes)
  names <- names(work$spaces)
  parts <- lapply(seq_along(names), function(i) {
    table <- tables[[names[i]]]
    if (NROW(table) == 0L) table <- no_settings(work$spaces[[i]])
    compile_candidate(work, i, table, kept[[names[i]]], nodes)
  })
  sizes <- vapply(parts, function(part) nrow(part$table), integer(1))
  before <- vapply(work$tables, nrow, integer(1), USE.NAMES = FALSE)
  work$rounds <- work$rounds + 1L
  have <- length(work$settings$fit)
  each <- function(what) unlist(lapply(parts, `[[`, what))
  settings <- list(
    candidate = rep(seq_along(parts), sizes),
    row = sequence(sizes, before + 1L), round = rep(work$rounds, sum(sizes)),
    node = each("node"), key = each("key"), value = each("value")
  )
  # of a round without new settings there is nothing
  own <- if (work$share) rep("", sum(sizes)) else paste0("#", have + seq_len(sum(sizes)))
  together <- paste(settings$node, settings$key, own, recycle0 = TRUE)
  settings$fit <- length(work$fits$node) + match(together, unique(together))
  settings$place <- rep(1L, sum(sizes))
  work$settings <- Map(c, work$settings[names(settings)], settings)
  work$nodes <- nodes$all()
  work$tables <- Map(bind_tables, work$tables, lapply(parts, `[[`, "table"))
  work$combinations <- bind_combinations(work$combinations, parts)
  work <- with_new_fits(work, have + seq_len(sum(sizes)), lapply(parts, `[[`, "path_set"))
  work$only_input <- only_inputs(work)
  work
}

# Also of tables without columns, where nothing varies.
bind_tables <- function(a, b) {
  if (nrow(a) == 0L || nrow(b) == 0L) return(if (nrow(a) == 0L) b else a)
  plain_frame(Map(c, a, unclass(b)[names(a)]), nrow(a) + nrow(b))
}

# Combinations of values along paths that have several hyperparameters; NULL for others.
bind_combinations <- function(before, parts) {
  Map(function(known, part) {
    if (is.null(known) || is.null(part$combinations)) return(known %||% part$combinations)
    bind_tables(known, part$combinations)
  }, before, parts)
}

# For the untouched rows and every node: do all its fits take their input in one form, and
# does no further step begin there?
only_inputs <- function(work) {
  parents <- vapply(work$nodes, `[[`, integer(1), "parent")
  forms <- vapply(
    work$spaces,
    function(space) {
      canonical_text(space$pipeline$family$definition$accepts[c("factors", "sparse", "missing")])
    },
    ""
  )
  of_fit <- forms[work$fits$candidate]
  several <- tapply(of_fit, factor(work$fits$node, c(0L, seq_along(work$nodes))), function(form) {
    length(unique(form)) > 1L
  })
  !(c(0L, seq_along(work$nodes)) %in% parents) & !(several %in% TRUE)
}

# Step nodes, found again by their chain of keys.
new_node_store <- function(nodes = list()) {
  index <- new.env(parent = emptyenv())
  for (i in seq_along(nodes)) assign(nodes[[i]]$name, i, envir = index)
  list(
    find = function(parent, step, own = "") {
      parent_key <- if (parent == 0L) "" else nodes[[parent]]$key
      key <- paste(parent_key, step_key(step), sep = ">")
      name <- paste0(parent, key, own)
      if (!is.null(index[[name]])) return(index[[name]])
      nodes[[length(nodes) + 1L]] <<- list(parent = parent, step = step, key = key, name = name)
      assign(name, length(nodes), envir = index)
      length(nodes)
    },
    all = function() nodes
  )
}

compile_candidate <- function(work, candidate, table, kept, nodes) {
  space <- work$spaces[[candidate]]
  share <- work$share
  in_steps <- vapply(space$dimensions, function(d) d$address != "family", logical(1))
  path_set <- declared_path_set(space, table)
  if (!is.null(kept)) table <- frame_of_rows(table, kept)
  n <- nrow(table)
  if (n == 0L) {
    return(list(node = integer(), key = character(), value = numeric(), table = table))
  }
  chain <- if (!share) seq_len(n) else group_rows(table[names(which(in_steps))], n)
  representative <- match(seq_len(max(chain)), chain)
  node_of_chain <- vapply(representative, function(row) {
    steps <- fill_pipeline(space$pipeline, space$dimensions, setting_values(table, row))$steps
    own <- if (share) "" else paste0("#", candidate, ".", row)
    Reduce(function(parent, step) nodes$find(parent, step, own), steps, 0L)
  }, integer(1))
  definition <- space$pipeline$family$definition
  columns <- family_columns(space, table)
  along <- definition$path$along
  several <- length(along) > 1L
  value <- if (is.null(along)) {
    rep(NA_real_, n)
  } else if (several) {
    group_rows(columns[along], n)
  } else {
    as.double(columns[[along]])
  }
  list(
    table = table, node = node_of_chain[chain],
    key = fit_keys(work$families[[candidate]]$mark, space, columns, n, path_set),
    value = value, path_set = path_set,
    combinations = if (several) plain_frame(columns[along], n)
  )
}

# All values along the path that a round declares, where they matter to one another.
declared_path_set <- function(space, table) {
  path <- space$pipeline$family$definition$path
  if (!isTRUE(path$set_matters) || nrow(table) == 0L) return(NULL)
  sort(unique(as.double(family_columns(space, table)[[path$along]])))
}

# One key a setting: family and off-path values; with set_matters also the set.
fit_keys <- function(mark, space, columns, n, path_set) {
  along <- space$pipeline$family$definition$path$along
  parts <- lapply(setdiff(names(columns), along), function(name) {
    column <- columns[[name]]
    if (is.null(column)) column <- rep(canonical_text(space$pipeline$family$settings[[name]]), n)
    text <- if (is.numeric(column)) canonical_number(column) else as.character(column)
    paste0(name, "=", text)
  })
  do.call(paste, c(list(rep(mark, n)), parts, list(canonical_text(path_set)), sep = ";"))
}

# What a family's keys begin with: of one of the user's own also what it does.
family_mark <- function(definition) {
  name <- paste0("fam_", definition$name)
  if (definition$shipped) return(name)
  content <- c("fit", "predict", "path", "accepts", "random", "packages")
  paste0(name, short_hash(canonical_text(unclass(definition)[content])))
}

# Adds the fits of new settings, and where each setting's value stands among its fit's values.
with_new_fits <- function(work, new, path_sets) {
  settings <- work$settings
  first <- new[!duplicated(settings$fit[new])]
  members <- unname(split(new, settings$fit[new]))
  has_path <- vapply(
    work$spaces, function(space) !is.null(space$pipeline$family$definition$path), logical(1)
  )
  values <- vector("list", length(first))
  pathed <- which(has_path[settings$candidate[first]])
  values[pathed] <- lapply(members[pathed], function(m) {
    if (is.null(work$combinations[[settings$candidate[m[1]]]])) {
      return(sort(unique(settings$value[m])))
    }
    unique_rows(path_values(work, m))
  })
  matters <- which(!vapply(path_sets, is.null, logical(1)))
  number <- integer(length(path_sets))
  number[matters] <- length(work$sets) + seq_along(matters)
  work$sets <- c(work$sets, unname(path_sets[matters]))
  work$fits <- Map(c, work$fits, list(
    node = settings$node[first], candidate = settings$candidate[first],
    row = settings$row[first], key = settings$key[first], members = members, values = values,
    count = pmax(1L, vapply(values, path_count, integer(1))),
    set = number[settings$candidate[first]]
  ))
  for (fit in settings$fit[first]) {
    if (work$fits$count[fit] == 1L) next
    members <- work$fits$members[[fit]]
    mine <- path_values(work, members)
    all <- work$fits$values[[fit]]
    work$settings$place[members] <- if (is.data.frame(all)) {
      match(row_texts(mine), row_texts(all))
    } else {
      match(mine, all)
    }
  }
  work
}

# The path values of some settings of one fit: a vector, or a data frame where the
# path runs along several hyperparameters.
path_values <- function(work, settings) {
  candidate <- work$settings$candidate[settings]
  if (is.null(work$combinations[[candidate[1]]])) return(work$settings$value[settings])
  rows <- work$settings$row[settings]
  columns <- lapply(stats::setNames(nm = names(work$combinations[[candidate[1]]])), function(name) {
    whole <- work$combinations[[candidate[1]]][[name]][rep(NA_integer_, length(settings))]
    for (i in unique(candidate)) {
      mine <- candidate == i
      whole[mine] <- work$combinations[[i]][[name]][rows[mine]]
    }
    whole
  })
  plain_frame(columns, length(settings))
}

unique_rows <- function(table) frame_of_rows(table, !duplicated(group_rows(table, nrow(table))))

# Everything that is needed to run one fit: definition, whole settings (with all
# values to be fitted along the path), the values to predict.
fit_description <- function(work, fit) {
  candidate <- work$fits$candidate[fit]
  c(
    list(definition = work$families[[candidate]]$part$definition, key = work$fits$key[fit]),
    fit_describer(work, candidate)(fit)
  )
}

# A function of a fit of this candidate that gives list(settings, values).
fit_describer <- function(work, candidate) {
  family <- work$families[[candidate]]
  base <- family$part$settings
  entries <- lapply(family$family, function(dimension) {
    setting_entries(dimension, work$tables[[candidate]][[dimension$name]])
  })
  names(entries) <- vapply(family$family, `[[`, "", "argument")
  along <- family$part$definition$path$along
  entries <- entries[setdiff(names(entries), along)]
  place <- match(names(entries), names(base))
  rows <- work$fits$row
  values <- work$fits$values
  sets <- work$sets
  number <- work$fits$set
  function(fit) {
    settings <- base
    row <- rows[fit]
    for (k in seq_along(entries)) {
      value <- entries[[k]][[row]]
      if (is.null(value)) settings[place[k]] <- list(NULL) else settings[[place[k]]] <- value
    }
    read_off <- values[[fit]]
    if (length(along) == 1L) {
      settings[[along]] <- if (number[fit] == 0L) read_off else sets[[number[fit]]]
    }
    if (length(along) > 1L) settings[along] <- as.list(read_off)
    list(settings = settings, values = read_off)
  }
}

# Fits below every node, in a list by node.
fits_below <- function(work) {
  below <- split(seq_along(work$fits$node), factor(work$fits$node, seq_along(work$nodes)))
  for (node in rev(seq_along(work$nodes))) {
    parent <- work$nodes[[node]]$parent
    if (parent > 0L) below[[parent]] <- c(below[[parent]], below[[node]])
  }
  below
}

# The first step below the root that leads to a node; 0 for the root itself.
branch_of <- function(nodes) {
  branch <- integer(length(nodes))
  for (i in seq_along(nodes)) {
    branch[i] <- if (nodes[[i]]$parent == 0L) i else branch[nodes[[i]]$parent]
  }
  branch
}
