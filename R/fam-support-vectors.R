#' Support vector machine
#'
#' The border with the widest margin between classes, or a tube around a numeric
#' outcome. Radial and polynomial kernels by package kernlab, the linear kernel by
#' package LiblineaR. Several classes are had one against the rest.
#'
#' Probabilities come from decision values of rows that a machine has not seen:
#' three inner parts of the training rows (cut by group if there is one) are held
#' out in turn, and a logistic curve is fitted to the held-out values (Platt
#' scaling). A fit for two classes so trains four machines, which [preview()] says.
#'
#' @eval family_help("support_vectors")
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A family for [pipeline()] and [candidates()].
#' @references Platt (1999), Probabilistic outputs for support vector machines; Lin,
#'   Lin & Weng (2007), A note on Platt's probabilistic outputs, Machine Learning 68.
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have.
#' @examples
#' fam_support_vectors(kernel = among("linear", "radial"), cost = from_to(0.1, 10, "log"))
#' @export
fam_support_vectors <- function(
  kernel = "radial", cost = 1, width = NULL, degree = 2, tube = 0.1, ...
) {
  no_more(...)
  given <- list(kernel = kernel, cost = cost, degree = degree, tube = tube)
  if (!is.null(width)) given$width <- width
  new_family(member_fam_support_vectors(), given)
}

member_fam_support_vectors <- function() {
  family_definition("support_vectors", "Support vector machine",
    c("number", "two_class", "many_class"),
    keeps_rows = function(settings, kind) settings$kernel != "linear",
    hyperparameters = list(
      kernel = hyperparameter("choice", "radial",
        choices = c("linear", "radial", "polynomial"),
        sensible = function(rows, columns, classes) among("linear", "radial"),
        meaning = "Form of the border: straight, or bent in one way or the other."
      ),
      cost = hyperparameter("number", 1,
        min = 0, open_min = TRUE,
        sensible = function(rows, columns, classes) from_to(0.01, 100, spacing = "log", points = 9),
        meaning = "Price of rows on the wrong side of the margin.",
        rising = "Closer to the training rows: less bias, more variance, slower."
      ),
      width = hyperparameter("number", usual_width,
        min = 0, open_min = TRUE,
        sensible = function(rows, columns, classes) {
          from_to(
            signif(sqrt(columns / 10), 3),
            signif(sqrt(10 * columns), 3),
            spacing = "log",
            points = 5
          )
        },
        meaning = "Width of the kernel: distance at which rows stop mattering to one another.",
        rising = "Rows matter further away: a smoother border, less variance, more bias.",
        active_when = function(settings, kind) settings$kernel != "linear"
      ),
      degree = hyperparameter("whole", 2,
        min = 2, max = 6,
        sensible = function(rows, columns, classes) among(2, 3),
        meaning = "Degree of the polynomial.",
        rising = "Finer interactions: less bias, more variance.",
        active_when = function(settings, kind) settings$kernel == "polynomial"
      ),
      tube = hyperparameter("number", 0.1,
        min = 0,
        sensible = function(rows, columns, classes) among(0.01, 0.1, 0.5),
        meaning = "Errors below this cost nothing, in units of the outcome's standard deviation.",
        rising = "Fewer support vectors: a flatter, faster fit.", active_when = for_numbers
      )
    ),
    complexity_rank = 60,
    simplicity = function(settings) {
      list(
        match(settings$kernel, c("linear", "polynomial", "radial")), settings$cost,
        -(settings$width %||% 0)
      )
    },
    accepts = list(sparse = TRUE, wants_scaling = TRUE), random = TRUE,
    inner_fits = function(settings, kind, classes) {
      if (!has_classes(kind)) 1 else if (has_event(kind)) 4 else 4 * classes
    },
    fit = fit_support_vectors, predict = predict_support_vectors, script = script_support_vectors,
    packages = function(settings, kind) {
      unique(ifelse(possible_values(settings$kernel) == "linear", "LiblineaR", "kernlab"))
    },
    does = "Puts the border where the margin is widest, straight or bent by a kernel."
  )
}

usual_width <- function(rows, columns, classes) signif(sqrt(max(1, columns) / 2), 6)

# The factor on squared distances (radial) or products (polynomial) that a width stands
# for: the radial kernel is exp(-distance^2 / (2 width^2)).
kernel_factor <- function(width) 1 / (2 * width^2)

fit_support_vectors <- function(x, y, weights, settings, seed, threads, unit) {
  x <- machine_input(x, settings)
  if (!is.factor(y)) {
    centre <- mean(y)
    spread <- max(stats::sd(y), 1e-12)
    return(list(
      machine = train_machine(x, (y - centre) / spread, settings, FALSE), centre = centre,
      spread = spread
    ))
  }
  # under the seed again afterwards, so that the machines are the same however rows are dealt
  parts <- with_seed(seed, held_out_parts(y, unit))
  list(against_rest = lapply(against_rest(y), function(inside) {
    one_against_rest(x, inside == 1, parts, settings)
  }))
}

# The linear package takes sparse columns; kernels need all numbers.
machine_input <- function(x, settings) {
  if (settings$kernel == "linear" || is.matrix(x)) unname(x) else unname(as.matrix(x))
}

held_out_parts <- function(y, unit) {
  if (length(unique(unit)) < 3L) {
    stop("too few independent training rows for held-out probabilities", call. = FALSE)
  }
  deal_rows(length(y), rep(1 / 3, 3L), as.integer(y), unit)
}

one_against_rest <- function(x, inside, parts, settings) {
  values <- rep(NA_real_, length(inside))
  for (part in 1:3) {
    held <- parts == part
    if (length(unique(inside[!held])) < 2L) next
    values[held] <- machine_values(
      train_machine(x[!held, , drop = FALSE], inside[!held], settings, TRUE),
      x[held, , drop = FALSE]
    )
  }
  usable <- !is.na(values)
  if (length(unique(inside[usable])) < 2L) {
    stop("too few rows of a class for held-out probabilities", call. = FALSE)
  }
  list(
    machine = train_machine(x, inside, settings, TRUE),
    curve = platt_curve(values[usable], inside[usable])
  )
}

# `y` is logical for classes, a number in units of its sd for regression.
train_machine <- function(x, y, settings, is_class) {
  if (settings$kernel == "linear") return(train_linear(x, y, settings, is_class))
  kernel <- if (settings$kernel == "radial") {
    kernlab::rbfdot(sigma = kernel_factor(settings$width))
  } else {
    kernlab::polydot(degree = settings$degree, scale = kernel_factor(settings$width), offset = 1)
  }
  target <- if (is_class) factor(y, levels = c(TRUE, FALSE)) else y
  fit <- kernlab::ksvm(x, target,
    type = if (is_class) "C-svc" else "eps-svr", kernel = kernel,
    C = settings$cost,
    epsilon = settings$tube, scaled = FALSE, prob.model = FALSE, cross = 0,
    fit = FALSE
  )
  list(
    kind = "kernel", kernel = settings$kernel, factor = kernel_factor(settings$width),
    degree = settings$degree,
    rows = x[kernlab::SVindex(fit), , drop = FALSE],
    weights = as.double(unlist(kernlab::coef(fit))),
    shift = kernlab::b(fit)
  )
}

train_linear <- function(x, y, settings, is_class) {
  target <- if (is_class) factor(ifelse(y, "yes", "no"), levels = c("yes", "no")) else y
  fit <- LiblineaR::LiblineaR(
    x,
    target,
    type = if (is_class) 3 else 13,
    cost = settings$cost,
    bias = 1,
    svr_eps = if (is_class) NULL else settings$tube,
    verbose = FALSE
  )
  weights <- as.double(fit$W)
  # values are for the first class that the package met
  if (is_class && as.character(fit$ClassNames[1]) == "no") weights <- -weights
  list(kind = "linear", weights = weights[-length(weights)], shift = -weights[length(weights)])
}

# Decision values (higher = inside), or predictions in units of the outcome's sd.
machine_values <- function(machine, x) {
  if (machine$kind == "linear") return(as.double(x %*% machine$weights) - machine$shift)
  as.double(kernel_matrix(machine, x) %*% machine$weights) - machine$shift
}

kernel_matrix <- function(machine, x) {
  products <- tcrossprod(x, machine$rows)
  if (machine$kernel == "polynomial") return((machine$factor * products + 1)^machine$degree)
  distances <- outer(rowSums(x^2), rowSums(machine$rows^2), `+`) - 2 * products
  exp(-machine$factor * pmax(distances, 0))
}

# Platt's curve, 1 / (1 + exp(a * value + b)), with his smoothed targets; Newton's
# method with backtracking as in Lin, Lin & Weng (2007).
platt_curve <- function(values, inside) {
  n_inside <- sum(inside)
  n_outside <- sum(!inside)
  target <- ifelse(inside, (n_inside + 1) / (n_inside + 2), 1 / (n_outside + 2))
  ab <- c(0, log((n_outside + 1) / (n_inside + 1)))
  loss_at <- function(ab) {
    eta <- ab[1] * values + ab[2]
    sum(target * eta + pmax(-eta, 0) + log1p(exp(-abs(eta))))
  }
  loss <- loss_at(ab)
  for (iteration in 1:100) {
    p <- stats::plogis(-(ab[1] * values + ab[2]))
    gradient <- c(sum(values * (target - p)), sum(target - p))
    if (max(abs(gradient)) < 1e-5) break
    spread <- p * (1 - p)
    hessian <- matrix(
      c(sum(values^2 * spread), sum(values * spread), sum(values * spread), sum(spread)), 2
    ) + diag(1e-12, 2)
    step <- -solve(hessian, gradient)
    size <- 1
    while (size >= 1e-10 && loss_at(ab + size * step) >= loss +
      1e-4 * size * sum(gradient * step)) {
      size <- size / 2
    }
    if (size < 1e-10) break
    ab <- ab + size * step
    loss <- loss_at(ab)
  }
  ab
}

predict_support_vectors <- function(model, x) {
  if (!is.null(model$machine)) {
    x <- machine_rows(model$machine, x)
    return(model$centre + model$spread * machine_values(model$machine, x))
  }
  p <- lapply(model$against_rest, function(one) {
    stats::plogis(-(one$curve[1] * machine_values(one$machine, machine_rows(one$machine, x)) +
      one$curve[2]))
  })
  stacked <- from_against_rest(lapply(p, cbind))
  matrix(stacked, nrow(x))
}

machine_rows <- function(machine, x) {
  if (machine$kind == "linear" || is.matrix(x)) x else as.matrix(x)
}

script_support_vectors <- function(settings, about) {
  linear <- settings$kernel == "linear"
  x <- if (linear) about$sparse else about$matrix
  machine <- if (linear) {
    script_linear_machine(settings, about)
  } else {
    code_lines(r"(
train <- function(x, target) {
  kernlab::ksvm(x, target,
    type = "<<type>>", kernel = <<kernel>>,
    C = <<cost>>, epsilon = <<tube>>, scaled = FALSE
  )
}
margin <- function(machine, x) as.numeric(kernlab::predict(machine, x<<decision>>))
)",
      type = if (is.null(about$levels)) "eps-svr" else "C-svc",
      kernel = if (settings$kernel == "radial") {
        paste0("kernlab::rbfdot(sigma = ", r_text(kernel_factor(settings$width)), ")")
      } else {
        paste0(
          "kernlab::polydot(", r_text(as.double(settings$degree)), ", ",
          r_text(kernel_factor(settings$width)), ", 1)"
        )
      },
      cost = r_text(as.double(settings$cost)), tube = r_text(settings$tube),
      decision = if (is.null(about$levels)) "" else ", type = \"decision\""
    )
  }
  if (is.null(about$levels)) {
    return(list(fit = c(machine, code_lines(r"(
<<seed>>
y_mean <- mean(y)
y_sd <- sd(y)
model <- train(<<x>>, (y - y_mean) / y_sd)
)", x = x, seed = r_seed(about$seed))), predict = paste0("y_mean + y_sd * margin(model, ", x, ")")))
  }
  # as the rows were dealt, under the seed of this fit
  part <- with_seed(about$seed, held_out_parts(about$target$outcome, inner_unit(about$target)))
  several <- length(about$levels) > 2L
  whole <- vapply(1:3, function(held) {
    all(tabulate(about$target$outcome[part != held], length(about$levels)) > 0L)
  }, NA)
  # a third that has a class all to itself gives no margins of it
  lacking <- if (!all(whole)) "    if (length(unique(inside[!out])) < 2) next"
  list(fit = c(machine, code_lines(r"(
# Probabilities from margins (Platt 2000) of rows held out by thirds; the curve by Newton's method
curve_of <- function(value, inside) {
  n <- c(sum(!inside), sum(inside))
  target <- ifelse(inside, (n[2] + 1) / (n[2] + 2), 1 / (n[1] + 2))
  loss_of <- function(ab) {
    eta <- ab[1] * value + ab[2]
    sum(target * eta + pmax(-eta, 0) + log1p(exp(-abs(eta))))
  }
  ab <- c(0, log((n[1] + 1) / (n[2] + 1)))
  for (turn in 1:100) {
    p <- plogis(-(ab[1] * value + ab[2]))
    slope <- c(sum(value * (target - p)), sum(target - p))
    if (max(abs(slope)) < 1e-5) break
    design <- cbind(value, 1)
    step <- -solve(crossprod(design, p * (1 - p) * design) + diag(1e-12, 2), slope)
    size <- 1
    while (size >= 1e-10 &&
      loss_of(ab + size * step) >= loss_of(ab) + 1e-4 * size * sum(slope * step)) {
      size <- size / 2
    }
    if (size < 1e-10) break
    ab <- ab + size * step
  }
  ab
}
third <- <<part>>
one_against_rest <- function(level) {
  inside <- y == level
  target <- factor(inside, levels = c(TRUE, FALSE))
  value <- rep(NA_real_, length(y))
  for (held in 1:3) {
    out <- third == held
<<lacking>>
    machine <- train(<<x>>[!out, ], target[!out])
    value[out] <- margin(machine, <<x>>[out, , drop = FALSE])
  }
  list(machine = train(<<x>>, target), curve = curve_of(<<known>>))
}
<<seed>>
models <- lapply(<<classes>>, one_against_rest)
)",
    part = r_parts(part), x = x, lacking = lacking,
    known = if (all(whole)) "value, inside" else "value[!is.na(value)], inside[!is.na(value)]",
    seed = r_seed(about$seed),
    classes = if (several) "levels(y)" else "levels(y)[2]"
  )), predict = code_lines(r"(
p <- vapply(models, function(one) {
  plogis(-(one$curve[1] * margin(one$machine, <<x>>) + one$curve[2]))
}, numeric(nrow(x)))
<<shares>>
)",
    x = x,
    shares = if (several) c("p <- matrix(p, nrow(x))", "p / rowSums(p)") else "cbind(1 - p, p)"
  ))
}

script_linear_machine <- function(settings, about) {
  if (is.null(about$levels)) {
    return(code_lines(r"(
train <- function(x, target) {
  LiblineaR::LiblineaR(x, target, type = 13, cost = <<cost>>, bias = 1, svr_eps = <<tube>>)
}
margin <- function(machine, x) as.numeric(cbind(as.matrix(x), 1) %*% as.numeric(machine$W))
)", cost = r_text(as.double(settings$cost)), tube = r_text(settings$tube)))
  }
  code_lines(r"(
train <- function(x, target) {
  LiblineaR::LiblineaR(x, target, type = 3, cost = <<cost>>, bias = 1)
}
# the weights are for the class that the package met first
margin <- function(machine, x) {
  side <- if (as.character(machine$ClassNames[1]) == "TRUE") 1 else -1
  side * as.numeric(cbind(as.matrix(x), 1) %*% as.numeric(machine$W))
}
)", cost = r_text(as.double(settings$cost)))
}
