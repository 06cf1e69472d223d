# Several classes had one against the rest, for families whose package knows two only.

# 0/1 targets: the second of two classes, or each of several.
against_rest <- function(y) {
  classes <- if (nlevels(y) == 2L) 2L else seq_len(nlevels(y))
  lapply(classes, function(class) as.double(as.integer(y) == class))
}

# One rows x values matrix of probabilities per target -> rows x classes x values,
# summing to 1; equal shares where no class is thought possible.
from_against_rest <- function(p) {
  if (length(p) == 1L) return(stack_two_classes(p[[1]]))
  total <- Reduce(`+`, p)
  out <- array(0, c(nrow(total), length(p), ncol(total)))
  for (class in seq_along(p)) out[, class, ] <- ifelse(total > 0, p[[class]] / total, 1 / length(p))
  out
}
