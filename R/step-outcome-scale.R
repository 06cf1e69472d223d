#' Learn the outcome on another scale
#'
#' Families behind this step see the logarithm, the root or a power of a numeric outcome; every
#' metric, figure and prediction is in the outcome's own unit. Which scale is best can be searched
#' like anything else. Powers are learned on the training rows.
#'
#' Going back has a bias: the exponential of a mean logarithm is a median, not a mean. `back =
#' "mean"` takes the mean over the errors that the fit made on its training rows (smearing; Duan
#' 1983), as squared errors want it; a family that repeats its training rows, such as nearest
#' neighbours with one of them, makes none, and gets medians. `back = "median"` leaves medians, as
#' absolute errors want it, and saves predicting the training rows.
#'
#' @param by `"log"` and `"box_cox"`: outcomes above 0; `"sqrt"`: 0 or more; `"log1p"`: above -1;
#'   `"yeo_johnson"`: any; `"none"`: the outcome as it is.
#' @param back `"mean"` or `"median"`.
#' @param to,from Instead of `by`: two functions of numbers, there and back, such as `log10` and
#'   `function(z) 10^z`.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_plan` by [plan_comparison()] when the outcome is no number, or the first split has
#' values that the scale does not take; on other splits the setting fails there.
#' @references Duan (1983), Smearing estimate: a nonparametric retransformation method, JASA 78.
#'   Box & Cox (1964), An analysis of transformations, JRSS B 26. Yeo & Johnson (2000), A new family
#'   of power transformations to improve normality or symmetry, Biometrika 87.
#' @examples
#' pipeline(pre_outcome_scale(by = among("none", "log")), pre_minimal(), fam_linear())
#' @export
pre_outcome_scale <- function(by = "log", back = "mean", to = NULL, from = NULL, ...) {
  no_more(...)
  own <- own_scale(to, from)
  if (!is.null(own)) by <- "own"
  new_step(member_step_outcome_scale(), c(list(by = by, back = back), own))
}

member_step_outcome_scale <- function() {
  step_definition("outcome_scale",
    learn = learn_scaled_outcome, use = function(state, frame) frame, columns = character(),
    # families say it with the fit
    script = function(state, about) list(lines = NULL), plain = plain_nothing,
    cross_fitted = TRUE, does = "Lets families learn a numeric outcome on another scale.",
    hyperparameters = list(
      by = hyperparameter("choice", "log",
        choices = c(outcome_scales, "own"),
        sensible = function(rows, columns, classes) among("none", "yeo_johnson"),
        meaning = "The scale on which families learn the outcome."
      ),
      back = hyperparameter("choice", "mean",
        choices = c("mean", "median"),
        active_when = function(settings, kind) settings$by != "none",
        meaning = "What predictions in the outcome's unit are."
      ),
      to = hyperparameter("code", NULL, meaning = "By \"own\": onto the scale."),
      from = hyperparameter("code", NULL, meaning = "By \"own\": back from the scale.")
    ),
    check = check_own_scale
  )
}

check_own_scale <- function(settings) {
  asked <- if (inherits(settings$by, "kw_among")) settings$by$values else settings$by
  if ("own" %in% asked && is.null(settings$to)) {
    stop_kw("argument", "pre_outcome_scale(by = \"own\") needs the functions `to` and `from`.",
      remedy = "Give both, or another scale."
    )
  }
}

learn_scaled_outcome <- function(frame, target, settings, seed) {
  if (is.factor(target$outcome)) {
    stop_kw("columns", "pre_outcome_scale() is for a numeric outcome, but it is a class.",
      remedy = "Leave it out."
    )
  }
  scale <- learn_outcome_scale(
    target$outcome, settings$by, settings$back, target$weights,
    own = if (settings$by == "own") settings[c("to", "from")]
  )
  target["scale"] <- list(scale)
  list(state = NULL, training = list(frame = frame, target = target))
}
