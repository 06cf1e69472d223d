#' Check a part of your own
#'
#' Runs the checks that the shipped ones go through, on the first split of a brief:
#' shapes, finite numbers, one row alone as among many, the same seed giving the same,
#' saving and restoring; for a path, that a value means the same alone as among others. A search is
#' led through a conversation about made-up scores: it must propose what is in the field, nothing
#' twice, the same with the same seed, go on where everything failed, and end. A splitter must give
#' the same splits with the same seed and keep groups whole; a screen must leave the best setting
#' and do the same again; a rule must choose what may be chosen,
#' where there is one setting too; a finding must say something of columns that there are.
#'
#' @param part A family or step as its constructor gives it (`fam_mine()`), the
#'   constructor itself, a metric, a splitter, a search, a screen, a rule, or a finding.
#' @param brief A [brief()] with an outcome that the part is for.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A `kw_tried`: a tibble with `check`, `passed`, `detail`. Printing it says
#'   what does not hold.
#' @section Errors:
#' `kw_error_argument` for something that is no part. What the part itself does wrong is a row of
#' the result, not an error.
#' @examples
#' fam_middle <- define_family("middle",
#'   kinds = "number",
#'   fit = function(x, y, weights, settings, seed, threads) stats::median(y),
#'   predict = function(model, x) rep(model, nrow(x))
#' )
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' try_out(fam_middle, job)
#' @export
try_out <- function(part, brief, ...) {
  no_more(...)
  check_class(brief, "kw_brief", "brief", "Make one with brief().")
  if (is.function(part)) part <- part()
  split <- make_splits(split_kfold(5), brief, 1)[[1]]
  checks <- if (inherits(part, "kw_family")) try_family(part, brief, split)
  else if (inherits(part, "kw_step")) try_step(part, brief, split)
  else if (inherits(part, "kw_metric")) try_metric(part, brief)
  else if (inherits(part, "kw_search")) try_search(part, brief, split)
  else if (inherits(part, "kw_splitter")) try_splitter(part, brief)
  else if (inherits(part, "kw_screen")) try_screen(part, brief)
  else if (inherits(part, "kw_rule")) try_rule(part, brief)
  else if (inherits(part, "kw_finding_part")) try_finding(part, brief)
  else stop_kw(
    "argument",
    paste0(
      "`part` must be a family, step, metric, splitter, search, screen, rule or finding; got ",
      describe_value(part), "."
    )
  )
  structure(
    tibble::as_tibble(data.table::rbindlist(checks)),
    class = c("kw_tried", "tbl_df", "tbl", "data.frame")
  )
}

# Runs one check: it passes if `expr` gives TRUE; an error or a text is the detail.
one_check <- function(check, expr) {
  found <- with_conditions(expr)
  passed <- isTRUE(found$value)
  list(
    check = check, passed = passed,
    detail = if (passed) {
      ""
    } else {
      found$error %||% if (is.character(found$value)) found$value else "does not hold"
    }
  )
}

same_numbers <- function(a, b) {
  a <- as.vector(a)
  b <- as.vector(b)
  length(a) == length(b) && all(is.finite(a) == is.finite(b)) &&
    max(0, abs(a - b), na.rm = TRUE) <= 1e-8 * max(1, abs(a), na.rm = TRUE)
}

try_family <- function(family, brief, split) {
  definition <- family$definition
  ready <- with_conditions({
    met <- meet_brief(candidates(tried = family), brief, split, 1)$spaces$tried
    first <- grid_settings(met, 2L)
    settings <- fill_pipeline(met$pipeline, met$dimensions, setting_values(first, 1L))
    frame <- frame_rows(frame_columns(brief$table, brief$schema), split$training)
    target <- brief_target(brief, split$training)
    validation <- frame_rows(frame_columns(brief$table, brief$schema), split$validation)
    for (step in settings$steps) {
      learned <- learn_step(step, frame, target, 1)
      frame <- learned$frame
      target <- learned$target
      validation <- use_step(learned$state, validation)
    }
    list(
      settings = settings$family, x = family_input(frame, definition), target = target,
      new = family_input(validation, definition)
    )
  })
  if (!is.null(ready$error)) {
    return(list(list(check = "takes the brief", passed = FALSE, detail = ready$error)))
  }
  try_fitted(definition, ready$value)
}

try_fitted <- function(definition, ready) {
  along <- definition$path$along
  fit <- function(settings) fit_family(definition, ready$x, ready$target, settings, 7)
  value <- if (length(along) == 1L) {
    ready$settings[[along]]
  } else if (length(along) > 1L) {
    plain_frame(ready$settings[along], 1L)
  }
  fitted <- with_conditions(fit(ready$settings))
  if (!is.null(fitted$error)) {
    return(list(list(check = "fits", passed = FALSE, detail = fitted$error)))
  }
  fitted <- fitted$value
  whole <- with_conditions(predict_family(fitted, ready$new, value))
  checks <- list(
    list(check = "takes the brief", passed = TRUE, detail = ""),
    list(check = "fits", passed = TRUE, detail = ""),
    one_check("predictions have the right shape", whole$error %||% TRUE)
  )
  if (!is.null(whole$error)) return(checks)
  whole <- whole$value
  row <- function(p, i) {
    if (is.null(dim(p))) p[i] else if (length(dim(p)) == 3L) p[i, , ] else p[i, ]
  }
  c(
    checks, list(
      one_check("predictions are finite", all(is.finite(whole))),
      one_check("probabilities sum to 1", is.null(fitted$present) ||
        all(abs(apply(whole, setdiff(seq_along(dim(whole)), 2L), sum) - 1) < 1e-8)),
      one_check(
        "one row alone is predicted as among many",
        same_numbers(
          predict_family(fitted, ready$new[1, , drop = FALSE], value), row(whole, 1L)
        )
      ),
      one_check(
        "the same seed gives the same",
        same_numbers(predict_family(fit(ready$settings), ready$new, value), whole)
      ),
      one_check("survives saving", {
        kept <- fitted
        kept$model <- definition$freeze(fitted$model, value)
        # reason: written in the same line
        same_numbers(predict_family(unserialize(serialize(kept, NULL)), ready$new, value), whole)
      })
    ),
    if (length(along) == 1L && is.numeric(value)) {
      list(one_check("a path value means the same among others", {
        several <- ready$settings
        several[[along]] <- sort(unique(c(value, value * 2)))
        same_numbers(predict_family(fit(several), ready$new, value), whole)
      }))
    }
  )
}

try_step <- function(step, brief, split) {
  frame <- frame_rows(frame_columns(brief$table, brief$schema), split$training)
  new <- frame_rows(frame_columns(brief$table, brief$schema), split$validation)
  target <- brief_target(brief, split$training)
  first <- default_steps(as_nodes(step))[[1]]
  learned <- with_conditions(learn_step(first, frame, target, 7))
  if (!is.null(learned$error)) {
    return(list(list(check = "learns", passed = FALSE, detail = learned$error)))
  }
  learned <- learned$value
  used <- with_conditions(use_step(learned$state, new))
  if (!is.null(used$error)) {
    return(list(list(check = "is used on new rows", passed = FALSE, detail = used$error)))
  }
  used <- used$value
  same_frame <- function(a, b) {
    isTRUE(all.equal(
      lapply(a$columns, unclass), lapply(b$columns, unclass),
      check.attributes = FALSE
    ))
  }
  list(
    list(check = "learns", passed = TRUE, detail = ""),
    one_check(
      "columns are the same on any rows",
      identical(frame_names(used), frame_names(learned$frame))
    ),
    one_check(
      "one row alone is used as among many",
      same_frame(use_step(learned$state, frame_rows(new, 1L)), frame_rows(used, 1L))
    ),
    one_check(
      "the same seed gives the same",
      same_frame(use_step(learn_step(first, frame, target, 7)$state, new), used)
    ),
    one_check(
      "survives saving",
      # reason: written in the same line
      same_frame(use_step(unserialize(serialize(learned$state, NULL)), new), used)
    )
  )
}

try_metric <- function(metric, brief) {
  truth <- truth_of(brief_target(brief))
  n <- length(truth)
  prediction <- with_seed(1, made_up_prediction(truth))
  stacked <- if (!is.null(prediction_columns(truth))) {
    array(rep(prediction, 2L), c(dim(prediction), 2L))
  } else {
    cbind(prediction, prediction)
  }
  score <- function(p, w = NULL) score_predictions(metric, truth, p, w)
  list(
    one_check("fits the outcome", inherits(find_metric(metric, brief$kind), "kw_metric")),
    one_check("gives one number", is.numeric(score(prediction)) && length(score(prediction)) == 1L),
    one_check(
      "gives one number a path value", same_numbers(score(stacked), rep(score(prediction), 2L))
    ),
    one_check("takes weights", is.numeric(score(prediction, rep(1, n)))),
    one_check("lies in its range", {
      found <- score(prediction)
      is.na(found) || (found >= metric$range[1] && found <= metric$range[2])
    })
  )
}

made_up_prediction <- function(truth) {
  if (inherits(truth, "kw_quantile_truth")) {
    # reason: every column is the outcome's own quantile and some noise
    ends <- stats::quantile(unclass(truth), attr(truth, "quantiles"), names = FALSE)
    n <- length(truth)
    noise <- matrix(stats::rnorm(n * length(ends), sd = diff(range(ends))), n)
    return(noise + rep(ends, each = n))
  }
  if (!is.factor(truth)) return(truth + stats::rnorm(length(truth), sd = stats::sd(truth)))
  raw <- matrix(stats::runif(length(truth) * nlevels(truth)), length(truth))
  raw / rowSums(raw)
}

try_splitter <- function(splitter, brief) {
  made <- with_conditions(make_splits(splitter, brief, 1))
  if (!is.null(made$error)) {
    return(list(list(check = "gives splits", passed = FALSE, detail = made$error)))
  }
  rows <- function(part) unlist(lapply(made$value, `[[`, part))
  group <- if (!is.null(brief$roles$group)) brief$table[[brief$roles$group]]
  list(
    one_check("gives splits", length(made$value) > 0L),
    one_check("the same seed gives the same", {
      identical(make_splits(splitter, brief, 1), made$value)
    }),
    one_check("rows are there", all(c(rows("training"), rows("validation")) %in%
      seq_len(nrow(brief$table)))),
    one_check("no row is learned from and held out", all(vapply(made$value, function(split) {
      length(intersect(split$training, split$validation)) == 0L
    }, NA))),
    one_check("groups stay whole", is.null(group) || all(vapply(made$value, function(split) {
      length(intersect(group[split$training], group[split$validation])) == 0L
    }, NA)))
  )
}

try_screen <- function(screen, brief) {
  splits <- split_kfold(quick_folds(brief, 8))
  rivals <- candidates(base = fam_baseline(), near = pipeline(
    pre_minimal(), fam_neighbours(neighbours = among(1, 3, 9, 27))
  ))
  run <- function(screen) {
    run_comparison(
      brief, rivals, splits = splits, screen = screen, seed = 1, quiet = TRUE, workers = 1
    )
  }
  screened <- with_conditions(run(screen))
  if (!is.null(screened$error)) {
    return(list(list(check = "goes with a comparison", passed = FALSE, detail = screened$error)))
  }
  ranked <- function(cmp) standings_rows(cmp)[c("candidate", "setting", "mean")]
  list(
    list(check = "goes with a comparison", passed = TRUE, detail = ""),
    one_check("what leads in full is not dropped", {
      identical(ranked(screened$value)[1, ], ranked(run(NULL))[1, ])
    }),
    one_check("does the same again", identical(ranked(run(screen)), ranked(screened$value)))
  )
}

# On a small comparison, and on one of a single setting.
try_rule <- function(rule, brief) {
  margin <- if (identical(rule$margin, "needed")) 0.1
  chosen <- function(rivals) {
    splits <- split_kfold(quick_folds(brief, 3))
    cmp <- run_comparison(brief, rivals, splits = splits, seed = 1, quiet = TRUE, workers = 1)
    select_final(cmp, rule, margin = margin)
  }
  several <- candidates(
    base = fam_baseline(), near = pipeline(pre_minimal(), fam_neighbours(neighbours = among(5, 9)))
  )
  list(
    one_check("chooses one of several", length(chosen(several)$at) == 1L),
    one_check("chooses the only one", chosen(candidates(base = fam_baseline()))$at == 1L),
    one_check("says why", nzchar(chosen(several)$reason))
  )
}

try_finding <- function(part, brief) {
  check <- part$look
  found <- with_conditions(Filter(Negate(is.null), check(new_look(brief))))
  steps <- lapply(found$value, function(one) one$action$step)
  list(
    one_check("looks at the table", found$error %||% TRUE),
    one_check("names a step that there is", all(unlist(steps) %in% names(known_members("step")))),
    one_check("finds the same again", identical(check(new_look(brief)), check(new_look(brief))))
  )
}

# A search that has not ended after so many settings does not end.
most_tried <- 2000L

try_search <- function(search, brief, split) {
  rivals <- candidates(
    base = fam_baseline(),
    tree = fam_tree(pruning = from_to(1e-4, 0.1, "log"), min_leaf = from_to(2, 40),
      depth = among(2, 5, 10)),
    near = pipeline(pre_minimal(), optional(pre_skew()), fam_neighbours(
      neighbours = from_to(1, 30), weighting = among("equal", "inverse")
    ))
  )
  met <- meet_brief(rivals, brief, split, 1)$spaces
  metric <- find_metric(outcome_kind(brief$kind)$metrics[1], brief$kind)
  talk <- function(seed, failing = FALSE) converse(search, met, metric, seed, failing)
  first <- with_conditions(talk(1))
  if (!is.null(first$error)) {
    return(list(list(check = "proposes what is in the field", passed = FALSE,
      detail = first$error)))
  }
  first <- first$value
  tables <- first$tables
  list(
    list(check = "proposes what is in the field", passed = TRUE, detail = ""),
    one_check("proposes something", sum(vapply(tables, nrow, 1L)) > 0L),
    one_check("proposes nothing twice", all(vapply(tables, function(table) {
      nrow(table) < 2L || length(table) > 0L && !anyDuplicated(table)
    }, NA))),
    one_check("ends", if (first$ended) TRUE else paste("it goes on after", most_tried, "settings")),
    one_check("the same seed gives the same proposals", identical(talk(1), first)),
    one_check("goes on where everything failed", {
      talk(2, failing = TRUE)
      TRUE
    })
  )
}

# The conversation with a search about made-up scores, the better the nearer to a point of the
# cube: list(tables by candidate, ended).
converse <- function(search, spaces, metric, seed, failing) {
  seats <- first_round(spaces, list(list(search = search, candidates = names(spaces))), metric,
    seed, 1:5)
  tables <- lapply(spaces, function(space) plain_frame(list(), 0L))
  told <- lapply(spaces, function(space) list(tasks = 0L, scores = NULL, partial = NULL))
  round <- seats$round
  seats <- seats$seats
  repeat {
    new <- lapply(names(spaces), function(name) {
      check_proposal(spaces[[name]], round[[name]]$settings %||% plain_frame(list(), 0L))
    })
    if (!has_proposals(round)) return(list(tables = tables, ended = TRUE))
    tables[] <- Map(bind_tables, tables, new)
    for (task in tasks_of_round(round) %||% whole_tasks(round)) {
      name <- task$candidate
      told[[name]] <- with_task_told(told[[name]], task, tables[[name]])
    }
    tried <- max(
      sum(vapply(tables, nrow, 1L)), sum(vapply(told, `[[`, 1L, "tasks")) - length(spaces)
    )
    if (tried > most_tried) return(list(tables = tables, ended = FALSE))
    history <- Map(made_up_history, spaces, tables, told, failing)
    found <- propose_all(seats, spaces, metric, history, 1:5)
    seats <- found$seats
    round <- found$round
  }
}

# Cells (setting, split) that were asked for on all rows, and those on shares of them.
with_task_told <- function(told, task, table) {
  at <- matching_rows(task$settings, table)
  splits <- if (length(task$splits) == 0L) 1:5 else task$splits
  cells <- cbind(rep(at, each = length(splits)), rep(splits, length(at)))
  told$tasks <- told$tasks + 1L
  if (task$share == 1) {
    told$scores <- rbind(told$scores, cells)
  } else {
    told$partial <- rbind(told$partial, cbind(cells, rep(task$share, nrow(cells))))
  }
  told
}

made_up_history <- function(space, settings, told, failing) {
  n <- nrow(settings)
  cube <- if (n > 0L) settings_to_cube(space, settings) else matrix(0, 0L, 1L)
  cube[is.na(cube)] <- 0.5
  mean <- rep_len(1 + rowSums((cube - 0.3)^2), n)
  known <- outer(mean, c(-0.2, -0.1, 0, 0.1, 0.2), `+`)
  if (failing) known[] <- NA_real_
  scores <- known
  scores[] <- NA_real_
  scores[told$scores] <- known[told$scores]
  mean <- rowMeans(scores)
  part <- told$partial %||% matrix(numeric(), 0L, 3L)
  list(
    settings = settings, mean = mean, sd = ifelse(is.na(mean), NA, 0.16),
    expected = expected_means(scores, mean), scores = scores,
    splits = 1:5, seconds = rep(0.01, n), failed = rep(failing, n), meets = rep(TRUE, n),
    partial = data.frame(
      setting = part[, 1], split = part[, 2], share = part[, 3],
      score = known[part[, 1:2, drop = FALSE]]
    )
  )
}
