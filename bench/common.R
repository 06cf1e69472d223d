# What the benchmarks share. Every benchmark runs a hand-written loop, the
# package, and the bare fits that are really needed, in one go, checks that loop
# and package agree, and reports ratios.

# One thread a process, as on workers: run by run-all.R (make bench), which says so to the
# linear algebra before it is loaded.
Sys.setenv(
  OMP_NUM_THREADS = 1, OPENBLAS_NUM_THREADS = 1, MKL_NUM_THREADS = 1, R_DATATABLE_NUM_THREADS = 1
)
suppressPackageStartupMessages(library(kilnwright))

made_up_table <- function(rows, columns, seed = 1) {
  suppressWarnings(RNGkind("Mersenne-Twister", "Inversion", "Rejection"))
  set.seed(seed)
  x <- matrix(
    rnorm(rows * columns), rows, columns,
    dimnames = list(NULL, paste0("x", seq_len(columns)))
  )
  signal <- x[, 1] + x[, 2] * x[, 3] + 0.5 * abs(x[, 4]) - x[, 5]^2 / 2
  data.frame(x,
    number = signal + rnorm(rows),
    class = ifelse(signal + rnorm(rows) > 0, "yes", "no")
  )
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
  chosen <- if (share < 1) {
    pairs[sort(sample(nrow(pairs), ceiling(share * nrow(pairs)))), ]
  } else {
    pairs
  }
  timed <- seconds_of(unlist(Map(score_one, chosen$setting, chosen$split)))
  list(
    seconds = timed$seconds * nrow(pairs) / nrow(chosen), pairs = chosen, scores = timed$value,
    sampled = nrow(chosen) < nrow(pairs)
  )
}

# The package in one process, with two workers that are already up and have loaded what
# they need, and the bare fits: in turn, up to five times, since the machine has better and
# worse moments. Gives median seconds, and `over`, the median of package / floor within a
# turn. `floor` does the fits that are really needed; for the two workers it is done in two
# processes at once, as they find the machine.
time_package <- function(plan, floor = NULL, enough = 60) {
  mirai::daemons(2, .compute = "kilnwright")
  on.exit(mirai::daemons(0, .compute = "kilnwright"))
  works <- list(
    one = function() run_comparison(plan, quiet = TRUE, workers = 1),
    two = function() run_comparison(plan, quiet = TRUE)
  )
  one <- works$one()
  two <- works$two()
  if (!identical(scores_by_split(one)$validation, scores_by_split(two)$validation)) {
    stop("workers changed the scores")
  }
  if (!is.null(floor)) {
    works <- c(works, floor = floor, floor_of_two = function() in_two_processes(floor))
  }
  seconds <- seconds_in_turn(works, enough)
  over <- if (!is.null(floor)) {
    apply(
      cbind(seconds[, "one"] / seconds[, "floor"],
        2 * seconds[, "two"] / seconds[, "floor_of_two"]),
      2L,
      median
    )
  }
  c(as.list(apply(seconds, 2L, median)), list(over = over, value = one))
}

in_two_processes <- function(work) {
  both <- lapply(1:2, function(i) parallel::mcparallel(work()))
  invisible(parallel::mccollect(both))
}

# Turns x works; no turn is begun after `enough` seconds.
seconds_in_turn <- function(works, enough) {
  seconds <- NULL
  started <- proc.time()[["elapsed"]]
  while (NROW(seconds) < 5L && proc.time()[["elapsed"]] - started < enough) {
    seconds <- rbind(seconds, vapply(works, function(work) seconds_of(work())$seconds, numeric(1)))
  }
  seconds
}

# The loop's scores beside the package's. `columns`: the settings in the loop's order, by
# the names of the hyperparameters; `candidate` if there are several.
largest_difference <- function(cmp, loop, columns, candidate = rep(1L, nrow(columns))) {
  results <- cmp$results
  name <- names(columns)
  theirs <- vapply(seq_len(nrow(columns)), function(i) {
    shown <- results$tables[[candidate[i]]]
    mine <- intersect(name, names(shown))
    row <- if (length(mine) == 0L) {
      1L
    } else {
      match(do.call(paste, columns[i, mine, drop = FALSE]), do.call(paste, unclass(shown)[mine]))
    }
    which(results$candidate == candidate[i])[row]
  }, 1L)
  scores <- results$scores[[1]]
  max(abs(scores[cbind(theirs[loop$pairs$setting], loop$pairs$split)] - loop$scores))
}

# One row of the table of results. `wanted`: least loop / package with one process, with
# two workers (NA: 1.7 times what one process reaches).
report <- function(name, loop, package, wanted, difference) {
  reached <- c(loop$seconds / package$one, loop$seconds / package$two)
  over <- package$over
  cat(sprintf(
    paste(
      "%s\n  hand-written loop  %8.2f s%s\n  bare fits needed   %8.2f s, %.2f s in two",
      "processes that do all of them each\n"
    ),
    name,
    loop$seconds,
    if (isTRUE(loop$sampled)) {
      sprintf(" (scaled from a random %d of the fits)", nrow(loop$pairs))
    } else {
      ""
    },
    package$floor,
    package$floor_of_two
  ))
  cat(
    sprintf(
      "  package %-10s %8.2f s: %.1f times as fast as the loop (wanted: %s), %.2f of the floor\n",
      c("one core", "two"),
      c(package$one, package$two),
      reached,
      ifelse(is.na(wanted), "-", format(wanted)),
      over
    ),
    sep = ""
  )
  cat(sprintf("  largest difference between scores %.1e\n\n", difference))
  keep_row(
    name,
    "one process",
    sprintf("%.1f x the loop, %.2f of the floor", reached[1], over[1]),
    ratio_words(wanted[1]),
    is.na(wanted[1]) || reached[1] >= wanted[1],
    over[1] <= 1.15
  )
  gain <- package$one / package$two
  keep_row(
    name,
    "two workers",
    sprintf("%.1f x the loop, %.2f x one process, %.2f of the floor", reached[2], gain, over[2]),
    ratio_words(wanted[2], ">= 1.7 x one process, "),
    if (is.na(wanted[2])) gain >= 1.7 else reached[2] >= wanted[2],
    over[2] <= 1.15
  )
  if (difference > 1e-6) stop("the scores differ: this benchmark proves nothing")
}

ratio_words <- function(wanted, otherwise = "") {
  paste0(if (is.na(wanted)) otherwise else sprintf(">= %g x, ", wanted), "floor 1.15")
}

# Rows for docs/benchmarks.md, if run-all.R asks for them.
keep_row <- function(work, how, reached, wanted, met, floor_met = NA) {
  file <- Sys.getenv("KILNWRIGHT_BENCH_ROWS")
  if (!nzchar(file)) return(invisible())
  verdict <- paste0(
    if (met) "yes" else "no",
    if (!is.na(floor_met)) paste0(", floor ", if (floor_met) "yes" else "no")
  )
  cat(paste0("| ", paste(work, how, reached, wanted, verdict, sep = " | "), " |\n"),
    file = file,
    append = TRUE
  )
}
