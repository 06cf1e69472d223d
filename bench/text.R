# 20,000 made-up notes of 40 words: 1-2-grams with tf-idf against a tapply/table
# version, and a search over 12 text settings x 20 penalties x 5 folds against the
# loop that turns the text into columns for every setting.

source("bench/common.R")

kw <- function(name) get(name, envir = asNamespace("kilnwright"))
set.seed(3)
vocabulary <- sprintf(
  "%s%s", rep(c("ka", "lo", "mi", "ru", "te", "sa", "no", "pi"), each = 375), 1:375
)
chance <- 1 / seq_along(vocabulary)
make_notes <- function(n) {
  vapply(seq_len(n), function(i) paste(sample(vocabulary, 40, TRUE, chance), collapse = " "), "")
}
notes <- make_notes(20000)

plain_terms <- function(text, training = seq_along(text), least = 20, phrases = 1:2, idf = TRUE) {
  tokens <- strsplit(tolower(text), "[^[:alnum:]']+")
  terms <- lapply(tokens, function(w) c(w, if (2 %in% phrases) paste(head(w, -1), w[-1])))
  in_rows <- table(unlist(lapply(terms[training], unique)))
  kept <- sort(names(in_rows)[in_rows >= least & in_rows <= 0.5 * length(training)])
  long <- data.frame(row = rep(seq_along(terms), lengths(terms)), term = unlist(terms))
  long <- long[long$term %in% kept, ]
  counts <- tapply(rep(1, nrow(long)), list(long$row, factor(long$term, kept)), sum)
  whole <- matrix(0, length(text), length(kept), dimnames = list(NULL, kept))
  whole[as.integer(rownames(counts)), ] <- ifelse(is.na(counts), 0, counts)
  if (idf) sweep(whole, 2, log(length(training) / as.vector(in_rows[kept])), "*") else whole
}

frame <- kw("new_frame")(data.frame(note = notes))
step <- pre_text(
  phrases = 1:2,
  in_at_least = 20,
  in_at_most = 0.5,
  top = 1e5,
  count_as = "tfidf",
  drop_common = FALSE
)
ours <- seconds_of(kw("learn_step")(step, frame, kw("new_target")(rnorm(20000)), 1)$frame$sparse)
theirs <- seconds_of(plain_terms(notes))
columns <- sub("^note_", "", colnames(ours$value))
stopifnot(setequal(columns, colnames(theirs$value)))
difference <- max(abs(as.matrix(ours$value)[,
  match(colnames(theirs$value), columns)] - theirs$value))
cat(sprintf(
  paste(
    "20,000 notes of 40 words, 1-2-grams, tf-idf: %d terms\n  table version %6.2f s\n  step  ",
    "       %6.2f s\n  ratio         %6.1f  (wanted: at least 5)\n  largest difference %.1e\n\n"
  ),
  length(columns),
  theirs$seconds,
  ours$seconds,
  theirs$seconds / ours$seconds,
  difference
))
rm(ours, theirs)

# The search, on 2,000 of the notes. The loop vectorises for every setting.
some <- notes[1:2000]
score <- rowSums(plain_terms(some, phrases = 1)[, 1:20])
table <- data.frame(note = some, y = ifelse(score + rnorm(2000) > median(score), "yes", "no"))
penalties <- signif(exp(seq(log(0.1), log(1e-3), length.out = 20)), 6)
job <- brief(table, "y", event = "yes", text = "note")
plan <- plan_comparison(
  job,
  candidates(text = pipeline(
    pre_text(
      phrases = among(list(1, 1:2)), in_at_least = among(5, 10, 20), top = 1e5,
      count_as = among("count", "tfidf"), drop_common = FALSE
    ),
    fam_penalised(penalty = among(penalties), lasso_share = 1)
  )),
  splits = split_kfold(5), metrics = "log_loss", seed = 1
)
settings <- plan$round$text$settings
rows <- rows_by_split(plan)
y <- factor(table$y)
score_one <- function(i, s) {
  training <- rows[[s]]$training
  x <- plain_terms(
    some,
    training,
    settings$in_at_least[i],
    eval(parse(text = sub("-", ":", settings$phrases[i]))),
    settings$count_as[i] == "tfidf"
  )
  fit <- glmnet::glmnet(
    Matrix::Matrix(x[training, ], sparse = TRUE),
    y[training],
    family = "binomial",
    alpha = 1,
    lambda = penalties,
    standardize = FALSE
  )
  p <- drop(predict(fit, x[rows[[s]]$validation, ], s = settings$penalty[i], type = "response"))
  -mean(log(pmax(ifelse(y[rows[[s]]$validation] == "yes", p, 1 - p), 1e-15)))
}
package <- seconds_of(run_comparison(plan, quiet = TRUE))
loop <- time_loop(nrow(settings), 5, score_one, most_seconds = 40)
matched <- package$value$results$scores$log_loss[cbind(loop$pairs$setting, loop$pairs$split)]
cat(sprintf(
  paste(
    "12 text settings x 20 penalties x 5 folds, 2,000 notes\n  hand-written loop %8.1f s%s\n ",
    paste(
      "package           %8.1f s\n  ratio             %8.1f  (wanted: at least 10)\n  largest",
      "difference between scores %.1e (columns in another order, to the fit's tolerance)\n\n"
    )
  ),
  loop$seconds,
  if (loop$sampled) {
    sprintf(" (scaled from a random %d of the fits)", nrow(loop$pairs))
  } else {
    ""
  },
  package$seconds,
  loop$seconds / package$seconds,
  max(abs(matched - loop$scores))
))
