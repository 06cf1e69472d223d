# A real browser without a window, asked over the W3C's WebDriver protocol (chromedriver).

has_browser <- function() all(nzchar(Sys.which(c("chromedriver", "chromium"))))

# Opens a page; the browser is closed when `env` is left. `do(script, ...)` runs JavaScript in it.
open_browser <- function(address, width = 1280, height = 800, env = parent.frame()) {
  port <- sample(20000:40000, 1)
  # it leaves files where temporary ones are kept: in the session's folder, which goes with it
  system2("chromedriver", paste0("--port=", port), wait = FALSE, stdout = FALSE, stderr = FALSE,
    env = paste0("TMPDIR=", shQuote(tempdir())))
  ask <- function(path, body = NULL, method = if (is.null(body)) "GET" else "POST") {
    found <- nanonext::ncurl(paste0("http://127.0.0.1:", port, path),
      method = method, headers = c("Content-Type" = "application/json"),
      data = if (!is.null(body)) jsonlite::toJSON(body, auto_unbox = TRUE, null = "null"),
      timeout = 60000
    )
    if (is.character(found$data) && nzchar(found$data)) {
      jsonlite::fromJSON(found$data, simplifyVector = FALSE)$value
    }
  }
  withr::defer(ask("/shutdown"), envir = env)
  for (i in 1:600) {
    if (isTRUE(ask("/status")$ready)) break
    Sys.sleep(0.1)
  }
  session <- ask("/session", list(capabilities = list(alwaysMatch = list(
    "goog:loggingPrefs" = list(browser = "ALL", performance = "ALL"),
    "goog:chromeOptions" = list(args = list(
      "--headless=new", "--no-sandbox", "--disable-gpu", "--disable-background-networking",
      "--disable-dev-shm-usage", paste0("--window-size=", width, ",", height)
    ))
  ))))
  base <- paste0("/session/", session$sessionId)
  withr::defer(ask(base, method = "DELETE"), envir = env)
  ask(paste0(base, "/url"), list(url = address))
  list(
    do = function(script, ...) {
      ask(paste0(base, "/execute/sync"), list(script = script, args = I(list(...))))
    },
    # real movements of a pointer, from the middle of an element
    point = function(css, x = 0, y = 0, press = FALSE) {
      element <- ask(paste0(base, "/element"), list(using = "css selector", value = css))
      ask(paste0(base, "/actions"), list(actions = list(list(
        type = "pointer", id = "mouse", parameters = list(pointerType = "mouse"),
        actions = c(
          list(list(type = "pointerMove", duration = 50, x = x, y = y, origin = element)),
          if (press) lapply(c("pointerDown", "pointerUp"), function(t) list(type = t, button = 0))
        )
      ))))
    },
    keys = function(css, text) {
      element <- ask(paste0(base, "/element"), list(using = "css selector", value = css))
      ask(paste0(base, "/element/", element[[1]], "/value"), list(text = text))
    },
    shot = function() ask(paste0(base, "/screenshot")),
    log = function(type) ask(paste0(base, "/se/log"), list(type = type))
  )
}

# Addresses that the browser asked for, other than the page itself and what is inside it.
asked_elsewhere <- function(browser, page) {
  sent <- vapply(browser$log("performance"), `[[`, "", "message")
  sent <- lapply(sent, function(m) jsonlite::fromJSON(m, simplifyVector = FALSE)$message)
  sent <- Filter(function(m) m$method == "Network.requestWillBeSent", sent)
  addresses <- vapply(sent, function(m) m$params$request$url, "")
  addresses[!startsWith(addresses, "data:") & !startsWith(addresses, page)]
}

# Waits until JavaScript gives TRUE.
until <- function(browser, script, seconds = 60) {
  for (i in seq_len(seconds * 10)) {
    if (isTRUE(browser$do(script))) return(invisible(TRUE))
    Sys.sleep(0.1)
  }
  stop("in ", seconds, " s the page never had: ", script)
}
