# Findings about the outcome, and about rows that belong together.

member_finding_classes <- finding_definition("classes", function(look) {
  if (!is.factor(look$outcome)) return(NULL)
  counts <- sort(table(look$outcome))
  rarest <- names(counts)[1]
  folds <- max(2L, counts[[1]])
  list(
    if (counts[[1]] < 10L) {
      finding(
        "small_class", "serious", look$brief$outcome,
        paste0(
          "The class ", rarest, " has ", count_of(counts[[1]], "row"),
          ": too few for 10 folds."
        ),
        paste0("split_kfold(k = ", folds, ")"),
        list(kind = "plan", value = list(splits = list(kfold = list(k = folds))))
      )
    },
    if (counts[[1]] / look$n < 0.1) {
      finding(
        "class_imbalance", "notable", look$brief$outcome,
        paste0(
          "Only ", format(round(100 * counts[[1]] / look$n, 1)), " % of the rows are ",
          rarest, "."
        ),
        "metrics = c(\"auc\", \"balanced_accuracy\"); accuracy says little",
        list(kind = "plan", value = list(metrics = c("auc", "balanced_accuracy")))
      )
    }
  )
}, "Classes that are rare.")

member_finding_outcome <- finding_definition("outcome", function(look) {
  brief <- look$brief
  if (brief$kind != "number" || brief$kind_given || !is.null(brief$outcome_scale)) return(NULL)
  y <- look$outcome
  values <- sort(unique(y))
  if (length(values) <= 4L && all(values == round(values))) {
    return(list(codes_for_classes(brief$outcome, values)))
  }
  if (length(values) < 8L) return(NULL)
  if (looks_counted(y)) {
    return(list(outcome_finding(
      "counts", "minor", brief$outcome, "whole numbers of at least 0, most of them small: counts?",
      "outcome_kind", "count"
    )))
  }
  scale <- straightening_scale(y)
  if (is.null(scale)) return(NULL)
  list(outcome_finding(
    "skewed_outcome", "notable", brief$outcome,
    paste0(
      "long tail to the right (skewness ", format(round(skewness(y), 1)),
      "), which is straight on a logarithmic scale; there it may be easier to learn."
    ),
    "outcome_scale", c("none", scale)
  ))
}, "Outcomes that are counts, codes for classes, or have a long tail.")

codes_for_classes <- function(name, values) {
  finding(
    "codes_for_classes", "notable", name,
    paste0(
      name, ": a number with only ", length(values), " values, ", enumerate(values),
      ": classes, perhaps with an order?"
    ),
    paste0("brief(..., read_as = list(", name_text(name), " = \"category\"))"),
    list(
      kind = "outcome", key = "read_as", value = stats::setNames(list("category"), name)
    )
  )
}

# `key`: the argument of brief() that is to be `value`.
outcome_finding <- function(code, severity, name, detail, key, value) {
  finding(
    code, severity, name, paste0(name, ": ", detail),
    paste0("brief(..., ", key, " = ", in_quotes(value), ")"),
    list(kind = "outcome", key = key, value = value)
  )
}

# Ages and points have no long tail, weights no zero or one.
looks_counted <- function(y) {
  all(y == round(y)) && min(y) %in% c(0, 1) && stats::median(y) <= 20 && skewness(y) > 0.5
}

# The logarithm that makes numbers with a long tail to the right straight; NULL: none does, or there
# is no such tail.
straightening_scale <- function(y) {
  if (any(y < 0) || skewness(y) <= 1.5) return(NULL)
  straight <- skewness(if (any(y == 0)) log1p(y) else log(y))
  if (abs(straight) < skewness(y) / 2) if (any(y == 0)) "log1p" else "log"
}

member_finding_gives_away <- finding_definition("gives_away", function(look) {
  lapply(setdiff(names(look$table), columns_of(look, "text")), function(name) {
    if (look$distinct_of[[name]] < 2L) return(NULL)
    if (look$kind_of[[name]] != "number" && look$distinct_of[[name]] > length(look$some) / 5) {
      return(NULL)
    }
    x <- if (look$kind_of[[name]] == "number") honest_values(look, name) else look$sample_of[[name]]
    strength <- single_strength(x, look$outcome[look$some])
    if (strength < 0.9) return(NULL)
    finding(
      "gives_outcome_away", "serious", name,
      paste0(
        name, " alone all but tells the outcome (association ",
        format(round(strength, 3)), "): was it known beforehand?"
      ),
      paste0("brief(..., ignore = ", in_quotes(name), ")"), list(kind = "role", role = "ignore")
    )
  })
}, "Columns that give the outcome away.")

# 0 to 1, numbers in quantile bins so that any shape counts, but no more bins than the rows
# allow; less what as many levels would explain by chance.
single_strength <- function(x, outcome) {
  codes <- coarse_codes(x, as.integer(max(2, min(20, length(x) / 10))))
  if (is.factor(outcome)) return(cramers_v(codes, as.integer(droplevels(outcome))))
  n <- length(codes)
  unexplained <- (1 - correlation_ratio(outcome, codes)^2) * (n - 1) / max(n - max(codes), 1)
  straight <- if (is.numeric(x)) association(x, outcome) else 0
  max(sqrt(max(0, 1 - unexplained)), if (straight > 0.98) straight)
}

# Rows that belong together are found by how the table is made: some rows for every level of
# a column, others that never differ within a level (or the same points for every level, as in
# repeated measures), and outcomes that are alike within levels.
member_finding_groups <- finding_definition("groups", function(look) {
  if (!is.null(look$brief$roles$group)) return(NULL)
  found <- lapply(columns_of(look, "category", "ordered", "number"), function(name) {
    x <- look$sample_of[[name]]
    if (!could_be_group(x, look$distinct_of[[name]], length(look$some))) return(NULL)
    codes <- coarse_match(x)
    bound <- bound_columns(look, name, codes)
    points <- if (length(bound) == 0L) repeated_points(look, name, codes)
    if (length(bound) == 0L && length(points) == 0L) return(NULL)
    # the design says most; what moves within levels, as time does, hides part of this
    if (outcome_f(look$outcome[look$some], codes)$p > 0.1) return(NULL)
    list(name = name, bound = bound, points = points, levels = max(codes))
  })
  found <- Filter(Negate(is.null), found)
  if (length(found) == 0L) return(NULL)
  # of nested ones (child in school) the coarsest keeps all together
  one <- found[[which.min(vapply(found, `[[`, 1, "levels"))]]
  why <- if (length(one$bound) > 0L) {
    paste0(
      enumerate(one$bound, 3L),
      if (length(one$bound) == 1L) " never differs" else " never differ", " within it"
    )
  } else {
    paste0("each has the same values of ", enumerate(one$points, 3L))
  }
  list(finding(
    "groups", "serious", one$name,
    paste0(
      "Rows of one ", one$name, " belong together: ", why,
      ", and the outcome differs between them."
    ),
    paste0("brief(..., group = ", in_quotes(one$name), ")"), list(kind = "role", role = "group")
  ))
}, "Columns that look like groups.")

could_be_group <- function(x, distinct, n) {
  if (anyNA(x) || distinct < 5L || distinct > n / 2) return(FALSE)
  if (is.numeric(x) && any(x != round(x))) return(FALSE)
  mean(tabulate(coarse_match(x)) > 1L) > 0.8
}

# Columns that are constant within the levels of another, though chance would hardly make
# them so.
bound_columns <- function(look, name, codes) {
  others <- setdiff(names(look$sample), c(name, columns_of(look, "text")))
  others <- others[look$distinct[others] > 1L & look$distinct[others] <= max(codes)]
  sizes <- tabulate(codes)
  sizes <- sizes[sizes > 1L]
  Filter(function(other) {
    b <- coarse_match(look$sample_of[[other]])
    # as many levels as the column itself: the same in other words
    if (max(b) >= max(codes)) return(FALSE)
    pairs <- length(unique(codes + (max(codes) + 1) * b))
    if (pairs > max(codes) * 1.02) return(FALSE)
    share <- tabulate(b) / length(b)
    by_chance <- mean(vapply(sizes, function(size) sum(share^size), 1))
    length(sizes) * log(max(by_chance, 1e-300)) < log(1e-6)
  }, others)
}

# Numbers and dates of which every level has the same several values, each once.
repeated_points <- function(look, name, codes) {
  others <- setdiff(columns_of(look, "number", "date"), name)
  Filter(function(other) {
    x <- look$sample_of[[other]]
    distinct <- look$distinct_of[[other]]
    if (anyNA(x) || distinct < 3L || distinct > length(x) / 5) return(FALSE)
    point <- coarse_match(x)
    once <- !anyDuplicated(codes + (max(codes) + 1) * point)
    once && mean(tabulate(codes) == distinct) > 0.8
  }, others)
}

coarse_match <- function(x) match(x, unique(x))

# F test of the outcome between groups (0/1 of the commonest class for classes).
outcome_f <- function(outcome, codes) {
  y <- if (is.factor(outcome)) as.double(outcome == names(which.max(table(outcome)))) else outcome
  k <- max(codes)
  n <- length(y)
  f <- f_statistics(matrix(y), factor(codes))
  list(f = f, p = stats::pf(f, k - 1, n - k, lower.tail = FALSE))
}
