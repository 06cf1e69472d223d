# A model served over HTTP, asked through real sockets.

served <- new.env()

# A model with categories, codes with leading zeros, flags, dates and texts; made once.
model_to_serve <- function() {
  if (is.null(served$model)) {
    n <- 120
    table <- withr::with_seed(8, data.frame(
      id = sprintf("p%03d", seq_len(n)), size = rnorm(n), code = rep(c("007", "012", "100"), n / 3),
      dry = rep(c(TRUE, FALSE, TRUE, TRUE), n / 4), when = as.Date("2031-01-01") + seq_len(n)
    ))
    table$heat <- table$size + (table$code == "007") + withr::with_seed(9, rnorm(n, sd = 0.1))
    job <- brief(table, "heat", id = "id")
    cmp <- quiet_run(job, candidates(tree = pipeline(pre_dates(), fam_tree())),
      splits = split_kfold(4), seed = 1, workers = 1
    )
    served$table <- table
    served$model <- fit_final(select_final(cmp), intervals = TRUE)
  }
  served$model
}

local_service <- function(..., env = parent.frame()) {
  service <- serve_model(model_to_serve(), ...)
  withr::defer(service$stop(), envir = env)
  service
}

# Sends bytes as they are, and takes what comes: list(status, head, body, json).
ask_raw <- function(service, bytes, seconds = 20) {
  port <- as.integer(sub("^.*:([0-9]+)/$", "\\1", service$address))
  con <- socketConnection("127.0.0.1", port, open = "r+b", blocking = FALSE, timeout = 5)
  on.exit(close(con))
  writeBin(if (is.character(bytes)) charToRaw(bytes) else bytes, con)
  got <- raw()
  end <- Sys.time() + seconds
  repeat {
    httpuv::service(10)
    got <- c(got, readBin(con, "raw", 1e6))
    text <- if (length(got) > 0L) rawToChar(got) else ""
    split <- regexpr("\r\n\r\n", text, fixed = TRUE, useBytes = TRUE)
    if (split > 0L) {
      head <- substr(text, 1, split - 1)
      length <- as.numeric(sub("(?is)^.*content-length: ([0-9]+).*$", "\\1", head, perl = TRUE))
      if (length(got) >= split + 3 + length) break
    }
    if (Sys.time() > end) return(list(status = NA, head = "", body = text))
  }
  body <- substring(text, split + 4)
  Encoding(body) <- "UTF-8"
  list(
    status = as.integer(substr(head, 10, 12)), head = head, body = body,
    json = if (grepl("application/json", head)) jsonlite::fromJSON(body, simplifyVector = FALSE)
  )
}

ask <- function(service, path, body = NULL, type = "application/json", method = NULL, more = NULL) {
  host <- sub("^http://(.*)/$", "\\1", service$address)
  bytes <- if (is.character(body)) charToRaw(enc2utf8(paste(body, collapse = "\n"))) else body
  method <- method %||% if (is.null(body)) "GET" else "POST"
  head <- paste0(c(
    paste(method, path, "HTTP/1.1"), paste("Host:", host), "Connection: close",
    if (!is.null(body)) c(paste("Content-Type:", type), paste("Content-Length:", length(bytes))),
    more
  ), "\r\n", collapse = "")
  ask_raw(service, c(charToRaw(paste0(head, "\r\n")), bytes))
}

`%||%` <- function(x, y) if (is.null(x)) y else x

rows_json <- function(table) jsonlite::toJSON(table, na = "null", digits = NA, Date = "ISO8601")

test_that("rows as JSON and as CSV get the model's predictions, in order, with their ids", {
  skip_if_not_installed("httpuv")
  service <- local_service()
  model <- model_to_serve()
  new <- served$table[c(7, 3, 50), ]
  wanted <- predict(model, new)$value
  found <- ask(service, "/predict", rows_json(new))
  expect_identical(found$status, 200L)
  expect_equal(vapply(found$json$predictions, `[[`, 0, "value"), wanted, tolerance = 1e-12)
  expect_identical(vapply(found$json$predictions, `[[`, "", "id"), new$id)
  expect_identical(found$json[c("rows", "mended", "never_seen")],
    list(rows = 3L, mended = 0L, never_seen = 0L)
  )
  one <- ask(service, "/predict", paste0("{\"rows\":", rows_json(new[1, ]), "}"))
  expect_equal(one$json$predictions[[1]]$value, wanted[1], tolerance = 1e-12)

  csv <- paste(utils::capture.output(utils::write.csv(new, row.names = FALSE)), collapse = "\n")
  found <- ask(service, "/predict", csv, "text/csv; charset=utf-8", more = "Accept: text/csv")
  expect_match(found$head, "text/csv", fixed = TRUE)
  table <- utils::read.csv(text = found$body)
  expect_equal(table$value, wanted, tolerance = 1e-12)
  expect_identical(table$id, new$id)

  found <- ask(service, "/predict?type=interval&level=0.8", rows_json(new))
  expect_equal(
    vapply(found$json$predictions, `[[`, 0, "low"),
    predict(model, new, type = "interval", level = 0.8)$low, tolerance = 1e-12
  )
  expect_identical(service$counts()$rows, 10)
})

test_that("what can be read in one way only is mended and counted, as are levels never seen", {
  skip_if_not_installed("httpuv")
  service <- local_service()
  model <- model_to_serve()
  found <- ask(service, "/predict", paste0(
    "[{\"size\": \"0.5\", \"code\": 7, \"dry\": true, \"when\": \"2031-02-03\", \"more\": 1},",
    " {\"size\": null, \"code\": \"zz\", \"dry\": \"false\", \"when\": null, \"more\": 2}]"
  ))
  expect_identical(found$status, 200L)
  same <- data.frame(
    size = c(0.5, NA), code = c("007", "zz"), dry = c(TRUE, FALSE),
    when = as.Date(c("2031-02-03", NA))
  )
  expect_equal(
    vapply(found$json$predictions, `[[`, 0, "value"), predict(model, same)$value, tolerance = 1e-12
  )
  expect_identical(found$json$never_seen, 1L)
  codes <- vapply(found$json$remarks, function(r) paste(r$code, r$where), "")
  expect_true(all(c("mended size", "never_seen code", "not_used more") %in% codes))
})

test_that("rows that cannot be read are refused: which row, which column, what was expected", {
  skip_if_not_installed("httpuv")
  service <- local_service()
  good <- "{\"size\": 1, \"code\": \"007\", \"dry\": true, \"when\": \"2031-02-03\"}"
  bad <- function(...) paste0("[", paste(c(good, ...), collapse = ","), "]")
  with <- function(name, value) {
    sub(paste0("\"", name, "\": [^,}]+"), paste0("\"", name, "\": ", value), good)
  }
  problems <- function(body) {
    found <- ask(service, "/predict", body)
    expect_identical(found$status, 422L)
    lapply(found$json$problems, function(p) paste(p$row, p$column, p$expected, p$got, sep = "|"))
  }
  expect_identical(
    problems(bad(with("size", "\"wide\""), with("when", "\"soon\""), with("dry", "5"))),
    list(
      "2|size|a number|wide", "3|when|a date (like 2031-05-17)|soon", "4|dry|TRUE or FALSE|5"
    )
  )
  expect_identical(
    problems(bad("{\"size\": 1, \"code\": \"007\", \"when\": null}")),
    list("2|dry|TRUE or FALSE, or null|nothing")
  )
  expect_identical(
    problems(bad(with("size", "[1, 2]"), with("code", "{\"a\": 1}"))),
    list(
      "2|size|a number|several values",
      "3|code|a level, such as '007', '012', '100'|several values"
    )
  )
  expect_identical(problems(bad(with("size", "1e999"))), list("2|size|a finite number|Inf"))
  expect_identical(
    problems(bad(sub("}", ", \"size\": 2}", good, fixed = TRUE))), list("2|size|one value|two")
  )
  many <- ask(service, "/predict", bad(rep(with("size", "\"wide\""), 150)))$json
  expect_identical(length(many$problems), 100L)
  expect_identical(many$problems_in_all, 150L)
  expect_match(many$error, "150 rows of 151 cannot be read; nothing was predicted.", fixed = TRUE)
  expect_identical(service$counts()$rows, 0)
})

test_that("wrong requests get the status that says what is wrong, and the service goes on", {
  skip_if_not_installed("httpuv")
  service <- local_service(most_rows = 3, most_bytes = 5000)
  status <- function(...) ask(service, ...)$status
  row <- "{\"size\": 1, \"code\": \"007\", \"dry\": true, \"when\": \"2031-02-03\"}"
  rows <- paste0("[", row, "]")
  expect_identical(status("/nowhere"), 404L)
  expect_identical(status("/predict"), 405L)
  expect_match(ask(service, "/predict")$head, "Allow: POST", fixed = TRUE)
  expect_identical(status("/model", rows), 405L)
  for (body in c(
    "", "nonsense", "[]", "{}", "[1, 2]", "{\"rows\": []}", "true", "\"text\"", "[[]]", "[NaN]",
    "[{\"size\": NaN}]", "[null]", strrep("[", 4000), "\xff\xfe", "{\"rows\": 7}"
  )) {
    expect_identical(status("/predict", body), 400L, info = body)
  }
  expect_identical(status("/predict", as.raw(c(0x5b, 0, 0x5d))), 400L)
  expect_identical(status("/predict", rows, "text/plain"), 415L)
  expect_identical(status("/predict", rows, "application/json; charset=latin1"), 415L)
  expect_identical(status("/predict", rows, more = "Content-Encoding: gzip"), 415L)
  expect_identical(status("/predict", paste0("[", strrep(" ", 6000), "]")), 413L)
  expect_identical(
    status("/predict", paste0("[", paste(rep(row, 4), collapse = ","), "]")), 413L
  )
  expect_identical(status("/predict?typ=value", rows), 400L)
  expect_identical(status("/predict?type=class", rows), 400L)
  expect_identical(status("/predict?level=2", rows), 400L)
  # too high for so few rows
  found <- ask(service, "/predict?type=interval&level=0.9999", rows)
  expect_identical(found$status, 400L)
  expect_match(found$json$error, "level", fixed = TRUE)
  expect_identical(status("/predict", "size,code\n1,2,3\n", "text/csv"), 400L)
  expect_identical(status("/predict", "size\n1\n", "text/csv"), 422L)
  expect_identical(status("/predict", "[{}]"), 422L)

  host <- sub("^http://(.*)/$", "\\1", service$address)
  plain <- function(...) paste0(c(...), "\r\n", collapse = "")
  expect_identical(ask_raw(service, plain(
    "POST /predict HTTP/1.1", paste("Host:", host), "Connection: close",
    "Content-Type: application/json", "Transfer-Encoding: chunked", "", "2", "[]", "0", ""
  ))$status, 411L)
  expect_identical(ask_raw(service, plain(
    "GET /model HTTP/1.1", "Host: somewhere.example", "Connection: close", ""
  ))$status, 403L)
  # half a request, and none at all
  half <- ask_raw(service, plain("POST /predict HTTP/1.1", paste("Host:", host),
    "Content-Type: application/json", "Content-Length: 100", "", "["
  ), seconds = 0.3)
  expect_true(is.na(half$status))
  ask_raw(service, as.raw(withr::with_seed(1, sample(0:255, 300, TRUE))), seconds = 0.3)

  expect_identical(status("/predict", rows), 200L)
  counts <- service$counts()
  expect_identical(counts$rows, 1)
  health <- ask(service, "/health")$json
  expect_identical(health$status, "ok")
  expect_gt(health$refused, 10)
})

test_that("a token is asked for, and only where it is said", {
  skip_if_not_installed("httpuv")
  service <- local_service(token = "kiln secret")
  expect_identical(ask(service, "/model")$status, 401L)
  expect_identical(ask(service, "/model", more = "Authorization: Bearer kiln")$status, 401L)
  expect_identical(ask(service, "/model", more = "Authorization: Bearer kiln secret")$status, 200L)
  expect_identical(ask(service, "/health")$status, 200L)
  described <- ask(service, "/openapi.json", more = "Authorization: Bearer kiln secret")$json
  expect_identical(described$components$securitySchemes$token$scheme, "bearer")
})

test_that("what the model is and how to ask it can be read by programs", {
  skip_if_not_installed("httpuv")
  service <- local_service()
  about <- ask(service, "/model")$json
  expect_identical(about$outcome, "heat")
  expect_identical(
    lapply(about$columns, function(c) c[c("name", "kind")]),
    list(
      list(name = "size", kind = "number"), list(name = "code", kind = "category"),
      list(name = "dry", kind = "category"), list(name = "when", kind = "date")
    )
  )
  expect_identical(unlist(about$columns[[2]]$levels), c("007", "012", "100"))
  expect_identical(unlist(about$types), c("value", "interval"))
  described <- ask(service, "/openapi.json")$json
  expect_identical(described$openapi, "3.1.0")
  expect_identical(
    names(described$paths), c("/predict", "/health", "/model", "/openapi.json")
  )
  row <- described$components$schemas$Row
  expect_identical(unlist(row$required), c("size", "code", "dry", "when"))
  expect_identical(unlist(row$properties$dry$type), c("boolean", "null"))
  # every reference is to a part that there is
  text <- jsonlite::toJSON(described, auto_unbox = TRUE)
  named <- regmatches(text, gregexpr("(?<=#/components/schemas/)[A-Za-z]+", text, perl = TRUE))
  expect_setequal(named[[1]], names(described$components$schemas))
})

test_that("arguments of a service that make no sense are refused", {
  skip_if_not_installed("httpuv")
  expect_error(serve_model(1), "model", class = "kw_error_argument")
  model <- model_to_serve()
  expect_error(serve_model(model, port = 0), "port", class = "kw_error_argument")
  expect_error(serve_model(model, most_rows = 0), "most_rows", class = "kw_error_argument")
  expect_error(serve_model(model, token = ""), "token", class = "kw_error_argument")
  service <- local_service()
  port <- as.integer(sub("^.*:([0-9]+)/$", "\\1", service$address))
  expect_error(serve_model(model, port = port), "Nothing can be served", class = "kw_error_view")
  expect_error(serve_model(model, host = "no such place"), class = "kw_error_view")
})

test_that("kilnwright serve answers, and ends when it is asked to", {
  skip_if_not_installed("httpuv")
  skip_on_os("windows")
  file <- withr::local_tempfile(fileext = ".kilnwright")
  save_model(model_to_serve(), file)
  out <- withr::local_tempfile()
  err <- withr::local_tempfile()
  port <- httpuv::randomPort(min = 20000L)
  command <- system.file("exec", "kilnwright", package = "kilnwright")
  served <- start_r(c(command, "serve", file, "--port", port, "--trust"), out = out, err = err)
  address <- paste0("http://127.0.0.1:", port, "/health")
  found <- NULL
  # R's own connections to what is not there yet would be used up where it takes long to start
  eventually(function() identical((found <<- nanonext::ncurl(address))$status, 200L))
  expect_match(found$data, "\"status\":\"ok\"", fixed = TRUE)
  expect_identical(readLines(out), paste0("http://127.0.0.1:", port, "/"))
  served$signal(tools::SIGTERM)
  expect_true(eventually(function() !served$is_alive()))
  said <- readLines(err)
  expect_match(said[2], "Ended after 1 request and 0 rows; 0 refused.", fixed = TRUE)
})
