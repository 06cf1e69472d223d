# Metrics that look at the predicted class. Predictions are probabilities, rows x
# classes x values; the predicted class is the most probable one, the first in order
# if tied.

member_metric_accuracy <- function() {
  metric_definition("accuracy", "Accuracy", c("two_class", "many_class"), "higher",
    range = c(0, 1), row_wise = TRUE, by_class = TRUE,
    does = "Share of rows whose predicted class is the true one.",
    score = function(truth, prediction, weights) {
      counts <- confusion_counts(truth, prediction, weights)
      colSums(counts$hit) / sum(counts$true)
    }
  )
}

member_metric_balanced_accuracy <- function() {
  metric_definition(
    "balanced_accuracy",
    "Balanced accuracy",
    c("two_class", "many_class"),
    "higher",
    range = c(0, 1),
    undefined = needs_two_classes,
    by_class = TRUE,
    does = "Mean over the classes present of the share of their rows that are predicted right.",
    score = function(truth, prediction, weights) {
      counts <- confusion_counts(truth, prediction, weights)
      colMeans(class_recalls(counts)[counts$present, , drop = FALSE])
    }
  )
}

member_metric_precision <- function() {
  metric_definition("precision", "Precision", "two_class", "higher",
    range = c(0, 1),
    undefined = needs_events,
    by_class = TRUE, why_na = "no row is called the event",
    does = "Share of the rows called the event that have it.",
    score = function(truth, prediction, weights) {
      counts <- event_counts(truth, prediction, weights)
      counts$hit / counts$called
    }
  )
}

member_metric_recall <- function() {
  metric_definition(
    "recall",
    "Recall",
    "two_class",
    "higher",
    range = c(0, 1),
    undefined = needs_events,
    by_class = TRUE,
    does = "Share of the rows with the event that are called it (sensitivity).",
    score = function(truth, prediction, weights) {
      counts <- event_counts(truth, prediction, weights)
      counts$hit / counts$event
    }
  )
}

member_metric_specificity <- function() {
  metric_definition(
    "specificity",
    "Specificity",
    "two_class",
    "higher",
    range = c(0, 1),
    by_class = TRUE,
    undefined = function(truth, weights) {
      if (!any(as.integer(truth) == 1L)) "every validation row has the event"
    },
    does = "Share of the rows without the event that are not called it.",
    score = function(truth, prediction, weights) {
      counts <- event_counts(truth, prediction, weights)
      1 - (counts$called - counts$hit) / (counts$all - counts$event)
    }
  )
}

member_metric_f1 <- function() f_beta_metric("f1", "F1", 1)

member_metric_f_beta <- function() f_beta_metric("f_beta", "F2", 2)

f_beta_metric <- function(name, label, beta) {
  metric_definition(name, label, "two_class", "higher",
    range = c(0, 1), undefined = needs_events,
    by_class = TRUE,
    does = if (beta == 1) {
      "Harmonic mean of precision and recall of the event."
    } else {
      paste0(
        "Weighted harmonic mean of precision and recall of the event, recall counting ",
        format(beta), " times as much."
      )
    },
    arguments = list(beta = beta),
    score = function(truth, prediction, weights) {
      counts <- event_counts(truth, prediction, weights)
      (1 + beta^2) * counts$hit / (beta^2 * counts$event + counts$called)
    }
  )
}

member_metric_mcc <- function() {
  metric_definition("mcc", "Matthews correlation", c("two_class", "many_class"), "higher",
    range = c(-1, 1),
    undefined = needs_two_classes, by_class = TRUE, why_na = "all rows are called one class",
    does = paste(
      "Correlation of true and predicted class (Matthews 1975; for many classes",
      "Gorodkin 2004)."
    ),
    score = function(truth, prediction, weights) {
      m <- margins(confusion_counts(truth, prediction, weights))
      spread <- (1 - colSums(m$called^2)) * (1 - colSums(m$true^2))
      found <- (m$hit - colSums(m$called * m$true)) / sqrt(spread)
      found[spread < 1e-14] <- NA
      found
    }
  )
}

member_metric_kappa <- function() {
  metric_definition(
    "kappa",
    "Cohen's kappa",
    c("two_class", "many_class"),
    "higher",
    range = c(-1, 1),
    undefined = needs_two_classes,
    by_class = TRUE,
    does = "Agreement beyond what the shares of the classes would give by chance (Cohen 1960).",
    score = function(truth, prediction, weights) {
      m <- margins(confusion_counts(truth, prediction, weights))
      chance <- colSums(m$called * m$true)
      (m$hit - chance) / (1 - chance)
    }
  )
}

member_metric_macro_f1 <- function() {
  metric_definition(
    "macro_f1",
    "Macro F1",
    c("two_class", "many_class"),
    "higher",
    range = c(0, 1),
    by_class = TRUE,
    does = "Mean of every class's F1 over the classes present.",
    score = function(truth, prediction, weights) {
      counts <- confusion_counts(truth, prediction, weights)
      colMeans(class_f1(counts)[counts$present, , drop = FALSE])
    }
  )
}

member_metric_micro_f1 <- function() {
  metric_definition(
    "micro_f1",
    "Micro F1",
    "many_class",
    "higher",
    range = c(0, 1),
    by_class = TRUE,
    does = paste(
      "F1 from hits and misses summed over the classes; with one class a row it equals",
      "accuracy."
    ),
    score = function(truth, prediction, weights) {
      margins(confusion_counts(truth, prediction, weights))$hit
    }
  )
}

member_metric_weighted_f1 <- function() {
  metric_definition(
    "weighted_f1",
    "Weighted F1",
    c("two_class", "many_class"),
    "higher",
    range = c(0, 1),
    by_class = TRUE,
    does = "Mean of every class's F1, weighted by the class's share of the rows.",
    score = function(truth, prediction, weights) {
      counts <- confusion_counts(truth, prediction, weights)
      share <- counts$true / sum(counts$true)
      colSums((class_f1(counts) * share)[counts$present, , drop = FALSE])
    }
  )
}

member_metric_cost <- function() cost_metric(1, 1)

cost_metric <- function(missed, false_alarm) {
  metric_definition("cost", "Cost", "two_class", "lower",
    range = c(0, Inf), row_wise = TRUE,
    by_class = TRUE,
    unit = "cost a row",
    does = paste0(
      "Mean cost a row: ", format(missed), " for each event missed, ",
      format(false_alarm),
      " for each false alarm."
    ),
    arguments = list(missed = missed, false_alarm = false_alarm),
    score = function(truth, prediction, weights) {
      counts <- event_counts(truth, prediction, weights)
      (missed * (counts$event - counts$hit) +
        false_alarm * (counts$called - counts$hit)) / counts$all
    }
  )
}

member_metric_case_cost <- function() {
  metric_definition("case_cost", "Cost by case", "two_class", "lower",
    range = c(0, Inf), row_wise = TRUE, by_class = TRUE, unit = "cost a row",
    does = "Mean cost a row of the mistakes made there, by the costs that brief(costs = ) names.",
    undefined = function(truth, weights) {
      if (is.null(attr(truth, "costs"))) "the brief names no costs, see brief(costs = )"
    },
    score = function(truth, prediction, weights) {
      costs <- attr(truth, "costs")
      event <- as.integer(truth) == 2L
      w <- weights %||% rep(1, length(truth))
      called <- predicted_class(prediction) == 2L
      missed <- w * event * costs[, "missed"]
      false_alarm <- w * (1 - event) * costs[, "false_alarm"]
      colSums(missed * (1 - called) + false_alarm * called) / sum(w)
    }
  )
}

# Weighted counts of the event: true, called, both, and of all rows.
event_counts <- function(truth, prediction, weights) {
  counts <- confusion_counts(truth, prediction, weights)
  list(
    called = counts$called[2L, ], hit = counts$hit[2L, ], event = counts$true[2L],
    all = sum(counts$true)
  )
}

# Weighted counts by true class (length classes), called class and both (classes x
# values); `present`: classes with rows.
confusion_counts <- function(truth, prediction, weights) {
  code <- as.integer(truth)
  counts <- confusion_columns(prediction, code, weights %||% numeric(), nlevels(truth))
  w <- weights %||% rep(1, length(truth))
  counts$true <- vapply(seq_len(nlevels(truth)), function(class) sum(w[code == class]), numeric(1))
  counts$present <- which(tabulate(code, nlevels(truth)) > 0L & counts$true > 0)
  counts
}

class_recalls <- function(counts) counts$hit / counts$true
class_f1 <- function(counts) 2 * counts$hit / (counts$called + counts$true)

# Shares of the rows: hit (one a value), called and true (classes x values).
margins <- function(counts) {
  total <- sum(counts$true)
  list(
    hit = colSums(counts$hit) / total, called = counts$called / total,
    true = matrix(counts$true / total, length(counts$true), ncol(counts$called))
  )
}

# rows x values, numbers of the most probable class
predicted_class <- function(prediction) {
  if (dim(prediction)[1] == 0L) return(matrix(0L, 0L, dim(prediction)[3]))
  called_classes(prediction, dim(prediction)[1], dim(prediction)[2])
}

# rows x values of one class
class_slice <- function(prediction, class) {
  slice <- prediction[, class, , drop = FALSE]
  dim(slice) <- dim(prediction)[-2]
  slice
}

weighted_columns <- function(x, weights) {
  dims <- dim(x)
  if (is.null(weights)) {
    .colMeans(x, dims[1], dims[2])
  } else {
    .colSums(x * weights, dims[1], dims[2]) / sum(weights)
  }
}

needs_two_classes <- function(truth, weights) {
  present <- if (is.null(weights)) truth else truth[weights > 0]
  if (length(unique(present)) < 2L) "the validation rows hold one class only"
}

needs_events <- function(truth, weights) {
  if (!any(as.integer(truth) == 2L & (weights %||% 1) > 0)) "no validation row has the event"
}
