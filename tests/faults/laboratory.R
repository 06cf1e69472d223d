# The fault laboratory: breaks files, disks, processes, plans, tables and names on purpose, and
# says what was tried and what fell. Usage: Rscript tests/faults/laboratory.R [share] [seed]
# (share of the usual trials; the whole takes some minutes). Ends with status 1 if anything fell.

suppressPackageStartupMessages({
  library(testthat)
  library(kilnwright)
})
for (file in list.files("tests/testthat", "^helper-", full.names = TRUE)) source(file)

given <- commandArgs(TRUE)
share <- if (length(given) > 0L) as.numeric(given[1]) else 1
set.seed(if (length(given) > 1L) as.integer(given[2]) else 1)
fallen <- 0L
began <- Sys.time()

# `one(i)` returns "" or what went wrong; an error is what went wrong.
attempt <- function(what, times, one) {
  times <- max(2L, round(times * share))
  ends <- vapply(seq_len(times), function(i) {
    tryCatch(one(i), error = function(e) paste("error:", conditionMessage(e)))
  }, "")
  bad <- which(nzchar(ends))
  fallen <<- fallen + length(bad)
  cat(sprintf("%-58s %5d tried, %d fell\n", what, times, length(bad)))
  for (i in head(bad, 5L)) {
    cat("    ", i, ": ", substr(gsub("\\s+", " ", ends[i]), 1L, 200L), "\n", sep = "")
  }
}

# Fine if it gives a value or an error of ours; anything else falls.
ours_or <- function(expr, check = function(value) "") {
  tryCatch(check(suppressWarnings(expr)), kw_error = function(e) "")
}

same <- function(a, b) if (identical(numbers_of(a), numbers_of(b))) "" else "other numbers"

small_plan <- plan_comparison(
  toy_brief("number", toy(90)), candidates(
    tree = fam_tree(pruning = among(0.001, 0.05)), near = fam_neighbours(neighbours = among(1, 5))
  ),
  splits = split_kfold(3), metrics = c("rmse", "mae"), seed = 2
)
whole <- quiet_run(small_plan, workers = 1)
journal <- tempfile(fileext = ".sqlite")
invisible(quiet_run(small_plan, journal = journal, workers = 1))
journal_bytes <- readBin(journal, "raw", file.size(journal))

changed_bytes <- function(bytes, how = sample(3L, 1L)) {
  at <- sample(length(bytes), 1L)
  switch(how,
    replace(bytes, at, xor(bytes[at], as.raw(2^sample(0:7, 1L)))),
    bytes[seq_len(at)],
    c(bytes[seq_len(at)], as.raw(sample(0:255, 20L, TRUE)), bytes[-seq_len(at)])
  )
}

with_bytes <- function(bytes, ending, use) {
  file <- tempfile(fileext = ending)
  on.exit(unlink(Sys.glob(paste0(file, "*"))))
  writeBin(bytes, file)
  use(file)
}

attempt("journals flipped, cut or torn: resumed as it should be", 200, function(i) {
  with_bytes(changed_bytes(journal_bytes), ".sqlite", function(file) {
    ours_or(quiet_run(small_plan, journal = file, workers = 1), function(cmp) same(cmp, whole))
  })
})

attempt("journals flipped, cut or torn: opened, no other number", 200, function(i) {
  with_bytes(changed_bytes(journal_bytes), ".sqlite", function(file) {
    ours_or(open_comparison(file), function(cmp) {
      mine <- numbers_of(cmp)[[1]]
      mine <- mine[!is.na(mine$place), ]
      true <- numbers_of(whole)[[1]]
      called <- function(table) paste(table$candidate, table$setting)
      true <- true[match(called(mine), called(true)), ]
      if (identical(mine$mean, true$mean)) "" else "other means"
    })
  })
})

model_file <- tempfile(fileext = ".kilnwright")
save_model(fit_final(select_final(whole)), model_file)
model_bytes <- readBin(model_file, "raw", file.size(model_file))
predicted <- predict(fit_final(select_final(whole)), toy(20))

attempt("model files flipped, cut or torn", 300, function(i) {
  with_bytes(changed_bytes(model_bytes), ".kilnwright", function(file) {
    ours_or(open_model(file, trust = TRUE), function(model) {
      if (isTRUE(all.equal(predict(model, toy(20)), predicted))) "" else "other predictions"
    })
  })
})

plan_folder <- tempfile("plans-")
dir.create(plan_folder)
shipped <- system.file("extdata", c("pots.csv.gz", "pots-plan.yml"), package = "kilnwright")
invisible(file.copy(shipped, plan_folder))
plan_bytes <- readBin(file.path(plan_folder, "pots-plan.yml"), "raw", 1e6)
words <- c(
  "1e99", "-1", "{", "}", "[", "]", "&a", "*a", "!!r", "!expr", "system('touch planted')", ": ",
  "- ", "\n", "\"", "'", "yes", "~", "NaN", "?", "|", ">", "<<: ", "..", "\t", "\u00e4", "0x10"
)

attempt("plan files with words and bytes changed", 1000, function(i) {
  bytes <- plan_bytes
  for (times in seq_len(sample(3L, 1L))) {
    at <- sample(length(bytes), 1L)
    gone <- sample(0:12, 1L)
    left <- bytes[-seq_len(min(length(bytes), at + gone))]
    bytes <- c(bytes[seq_len(at)], charToRaw(sample(words, 1L)), left)
  }
  file <- file.path(plan_folder, "changed.yml")
  writeBin(bytes, file)
  said <- ours_or(read_plan(file, seed = 1))
  planted <- file.exists("planted") || file.exists(file.path(plan_folder, "planted"))
  if (planted) "code ran" else said
})

table_text <- gzfile(file.path(plan_folder, "pots.csv.gz"), open = "rb")
table_bytes <- readBin(table_text, "raw", 20000L)
close(table_text)
attempt("tables with bytes changed, and things done with them", 300, function(i) {
  bytes <- changed_bytes(changed_bytes(table_bytes, 1L))
  with_bytes(bytes, sample(c(".csv", ".tsv", ".jsonl", ".csv.gz"), 1L), function(file) {
    ours_or(read_data(file), function(table) {
      outcome <- sample(names(table), 1L)
      ours_or(inspect_data(brief(table, outcome)))
    })
  })
})

attempt("hostile names and levels through every writer", 100, function(i) {
  job <- hostile_brief(1000L + i)
  if (is.null(job)) return("")
  model <- hostile_model(job$brief)
  folder <- tempfile("hostile-")
  dir.create(folder)
  on.exit(unlink(folder, recursive = TRUE))
  at <- function(name) file.path(folder, name)
  write_script(model, at("s.R"), data = names(job$table)[2], new_data = "nowhere")
  scripted <- run_script(at("s.R"), job$table)$predict_new(job$table)
  ours <- as.data.frame(predict(model, job$table))
  numbers <- function(x) unname(Filter(is.numeric, as.list(x)))
  if (!isTRUE(all.equal(numbers(scripted), numbers(ours), tolerance = 1e-10))) return("script")
  write_card(model, at("c.md"))
  save_model(model, at("m.kilnwright"))
  again <- as.data.frame(predict(open_model(at("m.kilnwright"), trust = TRUE), job$table))
  if (!identical(again, ours)) return("model file")
  write_predictions(model, job$table, at("p.csv"))
  shown <- utils::capture.output({
    print(job$brief)
    print(model)
    print(inspect_data(job$brief))
  })
  if (any(grepl("\u001b", shown, fixed = TRUE))) return("the terminal was steered")
  if (i %% 10L == 0L) {
    write_report(model, at("r.html"), explain = FALSE)
    page <- paste(readLines(at("r.html"), warn = FALSE), collapse = "\n")
    times <- function(text) lengths(regmatches(page, gregexpr(text, page, fixed = TRUE)))
    # of the scripts each ends once, and no name makes anything bold
    if (times("</script>") != times("<script") || times("<b>") > 0L) return("the page")
  }
  if (length(list.files(folder)) < 4L) "files" else ""
})

# Runs with this journal, each killed after at most so many seconds.
killed_thrice <- function(plan_file, journal, workers, longest) {
  begun <- tempfile()
  code <- sprintf(paste0(
    "suppressMessages(library(kilnwright)); file.create('%s'); ",
    "run_comparison(readRDS('%s'), journal = '%s', workers = %d, quiet = TRUE)"
  ), begun, plan_file, journal, workers)
  for (times in 1:3) {
    unlink(begun)
    run <- start_r(c("-e", code))
    eventually(function() file.exists(begun))
    Sys.sleep(stats::runif(1, 0, longest))
    run$kill()
    Sys.sleep(0.1)
  }
}

long_plan <- plan_comparison(toy_brief(table = toy(300)), candidates(
  f = fam_forest(min_node = among(1:20), trees = 60)
), splits = split_kfold(5), seed = 3)
long_file <- tempfile(fileext = ".rds")
saveRDS(long_plan, long_file)
long_whole <- quiet_run(long_plan)

attempt("killed at random moments, with workers and without, then resumed", 10, function(i) {
  file <- tempfile(fileext = ".sqlite")
  killed_thrice(long_file, file, 1L + i %% 2L, 1.5)
  same(quiet_run(long_plan, journal = file), long_whole)
})

learning_plan <- plan_comparison(toy_brief(table = toy(200)), candidates(
  tree = pipeline(pre_missing(), fam_tree(
    min_leaf = from_to(2, 40), depth = among(2, 4, 8), impurity = among("gini", "information")
  )),
  forest = pipeline(pre_missing(), fam_forest(
    min_node = from_to(1, 40), columns_tried = from_to(0.1, 0.9), trees = 60
  ))
), splits = split_kfold(8), search = search_guided(24), screen = screen_splits(), seed = 3)
learning_file <- tempfile(fileext = ".rds")
saveRDS(learning_plan, learning_file)
learning_whole <- quiet_run(learning_plan)

attempt("a guided, screened run killed at random moments, then resumed", 8, function(i) {
  file <- tempfile(fileext = ".sqlite")
  killed_thrice(learning_file, file, 2L, 4)
  resumed <- quiet_run(learning_plan, journal = file)
  if (!identical(resumed$results$dropped, learning_whole$results$dropped)) return("other drops")
  same(resumed, learning_whole)
})

rogue_changes <- c(
  "answer$ledger$validation[] <- 0.926", "answer <- 'done'", "answer$ledger$fit <- 99L",
  "answer$ledger$validation[1] <- answer$ledger$validation[1] + 1e-3",
  "answer$ledger$message[] <- 'it did not work'", "Sys.sleep(0.2); quit(status = 1)"
)

attempt("rogue workers beside an honest one", 12, function(i) {
  certificate <- tempfile(fileext = ".pem")
  url <- free_address()
  stranger <- if (i %% 4L == 0L) sample(255L, 1L)
  change <- rogue_changes[1L + i %% length(rogue_changes)]
  start_rogue(url, certificate, sample(0:3, 1L), change, stranger)
  at <- workers_at(url, certificate, local = 1, verify = 0.5)
  tryCatch(
    same(suppressWarnings(quiet_run(small_plan, workers = at)), whole),
    kw_error_workers = function(e) ""
  )
})

# Mounts need rights that not every place gives.
mounted <- function(size, use) {
  at <- tempfile("disk-")
  dir.create(at)
  if (system2("mount", c("-t", "tmpfs", "-o", paste0("size=", size), "tmpfs", at),
    stdout = FALSE, stderr = FALSE) != 0L) {
    return(NULL)
  }
  on.exit(system2("umount", c("-l", at), stdout = FALSE, stderr = FALSE))
  use(at)
}
can_mount <- Sys.info()[["sysname"]] == "Linux" && isTRUE(mounted("100k", function(at) TRUE))

if (can_mount) {
  attempt("journals on a disk that is full at some point, then has room", 30, function(i) {
    mounted(paste0(sample(4:900, 1L), "k"), function(at) {
      file <- file.path(at, "run.sqlite")
      first <- ours_or(quiet_run(small_plan, journal = file, workers = 1), function(cmp) {
        same(cmp, whole)
      })
      if (nzchar(first)) return(first)
      system2("mount", c("-o", "remount,size=20m", at))
      same(quiet_run(small_plan, journal = file, workers = 1), whole)
    })
  })
  attempt("files on a disk that is full: whole, or an error and nothing", 60, function(i) {
    mounted(paste0(sample(1:120, 1L), "k"), function(at) {
      file <- file.path(at, "x")
      model <- fit_final(select_final(whole))
      write <- list(
        function() save_model(model, file),
        function() kilnwright:::save_png(draw_standings(whole), file),
        function() write_predictions(model, toy(2000), paste0(file, ".csv"))
      )[[1L + i %% 3L]]
      done <- tryCatch(
        {
          suppressWarnings(write())
          TRUE
        },
        kw_error_file = function(e) FALSE
      )
      there <- list.files(at, all.files = TRUE, no.. = TRUE)
      if (!done && length(there) > 0L) return(paste("left:", there))
      if (done && i %% 3L == 2L) {
        lines <- length(readLines(file.path(at, there)))
        if (lines != 2001L) return(paste(lines, "lines"))
      }
      ""
    })
  })
  attempt("a journal left in the middle, read where nothing can be written", 3, function(i) {
    mounted("20m", function(at) {
      file <- file.path(at, "run.sqlite")
      open <- kilnwright:::open_journal(file, small_plan)
      kept <- kilnwright:::execute_plan(small_plan, journal = open)
      open$flush()
      if (!file.exists(paste0(file, "-wal"))) return("no file beside it")
      copy <- file.path(at, "copy.sqlite")
      file.copy(paste0(file, c("", "-wal")), paste0(copy, c("", "-wal")))
      open$close()
      system2("mount", c("-o", "remount,ro", at))
      same(open_comparison(copy), whole)
    })
  })
} else {
  cat("disks: mounting is not allowed here, so nothing was tried\n")
}

cat(sprintf(
  "%d fell, %.0f s\n", fallen, as.double(difftime(Sys.time(), began, units = "secs"))
))
quit(status = as.integer(fallen > 0L))
