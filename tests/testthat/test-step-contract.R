test_that("columns are selected by name, kind, predicate and outside variable", {
  table <- data.frame(a = c(1, NA, 3), b = c(4, 5, NA), k = c("x", NA, "x"))
  filled <- function(step) {
    names(which(!vapply(prepared(list(step), table)$columns, anyNA, logical(1))))
  }
  wanted <- "b"
  expect_identical(filled(pre_missing(columns = a)), "a")
  expect_identical(filled(pre_missing(columns = "k")), "k")
  expect_identical(filled(pre_missing(columns = of_kind("number"))), c("a", "b"))
  expect_identical(filled(pre_missing(columns = where(function(x) !is.numeric(x)))), "k")
  expect_identical(filled(pre_missing(columns = all_of(wanted))), "b")
  expect_identical(filled(pre_missing(columns = wanted)), "b")
  expect_identical(filled(pre_missing(columns = !k)), c("a", "b"))
  expect_error(prepared(list(pre_missing(columns = absent)), table), class = "kw_error_columns")
})

test_that("a step may change the number of training rows, but no others", {
  table <- toy(90)
  job <- toy_brief("number", table)
  numbers <- function(...) pipeline(..., pre_onehot(), fam_linear())
  cmp <- quiet_run(
    job,
    candidates(plain = numbers(), doubled = numbers(pre_double())),
    splits = split_kfold(3),
    metrics = "rmse",
    seed = 1
  )
  expect_identical(nrow(failures(cmp)), 0L)
  scores <- standings(cmp)
  expect_equal(scores$mean[1], scores$mean[2])
  expect_error(
    define_step(
      "bad",
      learn = function(frame, target, settings, seed) outside(frame),
      use = function(state, frame) frame
    ),
    class = "kw_error_definition"
  )
})

test_that("a step that changes rows without saying so fails, and says why", {
  pre_sneaky <- define_step("sneaky",
    learn = function(frame, target, settings, seed) {
      part <- structure(
        list(columns = frame$columns[1:5, ], sparse = NULL, n = 5L),
        class = "kw_frame"
      )
      list(
        state = NULL,
        training = list(
          frame = part,
          target = structure(lapply(unclass(target), function(x) x[1:5]), class = "kw_target")
        )
      )
    }, use = function(state, frame) frame
  )
  expect_error(
    quiet_run(
      toy_brief(),
      candidates(a = pipeline(pre_sneaky(), fam_tree())),
      splits = split_kfold(2),
      seed = 1
    ),
    "without saying so"
  )
})

test_that("a cross-fitted target encoding of pure noise scores 0.5, also under the bootstrap", {
  noise <- withr::with_seed(
    6,
    data.frame(
      level = sample(sprintf("l%03d", 1:150), 600, TRUE),
      y = sample(c("a", "b"), 600, TRUE)
    )
  )
  job <- brief(noise, "y", event = "b")
  for (splits in list(split_kfold(5, repeats = 4), split_bootstrap(15))) {
    cmp <- quiet_run(
      job,
      candidates(coded = pipeline(pre_mean_of_others(), fam_linear())),
      splits = splits,
      metrics = "auc",
      seed = 2
    )
    found <- standings(cmp)
    expect_lt(abs(found$mean - 0.5), 3 * max(found$se, 0.02))
  }
})

test_that("inner divisions keep groups, and a bootstrap's copies of a row, on one side", {
  new_target <- kw("new_target")
  copies <- c(1, 1, 1, 2, 3, 3, 4, 5, 5, 6, 7, 8, 8, NA, NA)
  parts <- withr::with_seed(1, kw("inner_parts")(new_target(rnorm(15), source_row = copies), 3))
  expect_true(all(tapply(parts[1:13], copies[1:13], function(p) length(unique(p)) == 1)))
  grouped <- new_target(
    factor(rep(c("a", "b"), 30)),
    group = rep(1:12, each = 5), source_row = 1:60
  )
  parts <- withr::with_seed(1, kw("inner_parts")(grouped, 4))
  expect_true(all(tapply(parts, grouped$group, function(p) length(unique(p)) == 1)))
  expect_setequal(parts, 1:4)
})

test_that("encodings, filters and balancing on pure noise leave the AUC at 0.5", {
  noise <- withr::with_seed(
    9,
    data.frame(matrix(rnorm(400 * 30), 400),
      level = sample(sprintf("l%03d", 1:120), 400, TRUE),
      y = sample(c("a", "b"), 400, TRUE, c(0.7, 0.3))
    )
  )
  job <- brief(noise, "y", event = "b")
  rivals <- candidates(
    coded = pipeline(pre_target_mean(smoothing = 1), fam_linear()),
    ordered = pipeline(pre_ordinal(by = "outcome", columns = level), fam_linear()),
    filtered = pipeline(pre_onehot(), pre_keep_top(top = 3), fam_linear()),
    binned = pipeline(
      pre_drop(columns = level), pre_bins(by = "tree"), pre_onehot(drop_one = TRUE), fam_tree()
    ),
    made_up = pipeline(pre_balance(by = "synthetic"), pre_onehot(), fam_forest(trees = 60))
  )
  for (splits in c(list(split_kfold(5, repeats = 2)), if (in_full()) list(split_bootstrap(8)))) {
    cmp <- quiet_run(job, rivals, splits = splits, metrics = "auc", seed = 3)
    expect_identical(nrow(failures(cmp)), 0L)
    table <- standings(cmp)
    expect_true(
      all(abs(table$mean - 0.5) < pmax(3 * table$se, 0.05)),
      info = paste(table$candidate, round(table$mean, 3), collapse = ", ")
    )
  }
})

test_that("a category of 100,000 levels goes through the steps made for it", {
  table <- data.frame(k = sprintf("l%06d", 1:1e5), z = 1:1e5)
  y <- (1:1e5) / 3
  for (step in list(
    pre_hash(buckets = 200), pre_frequency(), pre_target_mean(), pre_rare_levels(),
    pre_onehot()
  )) {
    out <- learned(step, table, y)$frame
    expect_identical(out$n, 100000L)
  }
  expect_identical(dim(out$sparse), c(100000L, 100000L))
  expect_error(
    kw("check_dense_size")(out$sparse, list(name = "tree")),
    "sparse input",
    class = "kw_error_input"
  )
})

# Every shipped step runs through the same checks.

awkward_table <- function() {
  withr::with_seed(4, data.frame(
    n = c(rnorm(38), 1e12, -1e-12), gaps = c(rep(NA, 10), rnorm(30)), constant = rep(3, 40),
    gone = rep(NA_real_, 40), late = c(rep(NA, 30), 1:10),
    late_level = c(rep(NA, 30), rep(c("x", "y"), 5)),
    level = sample(c("a b", "\u00e9t\u00e9", "c,\"d\""), 40, TRUE), single = rep("only", 40),
    none = rep(NA_character_, 40), day = as.Date("1960-05-01") + (1:40) * 400,
    words = paste("remark", 1:40, "of several words"), y = rep(c("a", "b", "a"), length.out = 40)
  ))
}

awkward_brief <- function() {
  table <- awkward_table()
  table$size <- factor(
    rep(c("small", "large"), 20),
    levels = c("small", "middle", "large"), ordered = TRUE
  )
  brief(table, "y", text = "words")
}

steps <- kw("shipped_members")("step")

steps <- steps[vapply(steps, function(make) is.null(make()$expand), logical(1))]

# those that cannot do without arguments
asking_steps <- list(
  drop = pre_drop(columns = where(is.numeric)), derive = pre_derive(whole = 2),
  custom = pre_custom(use = function(columns, state) columns)
)

for (name in names(steps)) {
  test_that(paste0("pre_", name, " conforms to the contract of steps"), {
    job <- awkward_brief()
    frame <- kw("frame_columns")(job$table, job$schema)
    target <- kw("brief_target")(job)
    # the only step that is for numbers alone
    if (name == "outcome_scale") target$outcome <- as.double(1:40)
    training <- kw("frame_rows")(frame, 1:30)
    step <- asking_steps[[name]] %||% kw("new_step")(steps[[name]](), list())
    learned <- suppressWarnings(kw("learn_step")(step, training, kw("target_rows")(target, 1:30),
      1))
    use <- function(f) kw("use_step")(learned$state, f)

    whole <- use(frame)
    expect_identical(whole$n, 40L)
    expect_identical(kw("frame_names")(learned$frame), kw("frame_names")(whole))
    expect_false(anyDuplicated(kw("frame_names")(whole)) > 0)

    one <- use(kw("frame_rows")(frame, 33L))
    expect_identical(
      lapply(one$columns, as.character), lapply(whole$columns, function(x) as.character(x[33]))
    )
    none <- use(kw("frame_rows")(frame, integer()))
    expect_identical(kw("frame_names")(none), kw("frame_names")(whole))

    strange <- job$table[31:40, ]
    strange$level <- "never seen"
    strange$n <- NA_real_
    odd <- use(kw("frame_from_new")(strange, job$schema, NULL))
    expect_identical(kw("frame_names")(odd), kw("frame_names")(whole))

    again <- unserialize(serialize(learned$state, NULL))
    expect_identical(kw("use_step")(again, frame), whole)
  })
}

test_that("constructors' defaults are those that the definitions declare", {
  for (kind in c("step", "fam")) for (name in names(kw("shipped_members")(kind))) {
    prefix <- if (kind == "step") "pre_" else "fam_"
    declared <- kw("shipped_members")(kind)[[name]]()$arguments
    arguments <- formals(get(paste0(prefix, name), asNamespace("kilnwright")))
    required <- vapply(arguments, function(a) is.symbol(a) && !nzchar(as.character(a)), logical(1))
    for (argument in intersect(names(declared), names(arguments)[!required])) {
      if (is.function(declared[[argument]]$default)) next
      expect_identical(
        eval(arguments[[argument]]), declared[[argument]]$default,
        info = paste(name, argument)
      )
      expect_true(nzchar(declared[[argument]]$meaning))
    }
    if (any(required[names(required) != "..."])) next
    made <- if (prefix == "pre_") asking_steps[[name]]
    if (is.null(made)) made <- get(paste0(prefix, name), asNamespace("kilnwright"))()
    expect_output(print(made), name)
  }
})

test_that("arguments that a step cannot do without are asked for, in R and in plan files", {
  expect_error(pre_drop(), "`columns` of pre_drop.. must be given", class = "kw_error_argument")
  expect_error(pre_custom(), "use", class = "kw_error_argument")
  expect_error(pre_derive(), "`formulas` of pre_derive", class = "kw_error_argument")
  pre_cap <- define_step("cap",
    learn = function(frame, target, settings, seed) list(state = settings, training = NULL),
    use = function(state, frame) {
      for (name in state$columns) {
        frame$columns[[name]] <- pmin(frame$columns[[name]], state$most)
      }
      frame
    },
    defaults = list(most = NULL), columns = "number", required = c("most", "columns")
  )
  expect_error(pre_cap(columns = x1), "`most` of pre_cap", class = "kw_error_argument")
  expect_error(pre_cap(most = 3), "`columns` of pre_cap", class = "kw_error_argument")
  expect_s3_class(pre_cap(most = among(1, 2), columns = x1), "kw_step")
  expect_error(
    define_step("bad", function(frame, target, settings, seed) NULL, function(state, frame) frame,
      required = "most"
    ),
    "required",
    class = "kw_error_argument"
  )
  folder <- withr::local_tempdir()
  utils::write.csv(toy(40), file.path(folder, "t.csv"), row.names = FALSE)
  file <- file.path(folder, "p.yml")
  plan_with <- function(step) {
    writeLines(c(
      "brief: {table: t.csv, outcome: number}", paste0("candidates: {c: [", step, ", linear]}")
    ), file)
    read_plan(file)
  }
  for (step in c("drop", "{drop: {called: away}}")) {
    expect_error(plan_with(step), "'columns' is missing.*c\\[1\\] > drop",
      class = "kw_error_plan_file")
  }
  for (step in c("derive", "{custom: {use: mean}}")) {
    expect_error(plan_with(step), "is made of code.*Make the plan in R",
      class = "kw_error_plan_file")
  }
})
