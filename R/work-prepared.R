# Rows as the steps leave them, and what families make of them.

# Rows as a step node leaves them: an environment with training and validation, each
# list(frame, target), and inputs; or with error and stage if a step on the way failed.
# Learned once as long as the cache keeps it. Frames of the untouched rows are made only
# when a step asks for them.
prepared_node <- function(node, context) {
  key <- cache_key(node, context)
  found <- context$cache$get(key)
  # rows may have been let go before a later round asked for them in another form
  if (!is.null(found) && (is.null(found$let_go) || context$work$only_input[node + 1L])) {
    return(found)
  }
  context$cache$make_room()
  made <- if (node == 0L) untouched_rows(context) else learn_node(node, context)
  if (is.null(made$error)) made$inputs <- list()
  made <- list2env(made, parent = emptyenv())
  context$cache$keep(key, made)
  made
}

cache_key <- function(node, context) paste(context$id, context$split, context$share, node)

untouched_rows <- function(context) {
  target <- function(part) {
    list(frame = NULL, target = target_rows(context$data$target, rows_at(part, context)))
  }
  list(training = target("training"), validation = target("validation"))
}

# Numbers of the working rows of a part.
rows_at <- function(part, context) {
  if (part == "training") context$training_rows else context$splits[[context$split]]$validation
}

# The frame of a node that steps follow; of the untouched rows it is made here.
rows_of <- function(part, prepared, context) {
  if (is.null(prepared[[part]]$frame)) {
    prepared[[part]]$frame <- frame_rows(context$data$frame, rows_at(part, context))
    context$cache$keep(cache_key(0L, context), prepared)
  }
  prepared[[part]]$frame
}

learn_node <- function(node, context) {
  parent <- prepared_node(context$work$nodes[[node]]$parent, context)
  if (!is.null(parent$error)) return(list(error = parent$error, stage = parent$stage))
  step <- context$work$nodes[[node]]$step
  stage <- paste0("pre_", step$definition$name)
  started <- seconds_now()
  seed <- derive_seed(context$seed, paste(context$place, context$work$nodes[[node]]$key))
  done <- with_conditions({
    frames <- lapply(
      stats::setNames(nm = c("training", "validation")),
      rows_of,
      prepared = parent,
      context = context
    )
    learned <- learn_step(step, frames$training, parent$training$target, seed)
    list(
      training = list(frame = learned$frame, target = learned$target),
      validation = list(
        frame = use_step(learned$state, frames$validation),
        target = parent$validation$target
      )
    )
  })
  if (!is.null(done$error)) return(list(error = done$error, stage = stage))
  context$steps$add(new_steps(
    node, context$split, context$share, seconds_now() - started, stage, list(done$warnings)
  ))
  done$value
}

# A function of "training" or "validation" that gives the rows in the form that the family
# takes, list(value, error). Fits of one node that take the same form share it; it is made
# when first asked for, so that validation rows take no room during a first large fit.
family_inputs <- function(node, prepared, definition, context) {
  frame <- if (node > 0L) prepared$training$frame else context$data$frame
  form <- input_form(definition, frame)
  function(part) {
    name <- paste(part, form)
    # of rows that were let go there is one form only
    if (context$work$only_input[node + 1L]) name <- part
    if (is.null(prepared$inputs[[name]])) {
      prepared$inputs[[name]] <- with_conditions(if (node > 0L) {
        family_input(prepared[[part]]$frame, definition)
      } else {
        family_input(context$data$frame, definition, rows_at(part, context))
      })
      let_go_of_rows(node, part, prepared, context)
      context$cache$keep(cache_key(node, context), prepared)
    }
    prepared$inputs[[name]]
  }
}

# Once the input is made the rows themselves are let go, where nothing else is made of
# them: no further step, no family that takes its input in another form.
let_go_of_rows <- function(node, part, prepared, context) {
  if (!context$work$only_input[node + 1L]) return(invisible())
  prepared[[part]]$frame <- NULL
  prepared$let_go <- TRUE
  # R collects late, and columns lie in pieces that the C library keeps: a fit beside what is
  # no longer needed would raise the peak
  if (part == "training" && as.numeric(utils::object.size(prepared$inputs)) > collect_from) {
    gc(FALSE)
    return_memory()
  }
}

collect_from <- 5e7

input_form <- function(definition, frame) {
  accepts <- definition$accepts
  kinds <- vapply(frame$columns, column_kind, character(1))
  if (takes_columns(definition, kinds)) return("columns")
  paste0(if (accepts$sparse && !is.null(frame$sparse)) "sparse" else "dense", accepts$missing)
}

# Prepared rows under a limit of bytes: the oldest go first, the newest always stay.
cache_bytes <- 4e8

new_cache <- function(limit = cache_bytes) {
  entries <- list()
  sizes <- numeric()
  shrink <- function(most, left) {
    while (sum(sizes) > most && length(entries) > left) {
      entries[[1]] <<- NULL
      sizes <<- sizes[-1]
    }
  }
  list(
    get = function(key) entries[[key]],
    # before something about as large as the largest so far is made
    make_room = function() if (length(sizes) > 0L) shrink(limit - max(sizes), 0L),
    keep = function(key, value) {
      entries[[key]] <<- value
      sizes[[key]] <<- as.numeric(utils::object.size(as.list(value)))
      shrink(limit, 1L)
    },
    clear = function() {
      entries <<- list()
      sizes <<- numeric()
    }
  )
}
