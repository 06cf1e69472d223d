test_that("terms are counted and weighted as a plain count does", {
  text <- c(
    "The dry rim, the DRY foot", "dry foot trimmed", NA, "rim and foot and rim", "",
    "caf\u00e9 dry rim"
  )
  job_text <- function(...) {
    frame <- kw("new_frame")(data.frame(t = text, stringsAsFactors = FALSE))
    out <- kw("learn_step")(kw("pre_text")(...), frame, kw("new_target")(rnorm(6)), 1)
    m <- as.matrix(out$frame$sparse)
    colnames(m) <- sub("^t_", "", colnames(m))
    m
  }
  words <- lapply(strsplit(tolower(ifelse(is.na(text), "", text)), "[^[:alnum:]']+"), function(w) {
    w[nzchar(w) & !w %in% kw("common_words")]
  })
  pairs <- lapply(words, function(w) if (length(w) > 1) paste(head(w, -1), w[-1]))
  all <- Map(c, words, pairs)
  found <- job_text(phrases = 1:2, in_at_least = 2, in_at_most = 1)
  by_hand <- vapply(
    colnames(found), function(term) vapply(all, function(w) sum(w == term), 1), numeric(6)
  )
  expect_equal(found, by_hand, ignore_attr = TRUE)
  in_rows <- table(unlist(lapply(all, unique)))
  expect_setequal(colnames(found), names(in_rows)[in_rows >= 2])
  weighted <- job_text(in_at_least = 1, in_at_most = 1, count_as = "tfidf")
  expect_equal(
    weighted[, "foot"],
    vapply(words, function(w) sum(w == "foot"), 1) * log(6 / in_rows[["foot"]]),
    ignore_attr = TRUE
  )
  expect_true("caf\u00e9" %in% colnames(weighted))
  expect_identical(ncol(job_text(in_at_least = 1, in_at_most = 1, top = 2)), 2L)
  expect_false("dry" %in% colnames(job_text(in_at_least = 1, in_at_most = 0.4)))
  expect_true("the" %in% colnames(job_text(in_at_least = 1, in_at_most = 1, drop_common = FALSE)))
})

test_that("text stays sparse up to the families that take it so, with the same scores as dense", {
  job <- pots_brief()
  sparse <- pipeline(
    pre_drop(columns = !notes),
    pre_text(in_at_least = 10, top = 30),
    fam_penalised(penalty = among(0.001, 0.01))
  )
  dense <- pipeline(
    pre_drop(columns = !notes), pre_text(in_at_least = 10, top = 30),
    define_step(
      "unfold",
      learn = function(frame, target, settings, seed) {
        list(state = NULL, training = NULL)
      },
      use = function(state, frame) {
        frame$columns <- as.data.frame(as.matrix(frame$sparse))
        frame["sparse"] <- list(NULL)
        frame
      }
    )(), fam_penalised(penalty = among(0.001, 0.01))
  )
  cmp <- quiet_run(
    job,
    candidates(sparse = sparse, dense = dense),
    splits = split_kfold(3),
    metrics = "log_loss",
    seed = 1
  )
  table <- standings(cmp)
  expect_equal(
    table$mean[table$candidate == "sparse"],
    table$mean[table$candidate == "dense"],
    tolerance = 1e-5
  )
  expect_lt(max(table$mean), 0.46)
})

test_that("text that is empty, missing or not UTF-8 has no terms", {
  latin <- "caf\xe9 dry"
  text <- c("dry dry rim", "", NA, latin, "dry foot", "dry")
  frame <- kw("new_frame")(data.frame(t = text, stringsAsFactors = FALSE))
  out <- kw("learn_step")(
    pre_text(in_at_least = 1, in_at_most = 1), frame, kw("new_target")(1:6), 1
  )$frame
  expect_equal(unname(Matrix::rowSums(out$sparse)), c(3, 0, 0, 0, 2, 1))
})

test_that("a telling word stays where more than half of the texts hold it", {
  words <- c("glaze", "fine", "slow", "kiln", "cold", "warm", "foot", "rim", "wheel")
  table <- withr::with_seed(3, {
    crack <- runif(120) < 0.6
    remark <- vapply(crack, function(has) {
      paste(c(if (has) "crack", sample(words, 4)), collapse = " ")
    }, "")
    data.frame(remark, y = ifelse(runif(120) < ifelse(crack, 0.85, 0.15), "bad", "good"))
  })
  plan <- plan_comparison(brief(table, "y", event = "bad"),
    candidates(words = pipeline(pre_text(), pre_scale(), fam_penalised(penalty = 0.03))),
    splits = split_kfold(5), metrics = "auc", seed = 1
  )
  expect_gt(standings(quiet_run(plan, workers = 1))$mean, 0.75)
})
