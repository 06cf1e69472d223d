test_that("missing values are filled by what the training rows say", {
  table <- data.frame(a = c(1, 2, 2, 9, NA), b = c("u", "u", "v", NA, NA))
  expect_identical(prepared(list(pre_missing()), table)$columns$a[5], 2)
  expect_identical(prepared(list(pre_missing(fill = "mean")), table)$columns$a[5], 3.5)
  expect_identical(prepared(list(pre_missing(fill = "mode")), table)$columns$a[5], 2)
  expect_identical(prepared(list(pre_missing(fill = "value", value = -1)), table)$columns$a[5], -1)
  expect_identical(as.character(prepared(list(pre_missing()), table)$columns$b[4:5]), c("u", "u"))
  expect_identical(
    as.character(prepared(list(pre_missing(fill = "level")), table)$columns$b[4]), "missing"
  )
  flagged <- prepared(list(pre_missing(flag = TRUE)), table)
  expect_identical(flagged$columns$a_missing, c(0, 0, 0, 0, 1))
  expect_identical(flagged$columns$b_missing, c(0, 0, 0, 1, 1))
})

test_that("fills come from training rows only", {
  table <- data.frame(a = c(1, 1, 1, 100, NA), b = 1:5)
  expect_identical(prepared(list(pre_missing()), table, rows = c(1:3, 5))$columns$a[5], 1)
})

test_that("fills by nearest rows ask the rows that are nearest", {
  table <- withr::with_seed(
    1,
    data.frame(
      a = c(rnorm(40), rnorm(40, 20)), b = c(rnorm(40), rnorm(40, 20)),
      k = rep(c("low", "high"), each = 40)
    )
  )
  gaps <- c(3, 50)
  holed <- table
  holed$b[gaps] <- NA
  holed$k[c(5, 60)] <- NA
  out <- prepared(list(pre_missing(fill = "nearest", neighbours = 3)), holed)$columns
  distance <- function(i) {
    (abs(holed$a[i] - holed$a) / IQR(holed$a) + ifelse(holed$k == holed$k[i], 0, 1)) / 2
  }
  for (i in gaps) {
    d <- distance(i)
    d[is.na(holed$k)] <- (abs(holed$a[i] - holed$a) / IQR(holed$a))[is.na(holed$k)]
    d[is.na(holed$b)] <- Inf
    expect_equal(out$b[i], median(holed$b[order(d)[1:3]]))
  }
  expect_identical(as.character(out$k[c(5, 60)]), c("low", "high"))
})

test_that("fills by a model are those of the package's own tree", {
  table <- withr::with_seed(2, data.frame(a = rnorm(200), b = rnorm(200)))
  table$c <- table$a * 2 + rnorm(200, 0, 0.1)
  holed <- table
  holed$c[1:20] <- NA
  out <- prepared(list(pre_missing(fill = "model")), holed)$columns$c[1:20]
  grown <- rpart::rpart(
    c ~ a + b,
    holed[-(1:20), ],
    control = rpart::rpart.control(cp = 0, minsplit = 20, minbucket = 7, xval = 0, maxsurrogate = 0)
  )
  expect_equal(out, unname(predict(rpart::prune(grown, 0.001), holed[1:20, ])))
  expect_gt(cor(out, table$c[1:20]), 0.95)
})
