# Small data for families, and how they are fitted and compared with their packages.

agree <- function(kind, n = 200) {
  table <- toy(n, seed = 4)
  y <- table[[outcomes[[kind]]]]
  y <- if (kind == "number") {
    y
  } else {
    factor(y, levels = if (kind == "two_class") c("no", "yes") else c("low", "mid", "high"))
  }
  columns <- table[c("x1", "x2", "x3")]
  columns$colour <- factor(table$colour)
  train <- 1:150
  list(x = as.matrix(columns[1:3]), columns = columns, y = y, train = train, test = 151:n)
}

# Our predictions for the test rows.
ours <- function(
  family, d, factors = FALSE, values = NULL, seed = 9,
  about = list(rows = 150, columns = 3, classes = nlevels(d$y))
) {
  family <- kw("resolve_part")(family, about)
  definition <- family$definition
  settings <- family$settings
  if (!is.null(values)) settings[[definition$path$along]] <- values
  x <- if (factors) d$columns else d$x
  fitted <- kw("fit_family")(
    definition, x[d$train, ], kw("new_target")(d$y[d$train]), settings, seed
  )
  p <- kw("predict_family")(fitted, x[d$test, ], values)
  attr(p, "model") <- fitted$model
  p
}

bare <- function(p) unname(structure(p, model = NULL))

needs <- function(...) for (package in c(...)) skip_if_not_installed(package)

# Every shipped family runs through the same checks, for every outcome that it claims.

family_data <- function(kind, n = 120) {
  table <- toy(n)
  y <- switch(kind,
    number = , quantiles = table$number, count = round(exp(table$number / 2)),
    positive = exp(table$number / 2),
    two_class = factor(table$two, c("no", "yes")), factor(table$three, c("low", "mid", "high"))
  )
  list(
    x = as.matrix(table[c("x1", "x2", "x3")]), columns = table[c("x1", "x2", "x3")], y = y,
    kind = kind, quantiles = if (kind == "quantiles") c(0.1, 0.5, 0.9)
  )
}

# Counts for the family of counts.
input_for <- function(definition, data) {
  if (definition$accepts$factors) return(data$columns)
  if (definition$name == "count_bayes") round(abs(data$x)) else data$x
}

fit_with <- function(definition, data, settings, rows = seq_along(data$y), seed = 5) {
  x <- input_for(definition, data)[rows, , drop = FALSE]
  target <- kw("new_target")(data$y[rows], kind = data$kind, quantiles = data$quantiles)
  kw("fit_family")(definition, x, target, settings, seed)
}

definitions <- lapply(
  get("shipped_members", envir = asNamespace("kilnwright"))("fam"), function(make) make()
)
