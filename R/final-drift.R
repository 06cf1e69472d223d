#' Do new rows still look like those that the model was fitted on?
#'
#' Column by column: which moved, by how much, and whether that is more than chance. Of rows whose
#' outcome is known also how the scores moved. A model keeps shares of ranges and levels for this,
#' no rows.
#'
#' @details
#' A column's working rows are in at most fifty ranges, or in its levels or values; what is missing
#' is a part of its own, and of a text the number of characters is looked at. Ranges and levels are
#' joined until at least five new rows are to be expected in each; rows count alike, whatever they
#' weigh. The shares then and now are compared by Pearson's chi-squared test of two samples; where
#' rows come in groups, both samples count as fewer rows, the more alike rows of a group are (Rao &
#' Scott 1981, Journal of the American Statistical Association 76, 221-230; Thomas & Rao 1987, there
#' 82, 630-636). p is corrected for the number of columns (Holm 1979, Scandinavian Journal of
#' Statistics 6, 65-70): where nothing moved, one look in twenty at most (`level`) finds anything at
#' all. With many rows chance explains nothing away, and a shift that is of no matter is found as
#' well: `margin` says what matters.
#'
#' The prediction is a column like the others, where the comparison kept the predictions of held-out
#' rows (`run_comparison(keep = "all_predictions")`); so is the outcome, where the new rows have it.
#'
#' @param model A model from [fit_final()] or [open_model()].
#' @param new_data Data frame, or path of a table, as for [check_new_data()].
#' @param level How often at most a look finds something where nothing moved.
#' @param margin A shift that matters: the share of rows that would have to be elsewhere.
#' @param group Name of the column that says which new rows belong together; default the brief's
#'   group, where the new rows have it.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A tibble, one row a column, what moved most first: `column`, `answer` (`"moved"`,
#'   `"moved a little"`: beyond chance, but by less than the margin, `"no sign"`, `"too few rows"`),
#'   `distance` (share of rows that would have to be elsewhere: half the sum of the shares'
#'   differences), `shift` (of numbers: the difference of the means, in standard deviations of the
#'   working rows), `outside` (share of new rows with levels that there were not, or numbers beyond
#'   the range), `missing_then`, `missing_now`, `p` (corrected). Its attribute `scores` is a
#'   tibble of `metric`, `then`, `now`, `low`, `high`, `p` (corrected) and `answer` (`"worse"`,
#'   `"better"`, `"no sign"`), or `NULL`.
#' @section Errors:
#' `kw_error_argument` for a model of a version that kept no shares, or a `group` that there is not;
#' `kw_error_new_data` for rows that cannot be read, `kw_error_data` for outcomes that the model
#' does not know.
#' @seealso [draw_drift()], [check_new_data()], [score_known()], [serve_model()]
#' @examples
#' pots <- demo_pots()
#' job <- brief(pots[1:800, ],
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1, quiet = TRUE
#' )
#' model <- fit_final(select_final(cmp))
#' later <- pots[801:1500, ]
#' later$humidity_pct <- later$humidity_pct + 10
#' watch_drift(model, later)
#' @export
watch_drift <- function(model, new_data, level = 0.05, margin = 0.1, group = NULL, ...) {
  no_more(...)
  check_class(model, "kw_model", "model", "Make one with fit_final().")
  check_number(level, "level", min = 0, max = 1)
  check_number(margin, "margin", min = 0, max = 1)
  if (is.null(model$reference)) {
    stop_kw("argument", "This model keeps no shares of its working rows.",
      remedy = "A version that knew less fitted it; fit and save it again."
    )
  }
  if (is.character(new_data)) {
    texts <- if (has_classes(model$kind)) model$outcome
    new_data <- read_new_rows(model, new_data, c(texts, group %||% model$reference$group))
  }
  frame <- frame_from_new(new_data, model$schema, model$missing_codes)
  if (nrow(new_data) == 0L) stop_kw("new_data", "There are no new rows.")
  grouped <- drift_groups(model, new_data, group)
  compared <- drift_columns(model, new_data, frame)
  each <- lapply(names(compared), function(name) {
    one_drift(compared[[name]]$then, compared[[name]]$now, grouped)
  })
  table <- data.table::rbindlist(lapply(each, `[[`, "row"))
  table$p <- stats::p.adjust(table$p, "holm")
  table <- tibble::add_column(tibble::as_tibble(table),
    column = names(compared), answer = drift_answer(table$p, table$distance, level, margin),
    .before = 1L
  )
  order <- order(match(table$answer, drift_answers), -table$distance)
  drift_listing(
    table[order, ], lapply(each, `[[`, "cells")[order],
    drift_scores(model, new_data, grouped, level), nrow(new_data), level, margin
  )
}

drift_answers <- c("moved", "moved a little", "no sign", "too few rows")

drift_answer <- function(p, distance, level, margin) {
  beyond <- !is.na(p) & p < level
  drift_answers[ifelse(is.na(p), 4L, ifelse(!beyond, 3L, ifelse(distance >= margin, 1L, 2L)))]
}

drift_groups <- function(model, new, group) {
  if (!is.null(group)) {
    check_string(group, "group")
    check_choice(group, names(new), "group")
  }
  group <- group %||% intersect(model$reference$group, names(new))
  if (length(group) == 0L) return(NULL)
  values <- as.character(new[[group]])
  # a row of no group is one of its own
  ifelse(is.na(values), paste0("\r", seq_along(values)), values)
}

# What is compared, by the name it is shown under: list(then, now).
drift_columns <- function(model, new, frame) {
  reference <- model$reference
  found <- Map(
    function(then, now) list(then = then, now = now), reference$columns,
    frame$columns[names(reference$columns)]
  )
  if (model$outcome %in% names(new) && !all(is.na(new[[model$outcome]])) &&
    is.null(model$exposure)) {
    truth <- known_outcomes(model, new)
    found <- c(found, stats::setNames(
      list(list(then = reference$outcome, now = truth)), paste0(model$outcome, " (outcome)")
    ))
  }
  if (!is.null(reference$prediction)) {
    now <- told_prediction(predict_frame(model, frame), model$kind, model$levels)
    found <- c(found, list("(prediction)" = list(then = reference$prediction, now = now)))
  }
  found
}

# Shares of cells then and now, and the test: list(row, cells).
one_drift <- function(then, now, group) {
  x <- told_values(now)$x
  level <- then$kind == "level"
  code <- cell_of(x, then)
  n <- length(now)
  missing <- sum(is.na(code))
  mean <- if (!level && missing < n) mean(x, na.rm = TRUE) else NA_real_
  outside <- if (!is.null(then$ends)) x < then$ends[1] | x > then$ends[2] else code == 0L
  # how alike rows of a group are; where no groups are said, as alike as they were then
  coarse <- coarse_code(code, length(then$counts), 10L)
  effect <- if (is.null(group)) min(then$effect, max(1, n / 2)) else design_effect(coarse, group)
  joined <- drift_cells(then, code, min(n / effect, then$n / then$effect))
  if (!is.null(group)) effect <- max(effect, design_effect(joined$code, group))
  groups <- if (is.null(group)) n / effect else length(unique(group))
  p <- two_samples(
    joined$then, joined$now, then$n / then$effect, n / effect,
    if (max(then$effect, effect) > 1) then$groups + groups - 2 else Inf
  )
  list(
    row = list(
      distance = sum(abs(joined$then - joined$now)) / 2,
      shift = if (!level && then$sd %in% 0) NA_real_ else (mean - then$mean) / then$sd,
      outside = sum(outside, na.rm = TRUE) / n,
      missing_then = then$missing / then$n, missing_now = missing / n, p = p
    ),
    cells = joined[c("label", "then", "now")]
  )
}

# Ranges and levels, joined until five of the `least` rows, then or now, are expected in each,
# twelve at most; those that there were not, and what is missing, are parts of their own.
drift_cells <- function(then, code, least) {
  n <- length(code)
  counts <- then$counts
  if (then$kind == "level") {
    few <- counts / then$n * least < 5 | rank(-counts, ties.method = "first") > 11L
    to <- ifelse(few, sum(!few) + 1L, cumsum(!few))
    label <- c(as.character(then$values)[!few], if (any(few)) "others")
  } else {
    known <- max(1, sum(counts))
    to <- joined_cells(counts, known * max(1 / 12, min(1, 5 / max(least, 1))))
    label <- range_labels(then, to)
  }
  parts <- max(c(to, 0L))
  labels <- c(label, "never seen", "missing")
  now <- ifelse(is.na(code), parts + 2L, ifelse(code == 0L, parts + 1L, to[pmax(code, 1L)]))
  shares_then <- c(tabulate(rep(to, counts), parts), 0, then$missing) / then$n
  shares_now <- tabulate(now, parts + 2L) / n
  here <- shares_then > 0 | shares_now > 0
  list(label = labels[here], then = shares_then[here], now = shares_now[here], code = now)
}

# "12 to 15", of dates "from 2031-05-17".
range_labels <- function(then, to) {
  parts <- seq_len(max(c(to, 0L)))
  if (is.null(then$cuts)) {
    first <- then$values[match(parts, to)]
    last <- then$values[length(to) + 1L - match(parts, rev(to))]
  } else {
    limits <- c(then$ends[1], then$cuts, then$ends[2])
    first <- limits[match(parts, to)]
    last <- limits[length(to) + 2L - match(parts, rev(to))]
  }
  if (then$type %in% c("date", "moment")) {
    seconds <- first * if (then$type == "date") 86400 else 1
    day <- format(as.POSIXct(seconds, origin = "1970-01-01", tz = "UTC"), "%Y-%m-%d")
    return(paste("from", day))
  }
  # as many digits as tell the ranges apart
  digits <- max(0, 2 - floor(log10(max(c(last, 0)) - min(c(first, 0)))))
  gaps <- diff(sort(unique(c(first, last))))
  if (length(gaps) > 0L) digits <- max(0, min(digits, 1 - floor(log10(min(gaps)))))
  say <- function(x) format(round(x, digits), trim = TRUE, scientific = FALSE, drop0trailing = TRUE)
  vapply(parts, function(i) {
    if (first[i] == last[i]) say(first[i]) else paste(say(first[i]), "to", say(last[i]))
  }, "")
}

# Pearson's chi-squared test of two samples by their shares and (effective) sizes; where rows came
# in groups with `freedom` degrees of freedom between them, by Thomas and Rao's F (1987, Journal of
# the American Statistical Association 82). NA where there are fewer than ten rows, 1 where there is
# one cell.
two_samples <- function(p, q, n, m, freedom = Inf) {
  if (min(n, m) < 10) return(NA_real_)
  if (length(p) < 2L) return(1)
  both <- (n * p + m * q) / (n + m)
  found <- sum((p - q)^2 / both) / (1 / n + 1 / m)
  cells <- length(p) - 1
  if (is.infinite(freedom)) return(stats::pchisq(found, cells, lower.tail = FALSE))
  stats::pf(found / cells, cells, cells * max(freedom, 1), lower.tail = FALSE)
}

# How scores moved, where outcomes are known: both are uncertain.
drift_scores <- function(model, new, group, level) {
  if (!model$outcome %in% names(new) || all(is.na(new[[model$outcome]]))) return(NULL)
  if (!is.null(model$exposure) && !model$exposure %in% names(new)) return(NULL)
  new$.group <- group
  found <- score_known(model, new, group = if (!is.null(group)) ".group")
  kept <- model$scores[match(found$metric, model$scores$metric), ]
  se <- sqrt(kept$validation_se^2 + ((found$high - found$low) / (2 * stats::qnorm(0.975)))^2)
  z <- (found$score - kept$validation) / se
  p <- stats::p.adjust(2 * stats::pnorm(-abs(z)), "holm")
  higher <- vapply(model$metrics, function(metric) metric$direction == "higher", NA)[found$metric]
  changed <- ifelse((z > 0) == higher, "better", "worse")
  tibble::tibble(
    metric = found$metric, then = kept$validation, now = found$score, low = found$low,
    high = found$high, rows = found$rows, p = p,
    answer = ifelse(!is.na(p) & p < level, changed, "no sign")
  )
}

drift_listing <- function(table, cells, scores, n, level, margin) {
  count <- vapply(drift_answers, function(one) sum(table$answer == one), 1L)
  named <- function(one) enumerate(table$column[table$answer == one], 5L)
  title <- paste0(
    "Of ", count_of(nrow(table), "column"), " in ", count_of(n, "new row"), ", ",
    if (count[1] + count[2] == 0L) "none shows a shift" else paste(c(
      if (count[1] > 0L) paste0(count[1], " moved (", named("moved"), ")"),
      if (count[2] > 0L) paste0(count[2], " moved a little (", named("moved a little"), ")")
    ), collapse = ", "),
    if (count[4] > 0L) paste0("; too few rows to tell of ", count[4])
  )
  foot <- c(
    paste0(
      "distance: rows that would have to be elsewhere, of matter from ", percent(margin), " on; ",
      "shift: of the mean, in standard deviations; outside: never seen, or beyond the range. ",
      "Where nothing moved, ", percent(level), " of looks find anything."
    ),
    drift_score_words(scores)
  )
  found <- listing(table,
    title = title, foot = paste(foot, collapse = " "),
    shares = c("distance", "outside", "missing_then", "missing_now"),
    scores = "shift", certain = 0.05, hide = "p",
    called = c(missing_then = "gaps then", missing_now = "gaps now")
  )
  names(cells) <- table$column
  mark_table(found, "kw_drift", scores = scores, cells = cells)
}

drift_score_words <- function(scores) {
  if (is.null(scores)) return(NULL)
  certain <- (scores$high - scores$low) / 4
  words <- mapply(function(metric, then, now, low, high, answer, sure) {
    say <- function(x) round_to(x, sure)
    paste0(
      metric, " ", say(now), " (", say(low), " to ", say(high), "), then ", say(then),
      if (answer != "no sign") paste0(", ", answer)
    )
  }, scores$metric, scores$then, scores$now, scores$low, scores$high, scores$answer, certain)
  paste0("Scores on ", count_of(scores$rows[1], "row"), " with known outcome: ",
    paste(words, collapse = "; "), ".")
}
