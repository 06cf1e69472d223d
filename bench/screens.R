# What screen_splits() costs and whether it keeps what the full run would choose: 200 settings
# drawn from a field that was scored on 10 folds x 3 (fields.R), again and again, with the splits
# in another order each time. Wanted: at most 25 % of the fits; in 95 % of the runs the best
# setting of the full run is kept, or one within one standard error of it.

source("bench/fields.R")
internal <- function(name) getFromNamespace(name, "kilnwright")

given <- commandArgs(TRUE)
runs <- if (length(given) > 0L) as.integer(given[1]) else 200L
chosen <- if (length(given) > 1L) given[-1] else c("additive", "thresholds")

one_run <- function(good, ratio, screen) {
  good <- good[sample(nrow(good), 200L), sample(ncol(good))]
  n <- ncol(good)
  about <- list(
    fits = 1:200, settings = 1:200, fit = 1:200, candidate = rep(1L, 200), row = 1:200,
    splits = seq_len(n), usable = n, ratio = ratio
  )
  stages <- screen$begin(about)
  done <- matrix(FALSE, 200, n)
  repeat {
    view <- list(
      good = ifelse(done, good, NA), meets = rep(TRUE, 200), failed = rep(FALSE, 200)
    )
    stage <- stages$following(view)
    if (is.null(stage)) break
    done[stage$fits, stage$splits] <- TRUE
  }
  mean <- rowMeans(good)
  best <- which.max(mean)
  whole <- which(rowSums(done) == n)
  se <- stats::sd(good[best, ]) / sqrt(10)
  kept <- whole[which.max(mean[whole])]
  c(
    fits = mean(done), same = kept == best, within = mean[best] - mean[kept] <= se
  )
}

for (name in chosen) {
  field <- scored_field(name, 10, 3)
  plan <- field$plan
  sign <- if (plan$metrics[[plan$decide]]$direction == "higher") 1 else -1
  good <- sign * field$results$scores[[plan$decide]]
  good <- good[rowSums(is.na(good)) == 0L, ]
  ratio <- mean(vapply(plan$splits, function(s) length(s$validation) / length(s$training), 1))
  for (level in c(0.85, 0.9, 0.95, 0.99)) {
    set.seed(1)
    found <- replicate(runs, one_run(good, ratio, screen_splits(level = level)))
    cat(sprintf(
      paste0(
        "%-11s level %.2f: %.0f %% of the fits (%.0f to %.0f); the same best setting in %.1f %% ",
        "of %d runs, one within one standard error of it in %.1f %%\n"
      ),
      name, level, 100 * stats::median(found["fits", ]),
      100 * stats::quantile(found["fits", ], 0.25), 100 * stats::quantile(found["fits", ], 0.75),
      100 * mean(found["same", ]), runs, 100 * mean(found["within", ])
    ))
  }
}
