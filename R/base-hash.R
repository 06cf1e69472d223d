# Canonical text and its hash: the same value gives the same key in any session,
# whatever its storage (integer or double, list or vector of names in any order).

# One string for any plain value. Numbers are written with 12 significant
# digits, names sorted in the C locale, NULL and NA told apart, types tagged.
canonical_text <- function(x) {
  if (is.null(x)) return("null")
  if (is.object(x)) {
    if (inherits(x, "kw_identified")) return(paste0("id(", attr(x, "id"), ")"))
    if (inherits(x, "kw_unread")) return(attr(x, "text"))
    if (is.factor(x)) {
      return(paste0("factor(", canonical_text(levels(x)), canonical_text(as.integer(x)), ")"))
    }
  }
  if (is.function(x)) return(canonical_function(x))
  if (is.symbol(x) || is.call(x)) {
    return(paste0("code(", paste(deparse(x, width.cutoff = 500L), collapse = " "), ")"))
  }
  if (is.atomic(x)) return(canonical_vector(x))
  if (is.list(x)) return(canonical_list(x))
  stop_kw("hash", paste0("Cannot write a key for ", describe_value(x), "."),
    remedy = "Use plain values, or give an `id =` that stands for it."
  )
}

canonical_vector <- function(x) {
  body <- if (is.numeric(x) && !is.object(x)) {
    paste0("n:", canonical_number(x))
  } else if (is.logical(x)) {
    paste0("l:", x)
  } else if (is.character(x)) {
    canonical_words(x)
  } else {
    paste0(class(x)[1], ":", format(unclass(x), digits = 15))
  }
  named_body(body, names(x), "v", keep_order = TRUE)
}

canonical_words <- function(x) {
  text <- paste0("s", nchar(x, "bytes"), ":", enc2utf8(x), recycle0 = TRUE)
  text[is.na(x)] <- "s:NA"
  text
}

canonical_number <- function(x) {
  text <- sprintf("%.12g", as.double(x))
  text[is.na(x) & !is.nan(x)] <- "NA"
  text[!is.na(x) & x == 0] <- "0"
  text
}

canonical_list <- function(x) {
  body <- vapply(x, canonical_text, character(1), USE.NAMES = FALSE)
  named_body(body, names(x), "list", keep_order = FALSE)
}

# Lists are sorted by name, vectors keep their order (a set of levels in another
# order is another value).
named_body <- function(body, names, tag, keep_order) {
  if (!is.null(names) && length(body) > 0L) {
    order <- if (keep_order) seq_along(body) else order(enc2utf8(names), method = "radix")
    body <- paste0(enc2utf8(names)[order], "=", body[order])
  }
  paste0(tag, "(", paste(body, collapse = ","), ")")
}

# How deep functions are inside one another; two that call each other would never end.
function_depth <- new.env(parent = emptyenv())

canonical_function <- function(f) {
  depth <- function_depth$now %||% 0L
  on.exit(function_depth$now <- depth)
  function_depth$now <- depth + 1L
  if (depth > 20L) {
    stop_kw("hash", "Cannot write a key for functions that call one another.",
      remedy = "Define them inside the function that is given."
    )
  }
  if (is.primitive(f)) return(paste0("primitive(", paste(deparse(f), collapse = " "), ")"))
  environment <- environment(f)
  where <- environmentName(topenv(environment))
  if (isNamespace(environment)) {
    return(paste0(
      "fn(", where, ",", canonical_text(body(f)), canonical_text(as.list(formals(f))),
      ")"
    ))
  }
  captured <- values_used(f)
  text <- paste(deparse(f, width.cutoff = 500L, control = NULL), collapse = " ")
  paste0("fn(", text, canonical_text(captured), ")")
}

# The user's own values around a function that it uses, whether it travels already or not.
values_used <- function(f) {
  used <- unique(unlist(codetools::findGlobals(f, merge = FALSE), use.names = FALSE))
  around <- environment(f)
  values <- lapply(stats::setNames(nm = used), own_value, around = around)
  Filter(function(value) !is.null(value) && !identical(value, f), values)
}

hash_text <- function(text) cli::hash_sha256(text)

# Keys of many short texts that are only compared within a run: the first 16 hex
# digits are 64 bits.
short_hash <- function(text) substr(hash_text(text), 1L, 16L)

# A fingerprint of a data frame: column names, types and every value; row names
# and storage (integer or double) play no part.
fingerprint_table <- function(table) {
  columns <- vapply(seq_along(table), function(i) {
    paste(names(table)[i], fingerprint_column(table[[i]]), sep = ":")
  }, character(1))
  hash_text(paste(c(nrow(table), columns), collapse = ";"))
}

fingerprint_column <- function(x) {
  if (is.factor(x)) {
    return(paste0("factor,", canonical_text(levels(x)), ",", hash_numbers(as.integer(x))))
  }
  if (is.character(x)) {
    text <- ifelse(is.na(x), "NA", paste0(nchar(x, "bytes"), ":", enc2utf8(x)))
    return(paste0("text,", hash_text(paste(text, collapse = ","))))
  }
  kind <- if (is.object(x)) paste(class(x), collapse = "/") else "number"
  paste0(kind, ",", hash_numbers(x))
}

hash_numbers <- function(x) {
  cli::hash_raw_sha256(writeBin(as.double(unclass(x)) + 0, raw(), endian = "little"))
}
