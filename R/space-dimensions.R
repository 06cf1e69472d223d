# The dimensions of a pipeline: every value that varies and every choice between
# steps, by name. Steps and the family are addressed by their places ("2/1/3": the third step
# of the first alternative of the second step; "family"), so that a setting can be filled in.

reserved_names <- c(
  "place", "candidate", "setting", "metric", "mean", "sd", "se", "lowest",
  "highest", "splits", "training", "gap", "seconds", "failed", "repeat",
  "split", "validation", "provided", "family", "so_far", "share", "behind", "why"
)

pipeline_dimensions <- function(pipeline) {
  found <- c(
    node_dimensions(pipeline$steps, "", list()),
    part_dimensions(pipeline$family, "family", "", list())
  )
  found <- apart_choices(found)
  stats::setNames(found, vapply(found, `[[`, character(1), "name"))
}

# Unnamed choices between steps that would be called alike get numbers: skew, skew_2.
apart_choices <- function(dimensions) {
  names <- vapply(dimensions, `[[`, character(1), "name")
  unnamed <- vapply(dimensions, function(d) isTRUE(d$unnamed), logical(1))
  new <- names
  for (i in which(unnamed & duplicated(names))) {
    number <- 2L
    while (paste0(names[i], "_", number) %in% new) number <- number + 1L
    new[i] <- paste0(names[i], "_", number)
    dimensions[[i]]$name <- new[i]
    dimensions <- lapply(dimensions, function(d) {
      inside <- startsWith(d$address, paste0(dimensions[[i]]$address, "/"))
      if (!inside) return(d)
      d$conditions <- lapply(d$conditions, function(condition) {
        if (condition$dimension == names[i]) condition$dimension <- new[i]
        condition
      })
      d
    })
  }
  dimensions
}

node_dimensions <- function(nodes, prefix, conditions) {
  found <- list()
  for (i in seq_along(nodes)) {
    node <- nodes[[i]]
    address <- paste0(prefix, i)
    found <- c(found, if (inherits(node$part, "kw_either")) {
      either_dimensions(node, address, conditions)
    } else {
      part_dimensions(node$part, address, node$name, conditions)
    })
  }
  found
}

either_dimensions <- function(node, address, conditions) {
  alternatives <- node$part$alternatives
  name <- if (nzchar(node$name)) node$name else either_name(alternatives)
  own <- list(list(
    name = name, unnamed = !nzchar(node$name), kind = "alternative", address = address,
    argument = NULL,
    varying = among(names(alternatives)), declared = list(type = "choice"),
    conditions = conditions
  ))
  inner <- lapply(names(alternatives), function(alternative) {
    condition <- c(conditions, list(list(dimension = name, value = alternative)))
    inside <- paste0(address, "/", match(alternative, names(alternatives)), "/")
    node_dimensions(alternatives[[alternative]], inside, condition)
  })
  c(own, unlist(inner, recursive = FALSE))
}

# An unnamed choice is called after the first step in it.
either_name <- function(alternatives) {
  for (nodes in alternatives) {
    if (length(nodes) > 0L) {
      part <- nodes[[1]]$part
      return(if (inherits(part, "kw_either")) {
        either_name(part$alternatives)
      } else {
        part$definition$name
      })
    }
  }
  "steps"
}

part_dimensions <- function(part, address, prefix, conditions) {
  varying <- names(Filter(is_varying, part$settings))
  lapply(varying, function(argument) {
    list(
      name = if (nzchar(prefix)) paste0(prefix, "_", argument) else argument,
      kind = "value", address = address, argument = argument,
      varying = part$settings[[argument]],
      declared = part$definition$arguments[[argument]], conditions = conditions
    )
  })
}

check_dimension_names <- function(pipeline) {
  names <- names(pipeline_dimensions(pipeline))
  twice <- unique(names[duplicated(names)])
  if (length(twice) > 0L) {
    stop_kw("pipeline", paste0(
      "Two parts of the pipeline vary a hyperparameter called ",
      quoted(twice[1]), "."
    ),
    remedy = paste0(
      "Name one of the steps, e.g. pipeline(first = pre_...(", twice[1],
      " = ...), ...), which makes it first_", twice[1],
      "; a choice is named likewise, pipeline(first = either(...), ...)."
    )
    )
  }
  taken <- intersect(names, reserved_names)
  if (length(taken) > 0L) {
    stop_kw("pipeline", paste0(
      "A hyperparameter cannot be called ", quoted(taken[1]),
      ": the standings have a column of that name."
    ),
    remedy = "Name the step differently: its name goes before the hyperparameter's."
    )
  }
}

# A range of which any value may be taken.
is_continuous <- function(dimension) {
  inherits(dimension$varying, "kw_range") && is.null(dimension$varying$points)
}

# The values of a dimension under a grid of so many points; with_values() has them at hand.
dimension_values <- function(dimension, points) {
  if (!is.null(dimension$values)) return(dimension$values)
  if (inherits(dimension$varying, "kw_range")) {
    return(range_values(dimension$varying, points, dimension$declared$type == "whole"))
  }
  values <- dimension$varying$values
  if (is.list(values)) names(labelled_values(values)) else values
}

# Values at random positions 0..1.
dimension_draws <- function(dimension, position) {
  range <- dimension$varying
  if (is_continuous(dimension)) {
    return(place_in_range(range, position, dimension$declared$type == "whole"))
  }
  values <- dimension_values(dimension, NULL)
  at <- 1L + floor(position * length(values))
  at[at > length(values)] <- length(values)
  values[at]
}

# Values that are no single numbers or words are shown, and kept in the settings
# table, by a label.
labelled_values <- function(values) {
  labels <- vapply(values, function(value) paste(format(value), collapse = "-"), character(1))
  stats::setNames(values, make.unique(labels))
}

# The value behind an entry of the settings table.
dimension_value <- function(dimension, entry) {
  values <- dimension$varying$values
  if (is.list(values)) labelled_values(values)[[entry]] else entry
}

# Fills a pipeline with the values of one setting (a named list). Returns
# list(steps = concrete steps, family = settings of the family).
fill_pipeline <- function(pipeline, dimensions, values) {
  by_address <- split(dimensions, vapply(dimensions, `[[`, character(1), "address"))
  list(
    steps = fill_nodes(pipeline$steps, "", by_address, values),
    family = fill_part(pipeline$family, "family", by_address, values)$settings
  )
}

fill_nodes <- function(nodes, prefix, by_address, values) {
  filled <- list()
  for (i in seq_along(nodes)) {
    part <- nodes[[i]]$part
    address <- paste0(prefix, i)
    filled <- c(filled, if (inherits(part, "kw_either")) {
      chosen <- values[[by_address[[address]][[1]]$name]]
      inside <- paste0(address, "/", match(chosen, names(part$alternatives)), "/")
      fill_nodes(part$alternatives[[chosen]], inside, by_address, values)
    } else {
      list(fill_part(part, address, by_address, values))
    })
  }
  filled
}

fill_part <- function(part, address, by_address, values) {
  for (dimension in by_address[[address]]) {
    part$settings[dimension$argument] <- list(setting_entries(dimension,
      values[[dimension$name]])[[1]])
  }
  part
}

# The values behind the entries of a column of the settings table: a vector, or a list.
# Inactive hyperparameters (NA) take the part's default: it has no effect.
setting_entries <- function(dimension, column) {
  if (!is.list(dimension$varying$values) && !anyNA(column)) return(column)
  different <- unique(column)
  values <- lapply(different, function(entry) {
    if (is.na(entry)) inactive_value(dimension$declared) else dimension_value(dimension, entry)
  })
  values[match(column, different)]
}

inactive_value <- function(declared) if (is.function(declared$default)) NULL else declared$default
