test_that("rare and unseen levels become 'other'", {
  table <- data.frame(glaze = c(rep("ash", 5), rep("chun", 3), "oribe"), z = 1:9)
  new <- data.frame(glaze = c("ash", "oribe", "tenmoku", NA), z = 1:4)
  expect_identical(
    as.character(prepared(list(pre_rare_levels(3)), table, new = new)$columns$glaze),
    c("ash", "other", "other", NA)
  )
  expect_identical(
    as.character(prepared(list(pre_rare_levels(0.4)), table)$columns$glaze),
    c(rep("ash", 5), rep("other", 4))
  )
})
