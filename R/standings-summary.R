# The numbers of every setting by one metric: what the verdict reads instead of raw
# scores.

# A list: scores (settings x splits that count, or x repeats where predictions were
# pooled), mean, sd, se, lowest, highest, splits (number that count), training,
# meets (are all constraints met?).
score_summary <- function(cmp, metric) {
  counted <- counted_splits(cmp, metric)
  pooled <- cmp$results$pooled[[metric]]
  scores <- if (is.null(pooled)) corrected_scores(cmp, metric, counted) else pooled$scores
  spread <- spread_of(scores)
  se <- if (is.null(pooled)) spread$sd * error_factor(cmp, counted) else pooled$se
  training <- cmp$results$training[[metric]]
  training <- if (is.null(training)) {
    rep(NA_real_, nrow(scores))
  } else {
    rowMeans(training[, counted, drop = FALSE])
  }
  c(
    list(scores = scores, counted = counted), spread,
    list(se = se, splits = rowSums(!is.na(scores)), training = training)
  )
}

# Splits on which the truth allows a score, the apparent one left out.
counted_splits <- function(cmp, metric) is.na(cmp$plan$undefined[[metric]])

# se = sd * this
error_factor <- function(cmp, counted) {
  splits <- cmp$plan$splits[counted]
  n <- length(splits)
  if (cmp$plan$splitter$spread == "folds") {
    repeats <- length(unique(vapply(splits, `[[`, numeric(1), "rep")))
    return(1 / sqrt(n / repeats))
  }
  if (cmp$plan$splitter$spread == "draws") {
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
  summary <- cmp$plan$splitter$summary
  if (is.null(summary)) return(scores)
  apparent <- all[, which(is_apparent(cmp$plan$splits))]
  if (summary == "632") return(0.368 * apparent + 0.632 * scores)
  # as losses, so that higher is worse
  sign <- if (cmp$plan$metrics[[metric]]$direction == "lower") 1 else -1
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
  met <- lapply(cmp$plan$provided, function(constraint) {
    keeps_to(constraint, score_summary(cmp, constraint$metric)$mean) %in% TRUE
  })
  Reduce(`&`, met, rep(TRUE, length(cmp$results$candidate)))
}
