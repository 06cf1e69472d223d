# What goes to workers and comes back: sending units, taking answers after they were checked, and
# what is done when a worker dies or is none. Silent workers: run-silence.R; wrong ones:
# run-verify.R.

# Units on their way, with what is needed to send them.
new_flights <- function(
  profile, secret = NULL, renew = function() invisible(), verify = 0
) {
  flights <- list()
  sealed <- !is.null(secret)
  list(
    profile = profile, sealed = sealed, renew = renew, doubt = new_doubt(verify),
    # what a worker sent: list(value), or NULL if it is not from one of ours
    open = function(found) if (sealed) open_sealed(found, secret) else list(value = found),
    # `twin`: the same unit is out already
    send = function(run, file, unit, bytes = NULL, twin = FALSE) {
      if (!is.null(bytes) && sealed) bytes <- seal_value(bytes, secret)
      call <- quote(task(id, file, unit, bytes, sealed))
      task <- mirai::mirai(call, .compute = profile, .args = list(
        task = worker_task, id = c(run$id, run$work$rounds), file = if (!sealed) file,
        unit = unit[c("split", "fits", "share")], bytes = bytes, sealed = sealed
      ))
      flights[[length(flights) + 1L]] <<- list(
        task = task, unit = unit, sent = seconds_now(), told = twin
      )
    },
    # of a unit and its twin that are back at once the other one waits: it is let go of if this
    # one's answer is taken
    landed = function() {
      done <- !vapply(flights, function(flight) mirai::unresolved(flight$task), logical(1))
      if (!any(done)) return(list())
      done[done] <- !duplicated(lapply(flights[done], function(flight) unit_facts(flight$unit)))
      found <- flights[done]
      flights <<- flights[!done]
      found
    },
    count = function() length(flights),
    # units that are out for longer than they should be, each told once
    lagging = function(seconds_of) {
      late <- vapply(flights, function(flight) {
        !flight$told && seconds_now() - flight$sent > seconds_of(flight$unit)
      }, logical(1))
      for (at in which(late)) flights[[at]]$told <<- TRUE
      lapply(flights[late], `[[`, "unit")
    },
    all_told = function() all(vapply(flights, `[[`, NA, "told")),
    longest = function(seconds_of) {
      max(vapply(flights, function(flight) seconds_of(flight$unit), numeric(1)))
    },
    is_out = function(unit) {
      any(vapply(flights, function(flight) same_unit(flight$unit, unit), logical(1)))
    },
    # lets go of a unit that came back from somebody else
    drop = function(unit) {
      same <- vapply(flights, function(flight) same_unit(flight$unit, unit), logical(1))
      for (flight in flights[same]) mirai::stop_mirai(flight$task)
      flights <<- flights[!same]
    },
    # lets go of all; returns their units
    cancel = function() {
      for (flight in flights) mirai::stop_mirai(flight$task)
      units <- list()
      for (flight in flights) {
        if (!any(vapply(units, same_unit, NA, flight$unit))) units <- c(units, list(flight$unit))
      }
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

# What a worker does with a unit. It reads what the run's units have in common once a round:
# from the file, or, where that is not to be had, from bytes that it asks for; prepared rows
# stay for the run. `id`: of the run and its round. Where `sealed`, all is sealed with the run's
# secret.
worker_task <- function(id, file, unit, bytes = NULL, sealed = FALSE) {
  secret <- worker_store$secret
  if (sealed && is.null(secret)) stop("this worker does not have the secret of the run")
  answer <- function(x) {
    if (sealed) seal_value(c(x, list(unit = unit, worker = worker_store$name)), secret) else x
  }
  if (!identical(worker_store$id, id)) {
    if (is.null(bytes) && (sealed || !file.exists(file))) return(answer(list(need_data = TRUE)))
    worker_store$run <- common_part(file, bytes, if (sealed) secret)
    if (!identical(worker_store$id[1], id[1])) worker_store$cache <- new_cache()
    worker_store$id <- id
    data.table::setDTthreads(1L)
  }
  worker_store$run$alarm <- TRUE
  answer(timed_unit(worker_store$run, unit$split, unit$fits, worker_store$cache, unit$share))
}

# reason for reading: it comes from the run that this worker belongs to, by a file of its own or
# over a connection of its own; from elsewhere it is signed
common_part <- function(file, bytes, secret) {
  if (is.null(bytes)) return(unpacked_run(readRDS(file)))
  if (is.null(secret)) return(unpacked_run(unserialize(bytes)))
  opened <- open_sealed(bytes, secret)
  if (is.null(opened)) stop("what came from the run was not sealed with its secret")
  # reason: signed by the run
  unpacked_run(unserialize(opened$value))
}

# The run as it is sent to workers, once a round: without what they have no use for, and every
# definition of a step once, since thousands of nodes have the same few.
packed_run <- function(run) {
  run$work["spaces"] <- list(NULL)
  run$definitions <- list()
  for (i in seq_along(run$work$nodes)) {
    node <- run$work$nodes[[i]]
    same <- vapply(run$definitions, identical, NA, node$step$definition)
    if (!any(same)) run$definitions <- c(run$definitions, list(node$step$definition))
    node$step$definition <- match(TRUE, c(same, TRUE))
    run$work$nodes[[i]] <- node[c("parent", "step", "key")]
  }
  run
}

unpacked_run <- function(run) {
  run$work$nodes <- lapply(run$work$nodes, function(node) {
    node$step$definition <- run$definitions[[node$step$definition]]
    node
  })
  run
}

worker_store <- new.env(parent = emptyenv())

# Seconds between looks at what is out, the longer the less comes back: every worker has a unit
# waiting, and looking takes from what the workers have.
shortest_pause <- 0.002
longest_pause <- 0.015

# Keeps the workers supplied until everything is done. `n`: number of our own workers,
# NULL for the user's.
fly <- function(run, schedule, sink, until, deadline, flying, n) {
  file <- tempfile("kilnwright-run-", fileext = ".rds")
  for_owner_only(saveRDS(packed_run(run), file, compress = FALSE))
  deaths <- new_death_watch(run, flying$profile, n)
  silence <- new_silence(run)
  on.exit({
    # reason: a temporary file of ours
    unlink(file)
    deaths$settle()
  })
  # with a limit for single fits nothing waits in a queue, so that times tell
  waiting <- if (is.null(run$fit_seconds)) 2L else 1L
  told <- seconds_now()
  pause <- shortest_pause
  repeat {
    late <- seconds_now() > deadline
    room <- waiting * (n %||% max(1L, mirai::status(.compute = flying$profile)$connections)) -
      flying$count()
    following <- function() {
      flying$doubt$take() %||%
        schedule$take(unit_share(schedule, n), n %||% 2L, until - seconds_now())
    }
    while (!late && room > 0L && !is.null(unit <- following())) {
      flying$send(run, file, unit)
      room <- room - 1L
    }
    if (flying$count() == 0L) return(if (!schedule$empty()) "minutes")
    if (late) {
      flying$cancel()
      return("minutes")
    }
    landed <- flying$landed()
    for (flight in landed) receive(flight, run, file, schedule, sink, flying, deaths)
    silence$look(landed, file, schedule, sink, flying, deaths, n)
    pause <- if (length(landed) > 0L) shortest_pause else min(longest_pause, 1.2 * pause)
    if (length(landed) == 0L) {
      deaths$look()
      Sys.sleep(pause)
      sink$rest()
    }
    if (seconds_now() - told > 0.5) {
      told <- seconds_now()
      sink$progress()
    }
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
  # of two that do the same the other one may still answer
  if (mirai::is_error_value(found) && flying$is_out(unit)) return(invisible())
  if (mirai::is_error_value(found) && isTRUE(unit$check)) {
    return(flying$doubt$settle(NULL, unit, run, schedule, sink))
  }
  if (mirai::is_mirai_error(found) && flying$sealed) {
    # an error is not signed: anybody could have sent it
    deaths$spoke_nonsense(plain_text(found))
    give_back(list(unit), schedule, flying)
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
      if (!flying$is_out(unit)) give_back(list(unit), schedule, flying)
    } else if (isTRUE(opened$value$need_data)) {
      flying$send(run, file, unit, serialize(packed_run(run), NULL))
    } else {
      settle_unit(opened$value, unit, run, schedule, sink, flying, deaths)
    }
  }
}

# An answer that could be right.
settle_unit <- function(answer, unit, run, schedule, sink, flying, deaths) {
  flying$drop(unit)
  deaths$lives()
  # who is out cannot be sent away, and would be the first to get the unit again: it is done here
  if (flying$doubt$is_out(answer$worker)) {
    answer <- if (!isTRUE(unit$check)) flying$doubt$here(run, unit)
  }
  if (isTRUE(unit$check)) return(flying$doubt$settle(answer, unit, run, schedule, sink))
  sink$take(answer$ledger, took = answer$took)
  schedule$learn(answer$ledger)
  flying$doubt$taken(answer, unit)
}

# Units that nobody has done.
give_back <- function(units, schedule, flying) {
  checks <- vapply(units, function(unit) isTRUE(unit$check), logical(1))
  flying$doubt$again(units[checks])
  schedule$give_back(units[!checks])
}

unit_facts <- function(unit) unit[c("split", "fits", "share", "check")]

same_unit <- function(a, b) identical(unit_facts(a), unit_facts(b))

# What a worker sends is data: why it cannot be the answer to this unit, or NULL.
wrong_answer <- function(answer, unit, run) {
  if (!is.list(answer)) return("it sent no list")
  asked <- unit[c("split", "fits", "share")]
  if (!is.null(answer$unit) && !identical(answer$unit, asked)) {
    return("it answered for another unit")
  }
  if (isTRUE(answer$need_data)) return(NULL)
  took <- answer$took
  if (!is.numeric(took) || length(took) != 1L || is.na(took)) return("it sent no time")
  wrong_ledger(answer$ledger, run$work, run$metrics) %||% other_unit(answer$ledger, unit)
}

other_unit <- function(ledger, unit) {
  same <- setequal(ledger$fit, unit$fits) && !anyDuplicated(ledger$fit) &&
    all(ledger$split == unit$split) && all(ledger$share == unit$share) &&
    all(ledger$steps$split == unit$split)
  if (same) NULL else "it sent scores of other fits"
}

fail_unit <- function(unit, message, run, sink, stage = "worker") {
  sink$take(ledger_of_failures(unit, unit$fits, stage, message, run$work, run$metrics))
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
          list(split = unit$split, fits = fit, share = unit$share, branch = unit$branch)
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
