# What a person sees while a comparison runs: a live line in a terminal, a plain
# line now and then elsewhere. All of it goes to standard error.

.onLoad <- function(libname, pkgname) {
  # the compiled code looks functions up in Rcpp, which must be loaded for that
  force(Rcpp::evalCpp)
  set_default_listener(progress_listener)
}

# A fresh listener for one run.
progress_listener <- function() {
  live <- cli::is_dynamic_tty(stderr())
  every <- if (live) 0.1 else 15
  last <- 0
  function(event) {
    if (event$type == "start") {
      last <<- event$seconds
      return(invisible())
    }
    final <- event$type == "end"
    if (!final && (event$done == event$total || event$seconds - last < every)) return(invisible())
    last <<- event$seconds
    line <- progress_text(event)
    if (live) {
      cat("\r\033[K", cli::ansi_strtrim(line, cli::console_width() - 1L), if (final) "\n",
        sep = "",
        file = stderr()
      )
    } else if (!final || event$seconds > every) {
      cat(line, "\n", sep = "", file = stderr())
    }
  }
}

progress_text <- function(event) {
  share <- event$done / max(1, event$total)
  left <- if (share < 1 && is.finite(event$seconds_left)) {
    paste0(", ", format_duration(event$seconds_left), " left")
  }
  best <- event$best
  best <- if (!is.null(best)) {
    others <- utils::head(seq_along(best$mean)[-1], 3L)
    paste0(
      " | best ", event$metric, " ", with_spread(best$mean[1], best$sd[1], "sd"),
      " ", best$candidate[1],
      if (event$done < event$total) paste0(", ", count_of(best$splits[1], "split")),
      paste0("; ", vapply(best$mean[others], round_to, "", best$sd[1]), " ",
        best$candidate[others],
        recycle0 = TRUE, collapse = ""
      )
    )
  }
  failed <- if (event$failed > 0) paste0(" | ", event$failed, " failed")
  paste0(
    progress_bar(share), " ", floor(100 * share), " %, ",
    format(event$done, big.mark = ","), "/", count_of(event$total, "score"),
    if (!is.null(event$round)) paste0(", round ", event$round),
    if (event$dropped > 0) paste0(", ", event$dropped, " dropped"), ", ",
    format_duration(event$seconds), left, best,
    failed
  )
}

progress_bar <- function(share, width = 10L) {
  full <- floor(share * width)
  paste0("[", strrep("=", full), strrep(" ", width - full), "]")
}

format_duration <- function(seconds) {
  if (seconds < 10) return(paste0(format(round(seconds, 1), nsmall = 1), " s"))
  if (seconds < 60) return(paste0(round(seconds), " s"))
  if (seconds < 3600) return(sprintf("%d min %02d s", seconds %/% 60, round(seconds %% 60) %/% 1))
  sprintf("%d h %02d min", seconds %/% 3600, (seconds %% 3600) %/% 60)
}
