# Help pages against the code.

test_that("every help page names the errors that its functions can raise, and no others", {
  home <- asNamespace("kilnwright")
  functions <- Filter(is.function, mget(ls(home, all.names = TRUE), envir = home))
  words <- lapply(functions, function(f) {
    c(all.names(body(f)), unlist(lapply(formals(f), all.names)))
  })
  calls <- lapply(words, intersect, names(functions))
  classes_in <- function(code) {
    if (is.pairlist(code)) code <- as.list(code)
    if (is.list(code)) return(unlist(lapply(code, classes_in)))
    if (!is.call(code)) return(NULL)
    own <- if (identical(code[[1]], quote(stop_kw)) && is.character(code[[2]])) code[[2]]
    c(own, classes_in(Filter(Negate(rlang::is_missing), as.list(code)[-1])))
  }
  raised <- Map(function(f, words) {
    if ("stop_kw" %in% words) unique(classes_in(body(f)))
  }, functions, words)
  reachable <- function(now) {
    all <- now
    while (length(now) > 0L) {
      now <- setdiff(unlist(calls[now]), all)
      all <- c(all, now)
    }
    paste0("kw_error_", unique(unlist(raised[all])))
  }
  pages <- tools::Rd_db("kilnwright")
  expect_gt(length(pages), 100)
  for (name in names(pages)) {
    text <- paste(as.character(pages[[name]]), collapse = "")
    aliases <- regmatches(text, gregexpr("(?<=\\\\alias\\{)[^}]+", text, perl = TRUE))[[1]]
    about <- intersect(aliases, names(functions))
    if (length(about) == 0L || name %in% c("hyperparameter.Rd", "theme_kilnwright.Rd")) next
    errors <- regmatches(text, regexpr("\\\\section\\{Errors\\}.*", text))
    expect_length(errors, 1L)
    named <- unique(regmatches(errors, gregexpr("kw_error_[a-z_]+", errors))[[1]])
    expect_gt(length(named), 0)
    # steps meet columns later, when they are learned, and families in a plan
    if (startsWith(name, "pre_")) about <- c(about, "learn_step", "plan_comparison")
    expect_identical(setdiff(named, reachable(about)), character(), info = name)
  }
})
