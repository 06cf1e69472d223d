# What a page shows of a comparison, as lists that become JSON: columns of settings, best first.

# So many settings are in a report's page.
most_page_settings <- 2000L

# `at`: the chosen setting, marked at first; default the leader.
page_facts <- function(cmp, metric = NULL, at = NULL, most = most_page_settings) {
  metric <- cmp_metric(cmp, metric)
  table <- standings_rows(cmp, metric = metric$name)
  all <- rows_in_standings(cmp, table)
  thinned <- thinned_places(nrow(table), most)
  kept <- sort(union(thinned$kept, match(at, all, nomatch = 0L)))
  shown <- table[kept[kept > 0L], ]
  rows <- all[kept]
  summary <- score_summary(cmp, metric$name)
  list(
    metric = list(
      name = metric$name, label = metric$label, axis = metric_axis(cmp, metric),
      higher = metric$direction == "higher"
    ),
    candidates = page_candidates(cmp, rows), splits = I(split_names(cmp, summary$counted)),
    settings = c(
      page_setting_columns(cmp, rows, shown),
      list(
        scores = signif(summary$scores[rows, , drop = FALSE], 6),
        answer = I(page_answers(cmp, metric, shown))
      )
    ),
    all = nrow(table), best = thinned$best, step = thinned$step,
    marked = I(c(match(at %||% rows[1], rows), 1L)[1] - 1L),
    colours = okabe_ito
  )
}

# Which of `n` places are shown where no more than `most` can be: the best ones, and of the others
# every so many, so that the whole field is seen.
thinned_places <- function(n, most) {
  if (n <= most) return(list(kept = seq_len(n), best = n, step = 1L))
  best <- as.integer(0.6 * most)
  step <- as.integer(ceiling((n - best) / (most - best)))
  list(kept = c(seq_len(best), seq(best + step, n, by = step)), best = best, step = step)
}

page_setting_columns <- function(cmp, at, shown) {
  certain <- c(shown$se[!is.na(shown$se) & shown$se > 0], NA)[1]
  digits <- digits_of(c(shown$mean, shown$sd), certain)
  text <- function(x) ifelse(is.na(x), "", formatC(round(x, digits), format = "f", digits = digits))
  best <- shown$mean[match(1L, shown$place)]
  behind <- abs(shown$mean - best)
  lapply(list(
    candidate = cmp$results$candidate[at] - 1L, place = shown$place, proposed = at,
    words = setting_label(cmp, at, all = FALSE),
    mean = signif(shown$mean, 8), sd = signif(shown$sd, 6), behind = signif(behind, 6),
    mean_text = text(shown$mean), sd_text = text(shown$sd), behind_text = text(behind),
    seconds = signif(shown$seconds, 3), failed = shown$failed
  ), I)
}

# So many digits behind the point say no more than is known: as round_to(), of many numbers at once.
digits_of <- function(x, certain) {
  x <- abs(x[is.finite(x) & x != 0])
  if (is.na(certain)) certain <- if (length(x) > 0L) min(x) / 100 else 1
  min(10, max(0, 1 - floor(log10(certain))))
}

# Candidates in the plan's order, with what varied in each: numbers, or levels in their order.
page_candidates <- function(cmp, at) {
  candidate <- cmp$results$candidate[at]
  lapply(seq_along(spaces_of(cmp)), function(i) {
    mine <- candidate == i
    settings <- cmp$results$tables[[i]]
    varied <- settings[vapply(settings, function(x) length(unique(x)) > 1L, NA)]
    list(
      name = names(spaces_of(cmp))[i], number = sum(cmp$results$candidate == i),
      varied = unname(Map(page_axis, names(varied), varied, MoreArgs = list(
        mine = which(mine), row = cmp$results$row[at][mine], n = length(at)
      )))
    )
  })
}

# One hyperparameter: its value of every setting that is shown, NA where it is another candidate's.
page_axis <- function(name, values, mine, row, n) {
  number <- is.numeric(values)
  whole <- if (number) rep(NA_real_, n) else rep(NA_character_, n)
  whole[mine] <- if (number) signif(values[row], 6) else as.character(values[row])
  known <- values[!is.na(values)]
  list(
    name = name, number = number,
    log = number && all(known > 0) && max(known) / min(known) >= 50,
    levels = I(if (number) character() else as.character(unique(known))), values = I(whole)
  )
}

# What the shortlist says of each; "" where it says nothing.
page_answers <- function(cmp, metric, shown) {
  found <- tryCatch(
    shortlist(cmp, metric = metric$name, all = TRUE), kw_error_select = function(e) NULL
  )
  if (is.null(found)) return(rep("", nrow(shown)))
  answer <- found$answer[match(
    paste(shown$candidate, shown$setting), paste(found$candidate, found$setting)
  )]
  answer <- ifelse(is.na(answer), "", answer)
  ifelse(shown$place %in% 1L, "leader", ifelse(answer == "better", "worse", answer))
}

# JSON that cannot end the script element that it stands in.
page_json <- function(facts) {
  text <- jsonlite::toJSON(facts, auto_unbox = TRUE, na = "null", null = "null", digits = NA)
  gsub("<", "\\u003c", gsub("&", "\\u0026", text, fixed = TRUE), fixed = TRUE)
}

page_file <- function(name) {
  file <- system.file("page", name, package = "kilnwright", mustWork = TRUE)
  paste(readLines(file, encoding = "UTF-8", warn = FALSE), collapse = "\n")
}
