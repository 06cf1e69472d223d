# Texts that are numbers: what stands in them, and around them; and texts that stand for missing
# values.

# Numbers with commas: before decimals, perhaps with points before thousands, or before thousands.
comma_forms <- c(
  decimal = "^[+-]?([0-9]*|[1-9][0-9]{0,2}([.][0-9]{3})+),[0-9]+$",
  thousands = "^[+-]?[1-9][0-9]{0,2}(,[0-9]{3})+([.][0-9]+)?$"
)

# Codes with leading zeros are none.
plain_number <- "^-?(0|[1-9][0-9]*|[1-9][0-9]{0,2}([.,][0-9]{3})+)([.,][0-9]+)?$"

# A number with a currency before it or a unit behind it: "$1,200", "EUR 12", "45 %", "3 kg/m2".
unit_form <- paste0(
  "^[+-]?(\\p{Sc}|[A-Z]{3}(?= ))? *[+-]?([0-9]([0-9., \u00a0\u202f]*[0-9.,])?|[.,][0-9]+) *",
  "((?:\\p{L}|\\p{Sc}|[%\u2030\u00b0'\"])[^,;\\\\]{0,11})?$"
)

# A blank, perhaps one that does not break, before three digits.
blank_form <- "(?<=[0-9])[ \u00a0\u202f](?=[0-9]{3}(?![0-9]))"

# How numbers are written in texts: list(commas, blanks, unit), without what does not occur.
number_form <- function(text) {
  unit <- unit_of(text)
  bare <- without_unit(text, unit)
  blanks <- any(grepl("^[+-]?[1-9]", bare) & grepl(blank_form, bare, perl = TRUE))
  list_of(
    commas = comma_use(if (blanks) gsub(blank_form, "", bare, perl = TRUE) else bare),
    blanks = if (blanks) TRUE, unit = unit
  )
}

# Are texts numbers, all but a few? list(form, are_numbers), or NULL.
mostly_numbers <- function(texts) {
  if (length(texts) < 8L) return(NULL)
  form <- number_form(texts)
  bare <- bare_numbers(texts, form)
  numbers <- grepl(plain_number, bare) & !is.na(comma_numbers(bare, form$commas))
  if (mean(numbers) >= 0.95) list(form = form, are_numbers = numbers)
}

# NA for what is none. `form`: how they are written, as far as that is known.
as_numbers <- function(x, form = NULL) {
  if (is.numeric(x)) return(x)
  # 0 and 1 of a column that came as TRUE and FALSE
  if (is.factor(x) && identical(levels(x), c("FALSE", "TRUE"))) return(as.double(x) - 1)
  text <- bare_numbers(trimws(as.character(x)), form)
  comma_numbers(text, form$commas %||% comma_use(text))
}

# Without unit and blanks.
bare_numbers <- function(text, form) {
  text <- without_unit(text, form$unit)
  if (isTRUE(form$blanks)) gsub(blank_form, "", text, perl = TRUE) else text
}

# c(before, after) of numbers that have the same text around them; NULL where there are none, or
# not the same.
unit_of <- function(text) {
  once <- unique(text[grepl("[0-9]", text)])
  once <- once[grepl(unit_form, once, perl = TRUE)]
  around <- unique(cbind(
    sub(unit_form, "\\1", once, perl = TRUE), sub(unit_form, "\\4", once, perl = TRUE)
  ))
  around <- around[nzchar(around[, 1L]) | nzchar(around[, 2L]), , drop = FALSE]
  if (nrow(around) == 1L) c(before = around[[1L]], after = around[[2L]])
}

# Numbers that come without the unit stay as they are.
without_unit <- function(text, unit) {
  if (is.null(unit)) return(text)
  for (change in unit_changes(unit)) text <- sub(change[1], change[2], text, perl = TRUE)
  text
}

# Regular expressions, and what takes the place of what they find.
unit_changes <- function(unit) {
  exactly <- paste0("\\Q", unit, "\\E")
  list(c(paste0("^([+-]?)", exactly[1], " *"), "\\1"), c(paste0(" *", exactly[2], "$"), ""))[
    nzchar(unit)
  ]
}

unit_words <- function(unit) {
  enumerate(c(
    if (nzchar(unit[["before"]])) paste(quoted(unit[["before"]]), "before"),
    if (nzchar(unit[["after"]])) paste(quoted(unit[["after"]]), "behind")
  ))
}

# What commas stand before in texts that are numbers: "decimal" or "thousands"; NULL where there are
# none, and where they could be either: "1,182" could be a thousand.
comma_use <- function(text) {
  text <- text[grepl("[0-9]", text)]
  commas <- grepl(",", text, fixed = TRUE)
  if (!any(commas)) return(NULL)
  thousands <- all(grepl(comma_forms[["thousands"]], text[commas]))
  points <- any(grepl(".", text[!commas], fixed = TRUE))
  decimal <- !points && all(grepl(comma_forms[["decimal"]], text[commas]))
  if (thousands != decimal) if (decimal) "decimal" else "thousands"
}

# NA for what is no number, and for all with commas where `use` is NULL.
comma_numbers <- function(text, use = comma_use(text)) {
  number <- suppressWarnings(as.numeric(text))
  if (is.null(use)) return(number)
  these <- grepl(comma_forms[[use]], text) & grepl(",", text, fixed = TRUE)
  number[these] <- as.numeric(if (use == "thousands") {
    gsub(",", "", text[these], fixed = TRUE)
  } else {
    sub(",", ".", gsub(".", "", text[these], fixed = TRUE), fixed = TRUE)
  })
  number
}

means_missing <- function(texts) grepl(missing_words, trimws(texts), ignore.case = TRUE)

missing_words <- paste0(
  paste(
    "^(unknown|unkn?|n[./ ]?[ar]\\.?|not",
    "(recorded|known|available|applicable|given)|missing|null|nil|nan|"
  ),
  "undefined|unspecified|no data|tbd|\\?+|-+|\\.+|x{2,}|#n/a)$"
)
