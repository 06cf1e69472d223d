#' Turn free text into columns of terms
#'
#' Text is lowered and cut into words (letters, digits and apostrophes); every word,
#' and every run of words asked for, that stands in enough training rows becomes a
#' column, kept sparse. Terms never seen in training are passed over; missing text
#' has no terms.
#'
#' @param phrases Lengths of the runs: 1 = single words, `1:2` = words and pairs, at
#'   most 3.
#' @param in_at_least Terms in fewer training rows are left out: a number of rows, or
#'   below 1 a share of them.
#' @param in_at_most Terms in more training rows are left out: a share of the rows (1: none is), or
#'   above 1 a number of them.
#' @param top Most terms, the most frequent first.
#' @param count_as `"count"`, or `"tfidf"`: count times log(rows / rows with the term)
#'   (Spaerck Jones 1972, J. Documentation 28).
#' @param drop_common Leave out common English words such as "the" and "of"?
#' @param columns Which columns; default all text. See [of_kind()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on.
#' @examples
#' pre_text(phrases = 1:2, in_at_least = 5, top = among(50, 200), count_as = "tfidf")
#' @export
pre_text <- function(phrases = 1, in_at_least = 5, in_at_most = 1, top = 200, count_as = "count",
                     drop_common = TRUE, columns = NULL, ...) {
  no_more(...)
  settings <- list(
    phrases = phrases, in_at_least = in_at_least, in_at_most = in_at_most, top = top,
    count_as = count_as, drop_common = drop_common
  )
  new_step(member_step_text(), settings, rlang::enquo(columns))
}

member_step_text <- function() {
  step_definition("text",
    learn = learn_text, use = use_text, script = script_text, columns = "text", check = check_words,
    does = "Turns free text into sparse columns of words and runs of words.",
    hyperparameters = list(
      phrases = hyperparameter(
        "any",
        1,
        sensible = function(rows, columns, classes) among(list(1, 1:2)),
        meaning = "Lengths of the runs of words that become terms.",
        rising = "More columns, more context."
      ),
      in_at_least = hyperparameter("number", 5,
        min = 0,
        sensible = function(rows, columns, classes) among(2, 5, 20),
        meaning = "Training rows (below 1: share) a term must be in.",
        rising = "Fewer columns: less variance, more bias."
      ),
      in_at_most = hyperparameter("number", 1,
        min = 0, open_min = TRUE,
        sensible = function(rows, columns, classes) among(0.3, 0.5, 1),
        meaning = "Share of training rows (above 1: rows) a term may be in.",
        rising = "More columns."
      ),
      top = hyperparameter("whole", 200,
        min = 1,
        sensible = function(rows, columns, classes) among(50, 200, 1000),
        meaning = "Most terms that are kept, the most frequent first.",
        rising = "More columns: less bias, more variance."
      ),
      count_as = hyperparameter("choice", "count",
        choices = c("count", "tfidf"),
        sensible = function(rows, columns, classes) among("count", "tfidf"),
        meaning = "What stands in a term's column."
      ),
      drop_common = hyperparameter(
        "flag",
        TRUE,
        sensible = function(rows, columns, classes) among(TRUE, FALSE),
        meaning = "Whether common English words are left out."
      )
    )
  )
}

common_words <- strsplit(paste(
  paste(
    "a about above after again all also am an and any are as at be because been before being",
    "below between both but by can"
  ),
  paste(
    "could did do does doing down during each few for from further had has have having he her",
    "here hers him his how i if in"
  ),
  paste(
    "into is it its just me more most my of off on once only or other our out over own same",
    "she should so some such than that"
  ),
  paste(
    "the their them then there these they this those through to too under until up very was",
    "we were what when where which"
  ),
  "while who whom why will with would you your"
), " ")[[1]]

check_words <- function(settings) {
  given <- if (is_varying(settings$phrases)) unlist(settings$phrases$values) else settings$phrases
  check_argument(
    is.numeric(given) && all(given %in% 1:3),
    "phrases",
    "numbers out of 1, 2, 3",
    settings$phrases
  )
}

learn_text <- function(frame, target, settings, seed) {
  terms <- lapply(frame$columns[settings$columns], function(x) {
    if (!is.character(x) && !is.factor(x)) refuse_column_kind("text", "text", x)
    learn_terms(as.character(x), settings, weights_as_rows(target$weights))
  })
  names <- unlist(lapply(names(terms), function(name) {
    paste(name, terms[[name]]$label, sep = "_")[seq_along(terms[[name]]$label)]
  }))
  list(
    state = list(
      terms = terms,
      names = fresh_names(as.character(names), setdiff(frame_names(frame), names(terms))),
      drop_common = settings$drop_common
    ),
    training = NULL
  )
}

# Words of all texts, one after the other, with the row each is from.
split_words_of <- function(text, drop_common) {
  text[is.na(text) | (Encoding(text) == "unknown" & !validUTF8(text))] <- ""
  text <- tolower(enc2utf8(text))
  # the first of many equal texts stands for all of them
  distinct <- unique(text)
  pieces <- strsplit(distinct, "[^[:alnum:]']+", perl = all_ascii(distinct))
  here <- match(text, distinct)
  word <- unlist(pieces[here], use.names = FALSE)
  row <- rep(seq_along(text), lengths(pieces)[here])
  if (is.null(word)) word <- character()
  keep <- nzchar(word) & !(drop_common & word %in% common_words)
  list(word = word[keep], row = row[keep])
}

all_ascii <- function(x) !any(grepl("[^ -~\t\r\n]", x, perl = TRUE))

# Codes of all runs of n words within a row: sum of word code * size^(n - i).
# Runs with an unknown word are left out.
run_codes <- function(code, row, n, size) {
  last <- length(code) - n + 1L
  if (last < 1L) return(list(code = numeric(), row = integer()))
  start <- seq_len(last)
  inside <- row[start] == row[start + n - 1L]
  start <- start[inside]
  total <- as.double(code[start])
  for (i in seq_len(n - 1L)) total <- total * size + code[start + i]
  known <- !is.na(total)
  list(code = total[known], row = row[start][known])
}

learn_terms <- function(text, settings, weights = NULL) {
  total <- if (is.null(weights)) length(text) else sum(weights)
  said <- split_words_of(text, settings$drop_common)
  words <- unique(said$word)
  code <- match(said$word, words)
  size <- length(words) + 1
  found <- lapply(settings$phrases, function(n) {
    runs <- run_codes(code, said$row, n, size)
    distinct <- unique(runs$code)
    id <- match(runs$code, distinct)
    once <- !duplicated(runs$row * (length(distinct) + 1) + id)
    rows_with <- weighted_counts(id[once], length(distinct), weights[runs$row[once]])
    list(n = rep(n, length(distinct)), code = distinct, rows = rows_with)
  })
  all <- list(
    n = unlist(lapply(found, `[[`, "n")), code = unlist(lapply(found, `[[`, "code")),
    rows = unlist(lapply(found, `[[`, "rows"))
  )
  keep <- which(all$rows > 0 & all$rows >= as_rows(settings$in_at_least, total, up_to = 1) &
    all$rows <= as_rows(settings$in_at_most, total, up_to = 1 + 1e-9))
  keep <- keep[order(-all$rows[keep])]
  # of equally frequent terms at the edge, the first in the alphabet
  edge <- if (length(keep) > settings$top) all$rows[keep[settings$top]] else 0
  keep <- keep[all$rows[keep] >= edge]
  parts <- lapply(keep, function(i) words[decode_run(all$code[i], all$n[i], size)])
  label <- vapply(parts, paste, character(1), collapse = " ")
  order <- utils::head(order(-all$rows[keep], label, method = "radix"), settings$top)
  kept_words <- unique(unlist(parts[order]))
  list(
    label = label[order], n = all$n[keep][order], words = as.character(kept_words),
    code = vapply(
      parts[order],
      function(part) encode_run(match(part, kept_words), length(kept_words) + 1),
      numeric(1)
    ),
    weight = if (settings$count_as == "tfidf") {
      log(total / all$rows[keep][order])
    } else {
      rep(1, length(order))
    }
  )
}

# A number of rows from a number or, up to the bound, a share.
as_rows <- function(x, n, up_to) if (x < up_to) x * n else x

decode_run <- function(code, n, size) {
  out <- integer(n)
  for (i in n:1) {
    out[i] <- as.integer(code %% size)
    code <- code %/% size
  }
  out
}

encode_run <- function(codes, size) Reduce(function(total, code) total * size + code, codes)

use_text <- function(state, frame) {
  pieces <- each_known(frame, state$terms, function(x, terms) {
    count_terms(as.character(x), terms, state$drop_common)
  })
  matrix <- do.call(cbind, unname(pieces))
  if (is.null(matrix) || ncol(matrix) == 0L) return(frame_swap(frame, remove = names(state$terms)))
  colnames(matrix) <- state$names
  frame_swap(frame, remove = names(state$terms), sparse = matrix)
}

count_terms <- function(text, terms, drop_common) {
  said <- split_words_of(text, drop_common)
  code <- match(said$word, terms$words)
  hits <- lapply(unique(terms$n), function(n) {
    runs <- run_codes(code, said$row, n, length(terms$words) + 1)
    own <- which(terms$n == n)
    column <- own[match(runs$code, terms$code[own])]
    list(row = runs$row[!is.na(column)], column = column[!is.na(column)])
  })
  row <- as.integer(unlist(lapply(hits, `[[`, "row")))
  column <- as.integer(unlist(lapply(hits, `[[`, "column")))
  Matrix::sparseMatrix(
    i = row, j = column, x = terms$weight[column], dims = c(length(text), length(terms$n))
  )
}

script_text <- function(state, about) {
  settings <- about$settings
  if (length(state$terms) == 0L) return(list(lines = NULL))
  terms <- lapply(state$terms, `[[`, "label")
  by <- rep(names(terms), lengths(terms))
  made <- new_column_names(
    about, "term_names", "paste(name, term, sep = \"_\")",
    paste(by, unlist(terms), sep = "_", recycle0 = TRUE), state$names, by
  )
  runs <- settings$phrases
  tfidf <- settings$count_as == "tfidf"
  bound <- function(x, up_to) if (x < up_to) paste(r_text(x), "* length(rows)") else r_text(x)
  learned <- if (about$weighted || any(lengths(terms) == 0L)) {
    as_learned(about, terms = lapply(state$terms, function(one) {
      if (tfidf) stats::setNames(one$weight, one$label) else one$label
    }))
  } else {
    code_lines(r"(
# the terms that are in enough rows and not in too many, the most frequent first
terms<<i>> <- lapply(x[<<columns>>], function(v) {
  rows <- terms_of<<i>>(v)
  found <- table(unlist(lapply(rows, unique)))
  found <- found[found >= <<least>> & found <= <<most>>]
  found <- head(found[order(-as.numeric(found), names(found), method = "radix")], <<top>>)
  <<result>>
})
)",
      i = about$i, columns = r_vector(names(state$terms)),
      least = bound(settings$in_at_least, 1), most = bound(settings$in_at_most, 1 + 1e-9),
      top = r_text(as.double(settings$top)),
      result = if (tfidf) {
        "setNames(log(length(rows) / as.numeric(found)), names(found))"
      } else {
        "names(found)"
      }
    )
  }
  list(does = paste0("count_terms", about$i), lines = code_lines(r"(
<<common>>
# the words of every text<<runs_comment>>
terms_of<<i>> <- function(text) {
  text[is.na(text)] <- ""
  lapply(strsplit(tolower(enc2utf8(as.character(text))), "[^[:alnum:]']+"), function(words) {
<<words>>
  })
}
<<learned>>
<<names>>
count_terms<<i>> <- function(x) {
  for (name in names(terms<<i>>)) {
    term <- <<term>>
    rows <- terms_of<<i>>(x[[name]])
    x[[name]] <- NULL
    <<none>>
    hit <- lapply(rows, function(row) tabulate(match(row, term), length(term)))
    counts <- matrix(as.numeric(unlist(hit)), length(rows), length(term), byrow = TRUE)
    <<weigh>>
    x[<<made>>] <- as.data.frame(counts)
  }
  x
}
)",
    i = about$i, learned = learned, names = made$lines, made = made$code,
    none = if (any(lengths(terms) == 0L)) "if (length(term) == 0) next",
    common = if (settings$drop_common) {
      paste0("common_words", about$i, " <- ", r_vector(common_words))
    },
    runs_comment = if (identical(as.integer(runs), 1L)) "" else ", and their runs",
    words = c(
      if (settings$drop_common) {
        paste0("    words <- words[nzchar(words) & !words %in% common_words", about$i, "]")
      } else {
        "    words <- words[nzchar(words)]"
      },
      if (identical(as.integer(runs), 1L)) NULL else code_lines(r"(
    unlist(lapply(<<runs>>, function(n) {
      if (length(words) < n) return(NULL)
      starts <- seq_len(length(words) - n + 1)
      vapply(starts, function(at) paste(words[seq(at, length.out = n)], collapse = " "), "")
    }))
)", runs = deparsed(runs))
    ),
    term = if (tfidf) {
      paste0("names(terms", about$i, "[[name]])")
    } else {
      paste0("terms", about$i, "[[name]]")
    },
    weigh = if (tfidf) paste0("counts <- sweep(counts, 2, terms", about$i, "[[name]], `*`)")
  ))
}
