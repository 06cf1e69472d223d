# The work tree: settings compiled into what has really to be done on one split.
# Settings that begin with the same steps share those steps' nodes; settings that
# differ only along their family's path share one fit. The tree is the same for
# every split.

# `tables`: settings by candidate. Returns
#   settings   candidate (number) and row of every setting, in standings order,
#              with its fit and its place among the fit's path values
#   nodes      parent, step, key (the whole chain's) of every step node; node 0 is
#              the untouched rows
#   only_input  see only_inputs()
#   families   every candidate's family and what varies in it
#   fits       node, candidate, row (a setting that stands for it), key, values to be
#              read off it and their count
# With share = FALSE every setting has steps and a fit of its own; keys, and so
# seeds and scores, are the same.
compile_work <- function(spaces, tables, share = TRUE) {
  nodes <- new_node_store()
  parts <- lapply(seq_along(spaces), function(i) {
    compile_candidate(spaces[[i]], tables[[i]], i, nodes, share)
  })
  settings <- list(
    candidate = rep(seq_along(spaces), vapply(tables, nrow, integer(1))),
    row = sequence(vapply(tables, nrow, integer(1))),
    node = unlist(lapply(parts, `[[`, "node")),
    key = unlist(lapply(parts, `[[`, "key")),
    value = unlist(lapply(parts, `[[`, "value"))
  )
  own <- if (share) "" else paste0("#", seq_along(settings$key))
  together <- paste(settings$node, settings$key, own)
  settings$fit <- match(together, unique(together))
  families <- lapply(spaces, function(space) {
    list(
      part = space$pipeline$family,
      family = Filter(function(d) d$address == "family", space$dimensions)
    )
  })
  work <- list(
    settings = settings, nodes = nodes$all(), spaces = spaces, families = families,
    tables = tables,
    combinations = lapply(parts, `[[`, "combinations")
  )
  work$fits <- collect_fits(work, lapply(parts, `[[`, "path_set"))
  work$settings$place <- value_places(work)
  work$only_input <- only_inputs(work)
  work
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
new_node_store <- function() {
  index <- new.env(parent = emptyenv())
  nodes <- list()
  list(
    find = function(parent, step, own = "") {
      parent_key <- if (parent == 0L) "" else nodes[[parent]]$key
      key <- paste(parent_key, step_key(step), sep = ">")
      name <- paste0(parent, key, own)
      if (!is.null(index[[name]])) return(index[[name]])
      nodes[[length(nodes) + 1L]] <<- list(parent = parent, step = step, key = key)
      assign(name, length(nodes), envir = index)
      length(nodes)
    },
    all = function() nodes
  )
}

compile_candidate <- function(space, table, candidate, nodes, share) {
  in_steps <- vapply(space$dimensions, function(d) d$address != "family", logical(1))
  n <- nrow(table)
  if (n == 0L) return(list(node = integer(), key = character(), value = numeric()))
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
  path_set <- if (isTRUE(definition$path$set_matters)) sort(unique(value))
  list(
    node = node_of_chain[chain], key = fit_keys(definition, space, columns, n, path_set),
    value = value, path_set = path_set,
    combinations = if (several) plain_frame(columns[along], n)
  )
}

# One key a setting: family and off-path values; with set_matters also the set.
fit_keys <- function(definition, space, columns, n, path_set) {
  along <- definition$path$along
  parts <- lapply(setdiff(names(columns), along), function(name) {
    column <- columns[[name]]
    if (is.null(column)) column <- rep(canonical_text(space$pipeline$family$settings[[name]]), n)
    text <- if (is.numeric(column)) canonical_number(column) else as.character(column)
    paste0(name, "=", text)
  })
  own <- if (definition$shipped) {
    ""
  } else {
    content <- c("fit", "predict", "path", "accepts", "random", "packages")
    short_hash(canonical_text(unclass(definition)[content]))
  }
  do.call(paste, c(list(rep(paste0("fam_", definition$name, own), n)), parts,
    list(canonical_text(path_set)),
    sep = ";"
  ))
}

collect_fits <- function(work, path_sets) {
  settings <- work$settings
  first <- which(!duplicated(settings$fit))
  members <- unname(split(seq_along(settings$fit), settings$fit))
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
  list(
    node = settings$node[first], candidate = settings$candidate[first],
    row = settings$row[first], key = settings$key[first], members = members, values = values,
    count = pmax(1L, vapply(values, path_count, integer(1))), set = path_sets
  )
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

# Where each setting's value stands among its fit's values; 1 without a path.
value_places <- function(work) {
  place <- rep(1L, length(work$settings$fit))
  for (fit in which(work$fits$count > 1L)) {
    members <- work$fits$members[[fit]]
    mine <- path_values(work, members)
    values <- work$fits$values[[fit]]
    place[members] <- if (is.data.frame(values)) {
      match(row_texts(mine), row_texts(values))
    } else {
      match(mine, values)
    }
  }
  place
}

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
  set <- work$fits$set[[candidate]]
  function(fit) {
    settings <- base
    row <- rows[fit]
    for (k in seq_along(entries)) {
      value <- entries[[k]][[row]]
      if (is.null(value)) settings[place[k]] <- list(NULL) else settings[[place[k]]] <- value
    }
    read_off <- values[[fit]]
    if (length(along) == 1L) settings[[along]] <- if (is.null(set)) read_off else set
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
