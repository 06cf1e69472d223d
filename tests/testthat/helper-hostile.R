# Names and levels that somebody might think of to break a file, a page or a script.

hostile_bits <- c(
  "a", "B", "\"", "'", "\\", "\n", "`", "#", "%", "{", "}", "(", ")", "$", "\u00e4", "\U0001F600",
  "\t", "\r", "NA", "..1", "if", "x", "0", "\u001b[31m", "--", "/*", "*/", "\\u0041", "<-", " ",
  "; stop('planted')", "\"); stop('planted'); (\"", "</script>", "<b>", "|", "[x](y)", "!["
)

hostile_word <- function() {
  repeat {
    word <- paste(sample(hostile_bits, sample(5, 1), TRUE), collapse = "")
    if (nzchar(trimws(word)) && !trimws(word) %in% "NA") return(word)
  }
}

# A small table with hostile names and levels, and its brief; NULL where two are alike.
hostile_brief <- function(seed) {
  withr::with_seed(seed, {
    names <- replicate(4, hostile_word())
    levels <- replicate(3, hostile_word())
    classes <- replicate(2, hostile_word())
    if (anyDuplicated(names) || anyDuplicated(levels) || anyDuplicated(classes)) return(NULL)
    outcome <- if (seed %% 2 == 0) rep(classes, 20) else rnorm(40)
    table <- data.frame(rnorm(40), sample(levels, 40, TRUE), runif(40), outcome)
    names(table) <- names
    list(
      table = table,
      brief = brief(table, names[4], event = if (seed %% 2 == 0) classes[1])
    )
  })
}

hostile_model <- function(brief) {
  cmp <- suppressWarnings(quiet_run(
    brief, candidates(x = pipeline(
      pre_missing(), pre_onehot(), fam_tree(pruning = among(0.001, 0.1), min_leaf = 3)
    )),
    splits = split_kfold(2, stratify = FALSE), seed = 1, workers = 1
  ))
  fit_final(select_final(cmp))
}

# Runs a script with the table in place of the reading of its file.
run_script <- function(file, table) {
  home <- new.env(parent = globalenv())
  home$table <- table
  for (expr in parse(file)) {
    if (!grepl("^table <- read_table", paste(deparse(expr), collapse = ""))) eval(expr, home)
  }
  home
}
