#' Recalibrate the probabilities of the family
#'
#' Probabilities of many families are too certain or not certain enough. Behind this step the
#' family is fitted `folds` times more, on parts of the training rows, and a map from its
#' probabilities on the rows that it had not seen to what was observed there is learned; the
#' family's predictions go through that map. Whether and how can be searched like anything else.
#' No map turns the order of probabilities round, so for two classes metrics of order such as
#' `"auc"` hardly change; with more, each class is mapped against the rest.
#'
#' The map holds for the classes' shares at the place of this step: before [pre_balance()]
#' probabilities are brought back to the shares of the rows as they came, behind it they stay those
#' of the balanced rows. Steps are learned once, on all training rows, not in every part.
#'
#' @param by `"platt"`: a logistic curve of the log odds (Platt 1999); `"beta"`: the same with a
#'   slope for either end (Kull, Silva Filho & Flach 2017); `"isotonic"`: any rising line (Zadrozny
#'   & Elkan 2002), for a thousand rows or more; `"none"`: as they are.
#' @param folds Number of parts, groups whole.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_plan` by [plan_comparison()] when the outcome has no classes. Where a class has fewer
#' rows or groups than `folds`, fits fail with a message.
#' @references Platt (1999), Probabilistic outputs for support vector machines, in: Advances in
#'   large margin classifiers. Zadrozny & Elkan (2002), Transforming classifier scores into accurate
#'   multiclass probability estimates, KDD. Kull, Silva Filho & Flach (2017), Beta calibration,
#'   AISTATS 54.
#' @examples
#' pipeline(pre_recalibrate(by = among("none", "platt", "beta")), pre_minimal(), fam_forest())
#' @export
pre_recalibrate <- function(by = "platt", folds = 5, ...) {
  no_more(...)
  new_step(member_step_recalibrate(), list(by = by, folds = folds))
}

member_step_recalibrate <- function() {
  step_definition("recalibrate",
    learn = learn_to_recalibrate, use = function(state, frame) frame, columns = character(),
    # families say it with the fit
    script = function(state, about) list(lines = NULL), plain = plain_nothing,
    cross_fitted = TRUE,
    does = "Brings the family's probabilities in line with what is observed.",
    hyperparameters = list(
      by = hyperparameter("choice", "platt",
        choices = recalibrations,
        sensible = function(rows, columns, classes) among("none", "platt", "beta"),
        meaning = "What kind of map from probabilities to probabilities."
      ),
      folds = hyperparameter("whole", 5,
        min = 2, max = 20,
        active_when = function(settings, kind) settings$by != "none",
        meaning = "On so many parts of the training rows predictions are made for the map."
      )
    )
  )
}

learn_to_recalibrate <- function(frame, target, settings, seed) {
  if (!is.factor(target$outcome)) {
    stop_kw("columns", "pre_recalibrate() is for classes, but the outcome is a number.",
      remedy = "Leave it out."
    )
  }
  target["recalibration"] <- list(if (settings$by != "none") {
    list(
      by = settings$by, folds = settings$folds,
      shares = class_totals(target$outcome, target$weights)
    )
  })
  list(state = NULL, training = list(frame = frame, target = target))
}
