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
