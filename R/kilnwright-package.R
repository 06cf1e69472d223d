#' Compare candidate models on tabular data
#'
#' Start with [brief()], or with [run_comparison()] on a brief for the quick look.
#'
#' @useDynLib kilnwright, .registration = TRUE
#' @importFrom stats predict
#' @keywords internal
"_PACKAGE"
