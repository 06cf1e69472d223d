# 100,000 settings of a trivial family x 5 folds: what the engine itself takes for a
# score. Once as a path (one fit serves 100 values) and once with a fit for every score.

source("bench/common.R")

table <- made_up_table(200, 5)[c("x1", "x2", "number")]
job <- brief(table, "number")
predict_constant <- function(model, x) rep(model, nrow(x))
predict_path <- function(model, x, values) matrix(rep(model * values, each = nrow(x)), nrow(x))
fit_constant <- function(x, y, weights, settings, seed, threads) mean(y) * settings$a
fit_path <- function(x, y, weights, settings, seed, threads) mean(y) * settings$a
fam_each <- define_family(
  "each", "number", fit_constant, predict_constant,
  defaults = list(a = 1, b = 1)
)
fam_path <- define_family(
  "many", "number", fit_path, predict_path,
  defaults = list(a = 1, b = 1), path = "b"
)

# What the family's own calls and the metric take, in a loop that does nothing else.
bare_loop <- function(family, times) {
  definition <- family()$definition
  x <- as.matrix(table[1:160, 1:2])
  new <- as.matrix(table[161:200, 1:2])
  seconds_of(for (i in seq_len(times)) {
    model <- definition$fit(x, table$number[1:160], NULL, list(a = i, b = 1), 1, 1)
    p <- definition$predict(model, new)
    sqrt(mean((table$number[161:200] - p)^2))
  })$seconds / times
}

one <- function(name, family, n_a, n_b, wanted) {
  plan <- plan_comparison(
    job,
    candidates(trivial = family(a = among(seq_len(n_a)), b = among(seq_len(n_b)))),
    splits = split_kfold(5),
    metrics = "rmse",
    seed = 1
  )
  done <- seconds_of(run_comparison(plan, quiet = TRUE, workers = 1))
  read <- seconds_of(standings(done$value))
  each <- 1e6 * done$seconds / (5 * n_a * n_b)
  size <- as.numeric(object.size(done$value$results$tables)) / 2^20
  beside <- if (is.null(family()$definition$path)) {
    sprintf(" (a bare loop %.0f)", 1e6 * bare_loop(family, 50000))
  } else {
    ""
  }
  cat(sprintf(
    "%s settings x 5 folds, %s\n  run %.1f s, %.0f microseconds a score%s (wanted: at most %g)\n",
    format(n_a * n_b, big.mark = ",", scientific = FALSE),
    name,
    done$seconds,
    each,
    beside,
    wanted
  ))
  cat(sprintf(
    paste(
      "  settings table %.1f MB, the whole comparison %.1f MB, standings in %.2f s (wanted:",
      "under 2)\n\n"
    ),
    size,
    as.numeric(object.size(done$value$results)) / 2^20,
    read$seconds
  ))
  keep_row(
    paste("100,000 settings x 5 folds,", name), "one process",
    sprintf(
      "%.0f microseconds a score%s, settings table %.1f MB, standings in %.1f s",
      each,
      beside,
      size,
      read$seconds
    ),
    "<= 60, a few MB, under 2 s", each <= wanted && read$seconds < 2
  )
}

size <- as.integer(Sys.getenv("MANY_SETTINGS", "100000"))
one("100 values a fit", fam_path, size / 100, 100, 60)
one("one fit a score", fam_each, size / 100, 100, 60)
