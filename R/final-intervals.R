# Intervals of single predictions, and sets of classes, from the folds' own models: CV+ of Barber,
# Candes, Ramdas & Tibshirani (2021, Annals of Statistics 49), for classes Romano, Sesia & Candes
# (2020, NeurIPS 33). Where rows come in groups, each group has the mass of one observation, spread
# over its rows (Dunn, Wasserman & Ramdas 2023, Journal of the American Statistical Association
# 118), so that the intervals are for rows of new groups.

# What a model needs for intervals: list of a fold each: steps, family, value, and of its held-out
# rows, in ascending order, how far off the prediction was (`off`) and the mass (`mass`).
folds_for_intervals <- function(choice) {
  cmp <- choice$cmp
  brief <- brief_of(cmp)
  refuse_intervals(brief)
  refit <- new_refit(cmp, choice$at)
  masses <- interval_masses(refit$data$target)
  lapply(interval_splits(cmp), function(split) {
    fitted <- tryCatch(
      without_rng_trace(suppressWarnings(refit$fit(split$training, split$key))),
      error = function(e) {
        stop_kw("fit", "A fit for the intervals failed.", where = plain_message(e))
      }
    )
    predicted <- fitted$predict(frame_rows(refit$data$frame, split$validation))
    off <- how_far_off(brief, truth_of(refit$data$target, split$validation), predicted)
    order <- order(off)
    c(
      frozen_fit(fitted),
      list(off = off[order], mass = masses[split$validation][order])
    )
  })
}

refuse_intervals <- function(brief) {
  why <- if (!is.null(brief$roles$time)) {
    "rows in time are not exchangeable"
  } else if (!is.null(brief$roles$exposure)) {
    "how far a rate may be off depends on the exposure"
  } else if (is_wide(brief$kind) && !has_classes(brief$kind)) {
    "quantiles are intervals already"
  }
  if (is.null(why)) return(invisible())
  stop_kw("argument", paste0("There are no intervals of this outcome's predictions: ", why, "."),
    remedy = "Leave `intervals` out."
  )
}

# A model keeps no more fits than this.
most_folds_kept <- 20L

# Every row held out once: the first repeat of the comparison's folds, else folds of their own.
interval_splits <- function(cmp) {
  plan <- cmp$plan
  if (plan$splitter$spread == "folds") {
    first <- Filter(function(split) split$rep == 1, plan$splits)
    held <- sort(unlist(lapply(first, `[[`, "validation")))
    once <- identical(as.integer(held), seq_len(nrow(plan$brief$table)))
    if (once && length(first) <= most_folds_kept) return(first)
  }
  units <- length(unique(inner_unit(working_data(plan$brief)$target)))
  make_splits(split_kfold(min(10, units), stratify = FALSE), plan$brief, plan$seed)
}

# One observation more is to come, so that the masses of all that there are do not reach 1.
interval_masses <- function(target) {
  unit <- match(inner_unit(target), unique(inner_unit(target)))
  weight <- weights_as_rows(target$weights) %||% rep(1, length(unit))
  # of single rows a weight is how often they are there
  if (is.null(target$group)) return(weight / (sum(weight) + 1))
  within <- as.vector(rowsum(weight, unit))
  ifelse(weight > 0, weight / within[unit], 0) / (sum(within > 0) + 1)
}

how_far_off <- function(brief, truth, predicted) {
  if (!has_classes(brief$kind)) return(abs(truth - predicted))
  1 - predicted[cbind(seq_along(truth), as.integer(truth))]
}

# Of a frame of new rows: low and high, or a logical matrix rows x classes.
predict_intervals <- function(model, frame, level) {
  if (is.null(model$folds)) {
    stop_kw("argument", "This model keeps no folds for intervals.",
      remedy = "Fit it with fit_final(choice, intervals = TRUE)."
    )
  }
  check_number(level, "level", min = 0.01, max = 0.9999)
  most <- sum(vapply(model$folds, function(fold) sum(fold$mass), 1))
  if (level > most + 1e-9) {
    stop_kw("argument", paste0(
      "There are too few rows or groups for intervals of ", percent(level), ": at most ",
      percent(floor(1000 * most) / 1000), "."
    ), remedy = "Ask for a lower `level`.")
  }
  centres <- tryCatch(lapply(model$folds, function(fold) {
    predict_frame(c(fold, model[c("kind", "levels")]), frame)
  }), error = function(e) explain_failed_prediction(model, e))
  if (has_classes(model$kind)) return(possible_classes(model, centres, level))
  low <- -upper_ends(model$folds, lapply(centres, `-`), level)
  if (!is.null(outcome_kind(model$kind)$lowest(1, NULL))) low <- pmax(low, 0)
  list(low = low, high = upper_ends(model$folds, centres, level))
}

# A class may be where less than `level` of the mass has held-out rows that were less off.
possible_classes <- function(model, centres, level) {
  mass <- Reduce(`+`, Map(function(fold, centre) {
    within <- c(0, cumsum(fold$mass))
    array(
      within[1L + findInterval(1 - centre, fold$off, left.open = TRUE)], dim(centre)
    )
  }, model$folds, centres))
  mass < level - 1e-12
}

# The smallest value below which `level` of the mass of all centre + off lies, for every row: by
# halving, then the value itself.
upper_ends <- function(folds, centres, level) {
  within <- lapply(folds, function(fold) c(0, cumsum(fold$mass)))
  place <- function(at, k) findInterval(at - centres[[k]], folds[[k]]$off)
  below <- do.call(pmin, Map(function(fold, centre) centre + fold$off[1], folds, centres)) - 1
  above <- do.call(pmax, Map(function(fold, centre) centre + max(fold$off), folds, centres))
  above <- above + 1e-9 * (1 + abs(above))
  for (turn in seq_len(60L)) {
    middle <- (below + above) / 2
    mass <- Reduce(`+`, lapply(seq_along(folds), function(k) within[[k]][1L + place(middle, k)]))
    enough <- mass >= level - 1e-12
    above[enough] <- middle[enough]
    below[!enough] <- middle[!enough]
  }
  do.call(pmax, lapply(seq_along(folds), function(k) {
    at <- place(above, k)
    ifelse(at == 0L, -Inf, centres[[k]] + folds[[k]]$off[pmax(at, 1L)])
  }))
}

# As columns: low and high beside the value, or which classes may be.
interval_columns <- function(model, frame, level) {
  found <- predict_intervals(model, frame, level)
  if (!has_classes(model$kind)) return(tibble::as_tibble(found))
  colnames(found) <- paste0("may_be_", model$levels)
  tibble::as_tibble(found)
}

# How often the set-aside rows lay within: list(level, held, size), size being the mean width, or
# the mean number of classes.
interval_coverage <- function(model, frame, truth, level = 0.9) {
  most <- sum(vapply(model$folds, function(fold) sum(fold$mass), 1))
  level <- min(level, floor(100 * most) / 100)
  found <- predict_intervals(model, frame, level)
  if (has_classes(model$kind)) {
    held <- found[cbind(seq_along(truth), as.integer(truth))]
    return(list(level = level, held = mean(held), size = mean(rowSums(found)), classes = TRUE))
  }
  list(
    level = level, held = mean(found$low <= truth & truth <= found$high),
    size = mean(found$high - found$low), classes = FALSE
  )
}

coverage_text <- function(covered) {
  paste0(
    if (covered$classes) "Sets of classes" else "Intervals", " of ", percent(covered$level),
    " held ", percent(covered$held), " of the set-aside rows; they are ",
    format(signif(covered$size, 3)), if (covered$classes) " classes large" else " wide",
    " on average."
  )
}
