# Rows divided by the values of a column: levels, or ranges of a number or a date.

parts_of_values <- function(x, parts) {
  if (is.character(x) || is.factor(x)) return(bin_levels(if (is.factor(x)) x else factor(x)))
  bin_ranges(x, parts)
}

bin_levels <- function(x) {
  counts <- sort(table(x), decreasing = TRUE)
  most <- names(counts)[counts > 0]
  # a part of "others" with one level in it would be that level
  if (length(most) > 12L) most <- most[1:11]
  label <- levels(x)[levels(x) %in% most]
  code <- match(as.character(x), label)
  rest <- is.na(code) & !is.na(x)
  if (any(rest)) {
    label <- c(label, paste0("others (", length(unique(x[rest])), ")"))
    code[rest] <- length(label)
  }
  with_missing(code, label)
}

bin_ranges <- function(x, parts) {
  number <- as.double(x)
  values <- sort(unique(number))
  if (length(values) <= max(parts, 2L)) {
    label <- format(if (is.numeric(x)) values else sort(unique(x)), trim = TRUE)
    return(with_missing(match(number, values), label))
  }
  cuts <- unique(stats::quantile(number, seq(0, 1, length.out = parts + 1L),
    na.rm = TRUE, names = FALSE, type = 1
  ))
  ends <- if (inherits(x, c("Date", "POSIXct"))) {
    format(structure(cuts, class = class(x)))
  } else {
    format(signif(cuts, 4), trim = TRUE, drop0trailing = TRUE)
  }
  last <- length(cuts)
  with_missing(
    findInterval(number, cuts[-c(1L, last)], left.open = TRUE) + 1L,
    paste(ends[-last], "to", ends[-1])
  )
}

with_missing <- function(code, label) {
  if (!anyNA(code)) return(list(code = as.integer(code), label = label))
  code[is.na(code)] <- length(label) + 1L
  list(code = as.integer(code), label = c(label, "missing"))
}
