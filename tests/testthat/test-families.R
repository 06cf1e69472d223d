# Every shipped family runs through the same checks, for every outcome that it claims.

family_data <- function(kind, n = 120) {
  table <- toy(n)
  y <- table[[outcomes[[kind]]]]
  list(
    x = as.matrix(table[c("x1", "x2", "x3")]), columns = table[c("x1", "x2", "x3")],
    y = if (kind == "number") {
      y
    } else {
      factor(y, levels = if (kind == "two_class") c("no", "yes") else c("low", "mid", "high"))
    }
  )
}

# Counts for the family of counts.
input_for <- function(definition, data) {
  if (definition$accepts$factors) return(data$columns)
  if (definition$name == "count_bayes") round(abs(data$x)) else data$x
}

fit_with <- function(definition, data, settings, rows = seq_along(data$y), seed = 5) {
  x <- input_for(definition, data)[rows, , drop = FALSE]
  kw("fit_family")(definition, x, kw("new_target")(data$y[rows]), settings, seed)
}

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
    list(), list(kernel = "linear"), list(kernel = "polynomial", degree = 3),
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

definitions <- lapply(kw("shipped_members")("fam"), function(make) make())

packages_there <- function(definition, kind) {
  settings <- lapply(definition$hyperparameters, `[[`, "default")
  packages <- c(
    kw("family_packages")(definition, settings, kind),
    if (definition$name == "support_vectors") "LiblineaR"
  )
  all(vapply(packages, requireNamespace, logical(1), quietly = TRUE))
}

test_that("every family has configurations here, and a path if it declares one", {
  expect_setequal(setdiff(names(definitions), "linear"), names(configurations))
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
      if (kind != "number") {
        sums <- apply(whole, setdiff(seq_along(dim(whole)), 2), sum)
        expect_equal(range(sums), c(1, 1))
      }
      # row-wise; one row alone too
      if (identical(given$guess, "draw")) next
      one <- kw("predict_family")(fitted, x[7, , drop = FALSE], values)
      expect_equal(
        as.vector(one),
        as.vector(if (is.null(dim(whole))) {
          whole[7]
        } else if (length(dim(whole)) == 3) whole[7, , ] else whole[7, ])
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
          as.vector(if (kind == "number") whole[, i] else whole[, , i]),
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

test_that(
  "a tree's path agrees with pruning, missing values, surrogates and unseen levels included",
  {
    table <- toy(300, missing = TRUE)
    table$colour <- factor(table$colour)
    definition <- definitions$tree
    columns <- table[c("x1", "x2", "x3", "colour")]
    for (y in list(table$number, factor(table$three))) {
      settings <- list(
        pruning = c(0, 0.005, 0.02, 0.1), impurity = "gini", min_leaf = 2,
        depth = 30
      )
      fitted <- kw("fit_family")(
        definition, columns[1:200, ], kw("new_target")(y[1:200]), settings, 1
      )
      ours <- kw("predict_family")(fitted, columns[201:300, ], settings$pruning)
      grown <- rpart::rpart(
        y ~ .,
        cbind(columns, y = y)[1:200, ],
        method = if (is.factor(y)) "class" else "anova",
        control = rpart::rpart.control(
          cp = 0, minsplit = 5, minbucket = 2, xval = 0, maxcompete = 0
        )
      )
      for (i in 1:4) {
        theirs <- predict(rpart::prune(grown, settings$pruning[i]), columns[201:300, ])
        expect_equal(unname(if (is.factor(y)) ours[, , i] else ours[, i]), unname(theirs))
      }
      # a level that a node's rows lack, and no majority to follow: the row stays there
      small <- kw("fit_family")(
        definition,
        columns[1:60, ],
        kw("new_target")(y[1:60]),
        utils::modifyList(settings, list(min_leaf = 1, pruning = 0)),
        1
      )
      grown <- rpart::rpart(
        y ~ .,
        cbind(columns, y = y)[1:60, ],
        method = if (is.factor(y)) "class" else "anova",
        control = rpart::rpart.control(
          cp = 0, minsplit = 2, minbucket = 1, xval = 0, maxcompete = 0
        )
      )
      theirs <- predict(rpart::prune(grown, 0), columns[61:300, ])
      expect_equal(as.vector(kw("predict_family")(small, columns[61:300, ], 0)), as.vector(theirs))
      strange <- columns[201:203, ]
      strange$colour <- factor(c("violet", NA, "red"))
      expect_identical(
        as.vector(kw("predict_family")(fitted, strange[1, ], 0)),
        as.vector(kw("predict_family")(fitted, transform(strange[1, ], colour = factor(NA)), 0))
      )
    }
  }
)

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
