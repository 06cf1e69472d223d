# Where units run: in this process, or on worker processes by way of the package mirai.
# A pool has
#   run(run, schedule, sink, until, deadline)  NULL when everything is done, "minutes" when there
#                    was no time for the rest: nothing is begun that would not be done `until`
#                    then; what still runs at the deadline is let go of
#   abandon()                           after an interruption: lets go of what runs
#   processes()                         how many work at the same time
#   close()

# The profile in which a user's own daemons are looked for.
user_profile <- "kilnwright"

# A run whose projected work is shorter than this is not worth starting workers for.
worth_workers <- 6

new_pool <- function(workers, plan) {
  if (inherits(workers, "kw_workers_at")) return(open_pool(workers))
  if (is.numeric(workers) && workers == 1) return(process_pool())
  if (mirai_ready() && mirai::daemons_set(user_profile)) return(worker_pool(0L, user_profile))
  if (identical(workers, "auto")) return(switching_pool(usual_cores()))
  worker_pool(as.integer(workers))
}

mirai_ready <- function() requireNamespace("mirai", quietly = TRUE)

process_pool <- function() {
  cache <- new_cache()
  list(
    run = function(run, schedule, sink, until, deadline, enough = function() FALSE) {
      run$stop_at <- deadline
      while (!is.null(unit <- schedule$take(seconds = until - seconds_now()))) {
        sink$rest(schedule$expected(unit$fits))
        done <- timed_unit(run, unit$split, unit$fits, cache, unit$share)
        if (was_interrupted(done$ledger)) rlang::interrupt()
        late <- which(done$ledger$message %in% out_of_time)
        if (length(late) > 0L) done$ledger <- without_entries(done$ledger, late, run$work)
        sink$take(done$ledger, took = done$took)
        schedule$learn(done$ledger)
        if (length(late) > 0L) return("minutes")
        if (enough()) return("enough")
      }
      if (!schedule$empty()) "minutes"
    },
    abandon = function() cache$clear(), processes = function() 1L, close = function() cache$clear()
  )
}

# Some compiled code turns Ctrl-C into an error of its own: in this process, which Ctrl-C
# reaches, that is no failure of a fit.
was_interrupted <- function(ledger) {
  any(grepl("user interrupt", ledger$message, ignore.case = TRUE))
}

# Begins in this process, and goes on with workers once what is left is known to be
# worth their start.
switching_pool <- function(n) {
  here <- process_pool()
  there <- NULL
  list(
    run = function(run, schedule, sink, until, deadline) {
      if (is.null(there) && n > 1L && mirai_ready()) {
        worth <- function() isTRUE(schedule$left() > worth_workers)
        stopped <- here$run(run, schedule, sink, until, deadline, worth)
        if (!identical(stopped, "enough")) return(stopped)
        there <<- worker_pool(n)
      }
      (there %||% here)$run(run, schedule, sink, until, deadline)
    },
    abandon = function() (there %||% here)$abandon(),
    processes = function() (there %||% here)$processes(),
    close = function() (there %||% here)$close()
  )
}

# Workers of our own, or (n = 0) those that the user has set up.
worker_pool <- function(n, profile = own_profile()) {
  need("mirai", "Running on workers")
  own <- n > 0L
  folder <- if (own) start_own_workers(n, profile)
  flying_pool(profile, if (own) n, dismiss = own, folder = folder)
}

# Workers that do not answer cannot be told apart from here: all are left, and others started.
# Those that were stopped end when they are woken. Returns the new folder.
renew_own_workers <- function(n, profile, folder) {
  send_home(profile)
  # reason: made by socket_folder()
  if (!is.null(folder)) unlink(folder, recursive = TRUE)
  start_own_workers(n, profile)
}

# Our workers meet at a socket in a folder that only its owner can enter: whoever could reach it
# would be sent the working rows. Returns the folder.
start_own_workers <- function(n, profile) {
  if (.Platform$OS.type != "unix") {
    with_worker_environment(
      mirai::daemons(n, dispatcher = TRUE, output = FALSE, .compute = profile)
    )
    return(NULL)
  }
  folder <- socket_folder()
  mirai::daemons(url = paste0("ipc://", folder, "/s"), dispatcher = TRUE, .compute = profile)
  with_worker_environment(mirai::launch_local(n, output = FALSE, .compute = profile))
  # until they are there: who is still starting must not be taken for dead
  started <- seconds_now()
  while (mirai::status(.compute = profile)$connections < n && seconds_now() - started < 30) {
    Sys.sleep(0.01)
  }
  folder
}

# The name of a socket has at most 107 bytes.
socket_folder <- function() {
  base <- if (nchar(tempdir(), "bytes") > 80L) "/tmp" else tempdir()
  folder <- tempfile("kw-", tmpdir = base)
  if (!dir.create(folder, mode = "0700", showWarnings = FALSE)) {
    stop_kw("workers", paste0("No folder for the workers can be made in ", quoted(base), "."))
  }
  folder
}

# An answer that comes in just while its connection is closed can keep nng, which mirai stands on,
# waiting for ever (seen with six workers that answered to their tasks being stopped). So those
# that answer are waited for; those that do not are in a long fit, or gone, and need not be.
send_home <- function(profile, seconds = 1) {
  started <- seconds_now()
  while (tasks_out(profile) > 0L && seconds_now() - started < seconds) Sys.sleep(0.005)
  mirai::daemons(0L, .compute = profile)
}

tasks_out <- function(profile) {
  counts <- mirai::status(.compute = profile)$mirai
  if (is.null(counts)) 0L else sum(counts[c("awaiting", "executing")], na.rm = TRUE)
}

own_profile <- function() {
  paste0("kilnwright-", Sys.getpid(), "-", short_hash(format(seconds_now(), digits = 20)))
}

# `n`: how many workers are kept alive, NULL where others look after them; `dismiss`: are
# they sent home at the end?
# `secret`: that of a run with workers elsewhere; `folder`: goes when the pool does.
flying_pool <- function(profile, n, dismiss, secret = NULL, folder = NULL, verify = 0) {
  flying <- new_flights(profile, secret, verify = verify, renew = function() {
    if (dismiss && !is.null(n)) folder <<- renew_own_workers(n, profile, folder)
  })
  list(
    run = function(run, schedule, sink, until, deadline) {
      fly(run, schedule, sink, until, deadline, flying, n)
    },
    abandon = function() flying$cancel(),
    processes = function() n %||% max(1L, mirai::status(.compute = profile)$connections),
    close = function() {
      flying$cancel()
      if (dismiss) send_home(profile)
      # reason: made by socket_folder()
      if (!is.null(folder)) unlink(folder, recursive = TRUE)
    }
  )
}

# Local workers find the same packages, and use one thread each.
with_worker_environment <- function(expr) {
  wanted <- c(
    R_LIBS = paste(.libPaths(), collapse = .Platform$path.sep), OMP_NUM_THREADS = "1",
    OPENBLAS_NUM_THREADS = "1",
    MKL_NUM_THREADS = "1", R_DATATABLE_NUM_THREADS = "1"
  )
  before <- Sys.getenv(names(wanted), NA, names = TRUE)
  on.exit({
    Sys.unsetenv(names(before)[is.na(before)])
    if (any(!is.na(before))) do.call(Sys.setenv, as.list(before[!is.na(before)]))
  })
  do.call(Sys.setenv, as.list(wanted))
  expr
}
