# One row a piece of bad input: what is done, the error's class, and words that
# the message must have: the thing, and the remedy.

pots <- demo_pots()
small <- data.frame(a = c(1, 2, 3, 4), b = c("u", "v", "u", "v"), y = c("no", "yes", "no", "yes"))
labelled <- structure(c(1, 2, 2, 1),
  labels = c(kiln = 1, pot = 2), class = c("haven_labelled", "vctrs_vctr", "double")
)
infinite <- transform(small, a = c(1, Inf, 3, -Inf))
plan_text <- function(...) {
  file <- tempfile(fileext = ".yml")
  writeLines(c(...), file)
  file
}
csv <- function(text, ending = ".csv") {
  file <- tempfile(fileext = ending)
  writeLines(text, file)
  file
}
base_plan <- c(
  paste0(
    "brief: {table: ", system.file("extdata", "pots.csv.gz", package = "kilnwright"),
    ", outcome: cracked, event: yes, ignore: [notes, pot_id]}"
  ),
  "seed: 1", "splits: {kfold: {k: 2}}"
)
folds <- function(k, table = small, ...) {
  plan_comparison(
    brief(table, "y", ...), candidates(b = fam_baseline()),
    splits = split_kfold(k), seed = 1
  )
}

bad_input <- list(
  "outcome absent" = list(
    quote(brief(pots, "craked")), "kw_error_brief",
    "craked.*Did you mean 'cracked'"
  ),
  "date as outcome" = list(
    quote(brief(transform(small, y = as.Date("2031-01-05") + c(0, 0, 7, 9)), "y")),
    "kw_error_brief", "'y' is a date.*as.numeric\\(difftime"
  ),
  "point in time as outcome" = list(
    quote(brief(transform(small, y = ISOdate(2031, 1, 1:4)), "y", outcome_kind = "number")),
    "kw_error_brief", "'y' is a point in time.*hours"
  ),
  "matrix as table" = list(
    quote(brief(as.matrix(small), "y")), "kw_error_table",
    "got matrix of length 12 \\('1', '2', '3', ...\\).*as.data.frame"
  ),
  "several texts for one" = list(
    quote(pre_scale(by = c("sd", "range", "iqr", "gap"))), "kw_error",
    "got character of length 4 \\('sd', 'range', 'iqr', \\.\\.\\.\\)"
  ),
  "outcome not given" = list(quote(brief(pots)), "kw_error_brief", "outcome.*missing.*Columns"),
  "outcome missing in rows" = list(
    quote(brief(transform(small, y = c("no", NA, "yes", NA)), "y")),
    "kw_error_brief", "missing in 2 rows.*rows 2, 4.*Leave them out"
  ),
  "outcome missing everywhere" = list(
    quote(brief(transform(small, y = NA), "y")), "kw_error_brief",
    "missing in every row"
  ),
  "outcome constant" = list(
    quote(brief(transform(small, y = "no"), "y")), "kw_error_brief",
    "constant.*'no'"
  ),
  "outcome all distinct text" = list(
    quote(brief(pots, "pot_id")), "kw_error_brief",
    "different values.*read_as"
  ),
  "outcome two numbers" = list(
    quote(brief(transform(small, y = c(0, 1, 0, 1)), "y")),
    "kw_error_brief", "classes or a number.*event = 1"
  ),
  "event no level" = list(
    quote(brief(pots, "cracked", event = "maybe")), "kw_error_brief",
    "'maybe'.*'no', 'yes'"
  ),
  "event for many classes" = list(
    quote(brief(pots, "grade", event = "first")), "kw_error_brief",
    "two classes.*'first', 'second', 'waste'"
  ),
  "column named in two roles" = list(
    quote(brief(pots, "cracked", id = "pot_id", ignore = "pot_id")), "kw_error_brief",
    "pot_id.*named twice.*`id` and `ignore`"
  ),
  "column absent" = list(
    quote(brief(pots, "cracked", group = "fireing_id")), "kw_error_brief",
    "fireing_id.*firing_id"
  ),
  "two columns of one name" = list(
    quote(brief(stats::setNames(small, c("a", "a", "y")), "y")),
    "kw_error_table", "'a'.*Rename"
  ),
  "group with gaps" = list(
    quote(brief(transform(small, g = c(1, NA, 2, 2)), "y", group = "g")),
    "kw_error_brief", "group column 'g'.*row 2"
  ),
  "negative weights" = list(
    quote(brief(transform(small, w = c(1, -1, 1, 1)), "y", weight = "w")),
    "kw_error_brief", "at least 0.*row 2"
  ),
  "infinite values" = list(
    quote(brief(infinite, "y")), "kw_error_table",
    "'a' has infinite.*rows 2, 4.*missing_codes"
  ),
  "list column" = list(
    quote(brief(tibble::tibble(a = list(1, 2), y = c("a", "b")), "y")),
    "kw_error_table", "'a' is a list.*ignore"
  ),
  "matrix as a column" = list(
    quote(brief(within(small, a <- matrix(1:8, 4)), "y")),
    "kw_error_table", "'a' is a matrix of 2 columns.*do.call\\(data.frame"
  ),
  "table as a column" = list(
    quote(brief(within(small, a <- data.frame(u = 1:4, v = 4:1, w = 1)), "y")),
    "kw_error_table", "'a' is a data frame of 3 columns.*do.call\\(data.frame"
  ),
  "codes with labels" = list(
    quote(brief(data.frame(y = small$y, `a b` = labelled, check.names = FALSE), "y")),
    "kw_error_table",
    "'a b' has codes with labels: 'kiln', 'pot'.*as_factor\\(table\\$`a b`\\)"
  ),
  "no rows" = list(quote(brief(small[0, ], "y")), "kw_error_table", "no rows"),
  "one column" = list(quote(brief(small["y"], "y")), "kw_error_brief", "No column is left"),
  "not a table" = list(quote(brief("pots.csv", "y")), "kw_error_table", "read_data"),
  "unlisted ordered level" = list(
    quote(brief(small, "y", ordered = list(b = "u"))),
    "kw_error_brief", "'b'.*'v'.*every level"
  ),
  "set aside twice" = list(
    quote(set_aside(set_aside(brief(pots, "cracked"), seed = 1))),
    "kw_error_set_aside", "already"
  ),
  "share out of range" = list(
    quote(set_aside(brief(pots, "cracked"), share = 20)),
    "kw_error_argument", "`share`.*below 1.*got 20"
  ),
  "k above rows" = list(quote(folds(9)), "kw_error_splits", "`k` is 9.*4 working rows.*k = 4"),
  "k above groups" = list(
    quote(folds(3, transform(small, g = c(1, 1, 2, 2)), group = "g")),
    "kw_error_splits", "'g' has only 2 groups"
  ),
  "class smaller than folds" = list(
    quote(folds(3)), "kw_error_splits",
    "class 'no' has 2 rows.*3 folds.*k = 2.*stratify = FALSE"
  ),
  "k no whole number" = list(quote(split_kfold(2.5)), "kw_error_argument",
    "`k`.*whole number.*2.5"),
  "hyperparameters clash" = list(
    quote(pipeline(
      pre_scale(by = among("sd", "iqr")), pre_scale(by = among("sd", "range")), fam_linear()
    )), "kw_error_pipeline", "'by'.*first_by"
  ),
  "hyperparameter takes a standings name" = list(
    quote(pipeline(gap = either(a = as_is(), b = pre_scale()), fam_linear())), "kw_error_pipeline",
    "'gap'.*standings"
  ),
  "no family" = list(quote(pipeline(pre_scale())), "kw_error_pipeline", "ends with a family"),
  "family not last" = list(
    quote(pipeline(fam_linear(), pre_scale())), "kw_error_pipeline",
    "comes last"
  ),
  "function instead of call" = list(
    quote(pipeline(pre_scale, fam_linear())), "kw_error_pipeline",
    "Call it"
  ),
  "candidates without names" = list(quote(candidates(fam_linear())), "kw_error_argument", "named"),
  "candidates named twice" = list(
    quote(candidates(a = fam_linear(), a = fam_tree())),
    "kw_error_argument", "'a' more than once"
  ),
  "empty range" = list(quote(from_to(3, 3)), "kw_error_argument", "`to` must be above"),
  "log range from zero" = list(quote(from_to(0, 1, "log")), "kw_error_argument", "above 0.*even"),
  "value out of bounds" = list(
    quote(fam_penalised(lasso_share = 1.5)), "kw_error_argument",
    "lasso_share.*fam_penalised.*at most 1.*1.5"
  ),
  "value misspelt" = list(
    quote(fam_tree(impurity = "ginni")), "kw_error_argument",
    "ginni.*Did you mean 'gini'"
  ),
  "value twice" = list(quote(among(1, 2, 1)), "kw_error_argument", "more than once"),
  "rule in unknown name" = list(
    quote(rule_out(candidates(t = fam_tree(pruning = sensible())), prunning < 1)), "kw_error_rule",
    "prunning.*pruning"
  ),
  "rule removes nothing" = list(
    quote(plan_comparison(
      brief(pots, "cracked", ignore = "notes"),
      rule_out(candidates(t = fam_tree(min_leaf = among(1, 2))), min_leaf > 9),
      seed = 1
    )), "kw_error_rule", "removes no setting"
  ),
  "rule removes everything" = list(
    quote(plan_comparison(
      brief(pots, "cracked", ignore = "notes"),
      rule_out(candidates(t = fam_tree(min_leaf = among(1, 2))), min_leaf < 9),
      seed = 1
    )), "kw_error_rule", "No setting of the candidate 't'"
  ),
  "family gets categories" = list(
    quote(plan_comparison(
      brief(pots, "cracked"), candidates(a = pipeline(pre_missing(), fam_linear())),
      seed = 1
    )), "kw_error_plan", "'a'.*numbers only.*pre_onehot"
  ),
  "family gets gaps" = list(
    quote(plan_comparison(
      brief(pots, "cracked"), candidates(a = pipeline(pre_onehot(), fam_linear())),
      seed = 1
    )), "kw_error_plan", "missing values.*humidity_pct.*pre_missing"
  ),
  "step on the wrong kind" = list(
    quote(plan_comparison(
      brief(pots, "cracked"),
      candidates(a = pipeline(pre_scale(columns = "glaze"), fam_tree())),
      seed = 1
    )), "kw_error_plan", "pre_scale.*numbers.*category"
  ),
  "search names no candidate" = list(
    quote(plan_comparison(
      brief(pots, "cracked"),
      search = list(wood = search_grid(), search_grid())
    )), "kw_error_argument", "'wood'.*no candidate"
  ),
  "seed is text" = list(
    quote(plan_comparison(brief(pots, "cracked"), seed = "x")),
    "kw_error_argument", "`seed`.*'x'"
  ),
  "arguments beside a plan" = list(
    quote(preview(read_plan(plan_text(base_plan, "candidates: {b: baseline}")), seed = 1)),
    "kw_error_argument", "complete in itself"
  ),
  "plan file absent" = list(
    quote(read_plan("no-such-plan.yml")), "kw_error_plan_file",
    "no-such-plan.yml"
  ),
  "plan file no YAML" = list(
    quote(read_plan(plan_text("brief: {table: a, outcome: [b", "seed: 1"))), "kw_error_plan_file",
    "no valid YAML.*line"
  ),
  "plan key unknown" = list(
    quote(read_plan(plan_text(base_plan, "candidates: {t: {tree: {prunning: 1}}}"))),
    "kw_error_plan_file", "prunning.*candidates > t > tree.*pruning"
  ),
  "plan key unknown at the top" = list(
    quote(read_plan(plan_text(base_plan, "candidate: {t: tree}"))), "kw_error_plan_file",
    "'candidate'.*candidates"
  ),
  "plan value of wrong type" = list(
    quote(read_plan(plan_text(base_plan, "candidates: {t: {tree: {pruning: lots}}}"))),
    "kw_error_plan_file", "number.*'lots'.*pruning"
  ),
  "plan step unknown" = list(
    quote(read_plan(plan_text(base_plan, "candidates: {t: [misssing, tree]}"))),
    "kw_error_plan_file", "misssing.*missing"
  ),
  "plan rule with a call" = list(
    quote(read_plan(plan_text(
      base_plan,
      "candidates: {t: {tree: {min_leaf: [1, 2]}}}",
      "rule_out: [\"min_leaf == system('id')\"]"
    ))), "kw_error_plan_file", "more than comparisons"
  ),
  "plan metric list of maps" = list(
    quote(read_plan(plan_text(base_plan, "candidates: {t: tree}", "metrics: {a: b}"))),
    "kw_error_plan_file", "metrics"
  ),
  "file absent" = list(
    quote(read_data(file.path(tempdir(), "none.csv"))), "kw_error_file",
    "none.csv"
  ),
  "file empty" = list(quote(read_data(csv(character()))), "kw_error_file", "empty"),
  "file with blank lines only" = list(quote(read_data(csv(c("", "")))), "kw_error_file", "empty"),
  "file with a header only" = list(quote(read_data(csv("a,b"))), "kw_error_file", "no rows"),
  "ragged rows, too many" = list(
    quote(read_data(csv(c("a,b", "1,2", "3,4,5", "6,7")))),
    "kw_error_file", "different lengths.*line 3"
  ),
  "ragged rows, too few" = list(
    quote(read_data(csv(c("a,b,c", "1,2,3", "3,4", "6,7,8")))),
    "kw_error_file", "different lengths.*line 3"
  ),
  "gzip damaged" = list(quote(read_data(csv("not gzip at all \001", ".csv.gz"))), "kw_error", "."),
  "model file absent" = list(
    quote(open_model("none.kilnwright")), "kw_error_model_file",
    "none.kilnwright"
  ),
  "model file foreign" = list(
    quote(open_model(csv("a,b"), trust = TRUE)), "kw_error_model_file",
    "damaged"
  )
)

for (name in names(bad_input)) {
  test_that(paste("bad input:", name), {
    case <- bad_input[[name]]
    error <- tryCatch(eval(case[[1]]), error = identity)
    expect_s3_class(error, case[[2]])
    text <- gsub("\n", " ", cli::ansi_strip(rlang::cnd_message(error)))
    expect_match(text, case[[3]], info = name)
  })
}

test_that("names with braces, percent signs and quotes survive in messages", {
  table <- stats::setNames(small, c("{a}", "100%s 'x'", "y"))
  expect_error(brief(table, "{b}"), "'\\{b\\}'")
  expect_error(brief(table, "y", id = "%d"), "'%d'")
})

test_that("a family that fails on one split fails there only, and is not ranked", {
  table <- toy(60)
  pre_picky <- define_step("picky", learn = function(frame, target, settings, seed) {
    if (7 %in% target$source_row) {
      stop("row seven is unlucky")
    } else {
      list(state = NULL, training = NULL)
    }
  }, use = function(state, frame) frame)
  cmp <- quiet_run(
    toy_brief("number", table),
    candidates(
      plain = fam_baseline(),
      picky = pipeline(optional(pre_picky()), fam_tree(pruning = among(0.01, 0.1)))
    ),
    splits = split_kfold(4),
    seed = 2
  ) |> tryCatch(error = identity)
  found <- failures(cmp)
  expect_identical(nrow(found), 2L * 3L)
  expect_match(found$message, "unlucky")
  expect_identical(unique(found$stage), "pre_picky")
  table <- standings(cmp)
  expect_identical(table$failed[table$candidate == "picky"], c(0L, 0L, 3L, 3L))
  expect_identical(is.na(table$place), c(FALSE, FALSE, FALSE, TRUE, TRUE))
})

test_that("if everything fails, the commonest message is shown", {
  pre_broken <- define_step("broken", learn = function(frame, target, settings, seed) {
    if (length(target$source_row) < 60) stop("no good") else list(state = NULL, training = NULL)
  }, use = function(state, frame) stop("never fits"))
  plan <- plan_comparison(
    toy_brief("number", toy(60)), candidates(a = fam_tree()),
    splits = split_kfold(2), seed = 1
  )
  plan$spaces$a$pipeline$steps <- list(list(part = pre_broken(), name = ""))
  expect_error(quiet_run(plan), "no good", class = "kw_error_run")
})

test_that("errors carry what they are about beside their text", {
  caught <- function(expr) tryCatch(expr, kw_error = identity)
  table <- toy(30)
  e <- caught(split_kfold(k = -1))
  expect_identical(list(e$argument, e$got), list("k", -1))
  e <- caught(brief(table, "numbr"))
  expect_identical(list(e$argument, e$column), list("outcome", "numbr"))
  expect_identical(e$choices, names(table))
  table$x2[c(3, 9)] <- Inf
  e <- caught(brief(table, "number"))
  expect_identical(list(e$column, e$row), list("x2", c(3L, 9L)))
  e <- caught(select_final(quiet_run(toy_brief("number", toy(30)),
    candidates(a = fam_baseline()), splits = split_kfold(3), seed = 1), rule = "one_sd"))
  expect_identical(list(e$argument, e$got), list("rule", "one_sd"))
  expect_true("one_se" %in% e$choices)
})

test_that("a record that lacks something is refused, and says what and what to do", {
  job <- toy_brief("number", toy(30))
  plan <- plan_comparison(job, candidates(a = fam_baseline()), splits = split_kfold(3), seed = 1)
  cmp <- quiet_run(plan)
  older <- plan
  older$margin <- NULL
  expect_error(preview(older), "plan without 'margin'", class = "kw_error_argument")
  cmp$plan$brief$roles <- NULL
  expect_error(standings(cmp), "`cmp$plan$brief` is a brief without 'roles'",
    fixed = TRUE, class = "kw_error_argument"
  )
  # one from a file of a version that knew less has nothing there
  whole <- kw("complete_record")(list(outcome = "number"), "kw_model")
  expect_true(all(c("folds", "exposure") %in% names(whole)))
})

test_that("every public function refuses an argument that it does not have, naming the nearest", {
  e <- tryCatch(fam_forest(tres = 100), error = identity)
  expect_identical(e$argument, "tres")
  expect_match(conditionMessage(e), "fam_forest() has no argument `tres`.", fixed = TRUE)
  expect_match(conditionMessage(e), "Did you mean 'trees'?", fixed = TRUE)
  expect_error(split_kfold(5, 1, TRUE, TRUE, 3), "given too much; it takes k, repeats",
    class = "kw_error_argument"
  )
  # what is handed on to a run is an argument too
  expect_error(extend_comparison(1, candidates = 2), "has no argument `candidates`")
  expect_error(extend_comparison(1, worker = 2), "Did you mean 'workers'")
  expect_error(settle(1, limits = limits(minutes = 1)), "has no argument `limits`")
  # these take any number of values, or hand arguments on
  with_more <- c(
    "among", "candidates", "draw_dependence", "either", "join_comparisons", "list_ruled_out",
    "of_kind", "pipeline", "pre_derive", "preview", "rule_out", "run_comparison"
  )
  for (name in setdiff(getNamespaceExports("kilnwright"), with_more)) {
    made <- getExportedValue("kilnwright", name)
    if (length(formals(made)) == 0L) next
    e <- tryCatch(do.call(name, list(zz = 1)), error = identity)
    expect_s3_class(e, "kw_error_argument")
    expect_identical(e$argument, "zz", info = name)
  }
})
