# How parts of one's own print.

#' @export
print.kw_rule <- function(x, ...) {
  margin <- if (is.null(x$margin)) {
    "takes no margin"
  } else if (identical(x$margin, "needed")) {
    "needs a margin"
  } else {
    paste("margin", format(x$margin), "unless another is given")
  }
  say_wrapped(trimws(paste0("Rule ", x$name, ", ", margin, ". ", x$does)))
  invisible(x)
}

#' @export
print.kw_finding_part <- function(x, ...) {
  say_wrapped(paste0("Finding ", x$name, ": inspect_data() looks for it once it is registered."))
  invisible(x)
}

#' @export
print.kw_hyperparameter <- function(x, ...) {
  default <- if (is.function(x$default)) "worked out" else deparse1(x$default)
  say_wrapped(paste0("Hyperparameter (", x$type, "), default ", default, ": ", x$meaning))
  invisible(x)
}

#' @export
print.kw_cannot_work <- function(x, ...) {
  say_wrapped(paste0("Cannot work: ", x$says, "."))
  invisible(x)
}
