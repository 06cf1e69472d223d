# The model in a script: what its family says of itself, on the outcome's scale.

script_family_lines <- function(model, chain) {
  choice <- model$origin$choice
  plan <- choice$cmp$plan
  work <- work_of(choice$cmp)
  described <- fit_description(work, work$settings$fit[choice$at])
  definition <- described$definition
  input <- script_input(chain, definition)
  scaled <- !is.null(model$family$scale)
  about <- c(input, list(
    kind = if (scaled) "number" else kind_among(definition$kinds, model$kind),
    value = model$value, seed = script_fit_seed(plan, work, choice$at, described),
    weighted = definition$accepts$weights && !is.null(chain$target$weights),
    exposure = !is.null(chain$target$exposure), target = chain$target,
    levels = if (has_classes(model$kind)) model$family$present, quantiles = model$quantiles,
    model = model$family$model, beside = script_beside(model)
  ))
  # a class that no row has is not given to the package
  lacking <- has_classes(model$kind) && length(about$levels) < length(model$levels)
  if (lacking) about$target$outcome <- droplevels(about$target$outcome)
  made <- if (definition$shipped) {
    definition$script(described$settings, about)
  } else {
    script_own_family(described, about)
  }
  if (!is.null(model$family$recalibration)) {
    made <- script_recalibrated(model$family$recalibration, made)
  }
  if (lacking) made <- script_all_classes(made)
  c(
    script_comment("fam_", definition), about$pick,
    if (any(grepl("sparse_inputs(", unlist(made), fixed = TRUE))) about$as_sparse,
    if (any(grepl("renamed(", unlist(made), fixed = TRUE))) {
      "renamed <- function(x) setNames(x, paste0(\"x\", seq_along(x)))"
    },
    if (scaled) script_scaled(model, made) else c(
      made$fit, "", "predict_prepared <- function(x) {", paste0("  ", made$predict), "}"
    )
  )
}

script_fit_seed <- function(plan, work, at, described) {
  node <- work$settings$node[at]
  derive_seed(plan$seed, paste(
    paste(plan$brief$fingerprint, "all working rows"),
    if (node == 0L) "" else work$nodes[[node]]$key, described$key
  ))
}

# How `x` becomes what the family takes, columns in the engine's order, without texts and dates:
# list(pick and as_sparse, lines for that; frame, matrix, sparse, the expressions; named, a matrix
# like `frame` under names that no package stumbles over; native, factors, n_columns, gaps).
script_input <- function(chain, definition) {
  usable <- names(chain$kinds)[chain$kinds %in% c("number", "category", "ordered")]
  ordered <- intersect(frame_names(chain$frame), usable)
  words <- intersect(colnames(chain$frame$sparse), usable)
  pick <- c(
    if (length(usable) < length(chain$kinds)) {
      "  x <- Filter(function(v) is.numeric(v) || is.factor(v), x)"
    },
    if (!identical(ordered, usable)) {
      if (identical(ordered, c(setdiff(usable, words), words))) {
        c(
          paste0("  words <- ", r_columns(words, chain$kinds[usable])),
          "  x <- x[c(setdiff(names(x), words), words)]"
        )
      } else {
        paste0("  x <- x[", r_vector(ordered, 4L), "]")
      }
    }
  )
  columns_of <- if (length(pick) > 0L) "inputs(x)" else "x"
  rename <- !all(is_plain_name(ordered)) || any(c("y", "w", "z", "x") %in% ordered)
  frame <- if (rename) paste0("renamed(", columns_of, ")") else columns_of
  matrix <- paste0("as.matrix(", columns_of, ")")
  kinds <- chain$kinds[ordered]
  columns <- unclass(chain$frame$columns)[intersect(ordered, names(chain$frame$columns))]
  sparse <- !is.null(chain$frame$sparse) && definition$accepts$sparse
  list(
    pick = if (length(pick) > 0L) {
      c("inputs <- function(x) {", split_lines(pick), "  x", "}")
    },
    as_sparse = paste0("sparse_inputs <- function(x) Matrix::Matrix(", matrix, ", sparse = TRUE)"),
    frame = frame, matrix = matrix, named = paste0("as.matrix(", frame, ")"),
    sparse = if (sparse) "sparse_inputs(x)" else matrix,
    native = takes_columns(definition, kinds), n_columns = length(ordered),
    factors = ordered[kinds != "number"], gaps = any(vapply(columns, anyNA, NA))
  )
}

# Predictions for the classes that there are as columns among all.
script_all_classes <- function(made) {
  list(
    fit = c("all_classes <- levels(y)", "y <- droplevels(y)", made$fit),
    predict = c(
      "found <- local({", paste0("  ", made$predict), "})",
      "p <- matrix(0, nrow(x), length(all_classes))",
      "p[, match(levels(y), all_classes)] <- found",
      "p"
    )
  )
}

# Probabilities through the maps that were learned.
script_recalibrated <- function(recalibration, made) {
  in_lines <- function(x) paste(r_vector(x, 4L), collapse = "\n")
  line <- function(map, column) {
    p <- paste0("p[, ", column, "]")
    if (map$by == "isotonic") {
      if (length(map$at) == 1L) return(paste(r_text(map$value), "+ 0 *", p))
      return(paste0(
        "approx(", in_lines(map$at), ",\n    ", in_lines(map$value), ",\n    ", p, ", rule = 2)$y"
      ))
    }
    sides <- if (map$by == "platt") paste0("qlogis(clear(", p, "))") else c(
      paste0("log(clear(", p, "))"), paste0("-log1p(-clear(", p, "))")
    )
    terms <- paste(r_text(map$slopes[1]), "*", sides[1])
    if (map$by == "beta") terms <- c(terms, paste(r_text(map$slopes[2]), "*", sides[2]))
    paste0("plogis(", paste(c(r_text(map$constant), terms), collapse = " +\n    "), ")")
  }
  maps <- recalibration$maps[[1]]
  two <- length(maps) == 1L
  found <- vapply(seq_along(maps), function(i) line(maps[[i]], if (two) 2L else i), "")
  list(
    fit = c(
      made$fit, "",
      "# probabilities as they turned out on rows that fits on the others had not seen",
      if (maps[[1]]$by != "isotonic") {
        "clear <- function(p) pmin(pmax(p, 1e-05), 1 - 1e-05)"
      },
      "recalibrate <- function(p) {",
      if (two) split_lines(c(paste0("  q <- ", found), "  cbind(1 - q, q)")) else c(
        "  q <- cbind(", split_lines(paste0("    ", found, c(rep(",", length(found) - 1L), ""))),
        "  )", "  q / rowSums(q)"
      ),
      "}"
    ),
    predict = c("p <- local({", paste0("  ", made$predict), "})", "recalibrate(p)")
  )
}

# A family that its author wrote, by the author's functions.
script_own_family <- function(described, about) {
  definition <- described$definition
  x <- if (about$native) about$frame else about$sparse
  path <- !is.null(definition$path)
  extras <- intersect(target_extras, names(formals(definition$fit)))
  code <- vapply(extras, function(name) {
    switch(name,
      # rows that belong together, numbered
      unit = if ("group" %in% about$beside) "as.integer(factor(group))" else
        "ifelse(is.na(row), length(row) + seq_along(row), match(row, unique(row)))",
      kind = r_text(about$kind), exposure = if (about$exposure) "exposure" else "NULL",
      quantiles = r_text(about$quantiles)
    )
  }, "")
  list(
    fit = c(
      own_function("fit_own", definition$fit),
      own_function("predict_own", if (path) definition$path$predict else definition$predict),
      code_lines(r"(
settings <- <<settings>>
<<seed>>
model <- fit_own(<<x>>, y, <<w>>, settings, <<own>>, 1<<more>>)
)",
        settings = r_settings(described$settings), x = x, w = if (about$weighted) "w" else "NULL",
        own = as.character(about$seed), seed = if (definition$random) r_seed(about$seed),
        more = paste0(", ", extras, " = ", code, recycle0 = TRUE, collapse = "")
      )
    ),
    predict = if (!path) paste0("predict_own(model, ", x, ")") else if (is.null(about$levels)) {
      paste0("predict_own(model, ", x, ", ", r_text(about$value), ")[, 1]")
    } else {
      paste0("predict_own(model, ", x, ", ", r_text(about$value), ")[, , 1]")
    }
  )
}

# The outcome on another scale for the fit, and back: medians, or means by Duan's smearing.
script_scaled <- function(model, made) {
  scale <- model$family$scale
  weighted <- !is.null(model$brief$roles$weight)
  power <- r_text(scale$power)
  to <- switch(scale$by,
    own = "to_own_scale(y)", log = "log(y)", log1p = "log1p(y)", sqrt = "sqrt(y)",
    paste0("bend_outcome(y, ", power, ")")
  )
  back <- switch(scale$by,
    own = "from_own_scale(z)", log = "exp(z)", log1p = "expm1(z)", sqrt = "pmax(z, 0)^2",
    paste0("straight_outcome(z, ", power, ")")
  )
  code_lines(r"(
<<bend>>
own <- y
y <- <<to>>
<<fit>>
predict_scaled <- function(x) {
<<predict>>
}
# no prediction is further from the outcomes than they are from one another
reach <- range(y<<some>>) + c(-1, 1) * max(diff(range(y<<some>>)), 1e-8)
back <- function(z) {
  z <- pmin(pmax(z, reach[1]), reach[2])
  <<back>>
}
<<smear>>
)",
    bend = switch(scale$by,
      box_cox = , yeo_johnson = script_power_back(scale$by),
      own = c(
        own_function("to_own_scale", scale$own$to), own_function("from_own_scale", scale$own$from)
      )
    ), to = to,
    fit = made$fit, predict = paste0("  ", made$predict), back = back,
    some = if (weighted) "[w > 0]" else "",
    smear = if (scale$back == "median") {
      "predict_prepared <- function(x) back(as.numeric(predict_scaled(x)))"
    } else {
      code_lines(r"(
<<helper>>
# means by the smearing estimate (Duan 1983), over fifty quantiles of the errors
errors <- y - as.numeric(predict_scaled(x))
errors <- <<quantiles>>
predict_prepared <- function(x) {
  z <- as.numeric(predict_scaled(x))
  Reduce(`+`, lapply(errors, function(error) back(z + error))) / length(errors)
}
)",
        helper = if (weighted) script_weighted_quantile(),
        quantiles = if (weighted) {
          "weighted_quantile(errors[w > 0], (1:50 - 0.5) / 50, w[w > 0])"
        } else {
          "quantile(errors, (1:50 - 0.5) / 50, names = FALSE)"
        }
      )
    }
  )
}

# Powers of an outcome and the way back; the power is the one that was learned.
script_power_back <- function(by) {
  root <- "function(z, power) {
  if (abs(power) < 1e-6) exp(z) else pmax(power * z + 1, 1e-12)^(1 / power)
}"
  c(
    script_bend("bend_outcome", by),
    if (by == "box_cox") split_lines(paste("straight_outcome <-", root)) else c(
      split_lines(paste("root <-", root)), code_lines(r"(
straight_outcome <- function(z, power) {
  up <- !is.na(z) & z >= 0
  down <- !is.na(z) & z < 0
  z[up] <- root(z[up], power) - 1
  z[down] <- 1 - root(-z[down], 2 - power)
  z
}
)")
    )
  )
}
