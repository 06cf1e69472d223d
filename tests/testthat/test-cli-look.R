# Commands that look at tables, models and parts, and draft plans.

loose_table <- function(without_outcome = integer()) {
  table <- toy(160, missing = TRUE)
  table$colour[c(2, 9, 30)] <- "n/r"
  table$twin <- table$x2 * 2
  table$two[without_outcome] <- NA
  table$foot <- c("unknown", sprintf("%.4f", withr::with_seed(6, rnorm(159, 9))))
  file <- withr::local_tempfile(fileext = ".csv", .local_envir = parent.frame())
  write.csv(table, file, row.names = FALSE)
  file
}

test_that("inspect names remedies as lines that a plan file understands", {
  file <- loose_table()
  said <- command_here(
    "inspect", file, "--outcome", "two", "--ignore", "number,three,batch", "--json"
  )
  expect_identical(said$status, 0L, info = said$err)
  found <- jsonlite::fromJSON(paste(said$out, collapse = "\n"))
  ours <- inspect_data(brief(read_data(file), "two", ignore = c("number", "three", "batch")))
  expect_identical(found$code, ours$code)
  twin <- found$plan_file[found$code == "repeated_column"]
  expect_identical(yaml::yaml.load(twin)$brief$ignore, "twin")
  expect_match(found$plan_file, "missing_codes", all = FALSE)
  read <- command_here("inspect", file, "--outcome", "two")
  expect_match(read$out, "brief: {\"ignore\":[\"twin\"]}", fixed = TRUE, all = FALSE)
  expect_match(command_here("inspect", file)$err, "--outcome NAME", all = FALSE)
  table <- data.frame(price = c(paste0("$", 1:29), "ask"), size = c(-9, 2:30), x = 30:1)
  utils::write.csv(table, file, row.names = FALSE)
  expect_match(
    command_here("inspect", file, "--outcome", "price")$err,
    "--read-as \"price=number\".*--missing-codes \"price=ask\" or brief", all = FALSE
  )
  rare <- data.frame(x = sqrt(1:60), y = rep(c("no", "yes"), c(56, 4)))
  utils::write.csv(rare, file, row.names = FALSE)
  said <- command_here("inspect", file, "--outcome", "y")$out
  lines <- grep("^    (splits|metrics): ", said, value = TRUE)
  read <- yaml::yaml.load(paste(trimws(lines), collapse = "\n"))
  expect_equal(read, list(
    splits = list(kfold = list(k = 4)), metrics = c("auc", "balanced_accuracy")
  ))
  utils::write.csv(table, file, row.names = FALSE)
  known <- command_here("inspect", file, "--outcome", "price", "--missing-codes",
    "size=-9,price=ask", "--read-as", "price=number,x=category")
  expect_identical(known$status, 0L, info = known$err)
  expect_match(known$err, "1 row without price is left out", all = FALSE)
  expect_match(known$out, "gives_outcome_away \\(size\\)", all = FALSE)
  expect_match(command_here("inspect", file, "--outcome", "x", "--read-as", "price")$err, "pairs")
})

test_that("what no line of a plan file would do is said of the table, not in R", {
  table <- data.frame(
    seen = rep(sprintf("%02d/%02d/2021", 1:10, 3:12), 8),
    clay = rep(c("red", "Red ", "white", "buff"), each = 20), heat = sqrt(1:80), y = 1:80 %% 7
  )
  table <- rbind(table, table[c(4, 9, 9), ])
  file <- withr::local_tempfile(fileext = ".csv")
  utils::write.csv(table, file, row.names = FALSE)
  said <- command_here("inspect", file, "--outcome", "y")
  expect_identical(said$status, 0L, info = said$err)
  text <- gsub(" +", " ", paste(said$out, collapse = " "))
  expect_match(text, "Leave out rows 81, 82, 83 of the table, if", fixed = TRUE)
  expect_match(text, "Write such levels alike in the table.", fixed = TRUE)
  lines <- grep("brief: .*read_as", said$out, value = TRUE)
  formats <- lapply(strsplit(lines, "#", fixed = TRUE)[[1]], function(line) {
    yaml::yaml.load(sub("^ *(or )?", "", line))$brief$read_as$seen
  })
  expect_setequal(formats, list("%d/%m/%Y", "%m/%d/%Y"))
  expect_no_match(text, "table[", fixed = TRUE)
  expect_no_match(text, "brief(", fixed = TRUE)
  utils::write.csv(data.frame(day = as.Date("2024-03-01") + 1:30, x = sin(1:30)), file)
  said <- paste(command_here("draft", file, "--outcome", "day")$err, collapse = " ")
  expect_match(said, "such as the days since a fixed start, in the table itself.", fixed = TRUE)
  expect_no_match(said, "as.numeric", fixed = TRUE)
})

test_that("names and levels with commas, =, < and quotes, and codes such as 007, can be given", {
  table <- withr::with_seed(3, data.frame(
    "size, mm" = sample(c("<10", "10-20", ">=20"), 90, TRUE),
    "a=b" = sample(c("007", "7", "011"), 90, TRUE), "kiln \"A\"" = sample(c("T", "F,G"), 90, TRUE),
    heat = sample(c(0, -9, 1:40 / 7), 90, TRUE), y = rnorm(90), check.names = FALSE
  ))
  file <- withr::local_tempfile(fileext = ".csv")
  utils::write.csv(table, file, row.names = FALSE)
  plan <- withr::local_tempfile(fileext = ".yml")
  draft <- function(...) {
    command_here("draft", file, ..., "--minutes", "0.1", "--effort", "quick", "--set-aside", "0",
      "--out", plan, "--replace")
  }
  said <- draft(
    "--outcome", "size, mm", "--ordered", "\"size, mm=<10<10-20<>=20\"",
    "--ignore", "y,\"kiln \"\"A\"\"\"", "--missing-codes", "a=b=007,heat=-9"
  )
  expect_identical(said$status, 0L, info = said$err)
  job <- read_plan(plan)$brief
  expect_identical(job$levels, c("<10", "10-20", ">=20"))
  expect_setequal(names(job$schema), c("a=b", "heat"))
  expect_identical(sum(is.na(job$table$heat)), sum(table$heat == -9))
  expect_identical(
    sum(is.na(job$table[["a=b"]]) | job$table[["a=b"]] == ""), sum(table[["a=b"]] == "007")
  )
  said <- draft("--outcome", "y", "--ignore", "kiln \"A\", a=b",
    "--ordered", "\"size, mm=>=20<10-20<<10\"")
  expect_identical(said$status, 0L, info = said$err)
  expect_identical(read_plan(plan)$brief$schema[["size, mm"]]$levels, c(">=20", "10-20", "<10"))
  expect_match(draft("--outcome", "y", "--read-as", "heat")$err, "pairs of a name", all = FALSE)
  expect_match(draft("--outcome", "y", "--ordered", "\"size, mm=<10<12\"")$err, "'12'|<10",
    all = FALSE)
  expect_match(draft("--outcome", "y", "--ignore", "heta")$err, "heat", all = FALSE)
})

test_that("a drafted plan runs as it is, and its model is scored on rows with known outcome", {
  table <- loose_table(without_outcome = c(3, 8))
  plan <- withr::local_tempfile(fileext = ".yml")
  drafted <- command_here(
    "draft", table, "--outcome", "two", "--event", "yes", "--ignore", "number,three,batch",
    "--minutes", "0.1", "--effort", "quick", "--seed", "3", "--out", plan
  )
  expect_identical(drafted$status, 0L, info = drafted$err)
  expect_match(drafted$err, "2 rows without two are left out", all = FALSE)
  lines <- readLines(plan)
  expect_match(lines, "^# .*twin: repeated_column", all = FALSE)
  expect_match(lines, "^# what is compared", all = FALSE)
  expect_match(lines, "from: ", all = FALSE)
  expect_false(any(grepl("sensible", lines)))
  read <- read_plan(plan)
  expect_identical(read$seed, 3)
  expect_identical(read$brief$n_without_outcome, 2L)
  expect_identical(read$brief$declared$read_as, list(foot = "number"))
  expect_identical(read$brief$schema$foot$kind, "number")
  writeLines(grep("without_outcome", lines, invert = TRUE, value = TRUE), plan)
  expect_match(command_here("preview", plan)$err, "rows 3, 8.*rows_without_outcome: leave_out")
  writeLines(lines, plan)
  expect_false("twin" %in% names(read$brief$schema))
  expect_null(read$rule)
  best <- command_here("draft", table, "--outcome", "two", "--event", "yes", "--minutes", "0.1",
    "--effort", "quick", "--blend")$out
  expect_match(best, "^rule: best_mean", all = FALSE)
  expect_identical(best[grep("^blend: ", best) - 1:0],
    c("# the best of all candidates are blended, and the blend may be chosen", "blend: yes"))
  again <- command_here("draft", table, "--outcome", "two", "--out", plan)
  expect_match(again$err, "exists", all = FALSE)

  cmp <- quiet_run(read$brief, candidates(tree = fam_tree()), splits = split_kfold(5), seed = 1)
  model <- fit_final(select_final(cmp))
  file <- withr::local_tempfile(fileext = ".kilnwright")
  save_model(model, file)
  new <- toy(90, seed = 8, missing = TRUE)
  new$twin <- 0
  new$foot <- 9
  new$two <- as.character(new$two)
  new$two[1:5] <- NA
  rows <- withr::local_tempfile(fileext = ".csv")
  write.csv(new, rows, row.names = FALSE, na = "")
  said <- command_here("score", file, rows, "--by", "colour", "--trust", "--json")
  expect_identical(said$status, 0L, info = said$err)
  scores <- jsonlite::fromJSON(paste(said$out, collapse = "\n"))
  # by hand: the Mann-Whitney statistic of all rows, and of one colour
  by_hand <- function(some) {
    p <- predict(model, new[some, ], type = "probability")$p_yes
    event <- new$two[some] == "yes"
    apart <- outer(p[event], p[!event], "-")
    mean(apart > 0) + mean(apart == 0) / 2
  }
  auc <- scores[scores$metric == "auc", ]
  known <- which(!is.na(new$two))
  expect_equal(auc$score[1], by_hand(known))
  expect_identical(c(auc$rows[1], auc$left_out[1]), c(85L, 5L))
  first <- auc$part[2]
  expect_equal(auc$score[2], by_hand(intersect(known, which(new$colour == first))))
  expect_true(all(auc$low[1] <= auc$score[1], auc$score[1] <= auc$high[1]))
  new$two[7] <- "perhaps"
  expect_error(score_known(model, new), "perhaps", class = "kw_error_data")
  expect_error(score_known(model, new["x1"]), "no column", class = "kw_error_data")
  new$two[7] <- NA
  expect_error(score_known(model, new, weight = "colour"), "at least 0", class = "kw_error_brief")
  expect_match(command_here("draft", "-", "--outcome", "two")$err, "names its table", all = FALSE)
})

test_that("an order, an exposure and quantiles can be said on the command line", {
  table <- toy(90)
  table$size <- rep(c("small", "middle", "large"), 30)
  table$times <- rpois(90, 2)
  table$years <- rep(c(0.5, 2), 45)
  file <- withr::local_tempfile(fileext = ".csv")
  write.csv(table, file, row.names = FALSE)
  plan <- withr::local_tempfile(fileext = ".yml")
  drafted <- function(...) {
    unlink(plan)
    said <- command_here("draft", file, "--ignore", "three,two", "--out", plan, "--effort", "quick",
      "--minutes", "0.1", ...)
    if (said$status == 0L) read_plan(plan)$brief else said$err
  }
  unordered <- drafted("--outcome", "size", "--outcome-kind", "ordered")
  expect_match(unordered, "--ordered \"size=large<middle<small\" or brief", fixed = TRUE)
  sized <- drafted("--outcome", "size", "--ordered", "size=small<middle<large")
  expect_identical(sized$kind, "ordered")
  expect_identical(sized$levels, c("small", "middle", "large"))
  counted <- drafted("--outcome", "times", "--outcome-kind", "count", "--exposure", "years")
  expect_identical(counted$roles$exposure, "years")
  ranged <- drafted("--outcome", "number", "--quantiles", "0.2,0.8")
  expect_identical(ranged$quantiles, c(0.2, 0.8))
  expect_match(drafted("--outcome", "number", "--quantiles", "few"), "wants numbers")
})

test_that("a draft says what serious findings it leaves to its reader, and which families out", {
  counted <- expand.grid(kiln = c("a", "b", "c"), clay = 1:3, cracked = c("no", "yes"))
  counted$pots <- 10 + seq_len(nrow(counted))
  table <- withr::local_tempfile(fileext = ".csv")
  write.csv(counted, table, row.names = FALSE)
  plan <- withr::local_tempfile(fileext = ".yml")
  drafted <- command_here("draft", table, "--outcome", "cracked", "--event", "yes", "--weight",
    "pots", "--effort", "thorough", "--out", plan)
  expect_identical(drafted$status, 0L, info = drafted$err)
  expect_match(drafted$err, "serious findings? about the table (is|are) left to you")
  expect_match(readLines(plan), "as many cases as pots says", all = FALSE)
  expect_true("# left out: neural, it takes no weights" %in% readLines(plan))
})

test_that("the parts that there are can be listed and described from the command line", {
  listed <- command_here("parts", "--json")
  expect_equal(jsonlite::fromJSON(paste(listed$out, collapse = "\n"))$part, list_parts()$part)
  expect_true(all(nzchar(list_parts()$does)))
  expect_match(command_here("steps", "skew")$out, "Choices: yeo_johnson", all = FALSE)
  expect_match(command_here("splits")$out, "split_kfold", all = FALSE)
  expect_match(command_here("metrics", "auc")$out, "better: higher", all = FALSE)
  expect_match(command_here("families", "forst")$err, "forest", all = FALSE)
})

test_that("tables are written as JSON for other programs", {
  withr::local_dir(withr::local_tempdir())
  writeLines(c(
    paste0("brief: {table: ", system.file("extdata", "pots.csv.gz", package = "kilnwright"), ","),
    "  outcome: shrinkage_pct, id: pot_id, group: firing_id, ignore: [cracked, grade, notes]}",
    "candidates: {base: baseline, tree: {tree: {min_leaf: [5, 40]}}}",
    "splits: {kfold: {k: 3}}", "seed: 2"
  ), "plan.yml")
  json <- function(...) {
    said <- command_here(...)
    expect_identical(said$status, 0L, info = said$err)
    jsonlite::fromJSON(paste(said$out, collapse = "\n"))
  }
  expect_equal(json("preview", "plan.yml", "--json")$settings, c(1, 2))
  ran <- command_here(
    "run", "plan.yml", "--out", "out", "--no-report", "--log", "log.csv", "--quiet"
  )
  expect_identical(ran$status, 0L, info = ran$err)
  cmp <- open_comparison("out/journal.sqlite")
  expect_equal(json("standings", "out", "--json")$mean, standings(cmp)$mean)
  expect_equal(json("standings", "out/journal.sqlite", "--json")$sd, standings(cmp)$sd)
  chosen <- json("select", "out", "--rule", "within", "--margin", "0.2", "--json")
  expect_equal(chosen$mean, select_final(cmp, "within", margin = 0.2)$mean)
  expect_setequal(chosen$rules$rule, explain_choice(select_final(cmp))$rule)
  expect_identical(nrow(data.table::fread("log.csv")), 3L)
})

test_that("the keys of plan files are listed, and are those that the functions take", {
  keys <- list_plan_keys()
  expect_setequal(keys$key[keys$where == "brief"], setdiff(names(formals(brief)), "..."))
  expect_setequal(
    keys$key[keys$where == "set_aside"], setdiff(names(formals(set_aside)), c("brief", "..."))
  )
  expect_setequal(keys$key[keys$required & keys$where == "the top"], c("brief", "candidates"))
  expect_false(anyNA(keys))
  listed <- command_here("parts", "--kind", "key", "--json")
  expect_equal(jsonlite::fromJSON(paste(listed$out, collapse = "\n"))$key, keys$key)
  told <- command_here("parts", "--kind", "key")$out
  expect_match(told, "brief (map, required)", fixed = TRUE, all = FALSE)
})

test_that("every command is listed with the options that its help has", {
  commands <- list_commands()
  help <- paste(command_here("--help")$out, collapse = "\n")
  for (name in unique(commands$command)) expect_match(help, paste0("\n  ", name, " "))
  told <- paste(command_here("serve", "--help")$out, collapse = "\n")
  serve <- commands[commands$command == "serve", ]
  for (one in serve$option) expect_match(told, one, fixed = TRUE)
  expect_equal(unique(serve$arguments), "MODEL")
  expect_false(any(grepl("%default", commands$says, fixed = TRUE)))
})

test_that("parts that an R file defines are known to the command, only if it is named", {
  withr::local_dir(withr::local_tempdir())
  writeLines(c(
    "fam_middle <- kilnwright::define_family('middle', kinds = 'number',",
    "  fit = function(x, y, weights, settings, seed, threads) stats::median(y),",
    "  predict = function(model, x) rep(model, nrow(x)), does = 'Predicts the median.')"
  ), "mine.R")
  listed <- command("--with", "mine.R", "parts", "--kind", "family")
  expect_match(listed$out, "fam_middle: Predicts the median", all = FALSE)
  expect_no_match(paste(command_here("parts", "--kind", "family")$out, collapse = ""), "fam_middle")
  writeLines("x <- 1", "none.R")
  writeLines("stop('no kiln')", "broken.R")
  for (case in list(c("none.R", "defines no part"), c("broken.R", "does not run: no kiln"),
    c("absent.R", "no file 'absent.R'"))) {
    said <- command("--with", case[1], "parts")
    expect_identical(said$status, 2L)
    expect_match(said$err, case[2])
  }
})

test_that("shells complete commands and options, and every help has an example that is a command", {
  withr::local_dir(withr::local_tempdir())
  commands <- names(kw("shipped_members")("command"))
  writeLines(command_here("completion", "bash")$out, "complete.bash")
  complete <- function(...) {
    words <- c("kilnwright", ...)
    script <- c(
      "source complete.bash",
      paste0("COMP_WORDS=(", paste(shQuote(words), collapse = " "), ")"),
      paste0("COMP_CWORD=", length(words) - 1L), "_kilnwright", "printf '%s\\n' \"${COMPREPLY[@]}\""
    )
    writeLines(script, "try.bash")
    system2("bash", "try.bash", stdout = TRUE)
  }
  expect_setequal(grep("^[a-z]", complete(""), value = TRUE), commands)
  expect_identical(complete("sta"), "standings")
  expect_identical(complete("run", "plan.yml", "--acc"), "--accept-versions")
  expect_identical(complete("completion", "z"), "zsh")
  file.create("a plan.yml")
  expect_identical(complete("run", "a p"), "a plan.yml")
  for (name in commands) {
    example <- kw("shipped_members")("command")[[name]]()$example
    expect_match(example, paste0("kilnwright ", name), fixed = TRUE)
  }
  expect_match(command_here("select", "--help")$out, "^\tkilnwright select results", all = FALSE)
  if (nzchar(Sys.which("zsh"))) {
    writeLines(command_here("completion", "zsh")$out, "_kilnwright")
    expect_identical(system2("zsh", c("-n", "_kilnwright")), 0L)
  }
  expect_identical(command_here("completion", "fish")$status, 1L)
})
