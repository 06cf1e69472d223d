#' Neural net
#'
#' Hidden layers of (stretched) tanh units, trained by stochastic gradient descent with momentum
#' (package ANN2). Columns and a numeric outcome are scaled inside the fit, so no
#' scaling step is needed.
#'
#' @eval family_help("neural")
#' @return A family for [pipeline()] and [candidates()].
#' @references Rumelhart, Hinton & Williams (1986), Learning representations by
#'   back-propagating errors, Nature 323.
#' @examples
#' fam_neural(units = among(5, 20), decay = from_to(1e-5, 0.01, "log", 4))
#' @export
fam_neural <- function(units = 10, layers = 1, rate = 0.01, momentum = 0.9, decay = 1e-4, epochs = 100,
                       batch = 32, early_stop = FALSE) {
  new_family(member_fam_neural(), list(units = units, layers = layers, rate = rate, momentum = momentum,
                                       decay = decay, epochs = epochs, batch = batch, early_stop = early_stop))
}

member_fam_neural <- function() {
  family_definition("neural", "Neural net", c("number", "two_class", "many_class"),
    hyperparameters = list(
      units = hyperparameter("whole", 10, min = 1, max = 10000,
        sensible = function(rows, columns, classes) among(5, 10, 20),
        meaning = "Units in each hidden layer.", rising = "More bends: less bias, more variance, slower."),
      layers = hyperparameter("whole", 1, min = 1, max = 10,
        sensible = function(rows, columns, classes) among(1, 2),
        meaning = "Number of hidden layers.", rising = "Finer interactions: less bias, more variance, slower."),
      rate = hyperparameter("number", 0.01, min = 0, open_min = TRUE,
        sensible = function(rows, columns, classes) from_to(0.001, 0.03, spacing = "log", points = 4),
        meaning = "Learning rate: how far each step goes.",
        rising = "Fewer epochs are needed; too high and the training runs away."),
      momentum = hyperparameter("number", 0.9, min = 0, max = 0.999,
        sensible = function(rows, columns, classes) among(0.5, 0.9),
        meaning = "Share of the last step that is kept in the next.",
        rising = "Faster along long valleys; too high and it overshoots."),
      decay = hyperparameter("number", 1e-4, min = 0,
        sensible = function(rows, columns, classes) from_to(1e-5, 0.01, spacing = "log", points = 4),
        meaning = "How strongly weights are drawn towards 0.",
        rising = "Smoother: less variance, more bias."),
      epochs = hyperparameter("whole", 100, min = 1, max = 1e6,
        sensible = function(rows, columns, classes) among(30, 100, 300),
        meaning = "Times that the training rows are gone through, at most.",
        rising = "Closer to the training rows: less bias, more variance, slower."),
      batch = hyperparameter("whole", 32, min = 1,
        sensible = function(rows, columns, classes) among(16, 64),
        meaning = "Rows in one step of the descent.", rising = "Faster, steadier steps, and fewer of them."),
      early_stop = hyperparameter("flag", FALSE,
        sensible = function(rows, columns, classes) among(FALSE, TRUE),
        meaning = "Stop when rows held out within the training rows get no better?")
    ),
    complexity_rank = 80,
    simplicity = function(settings) list(settings$layers, settings$units, -settings$decay, settings$epochs),
    random = TRUE, inner_fits = function(settings, kind, classes) 1,
    fit = fit_neural, predict = predict_neural, packages = "ANN2",
    does = "Bends the columns through layers of small units, trained step by step.")
}

fit_neural <- function(x, y, weights, settings, seed, threads, unit) {
  scale <- column_scale(x)
  x <- scaled_columns(x, scale)
  is_class <- is.factor(y)
  centre <- if (is_class) 0 else mean(y)
  spread <- if (is_class) 1 else max(stats::sd(y), 1e-12)
  target <- if (is_class) as.character(y) else (y - centre) / spread
  held <- if (settings$early_stop) inner_fifth(y, unit) else rep(FALSE, length(y))
  net <- trained_net(x, target, held, settings, is_class, seed)
  if (!all(is.finite(unlist(net$parameters)))) {
    stop("the training ran away: weights became infinite; lower `rate` or `momentum`", call. = FALSE)
  }
  list(parameters = net$parameters, order = if (is_class) match(levels(y), net$names), scale = scale,
       centre = centre, spread = spread, is_class = is_class)
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

# Trains in stretches of five epochs if rows are held out, else in one go.
trained_net <- function(x, target, held, settings, is_class, seed) {
  stretch <- if (any(held)) min(5, settings$epochs) else settings$epochs
  batch <- min(settings$batch, sum(!held))
  net <- ANN2::neuralnetwork(
    x[!held, , drop = FALSE], target[!held], hidden.layers = rep(settings$units, settings$layers), regression = !is_class,
    standardize = FALSE, loss.type = if (is_class) "log" else "squared", activ.functions = "tanh",
    optim.type = "sgd", learn.rates = settings$rate, L2 = settings$decay, sgd.momentum = settings$momentum,
    n.epochs = stretch, batch.size = batch, drop.last = FALSE, val.prop = 0, verbose = FALSE, random.seed = seed
  )
  described <- list(parameters = net_parameters(net), names = net$Rcpp_ANN$getMeta()$y_names)
  if (!any(held)) return(described)
  loss_of <- function(parameters) held_out_loss(net_output(parameters, x[held, , drop = FALSE]), target[held], described$names)
  best <- loss_of(described$parameters)
  waited <- 0
  done <- stretch
  while (done < settings$epochs && waited < 20 && is.finite(best)) {
    ANN2::train(net, x[!held, , drop = FALSE], target[!held], n.epochs = min(stretch, settings$epochs - done),
                batch.size = batch, drop.last = FALSE, val.prop = 0, random.seed = derive_seed(seed, paste("epochs", done)))
    done <- done + stretch
    now <- net_parameters(net)
    loss <- loss_of(now)
    if (!is.finite(loss)) break
    waited <- if (loss < best) 0 else waited + stretch
    if (loss < best) {
      best <- loss
      described$parameters <- now
    }
  }
  described
}

# Weights (units x inputs) and biases of every layer as plain numbers.
net_parameters <- function(net) {
  parameters <- net$Rcpp_ANN$getParams()
  list(weights = lapply(parameters$weights, function(w) unname(w)), biases = lapply(parameters$biases, as.double))
}

# What the last layer receives: rows x outputs. The package's tanh is LeCun's
# stretched one.
net_output <- function(parameters, x) {
  n_layers <- length(parameters$weights)
  for (layer in seq_len(n_layers)) {
    x <- x %*% t(parameters$weights[[layer]]) + rep(parameters$biases[[layer]], each = nrow(x))
    if (layer < n_layers) x <- 1.725 * tanh(2 * x / 3)
  }
  x
}

held_out_loss <- function(output, target, names) {
  if (is.null(names) || is.numeric(target)) return(mean((output[, 1] - target)^2))
  p <- softmax_rows(output)
  mean(-log(pmax(p[cbind(seq_along(target), match(target, names))], 1e-15)))
}

predict_neural <- function(model, x) {
  output <- net_output(model$parameters, scaled_columns(x, model$scale))
  if (!model$is_class) return(model$centre + model$spread * output[, 1])
  softmax_rows(output[, model$order, drop = FALSE])
}
