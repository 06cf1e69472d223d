# Steps learned and used on small tables, and test-only members of the contract's harder parts.

prepared <- function(steps, table, rows = seq_len(nrow(table)), new = table) {
  job <- brief(cbind(table[rows, , drop = FALSE], y = seq_along(rows) / 7), "y")
  states <- list()
  frame <- kw("frame_columns")(job$table, job$schema)
  target <- kw("brief_target")(job)
  out <- kw("frame_from_new")(new, job$schema, NULL)
  for (step in steps) {
    learned <- kw("learn_step")(step, frame, target, 1)
    frame <- learned$frame
    target <- learned$target
    out <- kw("use_step")(learned$state, out)
  }
  out
}

pre_double <- define_step("double",
  columns = "number", changes_rows = TRUE,
  learn = function(frame, target, settings, seed) {
    rows <- rep(seq_len(frame$n), 2)
    made <- list(columns = frame$columns[rows, , drop = FALSE], sparse = NULL, n = length(rows))
    doubled <- lapply(unclass(target), function(x) if (is.null(x)) NULL else x[rows])
    list(
      state = list(),
      training = list(
        frame = structure(made, class = "kw_frame"),
        target = structure(doubled, class = "kw_target")
      )
    )
  },
  use = function(state, frame) frame
)

# Mean outcome of the other half of the rows, whole units kept on one side.
pre_mean_of_others <- define_step(
  "mean_of_others",
  columns = "category",
  cross_fitted = TRUE,
  random = TRUE,
  learn = function(frame, target, settings, seed) {
    column <- as.character(frame$columns[[settings$columns]])
    y <- if (is.factor(target$outcome)) as.integer(target$outcome) - 1 else target$outcome
    unit <- if (is.null(target$group)) target$source_row else target$group
    units <- unique(unit)
    half <- sample(rep(1:2, length.out = length(units)))[match(unit, units)]
    means <- function(rows) tapply(y[rows], column[rows], mean)
    value <- function(table, x) ifelse(is.na(table[x]), 0.5, table[x])
    coded <- ifelse(half == 1, value(means(half == 2), column), value(means(half == 1), column))
    inside <- frame
    inside$columns[[settings$columns]] <- as.numeric(coded)
    list(
      state = list(column = settings$columns, table = means(rep(TRUE, frame$n))),
      training = list(frame = inside, target = target)
    )
  },
  use = function(state, frame) {
    coded <- state$table[as.character(frame$columns[[state$column]])]
    frame$columns[[state$column]] <- as.numeric(ifelse(is.na(coded), 0.5, coded))
    frame
  }
)

learned <- function(step, table, outcome, group = NULL, rows = seq_len(nrow(table))) {
  frame <- kw("frame_from_new")(
    table, kw("learn_schema")(kw("clean_table")(table, list(), NULL, NULL), list()), NULL
  )
  target <- kw("new_target")(outcome[rows], group = group[rows], source_row = rows)
  kw("learn_step")(step, kw("frame_rows")(frame, rows), target, 4)
}
