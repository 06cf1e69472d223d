test_that("frequencies, hashes and outlier limits are what they say", {
  table <- data.frame(k = c("a", "a", "b", NA), x = c(1, 2, 3, 100))
  expect_equal(
    prepared(list(pre_frequency()), table,
      new = data.frame(k = c("a", "b", "c", NA), x = 1))$columns$k,
    c(0.5, 0.25, 0, 0)
  )
  hashed <- prepared(
    list(pre_hash(buckets = 8)), table,
    new = data.frame(k = c("a", "never seen", NA), x = 1)
  )$columns
  expect_equal(
    rowSums(as.data.frame(hashed[startsWith(names(hashed), "k_hash")])),
    c(1, 1, 0),
    ignore_attr = TRUE
  )
  x <- c(1:99, 1000)
  clipped <- prepared(list(pre_outliers(fence = 1.5)), data.frame(x = x, z = 1))$columns$x
  expect_equal(max(clipped), unname(quantile(x, 0.75) + 1.5 * IQR(x)))
  expect_equal(
    range(prepared(list(pre_outliers(by = "quantile", share = 0.05)),
      data.frame(x = x, z = 1))$columns$x),
    unname(quantile(x, c(0.05, 0.95)))
  )
})
