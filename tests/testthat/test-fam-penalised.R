test_that("a penalty is in units of the outcome's standard deviation", {
  data <- family_data("number")
  run <- function(scale) {
    fitted <- kw("fit_family")(
      definitions$penalised,
      data$x,
      kw("new_target")(data$y * scale),
      list(penalty = c(0.01, 0.1, 1), lasso_share = 0.5),
      1
    )
    kw("predict_family")(fitted, data$x, c(0.01, 0.1, 1)) / scale
  }
  expect_equal(run(1000), run(1), tolerance = 1e-5)
})

test_that("a sparse and a dense matrix give the same penalised fit and the same forest", {
  data <- family_data("two_class")
  x <- round(pmax(data$x, 0), 1)
  sparse <- methods::as(methods::as(x, "CsparseMatrix"), "generalMatrix")
  for (name in c("penalised", "forest")) {
    settings <- if (name == "penalised") {
      list(penalty = c(0.01, 0.1), lasso_share = 1)
    } else {
      list(trees = 20, columns_tried = 0.5, min_node = 5, row_share = 1, cut_rule = "usual")
    }
    value <- if (name == "penalised") 0.01 else 20
    p <- lapply(list(x, sparse), function(m) {
      kw("predict_family")(
        kw("fit_family")(definitions[[name]], m, kw("new_target")(data$y), settings, 3), m, value
      )
    })
    expect_equal(p[[1]], p[[2]], tolerance = 1e-6)
  }
})
