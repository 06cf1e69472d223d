# What the benchmarks share. Every benchmark runs a hand-written loop, the
# package, and the bare fits that are really needed, in one go, checks that loop
# and package agree, and reports ratios.

suppressPackageStartupMessages(library(kilnwright))

made_up_table <- function(rows, columns, seed = 1) {
  suppressWarnings(RNGkind("Mersenne-Twister", "Inversion", "Rejection"))
  set.seed(seed)
  x <- matrix(rnorm(rows * columns), rows, columns, dimnames = list(NULL, paste0("x", seq_len(columns))))
  signal <- x[, 1] + x[, 2] * x[, 3] + 0.5 * abs(x[, 4]) - x[, 5]^2 / 2
  data.frame(x, number = signal + rnorm(rows), class = ifelse(signal + rnorm(rows) > 0, "yes", "no"))
}

seconds_of <- function(expr) {
  gc(FALSE)
  started <- proc.time()[["elapsed"]]
  value <- force(expr)
  list(seconds = proc.time()[["elapsed"]] - started, value = value)
}

# Times a loop over settings x splits. When a few fits suggest more than a minute
# for the whole, a random sample of the pairs is timed and scaled.
time_loop <- function(n_settings, n_splits, score_one, most_seconds = 60) {
  pairs <- expand.grid(setting = seq_len(n_settings), split = seq_len(n_splits))
  set.seed(2)
  some <- pairs[sample(nrow(pairs), min(20L, nrow(pairs))), ]
  pilot <- seconds_of(Map(score_one, some$setting, some$split))$seconds / nrow(some)
  share <- min(1, most_seconds / (pilot * nrow(pairs)))
  chosen <- if (share < 1) pairs[sort(sample(nrow(pairs), ceiling(share * nrow(pairs)))), ] else pairs
  timed <- seconds_of(unlist(Map(score_one, chosen$setting, chosen$split)))
  list(seconds = timed$seconds * nrow(pairs) / nrow(chosen), pairs = chosen, scores = timed$value,
       sampled = nrow(chosen) < nrow(pairs))
}

report <- function(name, loop, package, floor, wanted, difference) {
  cat(sprintf("%s\n  hand-written loop  %8.2f s%s\n  package            %8.2f s\n  bare fits needed   %8.2f s\n",
              name, loop$seconds,
              if (loop$sampled) sprintf(" (scaled from a random %d of the fits)", nrow(loop$pairs)) else "",
              package, floor))
  cat(sprintf("  loop / package     %8.1f  (wanted: at least %g)\n  package / bare     %8.2f\n  largest difference between scores %.1e\n\n",
              loop$seconds / package, wanted, package / floor, difference))
  if (difference > 1e-6) stop("the scores differ: this benchmark proves nothing")
  invisible(data.frame(name = name, ratio = loop$seconds / package, wanted = wanted, over_floor = package / floor))
}
