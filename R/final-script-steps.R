# The preparation in a script: what every step says of itself, one after the other.

# Walks the steps with the training rows: list(lines, does, kinds, frame, target).
script_chain <- function(model) {
  choice <- model$origin$choice
  data <- working_data(brief_of(choice$cmp))
  data$frame <- frame_swap(data$frame, remove = model$unused)
  kinds <- frame_kinds(data$frame)
  lines <- does <- character()
  named <- character()
  for (i in seq_along(model$steps)) {
    learned <- model$steps[[i]]
    definition <- learned$definition
    named <- c(named, definition$name)
    count <- sum(named == definition$name)
    about <- list(
      i = if (count > 1L) paste0("_", count) else "", kinds = kinds, frame = data$frame,
      target = data$target, settings = learned$settings, seed = learned$seed,
      sparse = colnames(data$frame$sparse), weighted = !is.null(data$target$weights),
      beside = script_beside(model)
    )
    data <- script_after(learned, data)
    made <- if (definition$shipped) {
      definition$script(learned$state, about)
    } else {
      script_own_step(learned, about, i, data$frame)
    }
    if (length(c(made$lines, made$training)) > 0L) {
      training <- made$training %||% paste0("x <- ", made$does, "(x)")
      lines <- c(
        lines, script_comment("pre_", definition), made$lines,
        training, ""
      )
      does <- c(does, made$does)
    }
    now <- frame_kinds(data$frame)
    # where a column is replaced by one of its name, it keeps its place
    kinds <- now[c(intersect(names(kinds), names(now)), setdiff(names(now), names(kinds)))]
  }
  list(
    lines = briefly(split_lines(lines)), does = does, kinds = kinds,
    frame = data$frame, target = data$target
  )
}

# Texts and dates that no step turns into anything; filling their gaps is not a use of them.
unused_predictors <- function(members, schema) {
  idle <- names(schema)[schema_kinds(schema) %in% c("text", "date")]
  for (member in members) {
    for (learned in member$steps) {
      idle <- idle[!vapply(idle, step_uses, NA, learned = learned)]
    }
  }
  idle
}

step_uses <- function(name, learned) {
  definition <- learned$definition
  if (!definition$shipped || definition$changes_rows) return(TRUE)
  name %in% texts_in(if (definition$name == "missing") learned$state$flagged else learned$state)
}

# All names and texts in nested lists.
texts_in <- function(x) {
  c(
    names(x), if (is.character(x)) x, if (is.language(x)) all.vars(x),
    if (is.list(x)) unlist(lapply(x, texts_in))
  )
}

# A model whose script never looks at some columns.
without_predictors <- function(model, names) {
  model$unused <- names
  model$schema <- model$schema[setdiff(names(model$schema), names)]
  model$steps <- lapply(model$steps, function(learned) {
    columns <- learned$settings$columns
    if (is.character(columns)) learned$settings$columns <- setdiff(columns, names)
    if (learned$definition$name == "missing") {
      learned$state$fills <- learned$state$fills[setdiff(names(learned$state$fills), names)]
    }
    learned
  })
  model
}

briefly <- function(lines) {
  lines <- gsub("apply(x[names(x)], ", "apply(x, ", lines, fixed = TRUE)
  gsub("apply(x[names(Filter(", "apply(Filter(", lines, fixed = TRUE) |>
    gsub(pattern = "(apply\\(Filter\\(is\\.[a-z]+, x\\))\\)\\]", replacement = "\\1")
}

script_comment <- function(prefix, definition) {
  r_comment(strwrap(paste0(prefix, definition$name, ": ", definition$does), 95L))
}

frame_kinds <- function(frame) {
  words <- colnames(frame$sparse)
  c(vapply(frame$columns, column_kind, ""), stats::setNames(rep("number", length(words)), words))
}

# The training rows as the next step sees them.
script_after <- function(learned, data) {
  definition <- learned$definition
  if (!definition$changes_rows && !definition$cross_fitted) {
    return(list(frame = use_step(learned, data$frame), target = data$target))
  }
  learn_settled(definition, learned$settings, data$frame, data$target, learned$seed)
}

# A step that its author wrote, by the author's functions. They get a list like the engine's own:
# the columns, words that are mostly zero as a sparse matrix, what is beside the rows.
script_own_step <- function(learned, about, i, after) {
  definition <- learned$definition
  changes <- definition$changes_rows || definition$cross_fitted
  sparse <- length(about$sparse) > 0L || !is.null(after$sparse)
  beside <- c(
    y = "outcome", w = "weights", group = "group", row = "source_row", exposure = "exposure"
  )
  lines <- code_filler(i = as.character(i))
  call <- lines("learn_<<i>>(frame_<<i>>(x), target_<<i>>, settings_<<i>>, <<seed>>)",
    seed = as.character(learned$seed)
  )
  list(
    does = paste0("use_step_", i),
    lines = c(
      own_function(paste0("learn_", i), definition$learn),
      own_function(paste0("use_", i), definition$use),
      lines(r"(
settings_<<i>> <- <<settings>>
<<frame>>
target_<<i>> <- list(<<target>>)
<<seed>>
learned_<<i>> <- <<call>>
use_step_<<i>> <- function(x) columns_<<i>>(use_<<i>>(learned_<<i>>$state, frame_<<i>>(x)))
)",
        settings = r_settings(learned$settings), call = call,
        frame = script_own_frame(as.character(i), about$sparse, sparse),
        target = paste0(beside[about$beside], " = ", about$beside, collapse = ", "),
        seed = if (definition$random) r_seed(learned$seed)
      )
    ),
    training = if (changes) c(
      lines("own_<<i>> <- learned_<<i>>$training"),
      lines("x <- if (is.null(own_<<i>>)) use_step_<<i>>(x) else columns_<<i>>(own_<<i>>$frame)"),
      vapply(about$beside, function(name) {
        lines("if (!is.null(own_<<i>>)) <<name>> <- own_<<i>>$target$<<as>>",
          name = name, as = beside[[name]]
        )
      }, "")
    )
  )
}

# The engine's frame from a data frame and back.
script_own_frame <- function(i, words, sparse) {
  if (!sparse) return(code_lines(r"(
frame_<<i>> <- function(x) list(columns = x, sparse = NULL, n = nrow(x))
columns_<<i>> <- function(frame) as.data.frame(frame$columns, optional = TRUE)
)", i = i))
  code_lines(r"(
words_<<i>> <- <<words>>
frame_<<i>> <- function(x) {
  words <- Matrix::Matrix(as.matrix(x[words_<<i>>]), sparse = TRUE)
  list(
    columns = x[setdiff(names(x), words_<<i>>)], n = nrow(x),
    sparse = if (length(words_<<i>>) > 0) words
  )
}
columns_<<i>> <- function(frame) {
  x <- as.data.frame(frame$columns, optional = TRUE)
  if (is.null(frame$sparse)) return(x)
  words <- as.matrix(frame$sparse)
  x[colnames(words)] <- as.data.frame(words)
  x
}
)", i = i, words = r_vector(as.character(words)))
}
