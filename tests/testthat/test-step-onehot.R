test_that("a level never seen in training becomes all zeros, a missing one too", {
  table <- data.frame(colour = c("red", "blue", "red"), z = 1:3)
  new <- data.frame(colour = c("red", "green", NA), z = 1:3)
  out <- prepared(list(pre_onehot()), table, new = new)$columns
  expect_identical(out$colour_red, c(1, 0, 0))
  expect_identical(out$colour_blue, c(0, 0, 0))
  expect_identical(
    names(prepared(list(pre_onehot(drop_one = TRUE)), table)$columns), c("z", "colour_red")
  )
})

test_that("more than a hundred 0/1 columns are kept sparse, with the same values", {
  levels <- sprintf("level%03d", 1:120)
  table <- data.frame(many = c(levels, levels), z = 1)
  out <- prepared(list(pre_onehot()), table)
  expect_s4_class(out$sparse, "dgCMatrix")
  expect_equal(
    unname(as.matrix(out$sparse)), unname(model.matrix(~ many - 1, table)),
    ignore_attr = TRUE
  )
  scaled <- prepared(list(pre_onehot(), pre_scale()), table)$sparse
  expect_equal(unname(apply(as.matrix(scaled), 2, sd)), rep(1, 120))
})

test_that("new columns never overwrite old ones of the same name", {
  table <- data.frame(colour = c("red", "blue", "red"), colour_red = 7:9)
  out <- prepared(list(pre_onehot()), table)$columns
  expect_identical(out$colour_red, c(7, 8, 9))
  expect_identical(out$colour_red_1, c(1, 0, 1))
})
