#' Serve a model over HTTP
#'
#' Other programs send rows and get predictions: `POST /predict` takes rows as JSON or as CSV,
#' `GET /model` says what the model is and which columns it needs, `GET /health` that it works,
#' `GET /openapi.json` describes all of this for programs that write clients.
#'
#' Every row is checked against what the model was fitted on: what cannot be read is refused with
#' the row, the column and what was expected, and then nothing is predicted. What can be read in one
#' way only is mended, and counted in the answer, as are levels that were never seen (see
#' [check_new_data()]). Nothing that is sent is kept.
#'
#' It answers on this machine alone unless `host` says otherwise. There is no encryption: put it
#' behind a server that has it before other machines can reach it, and ask for a `token`. R answers
#' one request after another, while it is idle; `kilnwright serve MODEL` is a process of its own.
#'
#' @section Requests:
#' `POST /predict` with `Content-Type: application/json`: an array of rows, each an object with a
#' value or `null` for every column, or an object with `rows` (that array). With
#' `Content-Type: text/csv`: a table as [read_data()] takes it. In the address `type` and `level`
#' are as for [predict()][predict.kw_model]: `/predict?type=interval&level=0.8`. The answer is an
#' object with `predictions` (an object a row, in order, with the row's ids if it has any),
#' `rows`, `mended` (columns), `never_seen` (rows with levels that were never seen) and `remarks`;
#' with `Accept: text/csv` the predictions alone, as CSV.
#'
#' Refusals are objects with `error`, a sentence, and where rows are at fault `problems`, an array
#' of `row`, `column`, `expected` and `got` (the first hundred), and `problems_in_all`. Their
#' status: 400 (no JSON or CSV), 401 (no or another token), 403 (from another place), 404, 405
#' (another method), 411 (no length said), 413 (too large, or too many rows), 415 (another kind of
#' content), 422 (rows that cannot be read), 500 (the model failed).
#'
#' @param model A model from [fit_final()] or [open_model()].
#' @param port Port to listen on; default any that is free.
#' @param host Address to listen on: `"127.0.0.1"` (this machine alone), `"0.0.0.0"` (any).
#' @param token Text that requests must bring, as `Authorization: Bearer TOKEN`; `GET /health`
#'   is answered without. `NULL`: none is asked for.
#' @param most_rows,most_bytes Requests with more rows, or larger ones, are refused.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A list, invisibly: `address`; `stop()`, a function that ends the service; `counts()`, a
#'   function that gives how many requests and rows were answered, and how many were refused.
#' @section Errors:
#' `kw_error_argument` for anything but a model, `kw_error_view` when the address or port cannot be
#' listened on, `kw_error_package` when httpuv or a package of the model is not installed.
#' @seealso [predict()][predict.kw_model], [save_model()], [watch_drift()]
#' @examples
#' \donttest{
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree()),
#'   splits = split_kfold(3), seed = 1, quiet = TRUE
#' )
#' if (requireNamespace("httpuv", quietly = TRUE)) {
#'   service <- serve_model(fit_final(select_final(cmp)))
#'   service$address
#'   service$stop()
#' }
#' }
#' @export
serve_model <- function(
  model, port = NULL, host = "127.0.0.1", token = NULL, most_rows = 10000, most_bytes = 1e7, ...
) {
  no_more(...)
  check_class(model, "kw_model", "model", "Make one with fit_final().")
  if (!is.null(port)) check_number(port, "port", min = 1, max = 65535, whole = TRUE)
  check_string(host, "host")
  check_string(token, "token", null_ok = TRUE)
  check_number(most_rows, "most_rows", min = 1, whole = TRUE)
  check_number(most_bytes, "most_bytes", min = 100)
  need("httpuv", "Serving a model")
  desk <- NULL
  server <- listen_on(host, port, function(port) {
    desk <<- new_desk(model, host, port, token, most_rows, most_bytes)
    serve_app(desk)
  })
  shown <- if (grepl(":", host, fixed = TRUE)) paste0("[", host, "]") else host
  invisible(list(
    address = paste0("http://", shown, ":", server$port, "/"), stop = server$stop,
    counts = function() as.list(desk$counts)
  ))
}

# What a service knows: the model, its limits, and what was done so far.
new_desk <- function(model, host, port, token, most_rows, most_bytes) {
  local <- host %in% c("127.0.0.1", "::1", "localhost")
  desk <- new.env(parent = emptyenv())
  desk$model <- model
  desk$hosts <- if (local) paste0(c("127.0.0.1:", "localhost:", "[::1]:"), port)
  desk$token <- if (!is.null(token)) cli::hash_sha256(paste("Bearer", token))
  desk$most_rows <- most_rows
  desk$most_bytes <- most_bytes
  desk$counts <- list2env(list(requests = 0, rows = 0, refused = 0, since = Sys.time()))
  desk
}

# An httpuv application. What can be refused by its head is not read.
serve_app <- function(desk) {
  list(
    onHeaders = function(request) {
      tryCatch(refused_by_head(desk, request), error = function(e) serve_refusal(400L, "Bad head."))
    },
    call = function(request) {
      answer <- tryCatch(suppressWarnings(serve_answer(desk, request)), error = function(e) {
        if (inherits(e, "serve_refused")) e$answer else serve_refusal(500L, plain_message(e))
      })
      desk$counts$requests <- desk$counts$requests + 1
      if (answer$status >= 400L) desk$counts$refused <- desk$counts$refused + 1
      answer
    }
  )
}

serve_methods <- c(
  "/predict" = "POST", "/health" = "GET", "/model" = "GET", "/openapi.json" = "GET"
)

# NULL, or the answer to a request whose body need not be read.
refused_by_head <- function(desk, request) {
  if (!is.null(desk$hosts) && !(request$HTTP_HOST %||% "") %in% desk$hosts) {
    return(serve_refusal(403L, "This service answers on its own machine alone."))
  }
  path <- request$PATH_INFO
  if (!path %in% names(serve_methods)) {
    return(serve_refusal(404L, paste0(
      "There is nothing here; ask for ", enumerate(names(serve_methods)), "."
    )))
  }
  wanted <- serve_methods[[path]]
  if (request$REQUEST_METHOD != wanted) {
    return(serve_refusal(405L, paste0(path, " takes ", wanted, " alone."), list(Allow = wanted)))
  }
  brought <- cli::hash_sha256(request$HTTP_AUTHORIZATION %||% "")
  if (path != "/health" && !is.null(desk$token) && brought != desk$token) {
    return(serve_refusal(
      401L, "Bring the token, as Authorization: Bearer TOKEN.", list("WWW-Authenticate" = "Bearer")
    ))
  }
  if (wanted == "POST") refused_content(desk, request)
}

refused_content <- function(desk, request) {
  if (!is.null(request$HTTP_TRANSFER_ENCODING) || is.null(request$HTTP_CONTENT_LENGTH)) {
    return(serve_refusal(411L, "Say how long the content is: Content-Length."))
  }
  length <- suppressWarnings(as.numeric(request$HTTP_CONTENT_LENGTH))
  if (is.na(length) || length < 0) return(serve_refusal(400L, "Content-Length is no length."))
  if (length > desk$most_bytes) {
    return(serve_refusal(413L, paste0(
      "The content has ", request$HTTP_CONTENT_LENGTH, " bytes; at most ",
      format(desk$most_bytes, big.mark = ",", scientific = FALSE), " are taken."
    )))
  }
  kind <- content_kind(request)
  if (!kind$type %in% c("application/json", "text/csv")) {
    return(serve_refusal(415L, "Send application/json or text/csv (Content-Type)."))
  }
  if (!kind$charset %in% c("", "utf-8", "utf8", "us-ascii")) {
    return(serve_refusal(415L, "Send UTF-8."))
  }
  coded <- tolower(request$HTTP_CONTENT_ENCODING %||% "identity")
  if (coded != "identity") serve_refusal(415L, "Send the content as it is, not packed.")
}

content_kind <- function(request) {
  parts <- trimws(strsplit(tolower(request$HTTP_CONTENT_TYPE %||% ""), ";", fixed = TRUE)[[1]])
  charset <- grep("^charset=", parts, value = TRUE)
  list(type = c(parts, "")[1], charset = gsub("^charset=|\"", "", c(charset, "")[1]))
}

# ---- answers ----

serve_answer <- function(desk, request) {
  # once more: not every request has its head looked at alone
  refused <- refused_by_head(desk, request)
  if (!is.null(refused)) return(refused)
  switch(request$PATH_INFO,
    "/health" = serve_json(c(list(status = "ok"), health_facts(desk))),
    "/model" = serve_json(served_facts(desk$model)),
    "/openapi.json" = serve_json(openapi_facts(desk)),
    "/predict" = serve_predictions(desk, request)
  )
}

health_facts <- function(desk) {
  list(
    outcome = desk$model$outcome, requests = desk$counts$requests, rows = desk$counts$rows,
    refused = desk$counts$refused,
    since = format(desk$counts$since, "%Y-%m-%dT%H:%M:%SZ", tz = "UTC")
  )
}

serve_predictions <- function(desk, request) {
  asked <- predict_options(desk$model, request$QUERY_STRING)
  bytes <- request$rook.input$read()
  new <- if (content_kind(request)$type == "text/csv") {
    rows_of_csv(desk$model, bytes)
  } else {
    rows_of_json(desk$model, bytes)
  }
  if (nrow(new) > desk$most_rows) {
    refuse_request(413L, paste0(
      "There are ", nrow(new), " rows; at most ", desk$most_rows, " are taken at once."
    ))
  }
  frame <- served_frame(desk$model, new)
  # what was asked for and cannot be, such as a level that is too high for so few rows
  predicted <- tryCatch(
    prediction_table(desk$model, frame, asked$type, asked$level),
    kw_error_argument = function(e) refuse_request(400L, plain_message(e))
  )
  found <- beside_ids(desk$model, new, predicted)
  desk$counts$rows <- desk$counts$rows + nrow(new)
  if (grepl("text/csv", request$HTTP_ACCEPT %||% "", fixed = TRUE)) {
    return(serve_body(200L, csv_bytes(found), "text/csv; charset=utf-8"))
  }
  remarks <- serve_remarks(desk$model, new, frame)
  serve_json(c(list(predictions = json_rows(found), rows = nrow(new)), remarks))
}

# `type` and `level` of an address, as predict() takes them.
predict_options <- function(model, query) {
  asked <- tryCatch(view_query(query), error = function(e) {
    refuse_request(400L, "The address cannot be read after its question mark.")
  })
  strange <- setdiff(names(asked), c("type", "level"))
  if (length(strange) > 0L) {
    refuse_request(400L, paste0("There is no ", quoted(strange[1]), " to ask for: type, level."))
  }
  level <- suppressWarnings(as.numeric(asked$level %||% "0.9"))
  if (is.na(level) || level <= 0 || level >= 1) {
    refuse_request(400L, "level must be a number between 0 and 1.")
  }
  if (!is.null(asked$type)) check_served_type(model, asked$type)
  list(type = asked$type, level = level)
}

check_served_type <- function(model, type) {
  known <- served_types(model)
  if (!type %in% known) {
    refuse_request(400L, paste0("type must be one of ", enumerate(quoted(known)), "."))
  }
}

served_types <- function(model) {
  c(
    if (has_classes(model$kind)) c("class", "probability") else
      if (is_wide(model$kind)) "quantiles" else "value",
    if (!is.null(model$folds)) "interval"
  )
}

serve_remarks <- function(model, new, frame) {
  remarks <- remarks_on_new(model, new, frame)
  strange <- rep(FALSE, nrow(new))
  for (name in remarks$where[remarks$code == "never_seen"]) {
    x <- recode_missing(new[[name]], model$missing_codes[[name]])
    strange <- strange | !is.na(unseen_levels(x, frame$columns[[name]], model$schema[[name]]))
  }
  list(
    mended = sum(remarks$code == "mended"), never_seen = sum(strange),
    remarks = as.data.frame(remarks)[c("code", "where", "detail")]
  )
}

# Rows as objects, whatever their number.
json_rows <- function(columns) {
  columns <- lapply(columns, function(x) if (is.factor(x)) as.character(x) else x)
  as.data.frame(columns, check.names = FALSE, optional = TRUE)
}

serve_json <- function(facts, status = 200L, headers = NULL) {
  body <- charToRaw(enc2utf8(page_json(facts)))
  serve_body(status, body, "application/json; charset=utf-8", headers)
}

serve_body <- function(status, body, type, headers = NULL) {
  list(status = status, body = body, headers = c(list(
    "Content-Type" = type, "Cache-Control" = "no-store", "X-Content-Type-Options" = "nosniff"
  ), headers))
}

serve_refusal <- function(status, says, headers = NULL, problems = NULL) {
  serve_json(c(list(error = says), problems), status, headers)
}

# Ends the request that is being answered.
refuse_request <- function(status, says, problems = NULL) {
  stop(structure(
    class = c("serve_refused", "error", "condition"),
    list(message = says, call = NULL, answer = serve_refusal(status, says, problems = problems))
  ))
}
