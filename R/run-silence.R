# Workers that do not answer: stopped, cut off, or in a fit that takes for ever. That they are
# there cannot be asked while they fit, so time tells.

# After the limit of a fit and so many seconds a worker that does not answer is given up.
unanswered_grace <- 10

# Without such a limit nobody is given up: a unit that is out for so many times what it should
# take, and at least so many seconds, is sent to another worker as well, and the first answer
# counts. What a fit should take is unknown before the first of its candidate came back: then it
# is ten times the least.
lagging_factor <- 20
lagging_seconds <- 60

# Looked for so often; what is looked at, every unit that is out, takes a moment.
silence_seconds <- 0.2

new_silence <- function(run) {
  patience <- 1
  heard <- looked <- seconds_now()
  expected <- function(unit, schedule) {
    seconds <- schedule$expected(unit$fits)
    if (is.na(seconds)) return(patience * 10 * lagging_seconds)
    patience * max(lagging_seconds, lagging_factor * seconds)
  }
  list(
    look = function(landed, file, schedule, sink, flying, deaths, n) {
      now <- seconds_now()
      if (length(landed) > 0L) heard <<- now
      if (now - looked < silence_seconds) return(invisible())
      looked <<- now
      if (!is.null(run$fit_seconds)) {
        return(give_up_silent(run, schedule, sink, flying, deaths, n))
      }
      lagging <- flying$lagging(function(unit) expected(unit, schedule))
      for (unit in lagging) flying$send(run, file, unit, twin = TRUE)
      # nobody at all: our own workers are left, and others started
      if (length(lagging) > 0L || is.null(n) || flying$count() == 0L) return(invisible())
      longest <- flying$longest(function(unit) expected(unit, schedule))
      if (!flying$all_told() || seconds_now() - heard < 2 * longest) return(invisible())
      patience <<- 2 * patience
      heard <<- seconds_now()
      give_back(flying$cancel(), schedule, flying)
      flying$renew()
    }
  )
}

give_up_silent <- function(run, schedule, sink, flying, deaths, n) {
  silent <- flying$overdue(function(unit) {
    length(unit$fits) * run$fit_seconds + unanswered_grace
  })
  for (flight in silent) {
    if (isTRUE(flight$unit$check)) {
      flying$doubt$settle(NULL, flight$unit, run, schedule, sink)
    } else {
      deaths$died(flight, schedule, sink)
    }
  }
  if (length(silent) > 0L && !is.null(n)) {
    give_back(flying$cancel(), schedule, flying)
    flying$renew()
  }
}
