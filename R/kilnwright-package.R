#' Compare candidate models on tabular data
#'
#' Start with [brief()], or with [run_comparison()] on a brief for the quick look;
#' `vignette(package = "kilnwright")` lists what to read. *From a table to a model* is the whole
#' way.
#'
#' @eval local({
#'   source(file.path("tools", "reference.R"), local = TRUE)
#'   c("@section All calls by job:", reference_rd())
#' })
#' @section Errors:
#' Every error is a condition of class `kw_error` and of one that says what kind it is, such as
#' `kw_error_argument` or `kw_error_brief`; the help pages name theirs. Beside its text it has
#' fields for programs, where they apply: `argument` (the argument's name), `got` (its value),
#' `column`, `row` (numbers of the rows), and `choices` (what there is to choose from).
#'
#' @useDynLib kilnwright, .registration = TRUE
#' @importFrom compiler cmpfun
#' @importFrom stats predict
#' @keywords internal
"_PACKAGE"
