#' Hash levels into a fixed number of 0/1 columns
#'
#' For categories with very many levels: each level falls into one of `buckets`
#' columns by a hash of its text, so nothing has to be learned and a level never
#' seen has its place too. Different levels may share a column. A missing value is
#' 0 in all of them (Weinberger et al. 2009, Feature hashing for large scale
#' multitask learning).
#'
#' @param buckets Number of columns for each category.
#' @param columns Which columns; default all categories. See [of_kind()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A step for [pipeline()].
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have; when it is learned,
#' `kw_error_columns` for columns that there are not or that it cannot work on.
#' @examples
#' pre_hash(buckets = among(16, 64), columns = "glaze")
#' @export
pre_hash <- function(buckets = 32, columns = NULL, ...) {
  no_more(...)
  new_step(member_step_hash(), list(buckets = buckets), rlang::enquo(columns))
}

member_step_hash <- function() {
  step_definition("hash",
    learn = learn_hash, use = use_hash, script = script_hash, columns = "category",
    does = "Spreads the levels of a category over a fixed number of 0/1 columns.",
    hyperparameters = list(
      buckets = hyperparameter("whole", 32,
        min = 2, max = 1e6,
        sensible = function(rows, columns, classes) among(16, 64, 256),
        meaning = "Number of columns that the levels are spread over.",
        rising = "Fewer levels share a column: less bias, more variance, slower."
      )
    )
  )
}

learn_hash <- function(frame, target, settings, seed) {
  names <- paste0(
    rep(settings$columns, each = settings$buckets), "_hash",
    seq_len(settings$buckets)
  )
  names <- fresh_names(
    names[seq_len(length(settings$columns) * settings$buckets)],
    setdiff(frame_names(frame), settings$columns)
  )
  list(
    state = list(columns = settings$columns, buckets = settings$buckets, names = names),
    training = NULL
  )
}

use_hash <- function(state, frame) {
  codes <- lapply(state$columns, function(name) {
    x <- as.character(frame$columns[[name]])
    levels <- unique(x)
    bucket_of(levels, state$buckets)[match(x, levels)]
  })
  sizes <- rep(state$buckets, length(codes))
  add_indicators(frame, state$columns, codes, sizes, state$names)
}

# 1..buckets by the first 28 bits of the text's hash; missing stays missing.
bucket_of <- function(text, buckets) {
  if (length(text) == 0L) return(integer())
  found <- strtoi(substr(hash_text(enc2utf8(ifelse(is.na(text), "", text))), 1L, 7L),
    16L) %% buckets + 1L
  found[is.na(text)] <- NA
  as.integer(found)
}

script_hash <- function(state, about) {
  if (length(state$columns) == 0L) return(list(lines = NULL))
  by <- rep(state$columns, each = state$buckets)
  made <- new_column_names(
    about, "hash_names", "paste0(name, \"_hash\", seq_len(<<n>>))",
    paste0(by, "_hash", seq_len(state$buckets)), state$names, by
  )
  list(does = paste0("spread_levels", about$i), lines = code_lines(r"(
hashed<<i>> <- <<columns>>
<<names>>
spread_levels<<i>> <- function(x) {
  for (name in hashed<<i>>) {
    v <- as.character(x[[name]])
    # by the first 28 bits of the text's SHA-256
    first <- substr(cli::hash_sha256(ifelse(is.na(v), "", v)), 1, 7)
    bucket <- ifelse(is.na(v), NA, strtoi(first, 16) %% <<n>> + 1)
    x[[name]] <- NULL
    x[<<made>>] <- lapply(seq_len(<<n>>), function(j) as.numeric(bucket %in% j))
  }
  x
}
)",
    i = about$i, columns = r_columns(state$columns, about$kinds), n = r_text(state$buckets),
    made = sub("<<n>>", r_text(state$buckets), made$code, fixed = TRUE), names = made$lines
  ))
}
