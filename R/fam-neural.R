#' Neural net
#'
#' Hidden layers of small units. Package nnet, which comes with R: one layer of logistic
#' units, fitted by a quasi-Newton method (BFGS). Package ANN2: layers of (stretched) tanh
#' units, trained by stochastic gradient descent with momentum. Columns and a numeric
#' outcome are scaled inside the fit, so no scaling step is needed.
#'
#' @eval family_help("neural")
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A family for [pipeline()] and [candidates()].
#' @references Rumelhart, Hinton & Williams (1986), Learning representations by
#'   back-propagating errors, Nature 323; Ripley (1996), Pattern Recognition and Neural
#'   Networks.
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have.
#' @examples
#' fam_neural(units = among(5, 20), decay = from_to(1e-5, 0.01, "log", 4))
#' @export
fam_neural <- function(units = 5, decay = 1e-3, epochs = 100, early_stop = FALSE, package = "nnet",
                       layers = 1, rate = 0.01, momentum = 0.9, batch = 32, ...) {
  no_more(...)
  settings <- list(
    units = units, decay = decay, epochs = epochs, early_stop = early_stop,
    package = package, layers = layers, rate = rate, momentum = momentum,
    batch = batch
  )
  new_family(member_fam_neural(), settings)
}

member_fam_neural <- function() {
  by_descent <- function(settings, kind) settings$package == "ANN2"
  family_definition("neural", "Neural net", c("number", "two_class", "many_class"),
    hyperparameters = list(
      units = hyperparameter("whole", 5,
        min = 1, max = 10000,
        sensible = function(rows, columns, classes) among(3, 5, 10),
        meaning = "Units in each hidden layer.",
        rising = "More bends: less bias, more variance, slower."
      ),
      decay = hyperparameter("number", 1e-3,
        min = 0,
        sensible = function(rows, columns, classes) from_to(1e-4, 0.1, spacing = "log", points = 4),
        meaning = "How strongly weights are drawn towards 0, beside the mean loss of a row.",
        rising = "Smoother: less variance, more bias."
      ),
      epochs = hyperparameter("whole", 100,
        min = 1, max = 1e6,
        sensible = function(rows, columns, classes) among(30, 100, 300),
        meaning = paste(
          "Steps of the fit (ANN2: times that the training rows are gone through),",
          "at most."
        ),
        rising = "Closer to the training rows: less bias, more variance, slower."
      ),
      early_stop = hyperparameter("flag", FALSE,
        sensible = function(rows, columns, classes) among(FALSE, TRUE),
        meaning = "Stop when rows held out within the training rows get no better?"
      ),
      package = hyperparameter("choice", "nnet",
        choices = c("nnet", "ANN2"),
        meaning = "The package that fits the net; ANN2 allows several layers."
      ),
      layers = hyperparameter("whole", 1,
        min = 1, max = 10, active_when = by_descent,
        sensible = function(rows, columns, classes) among(1, 2),
        meaning = "Number of hidden layers; package ANN2 only.",
        rising = "Finer interactions: less bias, more variance, slower."
      ),
      rate = hyperparameter("number", 0.01,
        min = 0, open_min = TRUE, active_when = by_descent,
        sensible = function(rows, columns, classes) {
          from_to(0.001, 0.03, spacing = "log", points = 4)
        },
        meaning = "Learning rate, how far each step goes; package ANN2 only.",
        rising = "Fewer epochs are needed; too high and the training runs away."
      ),
      momentum = hyperparameter("number", 0.9,
        min = 0, max = 0.999, active_when = by_descent,
        sensible = function(rows, columns, classes) among(0.5, 0.9),
        meaning = "Share of the last step that is kept in the next; package ANN2 only.",
        rising = "Faster along long valleys; too high and it overshoots."
      ),
      batch = hyperparameter("whole", 32,
        min = 1, active_when = by_descent,
        sensible = function(rows, columns, classes) among(16, 64),
        meaning = "Rows in one step of the descent; package ANN2 only.",
        rising = "Faster, steadier steps, and fewer of them."
      )
    ),
    complexity_rank = 80,
    simplicity = function(settings) {
      list(settings$layers, settings$units, -settings$decay, settings$epochs)
    },
    random = TRUE, inner_fits = function(settings, kind, classes) 1,
    impossible = list(
      cannot_work("several layers need package = \"ANN2\"", function(settings, kind, about) {
        settings$package == "nnet" & !is.na(settings$layers) & settings$layers > 1
      })
    ),
    fit = fit_neural, predict = predict_neural, script = script_neural,
    packages = function(settings, kind) possible_values(settings$package),
    does = "Bends the columns through layers of small units, trained step by step."
  )
}

fit_neural <- function(x, y, weights, settings, seed, threads, unit) {
  scale <- column_scale(x)
  x <- scaled_columns(x, scale)
  is_class <- is.factor(y)
  centre <- if (is_class) 0 else mean(y)
  spread <- if (is_class) 1 else max(stats::sd(y), 1e-12)
  target <- if (is_class) as.character(y) else (y - centre) / spread
  # under the seed again afterwards, so that training begins alike however rows are dealt
  held <- if (settings$early_stop) with_seed(seed, inner_fifth(y, unit)) else rep(FALSE, length(y))
  train <- if (settings$package == "nnet") quasi_newton_net else descent_net
  net <- train(x, target, held, levels(y), settings, seed)
  if (!all(is.finite(unlist(net$parameters)))) {
    stop(
      "the training ran away: weights became infinite; lower `rate` or `momentum`",
      call. = FALSE
    )
  }
  list(
    parameters = net$parameters, units = net$units,
    order = if (is_class) match(levels(y), net$names),
    scale = scale, centre = centre, spread = spread, is_class = is_class
  )
}

# Held-out rows end the training: `go_on(done, steps)` trains so many further steps and
# returns parameters, `loss_of(parameters)` is their loss on the rows held out.
best_stretch <- function(first, go_on, loss_of, stretch, epochs, patience) {
  best <- loss_of(first)
  parameters <- first
  waited <- 0
  done <- stretch
  while (done < epochs && waited < patience && is.finite(best)) {
    now <- go_on(done, min(stretch, epochs - done))
    done <- done + stretch
    loss <- loss_of(now)
    if (!is.finite(loss)) break
    waited <- if (loss < best) 0 else waited + stretch
    if (loss < best) {
      best <- loss
      parameters <- now
    }
  }
  parameters
}

# One hidden layer by package nnet. Two classes have one output, the log odds of the
# second; it is written as two outputs, 0 and that.
quasi_newton_net <- function(x, target, held, levels, settings, seed) {
  is_class <- !is.null(levels)
  codes <- match(target, levels)
  several <- length(levels) > 2L
  y <- if (several) diag(length(levels))[codes, ] else if (is_class) codes - 1 else target
  y <- as.matrix(y)[!held, , drop = FALSE]
  inputs <- x[!held, , drop = FALSE]
  n_weights <- (ncol(x) + 1L) * settings$units + (settings$units + 1L) * ncol(y)
  # the package adds decay * sum(weights^2) to the sum over rows, not to their mean
  decay <- settings$decay * nrow(inputs) / 2
  net <- NULL
  go_on <- function(done, steps) {
    start <- if (is.null(net)) stats::runif(n_weights, -0.7, 0.7) else net$wts
    net <<- nnet::nnet(inputs, y,
      size = settings$units, Wts = start, decay = decay, maxit = steps,
      linout = !is_class, entropy = is_class && !several, softmax = several,
      MaxNWts = n_weights, trace = FALSE
    )
    layered_weights(net$wts, ncol(x), settings$units, ncol(y), is_class && !several)
  }
  stretch <- if (any(held)) min(10, settings$epochs) else settings$epochs
  parameters <- go_on(0, stretch)
  if (any(held)) {
    loss_of <- function(parameters) {
      output <- net_output(
        list(parameters = parameters, units = "logistic"), x[held, , drop = FALSE]
      )
      held_out_loss(output, target[held], levels)
    }
    parameters <- best_stretch(parameters, go_on, loss_of, stretch, settings$epochs, patience = 30)
  }
  list(parameters = parameters, names = levels, units = "logistic")
}

# The package's weights, unit after unit with its bias first, by layer.
layered_weights <- function(weights, inputs, units, outputs, one_logit) {
  first <- matrix(weights[seq_len((inputs + 1L) * units)], units, byrow = TRUE)
  last <- matrix(weights[-seq_len((inputs + 1L) * units)], outputs, byrow = TRUE)
  if (one_logit) last <- rbind(0, last)
  list(
    weights = list(first[, -1L, drop = FALSE], last[, -1L, drop = FALSE]),
    biases = list(first[, 1L], last[, 1L])
  )
}

column_scale <- function(x) {
  sd <- apply(x, 2L, stats::sd)
  sd[!is.finite(sd) | sd < 1e-12] <- 1
  list(centre = unname(colMeans(x)), sd = unname(sd))
}

scaled_columns <- function(x, scale) {
  (unname(x) - rep(scale$centre, each = nrow(x))) / rep(scale$sd, each = nrow(x))
}

inner_fifth <- function(y, unit) {
  held <- deal_rows(length(y), c(0.2, 0.8), outcome_strata(y, 5L), unit) == 1L
  if (all(held) || !any(held) || (is.factor(y) && any(tabulate(y[!held], nlevels(y)) == 0L))) {
    stop("too few training rows to hold a fifth of them out for early_stop", call. = FALSE)
  }
  held
}

# Layers by package ANN2, in stretches of five epochs if rows are held out, else in one go.
descent_net <- function(x, target, held, levels, settings, seed) {
  stretch <- if (any(held)) min(5, settings$epochs) else settings$epochs
  batch <- min(settings$batch, sum(!held))
  is_class <- !is.null(levels)
  net <- ANN2::neuralnetwork(
    x[!held, , drop = FALSE], target[!held],
    hidden.layers = rep(settings$units, settings$layers),
    regression = !is_class, standardize = FALSE, loss.type = if (is_class) "log" else "squared",
    activ.functions = "tanh", optim.type = "sgd", learn.rates = settings$rate, L2 = settings$decay,
    sgd.momentum = settings$momentum, n.epochs = stretch, batch.size = batch, drop.last = FALSE,
    val.prop = 0, verbose = FALSE, random.seed = seed
  )
  parameters <- net_parameters(net)
  names <- net$Rcpp_ANN$getMeta()$y_names
  if (any(held)) {
    go_on <- function(done, steps) {
      ANN2::train(
        net,
        x[!held, , drop = FALSE],
        target[!held],
        n.epochs = steps,
        batch.size = batch,
        drop.last = FALSE,
        val.prop = 0,
        random.seed = derive_seed(seed, paste("epochs", done))
      )
      net_parameters(net)
    }
    loss_of <- function(parameters) {
      output <- net_output(list(parameters = parameters, units = "tanh"), x[held, , drop = FALSE])
      held_out_loss(output, target[held], if (is_class) names)
    }
    parameters <- best_stretch(parameters, go_on, loss_of, stretch, settings$epochs, patience = 20)
  }
  list(parameters = parameters, names = names, units = "tanh")
}

# Weights (units x inputs) and biases of every layer as plain numbers.
net_parameters <- function(net) {
  parameters <- net$Rcpp_ANN$getParams()
  list(
    weights = lapply(parameters$weights, function(w) unname(w)),
    biases = lapply(parameters$biases, as.double)
  )
}

# What the last layer receives: rows x outputs. The tanh is LeCun's stretched one.
net_output <- function(model, x) {
  layers <- model$parameters
  n_layers <- length(layers$weights)
  for (layer in seq_len(n_layers)) {
    x <- x %*% t(layers$weights[[layer]]) + rep(layers$biases[[layer]], each = nrow(x))
    if (layer == n_layers) return(x)
    x <- if (model$units == "tanh") 1.725 * tanh(2 * x / 3) else stats::plogis(x)
  }
}

held_out_loss <- function(output, target, names) {
  if (is.null(names)) return(mean((output[, 1] - target)^2))
  p <- softmax_rows(output)
  mean(-log(pmax(p[cbind(seq_along(target), match(target, names))], 1e-15)))
}

predict_neural <- function(model, x) {
  output <- net_output(model, scaled_columns(x, model$scale))
  if (!model$is_class) return(model$centre + model$spread * output[, 1])
  softmax_rows(output[, model$order, drop = FALSE])
}

script_neural <- function(settings, about) {
  classes <- length(about$levels)
  outputs <- if (classes > 2L) classes else 1L
  scaled <- code_lines(r"(
input_mean <- colMeans(<<x>>)
input_sd <- apply(<<x>>, 2, sd)
input_sd[is.na(input_sd) | input_sd < 1e-12] <- 1
)", x = about$matrix)
  net <- if (settings$package == "nnet") script_one_layer else script_layers
  part <- net(settings, about, outputs)
  out <- if (classes == 0L) "y_mean + y_sd * drop(p)" else if (part$logit) {
    "cbind(1 - plogis(p), plogis(p))"
  } else {
    c("odds <- exp(p - apply(p, 1, max))", "odds / rowSums(odds)")
  }
  list(
    fit = c(
      scaled, if (classes == 0L) c("y_mean <- mean(y)", "y_sd <- sd(y)"),
      if (settings$early_stop) script_held_fifth(about), part$fit
    ),
    predict = c(paste0("p <- output_of(", part$model, ", scale(", about$matrix,
      ", input_mean, input_sd))"), out)
  )
}

# The rows held out, as they were dealt.
script_held_fifth <- function(about) {
  target <- about$target
  held <- with_seed(about$seed, inner_fifth(target$outcome, inner_unit(target)))
  c("# a fifth of the rows, held out to end the training", paste0("held <- ", r_rows(which(held))))
}

# What ends the training of `train(model, steps)`, a model that has had `stretch` steps: `patience`
# steps without a smaller loss on the rows held out.
script_early_stop <- function(about, settings, stretch, patience, train, keep) {
  loss <- if (length(about$levels) == 0L) "mean((p[, 1] - target[held])^2)" else if (
    length(about$levels) == 2L && settings$package == "nnet") {
    "mean(-log(pmax(plogis(ifelse(target[held] == 1, p, -p)), 1e-15)))"
  } else {
    c(
      "odds <- exp(p - apply(p, 1, max))",
      "own <- cbind(seq_along(held), match(y[held], class_names))",
      "mean(-log(pmax((odds / rowSums(odds))[own], 1e-15)))"
    )
  }
  code_lines(r"(
loss_of <- function(model) {
  p <- output_of(model, z[held, , drop = FALSE])
<<loss>>
}
best <- <<keep>>
lowest <- loss_of(best)
done <- <<stretch>>
waited <- 0
while (done < <<epochs>> && waited < <<patience>> && is.finite(lowest)) {
  <<train>>
  done <- done + <<stretch>>
  loss <- loss_of(<<keep>>)
  if (!is.finite(loss)) break
  waited <- if (loss < lowest) 0 else waited + <<stretch>>
  if (loss < lowest) best <- <<keep>>
  lowest <- min(loss, lowest)
}
)",
    loss = paste0("  ", loss), stretch = r_text(as.double(stretch)), keep = keep,
    epochs = r_text(as.double(settings$epochs)), patience = patience, train = train
  )
}

# By package nnet: list(fit, model, logit), a model being its weights.
script_one_layer <- function(settings, about, outputs) {
  n_weights <- (about$n_columns + 1L) * settings$units + (settings$units + 1L) * outputs
  stretch <- if (settings$early_stop) min(10, settings$epochs) else settings$epochs
  inner <- if (settings$early_stop) "[-held, , drop = FALSE]" else ""
  target <- if (outputs > 1L) {
    "target <- diag(nlevels(y))[as.integer(y), ]"
  } else if (length(about$levels) == 0L) {
    "target <- (y - y_mean) / y_sd"
  } else {
    "target <- as.integer(y) - 1"
  }
  fit <- code_lines(r"(
<<target>>
<<names>>
z <- scale(<<x>>, input_mean, input_sd)
train <- function(weights, steps) {
  nnet::nnet(z<<inner>>, <<inner_target>>,
    size = <<units>>, Wts = weights, decay = <<decay>> * <<rows>> / 2, maxit = steps,
    <<loss>>, MaxNWts = <<n>>, trace = FALSE
  )$wts
}
# nnet's own predict() takes units far from their middle for 0 or 1
output_of <- function(weights, z) {
  first <- seq_len(<<first>>)
  hidden <- plogis(cbind(1, z) %*% matrix(weights[first], ncol = <<units>>))
  cbind(1, hidden) %*% matrix(weights[-first], ncol = <<outputs>>)
}
<<seed>>
weights <- train(runif(<<n>>, -0.7, 0.7), <<stretch>>)
)",
    target = target, x = about$matrix, inner = inner, seed = r_seed(about$seed), n = n_weights,
    names = if (settings$early_stop && outputs > 1L) "class_names <- levels(y)",
    inner_target = if (!settings$early_stop) "target" else if (outputs > 1L)
      "target[-held, ]" else "target[-held]",
    rows = if (settings$early_stop) "(length(y) - length(held))" else "length(y)",
    units = settings$units, decay = r_text(settings$decay), stretch = r_text(as.double(stretch)),
    first = (about$n_columns + 1L) * settings$units, outputs = outputs,
    loss = if (length(about$levels) == 0L) "linout = TRUE" else if (outputs > 1L)
      "softmax = TRUE" else "entropy = TRUE"
  )
  stop <- if (settings$early_stop) script_early_stop(about, settings, stretch, 30,
    paste0("weights <- train(weights, min(", stretch, ", ", settings$epochs, " - done))"), "weights"
  )
  list(
    fit = c(fit, stop), model = if (settings$early_stop) "best" else "weights",
    logit = length(about$levels) == 2L
  )
}

# By package ANN2: a model is its layers' weights.
script_layers <- function(settings, about, outputs) {
  stretch <- if (settings$early_stop) min(5, settings$epochs) else settings$epochs
  classes <- length(about$levels) > 0L
  inner <- if (settings$early_stop) "[-held, , drop = FALSE]" else ""
  target <- if (settings$early_stop) "target[-held]" else "target"
  rows <- if (settings$early_stop) "length(y) - length(held)" else "length(y)"
  batch <- paste0("min(", settings$batch, ", ", rows, ")")
  fit <- code_lines(r"(
target <- <<target>>
z <- scale(<<x>>, input_mean, input_sd)
net <- ANN2::neuralnetwork(
  z<<inner>>, <<inner_target>>,
  hidden.layers = <<layers>>, regression = <<regression>>, standardize = FALSE,
  loss.type = "<<loss>>", activ.functions = "tanh", optim.type = "sgd", learn.rates = <<rate>>,
  L2 = <<decay>>, sgd.momentum = <<momentum>>, n.epochs = <<stretch>>, batch.size = <<batch>>,
  drop.last = FALSE, val.prop = 0, verbose = FALSE, random.seed = <<seed>>
)
<<names>>
# what the last layer receives; the units are LeCun's stretched tanh
output_of <- function(layers, z) {
  for (layer in seq_along(layers$weights)) {
    z <- z %*% t(layers$weights[[layer]]) + rep(as.numeric(layers$biases[[layer]]), each = nrow(z))
    if (layer < length(layers$weights)) z <- 1.725 * tanh(2 * z / 3)
  }
  <<order>>
}
)",
    target = if (classes) "as.character(y)" else "(y - y_mean) / y_sd", x = about$matrix,
    inner = inner, inner_target = target, regression = !classes,
    layers = paste0("rep(", settings$units, ", ", settings$layers, ")"),
    loss = if (classes) "log" else "squared", rate = r_text(settings$rate),
    decay = r_text(settings$decay), momentum = r_text(settings$momentum),
    stretch = r_text(as.double(stretch)), batch = batch, seed = about$seed,
    names = if (classes) c(
      "# the package has the classes in an order of its own",
      "class_names <- levels(y)",
      "place <- match(class_names, net$Rcpp_ANN$getMeta()$y_names)"
    ),
    order = if (classes) "z[, place, drop = FALSE]" else "z"
  )
  stop <- if (settings$early_stop) {
    starts <- seq(stretch, max(stretch, settings$epochs - 1), by = stretch)
    seeds <- vapply(starts, function(done) derive_seed(about$seed, paste("epochs", done)), 1)
    c(
      "# every stretch is trained under a seed of its own",
      paste0("seeds <- ", r_vector(seeds)),
      script_early_stop(about, settings, stretch, 20, code_lines(r"(
ANN2::train(net, z[-held, , drop = FALSE], target[-held],
  n.epochs = min(<<stretch>>, <<epochs>> - done), batch.size = <<batch>>, drop.last = FALSE,
  val.prop = 0, random.seed = seeds[done / <<stretch>>]
)
)", stretch = stretch, epochs = settings$epochs, batch = batch), "net$Rcpp_ANN$getParams()")
    )
  }
  list(
    fit = c(fit, stop), model = if (settings$early_stop) "best" else "net$Rcpp_ANN$getParams()",
    logit = FALSE
  )
}
