# The numbers of every setting by one metric: what the verdict reads instead of raw
# scores.

# A list: scores (settings x splits that count, or x repeats where predictions were
# pooled), mean, sd, se, lowest, highest, splits (number that count), training,
# meets (are all constraints met?).
score_summary <- function(cmp, metric) {
  counted <- counted_splits(cmp, metric)
  pooled <- cmp$results$pooled[[metric]]
  scores <- if (is.null(pooled)) corrected_scores(cmp, metric, counted) else pooled$scores
  asked <- if (is.null(pooled)) asked_scores(cmp, counted)
  spread <- if (is.null(asked)) spread_of(scores) else spread_of_asked(scores, asked)
  se <- if (is.null(pooled)) spread$sd * error_factor(cmp, counted, asked) else pooled$se
  training <- cmp$results$training[[metric]]
  training <- if (is.null(training)) {
    rep(NA_real_, nrow(scores))
  } else {
    rowMeans(training[, counted, drop = FALSE], na.rm = !is.null(asked))
  }
  c(
    list(scores = scores, counted = counted), spread,
    list(se = se, splits = rowSums(!is.na(scores)), training = training)
  )
}

# Splits on which the truth allows a score, the apparent one left out.
counted_splits <- function(cmp, metric) is.na(cmp$plan$undefined[[metric]])

# Which of the scores were asked for; NULL where all were, since every setting is scored on all
# splits.
asked_scores <- function(cmp, counted) {
  if (is.null(cmp$plan$everywhere)) return(NULL)
  of_all <- seq_along(all_splits(cmp)) %in% cmp$plan$everywhere
  asked <- cmp$results$done
  asked[, of_all] <- TRUE
  asked[, counted, drop = FALSE]
}

# The same as spread_of(), of the scores that were asked for.
spread_of_asked <- function(scores, asked) {
  n <- rowSums(asked)
  gone <- rowSums(asked & is.na(scores)) > 0L
  scores[!asked] <- NA
  mean <- ifelse(gone, NA, rowSums(scores, na.rm = TRUE) / n)
  squares <- rowSums((scores - mean)^2, na.rm = TRUE)
  columns <- lapply(seq_len(ncol(scores)), function(j) scores[, j])
  range <- function(f) ifelse(gone, NA, do.call(f, c(columns, na.rm = TRUE)))
  list(
    mean = mean, sd = ifelse(gone | n < 2L, NA, sqrt(squares / (n - 1))),
    lowest = range(pmin), highest = range(pmax)
  )
}

# se = sd * this: one number, or one for each setting where not all were scored on all splits.
error_factor <- function(cmp, counted, asked = NULL) {
  splits <- all_splits(cmp)[counted]
  n <- if (is.null(asked)) length(splits) else rowSums(asked)
  if (splitter_of(cmp)$spread == "folds") {
    # the folds of a repeat
    return(1 / sqrt(length(splits) / length(unique(vapply(splits, `[[`, numeric(1), "rep")))))
  }
  if (splitter_of(cmp)$spread == "draws") {
    ratio <- mean(vapply(
      splits, function(s) length(s$validation) / length(unique(s$training)), numeric(1)
    ))
    return(sqrt(1 / n + ratio))
  }
  1 / sqrt(n)
}

# Scores on the splits that count; for the .632 and .632+ bootstrap each draw's score
# mixed with the apparent one (Efron & Tibshirani 1997, equations 24 to 32).
corrected_scores <- function(cmp, metric, counted) {
  all <- cmp$results$scores[[metric]]
  scores <- all[, counted, drop = FALSE]
  summary <- splitter_of(cmp)$summary
  if (is.null(summary)) return(scores)
  apparent <- all[, which(is_apparent(all_splits(cmp)))]
  if (summary == "632") return(0.368 * apparent + 0.632 * scores)
  # as losses, so that higher is worse
  sign <- if (metrics_of(cmp)[[metric]]$direction == "lower") 1 else -1
  outside <- rowMeans(scores)
  none <- cmp$results$no_information[[metric]]
  capped <- sign * pmin(sign * outside, sign * none)
  overfit <- (sign * capped - sign * apparent) / (sign * none - sign * apparent)
  overfit[sign * none <= sign * apparent | sign * capped <= sign * apparent] <- 0
  weight <- 0.632 / (1 - 0.368 * pmin(pmax(overfit, 0), 1))
  (1 - weight) * apparent + weight * (scores + (capped - outside))
}

# Does each setting's mean meet every constraint? NA means count as not met.
meets_constraints <- function(cmp) {
  met <- lapply(constraints_of(cmp), function(constraint) {
    keeps_to(constraint, score_summary(cmp, constraint$metric)$mean) %in% TRUE
  })
  Reduce(`&`, met, rep(TRUE, length(cmp$results$candidate)))
}
