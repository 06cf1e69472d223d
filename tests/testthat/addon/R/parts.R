# One part of each kind; .onLoad() makes them known.

fam_halfway <- kilnwright::define_family("halfway", "number",
  fit = function(x, y, weights, settings, seed, threads) {
    (1 - settings$pull) * mean(y) + settings$pull * stats::median(y)
  },
  predict = function(model, x) rep(model, nrow(x)),
  defaults = list(
    pull = kilnwright::hyperparameter("number", 0.5,
      min = 0, max = 1, meaning = "How far the prediction is from the mean to the median.",
      sensible = function(rows, columns, classes) kilnwright::from_to(0, 1, points = 3)
    ),
    wing = kilnwright::hyperparameter("choice", "left",
      choices = c("left", "right"), meaning = "A side.",
      active_when = function(settings, kind) settings$pull > 0
    )
  ),
  impossible = list(kilnwright::cannot_work(
    "the whole way there is only to the left",
    function(settings, kind, about) settings$pull == 1 & settings$wing == "right"
  )),
  simplicity = function(settings) list(settings$pull), complexity_rank = 1,
  does = "Predicts a number between mean and median."
)

pre_cap <- kilnwright::define_step("cap",
  learn = function(frame, target, settings, seed) {
    known <- lapply(frame$columns[settings$columns], function(x) {
      stats::quantile(x, settings$share, names = FALSE, na.rm = TRUE)
    })
    list(state = known, training = NULL)
  },
  use = function(state, frame) {
    for (name in names(state)) frame$columns[[name]] <- pmin(frame$columns[[name]], state[[name]])
    frame
  },
  defaults = list(share = kilnwright::hyperparameter("number", NULL,
    min = 0, max = 1, meaning = "Above this quantile values are capped.")),
  columns = "number", required = "share"
)

metric_worst <- kilnwright::define_metric("worst", "number", "lower",
  score = function(truth, prediction, weights) max(abs(truth - prediction)), unit = "outcome",
  range = c(0, Inf)
)

split_turns <- kilnwright::define_split("turns",
  divide = function(about, arguments) {
    turn <- (seq_len(about$n) - 1) %% arguments$turns
    lapply(seq_len(arguments$turns) - 1, function(i) {
      list(training = which(turn != i), validation = which(turn == i))
    })
  },
  defaults = list(turns = 3)
)

search_corners <- kilnwright::define_search("corners",
  propose = function(field, history, arguments, memory) {
    if (!is.null(history)) return(NULL)
    list(settings = lapply(stats::setNames(nm = field$candidates), function(candidate) {
      width <- nrow(field$dimensions(candidate))
      field$from_cube(candidate, rbind(rep(0, width), rep(arguments$far, width)))
    }))
  },
  defaults = list(far = 1)
)

screen_upper <- kilnwright::define_screen("upper",
  keep = function(scores, arguments) {
    mean <- rowMeans(scores)
    mean >= stats::quantile(mean, arguments$share, na.rm = TRUE)
  },
  defaults = list(share = 0.5)
)

rule_second <- kilnwright::define_rule("second",
  choose = function(table, margin) {
    near <- which(abs(table$mean - table$mean[1]) <= margin)
    near[min(2, length(near))]
  },
  margin = "needed", does = "Takes the second of those within the margin."
)

finding_far <- kilnwright::define_finding("far_values",
  look = function(columns, outcome) {
    numbers <- columns[vapply(columns, is.numeric, NA)]
    far <- vapply(numbers, function(x) {
      max(x, na.rm = TRUE) > 20 * stats::median(x, na.rm = TRUE)
    }, NA)
    vapply(names(numbers)[far], function(name) "one value is far above the rest", "")
  },
  step = "cap", settings = list(share = 0.99)
)

.onLoad <- function(libname, pkgname) kilnwright::register_members(pkgname)
