# Where a pipeline meets the brief: minimal steps are written out, sensible ranges
# and defaults get their numbers, and the family's needs are checked.

# `split`: the first split; its training rows tell how many columns the default
# steps make. Returns spaces, and notes for the reader.
meet_brief <- function(candidates, brief, split, seed) {
  frame <- frame_columns(brief$table, brief$schema)
  training <- frame_rows(frame, split$training)
  target <- brief_target(brief, split$training)
  met <- lapply(names(candidates$pipelines), function(name) {
    meet_one(name, candidates$pipelines[[name]], brief, training, target, candidates$rules, seed)
  })
  list(
    spaces = stats::setNames(lapply(met, `[[`, "space"), names(candidates$pipelines)),
    notes = gather_notes(lapply(met, `[[`, "notes"), names(candidates$pipelines))
  )
}

# "a, b: the same note" for candidates that have a note in common.
gather_notes <- function(notes, names) {
  said <- unlist(notes)
  who <- rep(names, lengths(notes))
  vapply(unique(said), function(note) paste0(paste(who[said == note], collapse = ", "), ": ", note),
    character(1),
    USE.NAMES = FALSE
  )
}

meet_one <- function(name, pipeline, brief, training, target, rules, seed) {
  definition <- pipeline$family$definition
  check_family_fits(name, definition, brief)
  for (package in family_packages(definition, pipeline$family$settings, brief$kind)) {
    need(package, paste0("Candidate ", quoted(name), ", fam_", definition$name, "(),"))
  }
  about <- list(rows = training$n, columns = length(brief$schema), classes = class_count(brief))
  given <- step_names(pipeline$steps)
  pipeline <- with_outcome_scale(write_out_minimal(pipeline, brief), brief)
  pipeline$steps <- resolve_nodes(pipeline$steps, about)
  reached <- default_frame(name, pipeline, training, target, seed)
  frame <- reached$frame
  pipeline$steps <- settle_selections(pipeline$steps, reached$names)
  about$columns <- frame_width(frame)
  pipeline$family <- resolve_part(pipeline$family, about)
  check_input_needs(name, frame, definition, brief)
  list(
    space = new_space(name, pipeline, kind_among(definition$kinds, brief$kind), rules, about),
    notes = c(
      meeting_notes(pipeline, frame, definition, given), family_notes(pipeline$family, brief)
    )
  )
}

check_family_fits <- function(name, definition, brief) {
  if (is.null(kind_among(definition$kinds, brief$kind))) {
    stop_kw("plan", paste0(
      "Candidate ", quoted(name), ": fam_", definition$name,
      " cannot predict ", outcome_kind(brief$kind)$phrase, "."
    ))
  }
}

write_out_minimal <- function(pipeline, brief) {
  is_minimal <- vapply(pipeline$steps, function(node) {
    inherits(node$part, "kw_step") && !is.null(node$part$definition$expand)
  }, logical(1))
  pipeline$minimal <- any(is_minimal)
  pipeline$steps <- unlist(Map(function(node, expand) {
    if (!expand) return(list(node))
    as_nodes(node$part$definition$expand(brief$schema, pipeline$family$definition, brief$kind))
  }, pipeline$steps, is_minimal), recursive = FALSE)
  pipeline
}

# What the brief says of the outcome's scale holds for pipelines that say nothing of it.
with_outcome_scale <- function(pipeline, brief) {
  scales <- brief$outcome_scale
  if (is.null(scales) || has_step(pipeline$steps, "outcome_scale")) return(pipeline)
  settings <- if (is.list(scales)) {
    c(list(by = "own"), scales)
  } else {
    list(by = if (length(scales) > 1L) do.call(among, as.list(scales)) else scales)
  }
  step <- new_step(member_step_outcome_scale(), settings)
  pipeline$steps <- c(as_nodes(step), pipeline$steps)
  pipeline
}

# Is a step of this name anywhere, also among alternatives?
has_step <- function(nodes, name) {
  any(vapply(nodes, function(node) {
    if (!inherits(node$part, "kw_either")) return(identical(node$part$definition$name, name))
    any(vapply(node$part$alternatives, has_step, NA, name = name))
  }, NA))
}

resolve_nodes <- function(nodes, about) {
  lapply(nodes, function(node) {
    node$part <- if (inherits(node$part, "kw_either")) {
      structure(list(alternatives = lapply(node$part$alternatives, resolve_nodes, about = about)),
        class = class(node$part)
      )
    } else {
      resolve_part(node$part, about)
    }
    node
  })
}

# sensible() and defaults that depend on the table become values.
resolve_part <- function(part, about) {
  for (name in names(part$settings)) {
    declared <- part$definition$arguments[[name]]
    value <- part$settings[[name]]
    if (inherits(value, "kw_sensible")) {
      part$settings[[name]] <- declared$sensible(about$rows, about$columns, about$classes)
    } else if (is.function(value) && is.function(declared$default)) {
      part$settings[[name]] <- value(about$rows, about$columns, about$classes)
    }
  }
  part
}

# The training rows of the first split after the candidate's default steps, and the names of
# all columns on the way. Default: the
# first alternative, the first value of everything that varies.
default_frame <- function(name, pipeline, frame, target, seed) {
  names <- frame_names(frame)
  for (step in default_steps(pipeline$steps)) {
    learned <- tryCatch(
      suppressWarnings(learn_step(step, frame, target, derive_seed(seed, "meeting"))),
      error = function(e) {
        stop_kw("plan", paste0(
          "Candidate ", quoted(name), ": the step pre_", step$definition$name,
          " fails on the first split."
        ), where = plain_message(e))
      }
    )
    frame <- learned$frame
    target <- learned$target
    names <- union(names, frame_names(frame))
  }
  list(frame = frame, names = names)
}

# A captured variable that is called like a column plays no part: the column is meant. It is
# dropped, so that keys and seeds do not depend on what the workspace holds.
settle_selections <- function(nodes, columns) {
  lapply(nodes, function(node) {
    if (inherits(node$part, "kw_either")) {
      node$part$alternatives <- lapply(node$part$alternatives, settle_selections, columns = columns)
    } else {
      part <- node$part
      if (!is.null(part$columns)) node$part$columns <- without_captured(part$columns, columns)
      node$part$settings <- lapply(part$settings, function(value) {
        formulas <- is.list(value) && all(vapply(value, inherits, logical(1), "kw_formula"))
        if (formulas) lapply(value, without_captured, columns = columns) else value
      })
    }
    node
  })
}

without_captured <- function(code, columns) {
  code$captured <- code$captured[setdiff(names(code$captured), columns)]
  code
}

# Concrete steps: the first alternative and the first value of everything that varies.
default_steps <- function(nodes) {
  bare <- list(steps = nodes, family = list(settings = list()))
  dimensions <- pipeline_dimensions(bare)
  first <- lapply(dimensions, function(d) dimension_values(d, 2L)[1])
  fill_pipeline(bare, dimensions, first)$steps
}

check_input_needs <- function(name, frame, definition, brief) {
  kinds <- vapply(frame$columns, column_kind, character(1))
  problem <- function(what, columns, remedy) {
    stop_kw(
      "plan",
      paste0(
        "Candidate ", quoted(name), ": fam_", definition$name, " ", what, ", but ",
        enumerate(quoted(columns)), " ",
        if (length(columns) == 1L) "does" else "do",
        " not fit that after the steps."
      ),
      remedy = remedy
    )
  }
  if (definition$accepts$nothing) return(invisible())
  categories <- names(kinds)[kinds %in% c("category", "ordered")]
  if (!definition$accepts$factors && length(categories) > 0L) {
    problem(
      "takes numbers only", categories,
      paste(
        "Add pre_onehot() (or pre_ordinal()), or give the bare family: it then gets the least",
        "it needs."
      )
    )
  }
  usable <- frame$columns[kinds %in% c("number", "category", "ordered")]
  gaps <- names(usable)[vapply(usable, anyNA, logical(1))]
  if (!definition$accepts$missing && length(gaps) > 0L) {
    problem("takes no missing values", gaps, "Add pre_missing() before it.")
  }
  most <- family_most_levels(definition, brief$kind)
  crowded <- names(usable)[vapply(usable, nlevels, integer(1)) > most]
  if (length(crowded) > 0L) {
    problem(
      paste0("takes at most ", most, " levels for ", outcome_kind(brief$kind)$phrase), crowded,
      "Merge levels with pre_rare_levels(), or add pre_onehot(columns = ...)."
    )
  }
  if (length(usable) == 0L && is.null(frame$sparse)) {
    stop_kw("plan", paste0(
      "Candidate ", quoted(name), ": the steps leave no column for fam_",
      definition$name, "."
    ),
    remedy = "Text and dates need a step that turns them into numbers.",
    candidate = name, why = "its steps leave no column"
    )
  }
}

family_notes <- function(family, brief) {
  definition <- family$definition
  settings <- lapply(family$settings, function(value) possible_values(value)[1])
  inner <- if (is.null(definition$inner_fits)) {
    1
  } else {
    definition$inner_fits(
      settings, kind_among(definition$kinds, brief$kind), class_count(brief)
    )
  }
  c(
    if (inner > 1) {
      paste0(
        "every fit of fam_", definition$name, " trains ", inner,
        " models, for probabilities from held-out rows"
      )
    },
    if (!is.null(row_weights(brief)) && !definition$accepts$weights &&
      !definition$accepts$nothing) {
      paste0(
        "fam_", definition$name, " takes no case weights",
        if (!is.null(brief$roles$exposure)) " and no exposure", ": they count in the scores only"
      )
    }
  )
}

step_names <- function(nodes) {
  vapply(nodes, function(node) {
    if (inherits(node$part, "kw_either")) "either" else node$part$definition$name
  }, "")
}

# `given`: names of the steps as they were asked for.
meeting_notes <- function(pipeline, frame, definition, given) {
  kinds <- vapply(frame$columns, column_kind, character(1))
  left_out <- kinds[kinds %in% c("text", "date")]
  steps <- step_names(pipeline$steps)
  added <- setdiff(steps, given)
  c(
    if (isTRUE(pipeline$minimal) && length(added) > 0L) {
      paste0("minimal steps added: ", paste(added, collapse = ", "))
    },
    if (length(left_out) > 0L && !definition$accepts$nothing) {
      paste0(
        "left out, since no step turns them into numbers: ",
        paste0(names(left_out), " (", left_out, ")", collapse = ", ")
      )
    },
    if (definition$accepts$wants_scaling && !any(c("scale", "either") %in% steps)) {
      paste0("fam_", definition$name, " depends on the columns' scales; consider pre_scale()")
    }
  )
}
