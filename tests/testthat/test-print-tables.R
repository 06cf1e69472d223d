# Returned tables say what they are when printed, and are tibbles otherwise.

printed <- function(x, ..., width = 80) {
  withr::local_options(width = width)
  capture.output(print(x, ...))
}

compared <- function(...) {
  quiet_run(toy_brief(), candidates(base = fam_baseline(), t = fam_tree(min_leaf = among(2, 15))),
    splits = split_kfold(5), metrics = c("auc", "log_loss"), seed = 1, ...
  )
}

test_that("tables fit the width, name what they leave out, and stay tibbles", {
  cmp <- compared()
  choice <- select_final(cmp)
  tables <- list(
    scores_by_split(cmp), compare_pairs(cmp), failures(cmp), time_spent(cmp), diagnose(cmp),
    explain_choice(choice), optimism(cmp), hyperparameter_importance(cmp), list_parts(),
    list_metrics(), list_families(), column_importance(choice, times = 1), learning_curve(choice)
  )
  for (table in tables) {
    expect_s3_class(table, c("kw_listing", "tbl_df"))
    for (width in c(60, 80, 120)) {
      expect_lte(max(nchar(printed(table, width = width))), width,
        label = attr(table, "listing")$title
      )
    }
    plain <- tibble::as_tibble(table)
    expect_s3_class(plain, "tbl_df")
    expect_false(inherits(plain, "kw_listing"))
    expect_identical(names(plain), names(table))
    # with columns gone it is no listing any more
    expect_false(inherits(table[1], "kw_listing"))
  }
  narrow <- printed(compare_pairs(cmp), width = 60)
  expect_match(paste(narrow, collapse = " "), "Not shown: .*P\\(.*as_tibble\\(\\) has all")
})

test_that("numbers are rounded to their uncertainty, settings in words, rows can be asked for", {
  cmp <- compared()
  scores <- scores_by_split(cmp, "auc")
  shown <- printed(scores, n = 3)
  expect_match(shown[1], "AUC of 3 settings on 5 splits")
  expect_match(shown[2], "^candidate +split +metric +validation")
  first <- scores[scores$candidate == "t", ][1, ]
  expect_match(shown[4], paste0("min_leaf = 2$"))
  sizes <- vapply(split(scores$validation, paste(scores$candidate, scores$setting)), sd, 1)
  digits <- 1 - floor(log10(median(sizes[sizes > 0]) / 2))
  expect_match(shown[4], formatC(first$validation, format = "f", digits = digits), fixed = TRUE)
  expect_match(shown[6], "and 12 more: print(x, n = 10)", fixed = TRUE)
  expect_length(grep("^(base|t) ", printed(scores, n = Inf)), 15)
})

test_that("hostile and long names stay on their line, shortened before they are left out", {
  names <- c("two\nlines, \"q\"", paste(rep("very long", 12), collapse = " "))
  rivals <- stats::setNames(list(fam_baseline(), fam_tree()), names)
  cmp <- quiet_run(toy_brief(), do.call(candidates, rivals), splits = split_kfold(3), seed = 1)
  for (width in c(60, 100)) {
    shown <- printed(scores_by_split(cmp, "auc"), width = width)
    expect_length(grep("^two lines, \"q\" ", shown), 3)
    expect_length(grep("^very long very", shown), 3)
    expect_lte(max(nchar(shown)), width)
  }
  pairs <- compare_pairs(cmp)
  expect_identical(pairs$answer, NA_character_)
  shown <- printed(pairs)
  expect_no_match(shown, "cannot (tell|say)")
  expect_match(paste(shown, collapse = " "), "fewer than 5 splits nothing can be said")
})

test_that("a hyperparameter without effect in what is shown is left out of the words", {
  cmp <- quiet_run(toy_brief(), candidates(s = fam_support_vectors(
    kernel = among("linear", "radial"), cost = among(0.1, 1), width = among(1, 3)
  )), splits = split_kfold(3), metrics = "log_loss", seed = 1)
  table <- standings(cmp)
  for (i in seq_len(nrow(table))) {
    words <- kw("setting_label")(cmp, table$setting[i])
    expect_identical(grepl("width", words), table$kernel[i] == "radial")
    expect_match(words, paste0("kernel = ", table$kernel[i]))
  }
  linear <- scores_by_split(cmp)
  linear <- linear[linear$setting %in% table$setting[table$kernel == "linear"], ]
  expect_no_match(printed(linear)[-1], "width")
})

test_that("a difference has its interval and answer beside it, sentences stand below their row", {
  cmp <- compared()
  pairs <- compare_pairs(cmp)
  shown <- printed(pairs)
  at <- grep(paste0("^", pairs$first[1], " +", pairs$second[1]), shown)
  expect_match(shown[at], paste0(" to [-0-9.]+ .* ", pairs$answer[1], "$"))
  rules <- explain_choice(select_final(cmp))
  text <- gsub(" +", " ", paste(printed(rules), collapse = " "))
  for (reason in rules$reason) expect_match(text, reason, fixed = TRUE)
})

test_that("no rows are a sentence, and failures say what, where and how often", {
  expect_identical(printed(failures(compared())), "No setting failed.")
  breaks <- define_family("breaks",
    kinds = "two_class",
    fit = function(x, y, weights, settings, seed, threads) stop("the kiln is cold"),
    predict = function(model, x) rep(0.5, nrow(x))
  )
  cmp <- suppressWarnings(quiet_run(toy_brief(), candidates(base = fam_baseline(), b = breaks()),
    splits = split_kfold(3), seed = 1
  ))
  shown <- printed(failures(cmp))
  expect_match(shown[1], "^1 setting failed, 3 times in all")
  expect_length(grep("the kiln is cold", shown), 3)
})
