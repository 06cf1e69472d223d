# Dates written as text: in which format, and as dates. Only formats in which every part is
# a number are known, since names of months depend on the language.

date_formats <- c(
  "%Y-%m-%d" = "^[0-9]{4}-[0-9]{1,2}-[0-9]{1,2}$",
  "%Y/%m/%d" = "^[0-9]{4}/[0-9]{1,2}/[0-9]{1,2}$",
  "%d.%m.%Y" = "^[0-9]{1,2}[.][0-9]{1,2}[.][0-9]{4}$",
  "%d/%m/%Y" = "^[0-9]{1,2}/[0-9]{1,2}/[0-9]{4}$",
  "%m/%d/%Y" = "^[0-9]{1,2}/[0-9]{1,2}/[0-9]{4}$",
  "%d-%m-%Y" = "^[0-9]{1,2}-[0-9]{1,2}-[0-9]{4}$",
  "%m-%d-%Y" = "^[0-9]{1,2}-[0-9]{1,2}-[0-9]{4}$"
)

usual_date_format <- "%Y-%m-%d"

# The formats in which all of the texts can be read.
possible_date_formats <- function(x) {
  x <- unique(trimws(x[!is.na(x)]))
  if (length(x) == 0L) return(character())
  fitting <- vapply(names(date_formats), function(format) {
    grepl(date_formats[[format]], x[1]) && !anyNA(dates_of_text(x, format))
  }, logical(1))
  names(date_formats)[fitting]
}

# NA where the text is no date in this format.
dates_of_text <- function(x, format) {
  x <- trimws(x)
  x[!grepl(date_formats[[format]], x)] <- NA
  as.Date(x, format = format)
}

# A column of text that is a date in one format only, as dates that remember it, or a point in
# time; any other column as it is. Where day and month could change places it stays text.
text_to_dates <- function(x) {
  if (!is.character(x)) return(x)
  formats <- possible_date_formats(x)
  if (length(formats) == 1L) return(structure(dates_of_text(x, formats), written_as = formats))
  if (are_moments(x)) moments_of_text(x) else x
}

# All columns of a table so, but for those that are to stay text.
with_dates <- function(table, stay_text = NULL) {
  these <- setdiff(names(table), stay_text)
  table[these] <- lapply(table[these], text_to_dates)
  table
}

# Points in time in the form 2031-05-17 14:30:00, some of them perhaps without the time.
are_moments <- function(x) {
  day <- "^[0-9]{4}-[0-9]{2}-[0-9]{2}"
  time <- "[ T][0-9]{2}:[0-9]{2}(:[0-9]{2}([.][0-9]+)?)?Z?$"
  x <- trimws(x[!is.na(x)])
  # texts are long, so that a look at one spares the look at all
  if (length(x) == 0L || !grepl(day, x[1])) return(FALSE)
  whole <- grepl(paste0(day, "$"), x)
  timed <- grepl(paste0(day, time), x)
  all(whole | timed) && any(timed) && !anyNA(moments_of_text(x))
}

# Points in time as they are usually written; NA for other texts.
moments_of_text <- function(x) {
  x <- sub("Z$", "", sub("T", " ", trimws(x), fixed = TRUE))
  found <- rep(as.POSIXct(NA, tz = "UTC"), length(x))
  # a format reads the head of a text, and would pass over a wrong end
  formats <- c(
    "%Y-%m-%d %H:%M:%OS" = " [0-9]+:[0-9]+:[0-9.]+$", "%Y-%m-%d %H:%M" = " [0-9]+:[0-9]+$",
    "%Y-%m-%d" = "^[^ ]+$"
  )
  for (format in names(formats)) {
    these <- grepl(formats[[format]], x)
    found[these] <- as.POSIXct(x[these], format = format, tz = "UTC")
  }
  found
}
