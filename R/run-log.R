# A plain record of a run for other tools to follow: a CSV file with one line a setting, written as
# soon as the setting has all its scores.

# `grow(work)` before parts of a further round come, `take(part, work)` with what came,
# `forget(fits, split, work)` for what is not believed any more: such settings are written again
# once they are done again, and their last line counts.
new_run_log <- function(file, plan) {
  job <- job_of(journal_facts(plan))
  columns <- log_columns(plan)
  logged <- begin_log(file, columns, job)
  metrics <- names(plan$metrics)
  # settings x splits each
  cells <- lapply(stats::setNames(nm = c(metrics, "seconds", "failed", "done")), function(x) NULL)
  names <- NULL
  wanted <- setdiff(splits_of_all(plan), which(is_apparent(plan$splits)))
  broken <- FALSE
  grow <- function(work) {
    more <- length(work$settings$fit) - NROW(cells$done)
    empty <- matrix(NA_real_, more, length(plan$splits))
    cells <<- lapply(cells, rbind, empty)
    names <<- row_names_of_fits(work)
  }
  take <- function(part, work) {
    spread <- spread_ledger(part, work)
    here <- part$share[spread$at] == 1 & part$split[spread$at] %in% wanted
    settings <- spread$settings[here]
    if (length(settings) == 0L || broken) return(invisible())
    at <- spread$at[here]
    place <- cbind(settings, part$split[at])
    for (name in metrics) cells[[name]][place] <<- part$validation[spread$row[here], name]
    cells$seconds[place] <<- part$seconds[at] / spread$sizes[at]
    cells$failed[place] <<- !is.na(part$message[at])
    cells$done[place] <<- 1
    settings <- unique(settings)
    complete <- settings[rowSums(!is.na(cells$done[settings, wanted, drop = FALSE])) ==
      length(wanted)]
    if (length(complete) > 0L) write_lines(complete, work)
  }
  forget <- function(fits, split, work) {
    settings <- unlist(work$fits$members[fits], use.names = FALSE)
    cells$done[cbind(settings, split)] <<- NA
    logged <<- setdiff(logged, log_keys(settings, names, work, job))
  }
  write_lines <- function(at, work) {
    keys <- log_keys(at, names, work, job)
    new <- !keys %in% logged
    if (!any(new)) return(invisible())
    mine <- lapply(cells, function(x) x[at[new], , drop = FALSE])
    lines <- log_lines(at[new], work, plan, mine)
    lines$key <- keys[new]
    trouble <- tryCatch(append_lines(lines[columns], file), error = conditionMessage)
    logged <<- c(logged, keys[new])
    if (is.null(trouble)) return(invisible())
    broken <<- TRUE
    warn_kw("log", paste0("The log ", quoted(file), " cannot be written any more: ", trouble),
      remedy = "The run goes on without it."
    )
  }
  list(grow = grow, take = take, forget = forget)
}

log_columns <- function(plan) {
  measures <- paste0(rep(names(plan$metrics), each = 2L), c("_mean", "_sd"))
  c(
    "time", "candidate", "setting", dimension_names(plan), measures, "splits", "failed", "seconds",
    "key"
  )
}

dimension_names <- function(plan) {
  unique(unlist(lapply(plan$spaces, function(space) names(space$dimensions))))
}

# What a setting is by its content: of which job, and the fit that it comes from.
log_keys <- function(at, names, work, job) {
  fit <- work$settings$fit[at]
  value <- vapply(seq_along(at), function(i) {
    values <- names$value[[fit[i]]]
    values[min(work$settings$place[at[i]], length(values))]
  }, "")
  paste0(job, "-", short_hash(paste(work$settings$candidate[at], names$fit[fit], value)))
}

# A new file with its header, or one that the same job has begun: then the keys that it has.
begin_log <- function(file, columns, job) {
  check_string(file, "log")
  check_writable_file(file)
  if (!file.exists(file) || file.size(file) == 0) {
    none <- lapply(stats::setNames(nm = columns), function(x) character())
    write_whole(file, csv_bytes(plain_frame(none, 0L)))
    return(character())
  }
  text <- rawToChar(readBin(file, "raw", file.size(file)))
  known <- tryCatch(
    utils::read.csv(text = text, colClasses = "character", check.names = FALSE),
    error = function(e) NULL, warning = function(w) NULL
  )
  ours <- identical(names(known), columns)
  # a process that was killed may have left half a line, which would spoil the next one
  if (ours && !endsWith(text, "\n")) {
    known <- utils::head(known, -1L)
    write_whole(file, csv_bytes(known))
  }
  if (!ours || !all(startsWith(known$key, paste0(job, "-")))) {
    stop_kw("log", paste0("The file ", quoted(file), " is there already, and no log of this run."),
      remedy = "Name another file, or remove it: a log is only gone on with by the same job."
    )
  }
  known$key
}

# Opened and closed again, so that what is written can be read at once. NULL, or what is wrong.
append_lines <- function(lines, file) {
  before <- file.size(file)
  data.table::fwrite(lines, file, append = TRUE, na = "")
  if (!isTRUE(file.size(file) > before)) "the disk took nothing"
}

log_lines <- function(at, work, plan, cells) {
  candidate <- work$settings$candidate[at]
  row <- work$settings$row[at]
  lines <- list(
    time = rep(format(Sys.time(), "%Y-%m-%dT%H:%M:%S"), length(at)),
    candidate = names(plan$spaces)[candidate], setting = row
  )
  for (name in dimension_names(plan)) {
    lines[[name]] <- vapply(seq_along(at), function(i) {
      value <- work$tables[[candidate[i]]][[name]][row[i]]
      if (is.null(value) || is.na(value)) "" else format(value, digits = 15, trim = TRUE)
    }, "")
  }
  for (metric in names(plan$metrics)) {
    mean <- rowMeans(cells[[metric]], na.rm = TRUE)
    # where all failed
    mean[is.nan(mean)] <- NA
    lines[[paste0(metric, "_mean")]] <- signif(mean, 10)
    lines[[paste0(metric, "_sd")]] <- signif(apply(cells[[metric]], 1L, stats::sd, na.rm = TRUE), 6)
  }
  lines$splits <- rowSums(!is.na(cells[[plan$decide]]))
  lines$failed <- rowSums(cells$failed, na.rm = TRUE)
  lines$seconds <- signif(rowSums(cells$seconds, na.rm = TRUE), 6)
  as.data.frame(lines, check.names = FALSE, optional = TRUE)
}
