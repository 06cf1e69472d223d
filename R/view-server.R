#' Watch a comparison in the browser
#'
#' Opens a page on this machine on a comparison, or on a journal while it is being written: how far
#' the run is, the best so far with its spread, all settings in charts and a table that can be
#' searched, sorted and zoomed, the choice under each rule with its margin, the decision threshold
#' with costs, and pairs of candidates. What is looked at can be taken along as R code and as lines
#' of a plan file.
#'
#' The page is served on this machine alone, under a path that cannot be guessed, and only reads:
#' nothing is ever written to the journal. A comparison in memory is served while R is idle; to
#' watch a run that goes on, use another process: `kilnwright view JOURNAL`.
#'
#' @param x A comparison, the path of a journal, or the path of a folder of results that holds one.
#' @param port Port to listen on; default any that is free.
#' @param open Open the browser? Where there is none, the address is printed.
#' @param trust As for [open_comparison()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A list, invisibly: `address`, and `stop()`, a function that ends the view.
#' @section Errors:
#' `kw_error_results` for a folder that holds no journal, `kw_error_journal` for a journal that
#' there is not or that is damaged, `kw_error_view` for a port that is in use, `kw_error_package`
#' when httpuv is not installed.
#' @examples
#' \donttest{
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree(pruning = sensible())),
#'   splits = split_kfold(3), seed = 1, quiet = TRUE
#' )
#' if (requireNamespace("httpuv", quietly = TRUE)) {
#'   view <- view_comparison(cmp, open = FALSE)
#'   view$address
#'   view$stop()
#' }
#' }
#' @export
view_comparison <- function(x, port = NULL, open = interactive(), trust = FALSE, ...) {
  no_more(...)
  check_flag(open, "open")
  if (!is.null(port)) check_number(port, "port", min = 1024, max = 65535, whole = TRUE)
  need("httpuv", "Viewing a comparison")
  need("htmltools", "Viewing a comparison")
  source <- view_source(x, trust)
  source$read()
  token <- view_token()
  server <- listen_on("127.0.0.1", port, function(port) view_app(source, token, port))
  address <- paste0("http://127.0.0.1:", server$port, "/", token, "/")
  if (open && !open_page(address)) say("Open this page: ", address)
  invisible(list(address = address, stop = server$stop))
}

# Serves the application that app(port) makes, on any free port where none is given:
# list(port, stop).
listen_on <- function(host, port, app) {
  tryCatch(
    {
      port <- port %||% httpuv::randomPort(min = 20000L, host = host)
      server <- httpuv::startServer(host, port, app(port), quiet = TRUE)
      list(port = port, stop = function() httpuv::stopServer(server))
    },
    error = function(e) {
      stop_kw("view", paste0(
        "Nothing can be served on ", host, if (!is.null(port)) paste0(", port ", port), "."
      ),
      where = plain_message(e), remedy = "Leave `port` out for one that is free."
      )
    }
  )
}

# Was there a browser to open it?
open_page <- function(address) {
  tryCatch({
    utils::browseURL(address)
    TRUE
  }, error = function(e) FALSE, warning = function(w) FALSE)
}

# 128 bits that no seed decides.
view_token <- function() {
  paste(as.character(nanonext::random(16L, convert = FALSE)), collapse = "")
}

# Where comparisons come from: read() gives list(cmp, version, written, note); a journal is read
# again when it has changed, and what was read last stays where that fails.
view_source <- function(x, trust) {
  if (inherits(x, "kw_comparison")) {
    x <- with_held_blend(x)
    return(list(read = function() list(cmp = x, version = "1", written = FALSE, note = "")))
  }
  check_string(x, "x")
  file <- journal_of(x)
  last <- list(version = "", note = "")
  read <- function() {
    parts <- paste0(file, c("", "-wal"))
    now <- paste(file.size(parts), sprintf("%.6f", file.mtime(parts)), collapse = " ")
    written <- file.exists(file) && journal_is_written(file)
    if (now != last$version || written != isTRUE(last$written)) {
      found <- tryCatch(open_comparison(file, trust), error = identity)
      if (inherits(found, "error")) {
        if (is.null(last$cmp) && !written) stop(found)
        last$note <<- plain_message(found)
      } else {
        if (!written) found <- with_held_blend(found)
        last <<- list(cmp = found, version = now, note = "")
      }
      last$written <<- written
    }
    last
  }
  list(read = read)
}

# With the blend that its plan asks for, once the run is over; a page does not wait for fits.
with_held_blend <- function(cmp) {
  wanted <- planned_rule(cmp$plan)$blend
  tryCatch(with_wanted_blend(cmp, wanted, NULL, minutes = 0), kw_error = function(e) cmp)
}

# Requests ------------------------------------------------------------------------------------

# An httpuv application: everything is below the token, and asked for with GET from this machine.
view_app <- function(source, token, port) {
  hosts <- paste0(c("127.0.0.1:", "localhost:"), port)
  list(call = function(request) {
    if (!(request$HTTP_HOST %||% "") %in% hosts) return(view_answer(403L, "Not from here."))
    if (request$REQUEST_METHOD != "GET") return(view_answer(405L, "This page only reads."))
    path <- strsplit(request$PATH_INFO, "/", fixed = TRUE)[[1]]
    if (length(path) < 2L || path[2] != token) return(view_answer(404L, "There is nothing here."))
    what <- if (length(path) > 2L) path[3] else "page"
    tryCatch(suppressWarnings({
      asked <- view_query(request$QUERY_STRING)
      switch(what,
        page = view_answer(200L, view_page(), "text/html; charset=utf-8"),
        facts = view_json(view_facts(source$read(), asked)),
        choice = view_json(view_choice(source$read()$cmp, asked)),
        threshold = view_json(view_threshold(source$read()$cmp, asked)),
        view_answer(404L, "There is nothing here.")
      )
    }), error = function(e) view_json(list(error = plain_message(e))))
  })
}

view_answer <- function(status, body, type = "text/plain; charset=utf-8") {
  list(status = status, body = body, headers = list(
    "Content-Type" = type, "Cache-Control" = "no-store", "X-Content-Type-Options" = "nosniff",
    "Referrer-Policy" = "no-referrer",
    "Content-Security-Policy" = paste(
      "default-src 'none'; script-src 'unsafe-inline'; style-src 'unsafe-inline';",
      "img-src data:; connect-src 'self'"
    )
  ))
}

view_json <- function(facts) view_answer(200L, page_json(facts), "application/json; charset=utf-8")

# "?a=1&b=2" as a named list of texts.
view_query <- function(text) {
  pairs <- strsplit(sub("^\\?", "", text %||% ""), "&", fixed = TRUE)[[1]]
  parts <- strsplit(pairs[nzchar(pairs)], "=", fixed = TRUE)
  values <- vapply(parts, function(p) utils::URLdecode(paste(p[-1], collapse = "=")), "")
  as.list(stats::setNames(values, vapply(parts, `[`, "", 1L)))
}

# What the page shows ----------------------------------------------------------------------------

# So many settings are sent to a live page.
most_view_settings <- 5000L

view_facts <- function(now, asked) {
  if (is.null(now$cmp)) return(list(version = "", note = now$note, written = TRUE))
  if (identical(asked$known, now$version) && identical(asked$written, format(now$written))) {
    return(list(version = now$version, note = now$note, same = TRUE))
  }
  cmp <- now$cmp
  metric <- if (nzchar(asked$metric %||% "")) asked$metric
  list(
    version = now$version, written = now$written, note = now$note,
    title = paste("Predicting", brief_of(cmp)$outcome),
    progress = view_progress(cmp, now$written), event = has_event(brief_of(cmp)$kind),
    metrics = I(names(metrics_of(cmp))), rules = I(names(known_members("rule"))),
    margins = I(names(Filter(function(make) !is.null(make()$margin), known_members("rule")))),
    facts = page_facts(cmp, metric, most = most_view_settings),
    pairs = view_pairs(cmp, metric)
  )
}

view_progress <- function(cmp, written) {
  results <- cmp$results
  done <- sum(results$done)
  # what was dropped needs no more scores
  dropped <- unique(results$dropped$at)
  all <- length(results$done) - sum(!results$done[dropped, ])
  state <- if (written) {
    ", being run"
  } else if (!is.null(cmp$stopped)) {
    paste0(", stopped by ", cmp$stopped)
  } else if (done < all) {
    ", broken off"
  }
  list(
    done = done, all = all, seconds = cmp$seconds,
    text = paste0(
      format(done, big.mark = ","), " of ", count_of(all, "score"), state, "; ",
      count_of(length(results$candidate), "setting"),
      if (length(dropped) > 0L) paste0(" (", format(length(dropped), big.mark = ","), " dropped)"),
      " of ", count_of(length(spaces_of(cmp)), "candidate"), "; ", splits_label(cmp$plan)
    )
  )
}

view_pairs <- function(cmp, metric) {
  found <- tryCatch(compare_pairs(cmp, metric), kw_error = function(e) NULL)
  if (is.null(found)) return(I(list()))
  text <- function(x) {
    unname(mapply(round_to, x, pmax(abs(found$high - found$low) / 4, 0), SIMPLIFY = TRUE))
  }
  data.frame(
    first = found$first, second = found$second, difference = text(found$difference),
    low = text(found$low), high = text(found$high), answer = found$answer
  )
}

# What a rule chooses, in words, as code and as lines of a plan file.
view_choice <- function(cmp, asked) {
  margin <- if (nzchar(asked$margin %||% "")) as.numeric(asked$margin)
  metric <- if (nzchar(asked$metric %||% "")) asked$metric
  choice <- select_final(cmp, asked$rule, margin = margin, metric = metric, blend = FALSE)
  said <- paste0(
    if (!is.null(margin)) paste0(", margin = ", format(margin)),
    # the page chooses among what it shows
    if (!isFALSE(planned_rule(cmp$plan)$blend) && !has_blends(cmp)) ", blend = FALSE"
  )
  list(
    name = choice_name(cmp, choice$at), reason = choice$reason,
    mean = with_spread(choice$mean, choice$se),
    code = paste0("choice <- select_final(cmp, rule = \"", choice$rule, "\"", said, ")"),
    plan = paste0("rule: ", if (is.null(margin)) choice$rule else
      paste0("{", choice$rule, ": {margin: ", format(margin), "}}"))
  )
}

view_threshold <- function(cmp, asked) {
  costs <- c(missed = as.numeric(asked$missed), false_alarm = as.numeric(asked$false_alarm))
  choice <- set_threshold(select_final(cmp, rule = asked$rule, blend = FALSE), costs = costs)
  list(
    reason = choice$threshold$reason, threshold = choice$threshold$value,
    code = paste0(
      "set_threshold(choice, costs = c(missed = ", costs[[1]], ", false_alarm = ", costs[[2]], "))"
    )
  )
}
