#' Workers that join from other machines
#'
#' `run_comparison(workers = workers_at(url, certificate))` waits at an address for
#' workers, which may come and go while it runs. `be_worker()` makes this R process one,
#' until the run ends; so does `kilnwright worker --url URL --certificate FILE`. The
#' other machine needs this package and those of the families, of the same versions. It is
#' sent the working rows.
#'
#' Everything is encrypted. Workers see by the certificate that they talk to the right machine;
#' the machine sees by a secret, which is in the same file, that they are workers of this run:
#' who does not have it is sent nothing that could be read, and nothing of theirs is taken.
#' docs/security.md says what that promises and what not.
#'
#' @param url For example `"tls+tcp://192.168.1.20:7701"`: the address under which others
#'   reach this machine, and a free port.
#' @param certificate File that `workers_at()` writes, readable by its owner only, and that
#'   workers need to read (copy it to them by a way that others cannot read): a certificate and a
#'   secret, new for every run.
#' @param local So many workers are started on this machine as well.
#' @param verify Share of the fits that are done once more by another worker (or, where there is
#'   none, by this process), the first one of every worker always. Where scores differ this
#'   process finds out whose are wrong; that worker's are taken no more, and all that it did is
#'   done again, with a warning.
#' @param wait Seconds for which a worker tries to reach the address.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return `workers_at()`: an object for `run_comparison(workers = )`. `be_worker()`: `TRUE`
#'   invisibly once the run has ended.
#' @section Errors:
#' `kw_error_argument` for an address that cannot be used, `kw_error_workers` when nobody
#' is reached there.
#' @examples
#' workers_at("tls+tcp://127.0.0.1:7701", certificate = file.path(tempdir(), "run.pem"))
#' @export
workers_at <- function(url, certificate = NULL, local = 0, verify = 0.02, ...) {
  no_more(...)
  address <- read_address(url)
  check_number(local, "local", min = 0, whole = TRUE)
  check_number(verify, "verify", min = 0, max = 1)
  if (address$host %in% c("0.0.0.0", "*", "")) {
    stop_kw("argument", paste0("The address ", quoted(url), " names no machine."),
      remedy = paste(
        "Give the address under which workers reach this machine: it goes into the",
        "certificate."
      )
    )
  }
  need("openssl", "Working with other machines")
  check_string(certificate, "certificate")
  check_writable_file(certificate)
  if (file.exists(certificate) && !is_certificate(certificate)) {
    stop_kw(
      "argument",
      paste0("The file ", quoted(certificate), " exists, and is no certificate."),
      remedy = "Give another file."
    )
  }
  structure(
    list(
      url = url, host = address$host, certificate = certificate, local = as.integer(local),
      verify = verify
    ),
    class = "kw_workers_at"
  )
}

read_address <- function(url) {
  check_string(url, "url")
  parts <- regmatches(url, regexec("^(tls\\+tcp)://([^/]*):([0-9]+)$", url))[[1]]
  if (length(parts) == 0L) {
    stop_kw("argument", paste0("The address ", quoted(url), " cannot be understood."),
      remedy = "Write it like tls+tcp://192.168.1.20:7701."
    )
  }
  list(host = parts[3])
}

is_certificate <- function(file) {
  any(grepl("BEGIN CERTIFICATE", readLines(file, n = 1L, warn = FALSE), fixed = TRUE))
}

# Opens the address for the time of a run.
open_pool <- function(at) {
  need("mirai", "Running on workers")
  profile <- own_profile()
  made <- nanonext::write_cert(cn = at$host)
  secret <- new_secret()
  tryCatch(
    mirai::daemons(url = at$url, dispatcher = TRUE, tls = made$server, .compute = profile),
    error = function(e) {
      stop_kw(
        "workers",
        paste0("Nobody can be waited for at ", quoted(at$url), "."),
        where = plain_message(e),
        remedy = "Is it an address of this machine, with a free port?"
      )
    }
  )
  write_whole(at$certificate, c(made$client[1], secret_lines(secret)), private = TRUE)
  join <- bquote(kilnwright::be_worker(.(at$url), .(normalizePath(at$certificate))))
  for (i in seq_len(at$local)) {
    # reason: R itself, with code of ours; addresses are checked by read_address()
    with_worker_environment(system2(
      rscript(), script_arguments(join),
      wait = FALSE, stdout = FALSE, stderr = FALSE
    ))
  }
  flying_pool(profile, NULL, dismiss = TRUE, secret = secret, verify = at$verify)
}

rscript <- function() file.path(R.home("bin"), "Rscript")

# A worker is a process of its own, so that it starts with one thread and its death can be
# told from the end of the run.
unreachable_status <- 17L

worker_arguments <- function(url, certificate) {
  script_arguments(bquote(
    asNamespace("kilnwright")$serve_run(.(url), .(normalizePath(certificate)))
  ))
}

# In the worker's process: takes the secret out of the file, so that it stands in no list of
# processes, and works until the run ends.
serve_run <- function(url, certificate) {
  lines <- readLines(certificate, warn = FALSE)
  worker_store$secret <- secret_of_lines(lines)
  worker_store$name <- own_name()
  pem <- tempfile(fileext = ".pem")
  # reason: a temporary file of ours
  on.exit(unlink(pem))
  writeLines(lines[seq_len(match(secret_begins, lines, nomatch = length(lines) + 1L) - 1L)], pem)
  tryCatch(mirai::daemon(url, dispatcher = TRUE, tlscert = pem), error = function(e) {
    quit(status = unreachable_status)
  })
}

# What a worker is called among the others of its run.
own_name <- function() {
  paste(as.character(openssl::rand_bytes(8L)), collapse = "")
}

script_arguments <- function(code) {
  c("--vanilla", "-e", shQuote(paste(deparse(code, width.cutoff = 500L), collapse = " ")))
}

most_restarts <- 20L

#' @rdname workers_at
#' @export
be_worker <- function(url, certificate = NULL, wait = 60, ...) {
  no_more(...)
  need("mirai", "Being a worker")
  read_address(url)
  need("openssl", "Working with other machines")
  check_number(wait, "wait", min = 0)
  check_string(certificate, "certificate")
  if (!file.exists(certificate) || !is_certificate(certificate)) {
    stop_kw("argument", paste0("There is no certificate in the file ", quoted(certificate), "."),
      remedy = "Copy the one that the run has written; it is a new one for every run."
    )
  }
  started <- seconds_now()
  for (life in seq_len(most_restarts)) {
    repeat {
      # reason: R itself, with code of ours; addresses are checked by read_address()
      status <- with_worker_environment(system2(
        rscript(), worker_arguments(url, certificate),
        stdout = FALSE, stderr = FALSE
      ))
      if (status != unreachable_status || life > 1L || seconds_now() - started > wait) break
      Sys.sleep(0.5)
    }
    if (status == unreachable_status && life == 1L) {
      stop_kw("workers", paste0("Nobody answers at ", quoted(url), "."),
        remedy = "Is the run under way, the address right, the certificate the one of this run?"
      )
    }
    if (status %in% c(0L, unreachable_status)) return(invisible(TRUE))
  }
  stop_kw("workers", paste0("This worker died ", most_restarts, " times."))
}
