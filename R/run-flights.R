# What goes to workers and comes back: sending units, taking answers after they were checked, and
# what is done when a worker dies, does not answer, or is none.

# Units on their way, with what is needed to send them.
new_flights <- function(profile, secret = NULL, renew = function() invisible()) {
  flights <- list()
  sealed <- !is.null(secret)
  list(
    profile = profile, sealed = sealed, renew = renew,
    # what a worker sent: list(value), or NULL if it is not from one of ours
    open = function(found) if (sealed) open_sealed(found, secret) else list(value = found),
    send = function(run, file, unit, bytes = NULL) {
      if (!is.null(bytes) && sealed) bytes <- seal_value(bytes, secret)
      call <- quote(task(id, file, split, fits, bytes, sealed))
      task <- mirai::mirai(call, .compute = profile, .args = list(
        task = worker_task, id = run$id, file = if (!sealed) file, split = unit$split,
        fits = unit$fits, bytes = bytes, sealed = sealed
      ))
      flights[[length(flights) + 1L]] <<- list(task = task, unit = unit, sent = seconds_now())
    },
    landed = function() {
      done <- !vapply(flights, function(flight) mirai::unresolved(flight$task), logical(1))
      found <- flights[done]
      flights <<- flights[!done]
      found
    },
    count = function() length(flights),
    # lets go of all; returns their units
    cancel = function() {
      for (flight in flights) mirai::stop_mirai(flight$task)
      units <- lapply(flights, `[[`, "unit")
      flights <<- list()
      units
    },
    # those that should have been back long ago: their workers were stopped, or are cut off
    overdue = function(seconds_of) {
      if (mirai::status(.compute = profile)$connections == 0L) {
        # nobody is there yet: their time has not begun
        flights <<- lapply(flights, function(flight) {
          flight$sent <- seconds_now()
          flight
        })
      }
      late <- vapply(flights, function(flight) {
        seconds_now() - flight$sent > seconds_of(flight$unit)
      }, logical(1))
      found <- flights[late]
      for (flight in found) mirai::stop_mirai(flight$task)
      flights <<- flights[!late]
      found
    }
  )
}

# What a worker does with a unit. It reads what the run's units have in common once:
# from the file, or, where that is not to be had, from bytes that it asks for. Where `sealed`,
# both are sealed with the run's secret.
worker_task <- function(id, file, split, fits, bytes = NULL, sealed = FALSE) {
  secret <- worker_store$secret
  if (sealed && is.null(secret)) stop("this worker does not have the secret of the run")
  answer <- function(x) {
    if (sealed) seal_value(c(x, list(split = split, fits = fits)), secret) else x
  }
  if (!identical(worker_store$id, id)) {
    if (is.null(bytes) && (sealed || !file.exists(file))) return(answer(list(need_data = TRUE)))
    worker_store$run <- common_part(file, bytes, if (sealed) secret)
    worker_store$cache <- new_cache()
    worker_store$id <- id
    data.table::setDTthreads(1L)
  }
  worker_store$run$alarm <- TRUE
  answer(timed_unit(worker_store$run, split, fits, worker_store$cache))
}

# reason for reading: it comes from the run that this worker belongs to, by a file of its own or
# over a connection of its own; from elsewhere it is signed
common_part <- function(file, bytes, secret) {
  if (is.null(bytes)) return(readRDS(file))
  if (is.null(secret)) return(unserialize(bytes))
  opened <- open_sealed(bytes, secret)
  if (is.null(opened)) stop("what came from the run was not sealed with its secret")
  # reason: signed by the run
  unserialize(opened$value)
}

worker_store <- new.env(parent = emptyenv())

# Keeps the workers supplied until everything is done. `n`: number of our own workers,
# NULL for the user's.
fly <- function(run, schedule, sink, deadline, flying, n) {
  file <- tempfile("kilnwright-run-", fileext = ".rds")
  for_owner_only(saveRDS(run, file, compress = FALSE))
  deaths <- new_death_watch(run, flying$profile, n)
  on.exit({
    # reason: a temporary file of ours
    unlink(file)
    deaths$settle()
  })
  # with a limit for single fits nothing waits in a queue, so that times tell
  waiting <- if (is.null(run$fit_seconds)) 2L else 1L
  told <- seconds_now()
  repeat {
    late <- seconds_now() > deadline
    room <- waiting * (n %||% max(1L, mirai::status(.compute = flying$profile)$connections)) -
      flying$count()
    while (!late && room > 0L && !is.null(unit <- schedule$take(unit_share(schedule, n),
      n %||% 2L))) {
      flying$send(run, file, unit)
      room <- room - 1L
    }
    if (flying$count() == 0L) return(if (late && !schedule$empty()) "minutes")
    if (late) {
      flying$cancel()
      return("minutes")
    }
    landed <- flying$landed()
    for (flight in landed) receive(flight, run, file, schedule, sink, flying, deaths)
    if (!is.null(run$fit_seconds)) give_up_silent(run, schedule, sink, flying, deaths, n)
    if (length(landed) == 0L) {
      deaths$look()
      Sys.sleep(0.003)
    }
    if (seconds_now() - told > 0.5) {
      told <- seconds_now()
      sink$progress()
    }
  }
}

# After the limit of a fit and so many seconds a worker that does not answer is given up.
unanswered_grace <- 10

give_up_silent <- function(run, schedule, sink, flying, deaths, n) {
  silent <- flying$overdue(function(unit) {
    length(unit$fits) * run$fit_seconds + unanswered_grace
  })
  for (flight in silent) deaths$died(flight, schedule, sink)
  if (length(silent) > 0L && !is.null(n)) {
    schedule$give_back(flying$cancel())
    flying$renew()
  }
}

# Towards the end units get smaller, so that no worker idles while another has much.
unit_share <- function(schedule, n) {
  left <- schedule$left()
  if (is.na(left) || is.null(n)) return(1)
  min(1, max(0.1, left / (4 * n * unit_seconds)))
}

receive <- function(flight, run, file, schedule, sink, flying, deaths) {
  found <- flight$task$data
  unit <- flight$unit
  if (mirai::is_mirai_error(found) && flying$sealed) {
    # an error is not signed: anybody could have sent it
    deaths$spoke_nonsense(plain_text(found))
    schedule$give_back(list(unit))
  } else if (mirai::is_mirai_error(found)) {
    fail_unit(unit, plain_text(found), run, sink)
  } else if (mirai::is_error_value(found)) {
    deaths$died(flight, schedule, sink)
  } else {
    opened <- flying$open(found)
    wrong <- if (is.null(opened)) {
      "it does not have the secret of the run"
    } else {
      wrong_answer(opened$value, unit, run)
    }
    if (!is.null(wrong)) {
      deaths$spoke_nonsense(wrong)
      schedule$give_back(list(unit))
    } else if (isTRUE(opened$value$need_data)) {
      flying$send(run, file, unit, serialize(run, NULL))
    } else {
      deaths$lives()
      sink$take(opened$value$batch, unit$split, took = opened$value$took)
      schedule$learn(opened$value$batch)
    }
  }
}

# What a worker sends is data: why it cannot be the answer to this unit, or NULL.
wrong_answer <- function(answer, unit, run) {
  if (!is.list(answer)) return("it sent no list")
  other <- !is.null(answer$fits) &&
    !(identical(answer$split, unit$split) && identical(answer$fits, unit$fits))
  if (other) return("it answered for another unit")
  if (isTRUE(answer$need_data)) return(NULL)
  took <- answer$took
  if (!is.numeric(took) || length(took) != 1L || is.na(took)) return("it sent no time")
  wrong_batch(answer$batch, unit, run)
}

wrong_batch <- function(batch, unit, run) {
  if (!is.list(batch)) return("it sent no scores")
  fits <- unit$fits
  if (!is.numeric(batch$fit) || !setequal(batch$fit, fits) || anyDuplicated(batch$fit)) {
    return("it sent scores of other fits")
  }
  n <- length(fits)
  is_seconds <- function(x) is.numeric(x) && length(x) == n && !any(is.nan(x) | x < 0, na.rm = TRUE)
  is_text <- function(x) is.character(x) && length(x) == n
  rows <- sum(run$work$fits$count[fits])
  is_scores <- function(x) {
    is.matrix(x) && is.numeric(x) && nrow(x) == rows &&
      identical(colnames(x), names(run$metrics))
  }
  is_more <- function(x) is.null(x) || is_scores(x)
  wanted <- list(
    fit_seconds = is_seconds, predict_seconds = is_seconds, seconds = is_seconds,
    message = is_text, stage = is_text, validation = is_scores, training = is_more,
    no_information = is_more
  )
  fits_it <- vapply(names(wanted), function(name) wanted[[name]](batch[[name]]), NA)
  if (all(fits_it)) NULL else paste("it sent no", gsub("_", " ", names(which(!fits_it))[1]))
}

plain_text <- function(x) {
  trimws(gsub("[[:space:]]+", " ", cli::ansi_strip(paste(as.character(x), collapse = " "))))
}

fail_unit <- function(unit, message, run, sink, stage = "worker") {
  sink$take(failed_batch(unit$fits, stage, message, run$work, run$metrics), unit$split)
}

# When a worker dies, its unit is cut into single fits; a single fit is failed when it
# ran into the limit, or at its second death. Our own workers are replaced, unless they
# die again and again with nothing done in between.
new_death_watch <- function(run, profile, n) {
  counts <- list()
  in_a_row <- 0L
  looked <- seconds_now()
  launched <- -Inf
  replace <- function(most) {
    if (is.null(n)) return(invisible())
    missing <- min(most, n - mirai::status(.compute = profile)$connections)
    if (missing > 0L) with_worker_environment(mirai::launch_local(missing, .compute = profile))
    if (missing > 0L) launched <<- seconds_now()
  }
  list(
    lives = function() in_a_row <<- 0L,
    spoke_nonsense = function(why) {
      in_a_row <<- in_a_row + 1L
      if (in_a_row <= 20L) return(invisible())
      stop_kw("workers", paste0("Somebody answers who is no worker of this run: ", why, "."),
        remedy = "Who can reach this address? The file with the secret is new for every run."
      )
    },
    # a worker that is still starting would complain if there were nobody to report to
    settle = function() {
      while (seconds_now() - launched < 3 && mirai::status(.compute = profile)$connections < n) {
        Sys.sleep(0.02)
      }
    },
    # every worker may have died between units
    look = function() {
      if (seconds_now() - looked < 2) return(invisible())
      looked <<- seconds_now()
      if (mirai::status(.compute = profile)$connections == 0L) replace(n %||% 0L)
    },
    died = function(flight, schedule, sink) {
      in_a_row <<- in_a_row + 1L
      if (in_a_row > 5L + 3L * (n %||% 1L) && length(flight$unit$fits) > 1L || in_a_row > 200L) {
        stop_kw("workers", "Workers die again and again, with nothing done in between.",
          remedy = "Is there enough memory? Try workers = 1, which shows messages of the crash."
        )
      }
      looked <<- seconds_now()
      unit <- flight$unit
      if (length(unit$fits) > 1L) {
        schedule$give_back(lapply(unit$fits, function(fit) {
          list(split = unit$split, fits = fit, branch = unit$branch)
        }))
      } else {
        name <- paste(unit$split, unit$fits)
        counts[[name]] <<- (if (is.null(counts[[name]])) 0L else counts[[name]]) + 1L
        slow <- !is.null(run$fit_seconds) && seconds_now() - flight$sent >= run$fit_seconds
        stage <- paste0("fam_", fit_description(run$work, unit$fits)$definition$name)
        if (slow) {
          fail_unit(unit, too_slow(run$fit_seconds), run, sink, stage)
        } else if (counts[[name]] > 1L) {
          fail_unit(unit, "the worker process died while fitting this, twice", run, sink, stage)
        } else {
          schedule$give_back(list(unit))
        }
      }
      if (!schedule$empty()) replace(1L)
    }
  )
}
