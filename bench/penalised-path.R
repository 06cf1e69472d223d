# 180 penalised settings (60 penalties x 3 shares) x 10 folds, 5,000 x 40, numbers
# and classes; columns scaled in each fold. The loop uses the same definition of
# the path: all penalties are fitted, one is used.

source("bench/common.R")

table <- made_up_table(5000, 40)
penalties <- signif(exp(seq(log(1), log(1e-4), length.out = 60)), 6)
settings <- expand.grid(penalty = penalties, lasso_share = c(0, 0.5, 1))
x <- as.matrix(table[paste0("x", 1:40)])

one <- function(outcome, metric, wanted) {
  job <- brief(table[c(colnames(x), outcome)], outcome, event = if (outcome == "class") "yes")
  plan <- plan_comparison(
    job,
    candidates(penalised = pipeline(
      pre_scale(), fam_penalised(penalty = among(penalties), lasso_share = among(0, 0.5, 1))
    )),
    splits = split_kfold(10), metrics = metric, seed = 1
  )
  rows <- rows_by_split(plan)
  y <- if (outcome == "class") factor(table$class) else table$number
  path <- function(share, training) {
    centre <- colMeans(x[training, ])
    spread <- apply(x[training, ], 2, sd)
    unit <- if (outcome == "class") 1 else sqrt(mean((y[training] - mean(y[training]))^2))
    fit <- glmnet::glmnet(
      scale(x[training, ], centre, spread),
      y[training],
      alpha = share,
      lambda = penalties * unit,
      standardize = FALSE,
      family = if (outcome == "class") "binomial" else "gaussian"
    )
    list(fit = fit, centre = centre, spread = spread, unit = unit)
  }
  score_one <- function(i, s) {
    made <- path(settings$lasso_share[i], rows[[s]]$training)
    validation <- rows[[s]]$validation
    p <- drop(predict(
      made$fit,
      scale(x[validation, ], made$centre, made$spread),
      s = settings$penalty[i] * made$unit,
      type = "response"
    ))
    if (outcome == "number") return(sqrt(mean((y[validation] - p)^2)))
    -mean(log(pmax(ifelse(y[validation] == "yes", p, 1 - p), 1e-15)))
  }
  prepared <- lapply(rows, function(r) scale(x[r$training, ]))
  floor <- function() {
    for (s in 1:10) {
      training <- rows[[s]]$training
      unit <- if (outcome == "class") 1 else sd(y[training])
      family <- if (outcome == "class") "binomial" else "gaussian"
      for (share in c(0, 0.5, 1)) {
        glmnet::glmnet(prepared[[s]], y[training],
          alpha = share, lambda = penalties * unit, standardize = FALSE, family = family
        )
      }
    }
  }
  package <- time_package(plan, floor)
  loop <- time_loop(nrow(settings), 10, score_one)
  report(
    paste0("180 penalised settings x 10 folds, 5,000 x 40, ", outcome), loop, package, wanted,
    largest_difference(package$value, loop, settings)
  )
}

one("number", "rmse", c(30, 50))
one("class", "log_loss", c(10, 18))
