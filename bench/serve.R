# What serving costs beside predicting: the demo's model in a process of its own, asked over
# loopback by a load generator (ab, of apache2-utils), against predict() in a loop. Then 10,000
# requests that are none, and what the process keeps in memory over 100,000 requests.

source("bench/common.R")

if (!nzchar(Sys.which("ab"))) {
  cat("serve.R needs ab (apache2-utils); left out\n")
  quit(status = 0)
}

many <- as.integer(Sys.getenv("SERVE_REQUESTS", "100000"))
pots <- demo_pots()
job <- brief(pots,
  outcome = "cracked", event = "yes", id = "pot_id", group = "firing_id",
  ignore = c("shrinkage_pct", "grade", "notes")
)
cmp <- run_comparison(job, candidates(
  tree = pipeline(pre_missing(), fam_tree()),
  line = pipeline(pre_missing(), pre_onehot(), fam_penalised(penalty = 0.01))
), splits = split_kfold(3), seed = 1, quiet = TRUE, workers = 1)
model <- fit_final(select_final(cmp, "best_mean"))
file <- tempfile(fileext = ".kilnwright")
save_model(model, file)

port <- httpuv::randomPort(min = 20000L)
log <- tempfile()
command <- system.file("exec", "kilnwright", package = "kilnwright")
system2(file.path(R.home("bin"), "Rscript"),
  c(shQuote(command), "serve", shQuote(file), "--port", port, "--trust"),
  stdout = log, stderr = log, wait = FALSE
)
address <- paste0("http://127.0.0.1:", port)
while (!any(grepl("^http", suppressWarnings(readLines(log))))) Sys.sleep(0.1)
pid <- system2("pgrep", c("-f", shQuote(paste0("[-]-port ", port))), stdout = TRUE)
pid <- pid[length(pid)]
resident <- function() {
  lines <- readLines(file.path("/proc", pid, "status"))
  as.numeric(gsub("[^0-9]", "", grep("^VmRSS", lines, value = TRUE))) / 1024
}

json_of <- function(rows) {
  body <- tempfile(fileext = ".json")
  writeLines(jsonlite::toJSON(rows, na = "null", digits = NA, Date = "ISO8601"), body)
  body
}

# list(each, p99), milliseconds; refused, how many answers were no 200.
load <- function(body, n, at_once = 4) {
  found <- system2("ab",
    c("-q", "-n", n, "-c", at_once, "-p", body, "-T", "application/json",
      paste0(address, "/predict")), stdout = TRUE, stderr = FALSE
  )
  number <- function(pattern) {
    line <- grep(pattern, found, value = TRUE)
    value <- sub("[^0-9.]*([0-9.]+).*", "\\1", sub("^[^:%]*[:%]", "", line[1]))
    if (length(line) > 0L) as.numeric(value)
  }
  list(
    each = 1000 / number("^Requests per second"), p99 = number("^ *99%"),
    refused = c(number("^Non-2xx"), 0)[1]
  )
}

for (rows in c(1, 100, 1000)) {
  new <- pots[rep_len(seq_len(nrow(pots)), rows), ]
  n <- c("1" = 4000, "100" = 1000, "1000" = 200)[[as.character(rows)]]
  bare <- 1000 * seconds_of(for (i in 1:50) predict(model, new))$seconds / 50
  found <- load(json_of(new), n)
  stopifnot(found$refused == 0)
  cat(sprintf(paste(
    "%5d rows a request: %.1f ms a request, %.1f of predict() alone (%.1f ms);",
    "%.0f rows a second; 99 in 100 within %.0f ms of 4 at once\n"
  ), rows, found$each, found$each / bare, bare, 1000 * rows / found$each, found$p99))
}

bad <- tempfile()
writeLines("[{\"kiln\": \"north\", \"wall_mm\": \"thick\"}, ", bad)
found <- load(bad, 10000)
cat(sprintf("10,000 malformed requests: %.0f refused, %.1f ms each\n", found$refused, found$each))

one <- json_of(pots[1, ])
load(one, 2000)
before <- resident()
found <- load(one, many)
cat(sprintf(
  "%s requests: %.0f MB resident before, %.0f MB after (wanted: no growth); %.0f refused\n",
  format(many, big.mark = ",", scientific = FALSE), before, resident(), found$refused
))
system2("kill", pid)
