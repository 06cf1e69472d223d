# Small made-up tables, and shorthands that several test files use.

# Workers are for tests that ask for them: files run on all cores as it is.
options(mc.cores = 1L)

kw <- function(name) get(name, envir = asNamespace("kilnwright"))

toy <- function(n = 150, seed = 1, missing = FALSE) {
  withr::with_seed(seed, {
    t <- data.frame(
      x1 = rnorm(n), x2 = runif(n, 0, 5), x3 = rnorm(n, 10, 3),
      colour = sample(c("blue", "green", "red"), n, replace = TRUE),
      batch = rep(seq_len(ceiling(n / 5)), each = 5)[seq_len(n)]
    )
    signal <- t$x1 + 0.5 * t$x2 * (t$colour == "red") - 0.1 * t$x3
    t$number <- signal + rnorm(n)
    t$two <- ifelse(signal + rnorm(n) > 0, "yes", "no")
    t$three <- as.character(cut(signal + rnorm(n), c(-Inf, -0.6, 0.6, Inf),
      c("low", "mid", "high")))
    if (missing) {
      t$x1[sample(n, n / 10)] <- NA
      t$colour[sample(n, n / 10)] <- NA
    }
    t
  })
}

outcomes <- c(number = "number", two_class = "two", many_class = "three")

toy_brief <- function(kind = "two_class", table = toy(), group = NULL) {
  outcome <- outcomes[[kind]]
  others <- setdiff(unname(outcomes), outcome)
  brief(table,
    outcome = outcome, event = if (kind == "two_class") "yes",
    ignore = c(others, if (is.null(group)) "batch"), group = group
  )
}

# Another function in the package's place, until the test ends.
local_stand_in <- function(name, value, env = parent.frame()) {
  home <- asNamespace("kilnwright")
  put <- function(value) {
    unlockBinding(name, home)
    assign(name, value, envir = home)
    lockBinding(name, home)
  }
  kept <- get(name, envir = home)
  put(value)
  withr::defer(put(kept), envir = env)
}

# Rows that were set aside were opened by nobody yet, as in a session that begins: test files share
# theirs, in an order that changes.
local_nothing_opened <- function(env = parent.frame()) {
  local_stand_in("seal_register", new.env(parent = emptyenv()), env)
}

# What run_comparison() gives is that of a run that was interrupted before anything was done.
local_interruption <- function(env = parent.frame()) {
  local_stand_in("run_stage", function(...) "an interruption", env)
}

quiet_run <- function(...) run_comparison(..., quiet = TRUE)

pots_brief <- function(...) {
  brief(demo_pots(),
    outcome = "cracked", event = "yes", id = "pot_id", group = "firing_id",
    ignore = c("shrinkage_pct", "grade"),
    missing_codes = list(glaze = "n/r", drying_days = -999), ...
  )
}

# A small comparison that several files read; made once.
store <- new.env()
toy_comparison <- function() {
  if (is.null(store$cmp)) {
    store$cmp <- quiet_run(
      toy_brief(), candidates(
        baseline = fam_baseline(),
        tree = pipeline(pre_missing(), fam_tree(
          pruning = among(0.001, 0.01, 0.05, 0.2),
          impurity = among("gini", "information")
        )),
        penalised = fam_penalised(penalty = from_to(0.001, 1, "log", 5), lasso_share = among(0, 1))
      ),
      splits = split_kfold(5, repeats = 2), metrics = c("auc", "log_loss"), seed = 3,
      keep = "training_scores"
    )
  }
  store$cmp
}

plain_auc <- function(truth, p) {
  ranks <- rank(p)
  n1 <- sum(truth)
  (sum(ranks[truth]) - n1 * (n1 + 1) / 2) / (n1 * sum(!truth))
}

source_folder <- function() {
  folder <- Sys.getenv("KILNWRIGHT_SOURCE", test_path("..", ".."))
  if (!file.exists(file.path(folder, "R", "base-hash.R"))) skip("runs from the source tree only")
  folder
}

exec_file <- function() system.file("exec", "kilnwright", package = "kilnwright", mustWork = TRUE)

# The command line as a user drives it, in a process of its own.
command <- function(...) {
  out <- tempfile()
  err <- tempfile()
  status <- system2(
    file.path(R.home("bin"), "Rscript"), shQuote(c(exec_file(), ...)),
    stdout = out, stderr = err
  )
  list(
    status = status, out = readLines(out, warn = FALSE),
    err = paste(readLines(err, warn = FALSE), collapse = "\n")
  )
}

# The same in this process, where what matters is what the command says.
command_here <- function(...) {
  local_nothing_opened()
  file <- tempfile()
  err <- file(file, "w", encoding = "UTF-8")
  sink(err, type = "message")
  out <- tryCatch(
    utils::capture.output(status <- kw("run_command")(c(...))),
    finally = {
      sink(type = "message")
      close(err)
    }
  )
  list(
    status = status, out = out,
    err = paste(readLines(file, warn = FALSE, encoding = "UTF-8"), collapse = "\n")
  )
}

# R in a process of its own that goes on beside the test, at the latest until the test ends.
start_r <- function(arguments, out = NULL, err = NULL, env = parent.frame()) {
  process <- processx::process$new(
    file.path(R.home("bin"), "Rscript"), as.character(arguments), stdout = out, stderr = err,
    env = c("current", R_LIBS = paste(.libPaths(), collapse = ":"))
  )
  withr::defer(process$kill(), envir = env)
  process
}

# Goes on as soon as `ready()` is TRUE; whether it was within the seconds.
eventually <- function(ready, seconds = 120) {
  until <- Sys.time() + seconds
  while (Sys.time() < until) {
    if (isTRUE(ready())) return(TRUE)
    Sys.sleep(0.05)
  }
  FALSE
}

lines_so_far <- function(file) {
  if (file.exists(file)) readLines(file, warn = FALSE) else character()
}

# A report's words: without the long lines of its pictures and scripts, where searches take minutes.
page_text <- function(file) {
  lines <- readLines(file, warn = FALSE)
  paste(lines[nchar(lines) < 2e4], collapse = " ")
}

candidate_of <- function(choice) kw("candidate_names")(choice$cmp)[choice$at]

# Whether all cases are gone through and simulations are longer, as `make test-long` has it, or what
# is enough to see that something is broken.
in_full <- function() identical(Sys.getenv("KILNWRIGHT_TESTS"), "long")

# A report whose pictures nobody looks at: they are built, but not drawn.
local_no_pictures <- function(env = parent.frame()) {
  local_stand_in("png_bytes", function(plot, width, height) {
    ggplot2::ggplot_build(plot)
    raw(1)
  }, env)
}
