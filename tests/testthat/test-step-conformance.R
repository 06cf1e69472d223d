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

for (name in names(steps)) {
  test_that(paste0("pre_", name, " conforms to the contract of steps"), {
    job <- awkward_brief()
    frame <- kw("frame_columns")(job$table, job$schema)
    target <- kw("brief_target")(job)
    training <- kw("frame_rows")(frame, 1:30)
    step <- kw("new_step")(steps[[name]](), list())
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
    declared <- kw("shipped_members")(kind)[[name]]()$hyperparameters
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
    made <- get(paste0(prefix, name), asNamespace("kilnwright"))()
    expect_output(print(made), name)
  }
})
