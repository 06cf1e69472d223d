# Dates written as text: in which format, and as dates. Names of months are English, whatever the
# language of the session.

date_formats <- c(
  "%Y-%m-%d" = "^[0-9]{4}-[0-9]{1,2}-[0-9]{1,2}$",
  "%Y/%m/%d" = "^[0-9]{4}/[0-9]{1,2}/[0-9]{1,2}$",
  "%d.%m.%Y" = "^[0-9]{1,2}[.][0-9]{1,2}[.][0-9]{4}$",
  "%d/%m/%Y" = "^[0-9]{1,2}/[0-9]{1,2}/[0-9]{4}$",
  "%m/%d/%Y" = "^[0-9]{1,2}/[0-9]{1,2}/[0-9]{4}$",
  "%d-%m-%Y" = "^[0-9]{1,2}-[0-9]{1,2}-[0-9]{4}$",
  "%m-%d-%Y" = "^[0-9]{1,2}-[0-9]{1,2}-[0-9]{4}$",
  # short or in full
  "%d-%b-%Y" = "^[0-9]{1,2}-[A-Za-z]{3,9}-[0-9]{4}$",
  "%d %b %Y" = "^[0-9]{1,2} [A-Za-z]{3,9} [0-9]{4}$",
  "%b %d, %Y" = "^[A-Za-z]{3,9} [0-9]{1,2}, [0-9]{4}$"
)

day_forms <- names(date_formats)

# What a column can be said to be read as.
known_readings <- c("number", "category", day_forms)

usual_date_format <- "%Y-%m-%d"

# The formats in which all of the texts can be read.
possible_date_formats <- function(x) {
  x <- unique(trimws(x[!is.na(x)]))
  if (length(x) == 0L) return(character())
  fitting <- vapply(day_forms, function(format) {
    grepl(date_formats[[format]], x[1]) && !anyNA(dates_of_text(x, format))
  }, logical(1))
  day_forms[fitting]
}

# NA where the text is no date in this format.
dates_of_text <- function(x, format) {
  x <- trimws(x)
  x[!grepl(date_formats[[format]], x)] <- NA
  if (names_months(format)) x <- with_month_numbers(x)
  as.Date(x, format = sub("%b", "%m", format, fixed = TRUE))
}

names_months <- function(format) grepl("%b", format, fixed = TRUE)

# NA where the letters are no month.
with_month_numbers <- function(x) {
  word <- tolower(gsub("[^A-Za-z]", "", x))
  month <- (match(word, tolower(c(month.abb, month.name))) - 1L) %% 12L + 1L
  numbered <- paste0(sub("[A-Za-z].*$", "", x), month, sub("^[^A-Za-z]*[A-Za-z]+", "", x))
  ifelse(is.na(x) | is.na(month), NA, numbered)
}

# A column of text that is a date, or a point in time, in one format only, as what it is, which
# remembers the format; any other column as it is. Where day and month could change places it
# stays text.
text_to_dates <- function(x) {
  if (!is.character(x)) return(x)
  formats <- possible_date_formats(x)
  if (length(formats) == 1L) return(structure(dates_of_text(x, formats), written_as = formats))
  formats <- possible_moment_formats(x)
  if (length(formats) != 1L) return(x)
  structure(
    moments_of_text(x, formats), written_as = if (formats != usual_date_format) formats
  )
}

# All columns of a table so, but for those that are to stay text.
with_dates <- function(table, stay_text = NULL) {
  with_each(table, text_to_dates, stay_text)
}

# The time of day behind a day, from which hours, minutes, seconds, the half of the day and the zone
# are read.
clock_form <- paste0(
  "^([0-9]|[01][0-9]|2[0-3]):([0-5][0-9])(:[0-5][0-9]([.][0-9]+)?)?( ?[AaPp][.]?[Mm][.]?)?",
  " ?(Z|UTC|[+-][0-9]{2}(:?[0-9]{2})?)?$"
)

# The formats of the day in which all of the texts can be read as points in time, such as
# 2031-05-17 14:30:00 or 5/17/2031 2:30 PM, some of them perhaps without the time.
possible_moment_formats <- function(x) {
  x <- unique(trimws(x[!is.na(x)]))
  # texts are long, so that a look at one spares the look at all
  if (length(x) == 0L || !grepl("^[0-9]{1,4}[-./][0-9]{1,2}[-./][0-9]{1,4}", x[1])) {
    return(character())
  }
  clock <- unique(clock_of(x))
  if (all(clock == "") || anyNA(seconds_of_clock(clock))) return(character())
  possible_date_formats(unique(day_of(x)))
}

day_of <- function(x) sub("[ T].*$", "", x)

clock_of <- function(x) substring(x, nchar(day_of(x)) + 2L)

# Points in time; NA for other texts. Without a zone they are taken as UTC, with one they become it.
moments_of_text <- function(x, format = usual_date_format) {
  x <- trimws(x)
  # days and times are far fewer than texts
  by_once <- function(texts, read) {
    once <- unique(texts)
    read(once)[match(texts, once)]
  }
  days <- by_once(day_of(x), function(day) as.double(dates_of_text(day, format)))
  seconds <- by_once(clock_of(x), seconds_of_clock)
  as.POSIXct(days * 86400 + seconds, origin = "1970-01-01", tz = "UTC")
}

# Seconds of the day in UTC; NA where it is no time of day.
seconds_of_clock <- function(clock) {
  timed <- grepl(clock_form, clock)
  part <- function(pattern) {
    number <- rep(0, length(clock))
    some <- timed & grepl(pattern, clock)
    number[some] <- as.numeric(sub(paste0(".*?", pattern, ".*"), "\\1", clock[some], perl = TRUE))
    number
  }
  zone <- part("[+-]([0-9]{2})") * 3600 + part("[+-][0-9]{2}:?([0-9]{2})$") * 60
  hours <- part("^([0-9]+)")
  halved <- grepl("[ap][.]?m", clock, ignore.case = TRUE)
  timed <- timed & (!halved | (hours >= 1 & hours <= 12))
  late <- grepl("p[.]?m", clock, ignore.case = TRUE)
  hours[halved] <- hours[halved] %% 12 + 12 * late[halved]
  seconds <- hours * 3600 + part("^[0-9]+:([0-9]{2})") * 60 +
    part("^[0-9]+:[0-9]+:([0-9.]+)") + ifelse(grepl("-", clock, fixed = TRUE), zone, -zone)
  ifelse(timed | clock == "", seconds, NA)
}
