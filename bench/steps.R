# Every step, learn and use, on 1,000,000 x 20 mixed columns, against the plainest
# vectorised code that gives the same result.

source("bench/common.R")

kw <- function(name) get(name, envir = asNamespace("kilnwright"))
n <- 1e6
set.seed(1)
numbers <- as.data.frame(matrix(rnorm(n * 12), n))
names(numbers) <- paste0("x", 1:12)
numbers$x1[sample(n, n / 20)] <- NA
numbers$x2 <- exp(numbers$x2)
levels_a <- sprintf("level%02d", 1:30)
categories <- data.frame(
  k1 = sample(levels_a, n, TRUE), k2 = sample(letters[1:5], n, TRUE),
  k3 = sample(letters, n, TRUE, (26:1)^3),
  k4 = sample(c("u", "v"), n, TRUE), k5 = sample(levels_a, n, TRUE),
  k6 = sample(letters[1:3], n, TRUE),
  stringsAsFactors = TRUE
)
days <- data.frame(
  d1 = as.Date("2031-01-01") + sample(2000, n, TRUE),
  d2 = as.Date("2031-01-01") + sample(50, n, TRUE)
)
table <- cbind(numbers, categories, days)
outcome <- numbers$x3 + rnorm(n)
classes <- factor(outcome > 1)
frame <- kw("new_frame")(kw("plain_frame")(unclass(table)[names(table)], n))
x <- numbers
full <- numbers[-1]

compare <- function(name, step, plain, y = outcome) {
  target <- kw("new_target")(y, source_row = seq_len(n))
  ours <- seconds_of({
    learned <- kw("learn_step")(step, frame, target, 1)
    if (!is.null(learned$state$definition$use)) learned$frame
  })
  theirs <- seconds_of(plain())
  # 20 ms: what a clock can tell
  ratio <- ours$seconds / max(theirs$seconds, 0.02)
  cat(sprintf(
    "%-34s step %6.2f s   plain %6.2f s   ratio %5.1f  (wanted: at most 5)\n",
    name,
    ours$seconds,
    theirs$seconds,
    ratio
  ))
  rm(ours, theirs)
  invisible(gc(FALSE))
}

quantile_cut <- function(v, k) findInterval(v, quantile(v, seq_len(k - 1) / k, na.rm = TRUE))

cat("1,000,000 x 20, learn + use\n")
compare("missing, median", pre_missing(columns = of_kind("number")), function() {
  lapply(x, function(v) {
    v[is.na(v)] <- median(v, na.rm = TRUE)
    v
  })
})
compare("rare_levels", pre_rare_levels(at_least = 1000), function() {
  lapply(categories, function(k) {
    rare <- names(which(table(k) < 1000))
    levels(k)[levels(k) %in% rare] <- "other"
    k
  })
})
compare("onehot (97 columns)", pre_onehot(), function() {
  lapply(categories, function(k) model.matrix(~ k - 1))
})
compare("ordinal", pre_ordinal(columns = of_kind("category")), function() {
  lapply(categories, as.integer)
})
compare("scale", pre_scale(), function() {
  lapply(x, function(v) (v - mean(v, na.rm = TRUE)) / sd(v, na.rm = TRUE))
})
compare("target_mean (5 parts)", pre_target_mean(), function() {
  lapply(categories, function(k) {
    part <- sample(rep(1:5, length.out = n))
    out <- numeric(n)
    for (p in 1:5) out[part == p] <- tapply(outcome[part != p], k[part != p], mean)[k[part == p]]
    list(out, tapply(outcome, k, mean))
  })
})
compare("frequency", pre_frequency(), function() {
  lapply(categories, function(k) as.numeric(table(k)[k] / n))
})
compare("hash", pre_hash(buckets = 16), function() {
  lapply(categories, function(k) {
    bucket <- strtoi(substr(cli::hash_sha256(levels(k)), 1, 7), 16L) %% 16 + 1
    outer(bucket[k], 1:16, "==") + 0
  })
})
compare("skew, yeo_johnson", pre_skew(columns = x2), function() {
  v <- numbers$x2
  likelihood <- function(p) {
    z <- ((v + 1)^p - 1) / p
    -n / 2 * log(mean((z - mean(z))^2)) + (p - 1) * sum(log1p(v))
  }
  p <- optimize(likelihood, c(-5, 5), maximum = TRUE)$maximum
  ((v + 1)^p - 1) / p
})
compare("skew, normal", pre_skew(by = "normal"), function() {
  lapply(x, function(v) qnorm((rank(v) - 0.5) / n))
})
compare("outliers", pre_outliers(), function() {
  lapply(x, function(v) {
    q <- quantile(v, c(0.25, 0.75), na.rm = TRUE)
    pmin(pmax(v, q[1] - 3 * diff(q)), q[2] + 3 * diff(q))
  })
})
compare("bins, quantile", pre_bins(), function() lapply(x, quantile_cut, k = 5))
compare("polynomial", pre_polynomial(degree = 3), function() {
  lapply(x, function(v) {
    z <- (v - mean(v, na.rm = TRUE)) / sd(v, na.rm = TRUE)
    list(z^2, z^3)
  })
})
compare("splines", pre_splines(columns = c(x3, x4)), function() {
  lapply(full[c("x3", "x4")], splines::ns, df = 4)
})
compare("interactions", pre_interactions(columns = x1:x6), function() {
  centred <- lapply(x[1:6], function(v) v - mean(v, na.rm = TRUE))
  utils::combn(6, 2, function(p) centred[[p[1]]] * centred[[p[2]]], simplify = FALSE)
})
compare("derive", pre_derive(ratio = x3 / x4), function() numbers$x3 / numbers$x4)
compare("dates", pre_dates(), function() {
  lapply(days, function(d) {
    month <- as.POSIXlt(d)$mon + 1
    week <- (as.POSIXlt(d)$wday + 6) %% 7 + 1
    list(
      as.numeric(d - min(d)), sin(2 * pi * month / 12), cos(2 * pi * month / 12),
      sin(2 * pi * week / 7), cos(2 * pi * week / 7)
    )
  })
})
compare("drop_constant", pre_drop_constant(), function() {
  lapply(table, function(v) length(unique(v)))
})
compare("drop_correlated", pre_drop_correlated(), function() cor(x, use = "pairwise.complete.obs"))
compare("keep_top, p value", pre_keep_top(top = 5, columns = x2:x12), function() {
  vapply(full, function(v) anova(lm(outcome ~ v))$`Pr(>F)`[1], 1)
})
compare(
  "keep_top, information",
  pre_keep_top(top = 5, by = "information", columns = x2:x12),
  function() {
    b <- quantile_cut(outcome, 10)
    vapply(full, function(v) {
      joint <- table(quantile_cut(v, 10), b) / n
      sum(joint * log(joint / outer(rowSums(joint), colSums(joint))))
    }, 1)
  }
)
compare("components", pre_components(columns = x2:x12), function() {
  fit <- prcomp(full, scale. = TRUE)
  predict(fit, full)[, 1:5]
})
compare("balance, thin", pre_balance(), function() {
  rows <- split(seq_len(n), classes)
  kept <- unlist(lapply(rows, sample, min(lengths(rows))))
  table[kept, ]
}, classes)

job <- brief(cbind(table, y = outcome), "y")
size <- as.numeric(object.size(job$table)) / 2^20
invisible(gc(reset = TRUE))
used <- sum(gc()[, 2])
inspected <- seconds_of(inspect_data(job))
peak <- sum(gc()[, 6]) - used
cat(sprintf(
  paste(
    "inspect_data() on that table: %.1f s (wanted: under 20), peak memory %.1f of the table's",
    "%.0f MB (wanted: under 2)\n\n"
  ),
  inspected$seconds,
  peak / size,
  size
))
