# Tables as they come, each through the whole way: file, reading, findings, remedies, quick
# look, choice, model file, predictions from a file, script and report.

made <- function(seed, n, build) withr::with_seed(seed, build(n))

tables <- list(
  "0/1 predictors" = list(1, 90, function(n) {
    t <- as.data.frame(matrix(rbinom(n * 6, 1, 0.4), n))
    t$y <- 2 * t$V1 - t$V2 + rnorm(n)
    t
  }),
  "repeated measures" = list(2, 96, function(n) {
    child <- rep(seq_len(n / 4), each = 4)
    t <- data.frame(
      child = sprintf("c%02d", child), age = rep(c(8, 10, 12, 14), n / 4),
      sex = rep(c("f", "m"), each = n / 2)
    )
    t$y <- rnorm(n / 4)[child] + 0.4 * t$age + rnorm(n, sd = 0.5)
    t
  }),
  "codes with leading zeros" = list(3, 90, function(n) {
    t <- data.frame(
      number = sprintf("%06d", sample(1e5, n)), code = sprintf("%02d", sample(1:4, n, TRUE)),
      x = rnorm(n)
    )
    t$y <- ifelse(t$code == "02", 3, 0) + t$x + rnorm(n)
    t
  }),
  "dates in three formats" = list(4, 90, function(n) {
    day <- as.Date("2029-12-30") + sample(600, n)
    t <- data.frame(
      iso = format(day), german = format(day + 3, "%d.%m.%Y"), slashed = format(day + 9, "%m/%d/%Y")
    )
    t$y <- as.numeric(format(day, "%m")) + rnorm(n)
    t
  }),
  "300 levels" = list(5, 600, function(n) {
    street <- sample(300, n, TRUE)
    data.frame(street = paste0("street ", street), x = rnorm(n), y = street / 100 + rnorm(n))
  }),
  "names with spaces, quotes and backslashes" = list(6, 90, function(n) {
    t <- data.frame(
      "a \"b\"" = rnorm(n), "c, d" = sample(c("x, y", "\"z\"", "w"), n, TRUE), "e\\f" = rnorm(n),
      "100 %" = rnorm(n), check.names = FALSE
    )
    t$y <- factor(ifelse(t[[1]] + (t[[2]] == "w") + rnorm(n) > 0, "yes, it is", "no"))
    t
  }),
  "one column nearly constant" = list(7, 150, function(n) {
    t <- data.frame(pool = c(rep(0, n - 3), 144, 480, 512), zero = 0, x = rnorm(n), w = runif(n))
    t$y <- t$x + rnorm(n)
    t
  }),
  "texts only" = list(8, 100, function(n) {
    words <- c("glaze", "crack", "fine", "slow", "kiln", "cold", "warm", "foot", "rim", "wheel")
    remark <- replicate(n, paste(sample(words, 5), collapse = " "))
    crack <- grepl("crack", remark)
    data.frame(remark, y = ifelse(runif(n) < ifelse(crack, 0.85, 0.15), "bad", "good"))
  }),
  "dates only" = list(9, 90, function(n) {
    day <- as.Date("2031-01-01") + sort(sample(700, n))
    data.frame(day, y = as.numeric(day - min(day)) / 100 + rnorm(n, sd = 0.3))
  }),
  "wide and short" = list(10, 30, function(n) {
    t <- as.data.frame(matrix(rnorm(n * 60), n))
    t$y <- t$V1 + rnorm(n)
    t
  }),
  "flags, gaps and three classes" = list(11, 120, function(n) {
    t <- data.frame(
      fired = sample(c(TRUE, FALSE), n, TRUE), wall = ifelse(runif(n) < 0.1, NA, rnorm(n, 6)),
      glaze = sample(c("celadon", "n/r", "oribe"), n, TRUE)
    )
    t$y <- c("first", "second", "waste")[1 + (t$fired) + (runif(n) < 0.3)]
    t
  }),
  "whole numbers that are counted" = list(12, 90, function(n) {
    t <- data.frame(
      children = rpois(n, 1), rooms = rpois(n, 4) + 1,
      rain = ifelse(runif(n) < 0.4, 0, rexp(n))
    )
    t$y <- t$rooms + rnorm(n)
    t
  })
)

# The quick look's ten folds and the report take longest: one table goes through the look, two have
# a report. What others do alike waits for the long form.
whole_look <- "repeated measures"
reported <- c("names with spaces, quotes and backslashes", "texts only")
always <- c(
  "0/1 predictors", "repeated measures", "codes with leading zeros", "dates in three formats",
  "names with spaces, quotes and backslashes", "one column nearly constant"
)

for (name in if (in_full()) names(tables) else always) {
  test_that(paste0("the whole way with a table of ", name), {
    table <- do.call(made, tables[[name]])
    folder <- withr::local_tempdir()
    at <- function(file) file.path(folder, file)
    write.csv(table, at("table.csv"), row.names = FALSE, na = "")
    read <- read_data(at("table.csv"))
    expect_identical(names(read), names(table))
    expect_identical(nrow(read), nrow(table))
    job <- brief(read, "y")
    found <- inspect_data(job)
    expect_false(any(grepl("NA|NaN|NULL", found$detail)))
    mended <- apply_remedies(job, found)
    # nothing is lost without consent
    expect_identical(nrow(mended$brief$table), nrow(table))
    run <- function(...) {
      suppressMessages(suppressWarnings(run_comparison(mended$brief, ..., quiet = TRUE,
        workers = 1)))
    }
    cmp <- if (name %in% whole_look) run(seed = 1) else run(splits = split_kfold(3), seed = 1)
    expect_identical(failures(cmp)$message, character())
    best <- standings(cmp)
    expect_false(best$candidate[1] == "baseline")
    model <- fit_final(select_final(cmp, "best_mean"))
    column <- if (job$kind == "number") "value" else paste0("p_", job$levels[1])
    expected <- predict(model, read)[[column]]
    save_model(model, at("model.kilnwright"))
    again <- open_model(at("model.kilnwright"), trust = TRUE)
    expect_equal(predict(again, read)[[column]], expected)
    write_predictions(again, at("table.csv"), at("predicted.csv"))
    written <- as.data.frame(read_data(at("predicted.csv")))
    expect_equal(as.double(written[[column]]), expected, tolerance = 1e-9)
    write_script(model, at("script.R"), data = at("table.csv"), new_data = at("table.csv"))
    ran <- system2(
      file.path(R.home("bin"), "Rscript"), at("script.R"),
      stdout = TRUE, stderr = TRUE
    )
    expect_null(attr(ran, "status"), info = paste(ran, collapse = "\n"))
    scripted <- as.data.frame(read_data(at("predictions.csv")))
    expect_equal(as.double(scripted[[column]]), expected, tolerance = 1e-8)
    if (!name %in% reported) return(invisible())
    local_no_pictures()
    write_report(model, at("report.html"))
    expect_gt(file.size(at("report.html")), 1e4)
  })
}
