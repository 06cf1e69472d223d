# Off-path configurations, extreme ones included.
configurations <- list(
  baseline = list(list(), list(guess = "majority"), list(guess = "draw")),
  boosted = list(
    list(), list(depth = 1, rate = 1, row_share = 1),
    list(min_leaf = 50, row_share = 0.9), list(depth = 8, min_leaf = 1),
    if (requireNamespace("lightgbm", quietly = TRUE)) {
      list(package = "lightgbm", column_share = 0.5)
    }
  ),
  discriminant = list(
    list(), list(shape = "quadratic"), list(shape = "regularised"),
    list(shape = "regularised", pooling = 0, roundness = 1)
  ),
  forest = list(
    list(), list(min_node = 1, columns_tried = 1),
    list(min_node = 60, columns_tried = 0.01),
    list(row_share = 0.3, cut_rule = "random_cut")
  ),
  naive_bayes = list(list(), list(density = "kernel"), list(add = 0)),
  count_bayes = list(list(), list(add = 100)),
  neighbours = list(list()),
  neural = list(list(), list(units = 3, early_stop = TRUE), list(units = 1, decay = 1, epochs = 3)),
  penalised = list(list(), list(lasso_share = 0), list(lasso_share = 1)),
  rules = list(list(), list(rounds = 5), list(min_leaf = 40, most_rules = 1), list(confidence = 1)),
  adaptive_splines = list(list(), list(degree = 2), list(degree = 3)),
  support_vectors = list(
    list(), list(kernel = "linear"), list(kernel = "polynomial", degree = 3, cost = 0.01),
    list(cost = 1e-3), list(cost = 100, width = 0.41)
  ),
  tree = list(
    list(), list(min_leaf = 1, depth = 30), list(min_leaf = 50, impurity = "information"),
    list(depth = 1)
  )
)

paths <- list(
  boosted = c(1, 2, 7, 30), forest = c(1, 2, 7, 30), penalised = c(0, 1e-6, 0.01, 0.2, 5, 1e4),
  adaptive_splines = c(1, 2, 5, 21, 400),
  tree = c(0, 1e-6, 0.003, 0.02, 0.3, 1),
  neighbours = expand.grid(
    neighbours = c(1, 2, 9, 120, 500),
    weighting = c("equal", "inverse", "fading"),
    distance = c("euclidean", "manhattan", "chebyshev"),
    stringsAsFactors = FALSE
  )
)

path_values <- function(name) {
  values <- paths[[name]]
  if (is.data.frame(values)) kw("plain_frame")(as.list(values), nrow(values)) else values
}

along_values <- function(settings, along, values) {
  if (length(along) == 1) settings[[along]] <- values
  if (length(along) > 1) settings[along] <- as.list(values)
  settings
}

packages_there <- function(definition, kind) {
  settings <- lapply(definition$arguments, `[[`, "default")
  packages <- c(
    kw("family_packages")(definition, settings, kind),
    if (definition$name == "support_vectors") "LiblineaR"
  )
  all(vapply(packages, requireNamespace, logical(1), quietly = TRUE))
}

test_that("every family has configurations here, and a path if it declares one", {
  expect_setequal(setdiff(names(definitions), c("linear", "cumulative")), names(configurations))
  expect_setequal(names(Filter(function(d) !is.null(d$path), definitions)), names(paths))
})

for (name in names(definitions)) for (kind in definitions[[name]]$kinds) {
  definition <- definitions[[name]]
  test_that(paste0("fam_", name, " conforms: ", kind), {
    if (!packages_there(definition, kind)) skip(paste("a package of", name, "is not installed"))
    data <- family_data(kind)
    defaults <- kw("resolve_part")(
      kw("new_family")(definition, list()),
      list(rows = 120, columns = 3, classes = nlevels(data$y))
    )$settings
    for (given in Filter(Negate(is.null), configurations[[name]] %||% list(list()))) {
      settings <- utils::modifyList(defaults, given)
      along <- definition$path$along
      values <- path_values(name)
      settings <- along_values(settings, along, values)
      fitted <- suppressWarnings(fit_with(definition, data, settings))
      x <- input_for(definition, data)
      whole <- kw("predict_family")(fitted, x, values)
      expect_true(all(is.finite(whole)))
      if (is.factor(data$y)) {
        sums <- apply(whole, setdiff(seq_along(dim(whole)), 2), sum)
        expect_equal(range(sums), c(1, 1))
      }
      # row-wise; one row alone too
      if (identical(given$guess, "draw")) next
      one <- kw("predict_family")(fitted, x[7, , drop = FALSE], values)
      expect_equal(
        as.vector(one),
        as.vector(if (is.null(dim(whole))) whole[7] else asplit(whole, 1L)[[7]])
      )
      # same seed, same model
      expect_identical(
        kw("predict_family")(suppressWarnings(fit_with(definition, data, settings)), x, values),
        whole
      )
      # path = no path
      for (i in seq_len(kw("path_count")(values))) {
        value <- kw("path_take")(values, i)
        single <- kw("predict_family")(fitted, x, value)
        expect_equal(
          as.vector(single),
          as.vector(if (length(dim(whole)) == 3) whole[, , i] else whole[, i]),
          tolerance = 1e-12
        )
        frozen <- fitted
        frozen$model <- definition$freeze(fitted$model, value)
        thawed <- unserialize(serialize(frozen, NULL))
        expect_equal(kw("predict_family")(thawed, x, value), single, tolerance = 1e-12)
        if (!definition$path$set_matters) {
          own <- along_values(settings, along, value)
          alone <- suppressWarnings(fit_with(definition, data, own))
          expect_equal(kw("predict_family")(alone, x, value), single, tolerance = 1e-12)
        }
      }
    }
  })

  if (kind == "many_class") {
    test_that(paste0("fam_", name, " gives probability 0 to a class without training rows"), {
      if (!packages_there(definition, kind)) skip(paste("a package of", name, "is not installed"))
      data <- family_data(kind)
      settings <- kw("resolve_part")(
        kw("new_family")(definition, list()), list(rows = 80, columns = 3, classes = 3)
      )$settings
      fitted <- suppressWarnings(fit_with(definition, data, settings,
        rows = which(data$y != "mid")))
      value <- if (!is.null(definition$path)) kw("path_take")(path_values(name), 1)
      if (!is.null(definition$path)) {
        fitted <- suppressWarnings(fit_with(
          definition,
          data,
          along_values(settings, definition$path$along, value),
          rows = which(data$y != "mid")
        ))
      }
      p <- kw("predict_family")(fitted, input_for(definition, data), value)
      expect_true(all(matrix(p, ncol = 3)[, 2] == 0))
      expect_error(
        fit_with(definition, data, settings, rows = which(data$y == "low")), "one class only"
      )
    })
  }
}
