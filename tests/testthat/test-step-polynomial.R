test_that("splines, powers, products and components equal their base-R forms", {
  table <- withr::with_seed(6, data.frame(a = rnorm(80), b = runif(80), c = rexp(80)))
  train <- 1:60
  spline <- prepared(list(pre_splines(pieces = 4, columns = a)), table, rows = train)$columns
  basis <- splines::ns(
    table$a[train],
    knots = quantile(table$a[train], 1:3 / 4),
    Boundary.knots = range(table$a[train])
  )
  expect_equal(
    as.matrix(as.data.frame(spline[paste0("a_spline", 1:4)])),
    predict(basis, table$a),
    ignore_attr = TRUE
  )
  power <- prepared(list(pre_polynomial(degree = 3, columns = b)), table, rows = train)$columns
  z <- (table$b - mean(table$b[train])) / sd(table$b[train])
  expect_equal(power$b_power3, z^3)
  product <- prepared(list(pre_interactions()), table, rows = train)$columns
  expect_equal(product$a_x_c, (table$a - mean(table$a[train])) * (table$c - mean(table$c[train])))
  expect_length(product, 6)
  parts <- prepared(list(pre_components(number = 2)), table, rows = train)$columns
  pca <- prcomp(table[train, ], scale. = TRUE)
  expect_equal(abs(parts$component2), abs(unname(predict(pca, table)[, 2])))
  share <- prepared(list(pre_components(number = 0.7)), table, rows = train)$columns
  expect_length(share, which(cumsum(pca$sdev^2) / 3 >= 0.7)[1])
})
