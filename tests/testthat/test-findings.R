found_in <- function(table, outcome = "y", ...) inspect_data(brief(table, outcome, ...))
codes_for <- function(found, column) {
  found$code[vapply(found$columns, function(c) column %in% c, logical(1))]
}

planted <- function() {
  withr::with_seed(3, {
    n <- 400
    x <- data.frame(
      serial = sample(n), constant = 5, nearly = c(rep("a", n - 2), "b", "c"),
      half_gone = ifelse(runif(n) < 0.6, NA, rnorm(n)),
      word = sample(c("oak", "ash", "Unknown", "?"), n, TRUE),
      code = sample(c(1:40, 9999), n, TRUE, c(rep(1, 40), 4)),
      celsius = rnorm(n, 1000, 30), a = rexp(n), b = rnorm(n),
      level = sample(c("p", "q", "r"), n, TRUE, c(0.6, 0.38, 0.02)),
      many = sample(sprintf("m%03d", 1:90), n, TRUE), tail = rlnorm(n, 0, 1.2),
      numeral = sample(as.character(seq(1, 9, 0.5)), n, TRUE),
      day = sample(format(as.Date("2031-01-01") + 1:60), n, TRUE), far = c(rnorm(n - 1), 40)
    )
    x$fahrenheit <- x$celsius * 9 / 5 + 32
    x$total <- x$a + x$b
    x$twin <- c(p = "first", q = "second", r = "third")[x$level]
    x$y <- rnorm(n)
    x$teller <- round(x$y + rnorm(n, 0, 0.02), 2)
    x
  })
}

test_that("every planted problem is found, and clean columns are left alone", {
  found <- found_in(planted())
  expected <- c(
    serial = "id_like", constant = "constant", nearly = "near_constant",
    half_gone = "missing", word = "disguised_missing",
    code = "disguised_missing", fahrenheit = "repeated_column",
    total = "sum_of_columns", level = "rare_levels", many = "many_levels",
    twin = "repeated_column", tail = "skewed", numeral = "number_as_text",
    day = "date_as_text", far = "outliers", teller = "gives_outcome_away"
  )
  for (column in names(expected)) {
    expect_true(expected[[column]] %in% codes_for(found, column), info = column)
  }
  expect_false("gives_outcome_away" %in% codes_for(found, "b"))
  expect_identical(
    found$severity, as.character(sort(factor(found$severity, c("serious", "notable", "minor"))))
  )
  clean <- withr::with_seed(
    8,
    data.frame(u = rnorm(200), v = runif(200), k = sample(c("a", "b"), 200, TRUE), y = rnorm(200))
  )
  expect_identical(nrow(found_in(clean)), 0L)
  expect_output(print(found_in(clean)), "Nothing found")
})

test_that("repeated and nearly repeated rows are found, also across groups", {
  table <- withr::with_seed(
    5,
    data.frame(
      p = rnorm(120), q = rnorm(120), r = rnorm(120), g = rep(1:12, each = 10),
      y = rnorm(120)
    )
  )
  table[41, ] <- table[2, ]
  table$g[41] <- 5
  table[60, ] <- table[59, ]
  table[80, ] <- table[79, ]
  table$p[80] <- table$p[80] + 1e-9
  found <- found_in(table, group = "g")
  expect_match(
    found$detail[found$code == "duplicate_rows"],
    "2 rows repeat an earlier one exactly, also across different g"
  )
  expect_match(found$detail[found$code == "near_duplicate_rows"], "1 row is")
})

test_that("a table of counts is told from rows with weights, and a row for every case is offered", {
  table <- expand.grid(
    kiln = c("anagama", "gas", "wood"), clay = c("red", "white"), size = 1:3,
    cracked = c("no", "yes"), stringsAsFactors = FALSE
  )
  table$pots <- withr::with_seed(6, rpois(nrow(table), 20))
  table$pots[table$kiln == "gas" & table$cracked == "yes"] <- 1:6
  counted <- function(table, ...) {
    found <- inspect_data(brief(table, "cracked", event = "yes", ...))
    found[found$code == "counted_rows", ]
  }
  found <- counted(table, weight = "pots")
  expect_identical(found$severity, "serious")
  expect_match(found$detail, "as many cases as pots says")
  # what is offered is a table that can be learned from, which this one is not
  cases <- eval(parse(text = sub(", as a row.*", "", found$remedy)))
  expect_identical(nrow(cases), sum(table$pots))
  auc <- function(...) {
    standings(quiet_run(brief(..., outcome = "cracked", event = "yes"), candidates(t = fam_tree()),
      splits = split_kfold(4), metrics = "auc", seed = 1, workers = 1))$mean
  }
  expect_gt(auc(cases, ignore = "pots"), 0.6)
  expect_lt(auc(table, weight = "pots"), 0.55)
  # weights of other tables
  expect_identical(nrow(counted(cases, weight = "pots")), 0L)
  expect_identical(nrow(counted(transform(table, pots = pots / 2), weight = "pots")), 0L)
  together <- transform(table, cell = paste(kiln, clay, size))
  expect_identical(nrow(counted(together, weight = "pots", group = "cell")), 0L)
  expect_identical(nrow(counted(together, weight = "pots", group = "kiln", ignore = "cell")), 0L)
  measured <- cbind(table, wall = withr::with_seed(7, rnorm(nrow(table))))
  expect_identical(nrow(counted(measured, weight = "pots")), 0L)
})

test_that("rows that few values repeat by chance are told from copied ones", {
  table <- expand.grid(dose = 1:3, sex = c("f", "m"), nr = 1:40, stringsAsFactors = FALSE)
  table$site <- rep(c("a", "b", "c", "d"), length.out = nrow(table))
  table$nr <- withr::with_seed(4, round(20 + 3 * table$dose + rnorm(nrow(table), sd = 4)))
  found <- found_in(table, "nr", ignore = "site")
  found <- found[found$code == "duplicate_rows", ]
  repeats <- sum(duplicated(table[c("dose", "sex", "nr")]))
  expect_identical(found$detail, paste0(
    repeats, " rows repeat an earlier one exactly; others that agree in all else differ in nr, ",
    "so it may be chance."
  ))
  expect_identical(found$severity, "minor")
  # what is said does what is meant, also where not all columns are compared
  code <- sub("; .*", "", found$remedy)
  expect_identical(nrow(eval(parse(text = code))), nrow(table) - repeats)
  # the same with a measurement as fine as they usually are
  table$length <- withr::with_seed(5, rnorm(nrow(table)))
  copied <- rbind(table, table[1:7, ])
  copied$site[241:247] <- "elsewhere"
  found <- found_in(copied, "nr", group = "site")
  found <- found[found$code == "duplicate_rows", ]
  expect_identical(found$severity, "serious")
  expect_identical(
    found$detail, "7 rows repeat an earlier one exactly, also across different site."
  )
  table <- copied
  expect_identical(nrow(eval(parse(text = found$remedy))), 240L)
})

test_that("small and rare classes are said", {
  table <- withr::with_seed(5, data.frame(p = rnorm(200), y = rep(c("a", "b"), c(194, 6))))
  expect_setequal(found_in(table)$code, c("small_class", "class_imbalance"))
})

test_that("two calls find and remedy what is planted in the demo ledger", {
  job <- brief(
    demo_pots(),
    outcome = "cracked", event = "yes", ignore = c("shrinkage_pct", "grade")
  )
  found <- inspect_data(job)
  mended <- apply_remedies(job, found)
  expect_identical(mended$brief$roles$id, "pot_id")
  expect_identical(mended$brief$roles$group, "firing_id")
  expect_true("peak_f" %in% mended$brief$roles$ignore)
  expect_equal(
    mended$brief$missing_codes[c("glaze", "drying_days")],
    list(glaze = "n/r", drying_days = -999)
  )
  expect_false(any(mended$brief$table$drying_days %in% -999))
  expect_true("rare_levels" %in% found$code && "free_text" %in% found$code)
  steps <- vapply(mended$steps, function(s) s$definition$name, "")
  expect_true(all(c("missing", "rare_levels", "dates", "text", "onehot") %in% steps))
  again <- inspect_data(mended$brief)
  expect_false(any(c("id_like", "disguised_missing", "repeated_column", "groups") %in% again$code))
  cmp <- quiet_run(
    mended$brief,
    candidates(
      base = fam_baseline(),
      p = pipeline(mended$steps, fam_penalised(penalty = among(0.01, 0.03)))
    ),
    splits = split_kfold(4),
    seed = 1
  )
  expect_identical(nrow(failures(cmp)), 0L)
  table <- standings(cmp)
  expect_gt(table$mean[1], 0.7)
  few <- apply_remedies(job, found[found$code == "id_like", ])
  expect_null(few$brief$roles$group)
})

test_that(
  "findings and changes keep the seal: sealed rows are not read, and are understood when opened",
  {
    job <- brief(
      demo_pots(), "shrinkage_pct",
      group = "firing_id", ignore = c("cracked", "grade", "pot_id")
    ) |> set_aside(0.2, seed = 2)
    found <- inspect_data(job)
    mended <- apply_remedies(job, found)
    cmp <- quiet_run(mended$brief, candidates(t = fam_tree()), splits = split_kfold(3), seed = 1)
    model <- fit_final(select_final(cmp))
    aside <- demo_pots()[job$sealed$rows, ]
    score <- suppressWarnings(score_set_aside(model))
    expect_equal(
      score$set_aside[1], sqrt(mean((predict(model, aside)$value - aside$shrinkage_pct)^2))
    )
    unsafe <- brief(demo_pots(), "shrinkage_pct", ignore = c("cracked", "grade")) |>
      set_aside(0.2, seed = 2)
    expect_error(
      apply_remedies(unsafe, inspect_data(unsafe)),
      "cannot be declared",
      class = "kw_error_set_aside"
    )
  }
)

test_that("rows of one group are alike: whole groups say what differs by chance", {
  looks <- vapply(1:15, function(seed) {
    withr::local_seed(seed)
    group <- rep(1:30, each = 10)
    table <- data.frame(
      g = paste("g", group), number = rnorm(30)[group],
      level = sample(letters[1:3], 30, TRUE)[group], own = rnorm(300), y = rnorm(300)
    )
    found <- compare_set_aside(set_aside(brief(table, "y", group = "g"), share = 0.25, seed = seed))
    found$p_value[match(c("number", "level", "own"), found$column)]
  }, numeric(3))
  # tests of rows say so of nearly all looks at `number`
  expect_true(all(rowSums(looks < 0.05) <= 3))
  expect_true(all(looks > 0))
  # what really differs is found
  group <- rep(1:30, each = 10)
  table <- data.frame(g = paste("g", group), late = as.double(group), y = rnorm(300), on = group)
  job <- set_aside(brief(table, "y", group = "g", time = "on"), share = 0.3)
  found <- compare_set_aside(job)
  expect_lt(found$p_value[found$column == "late"], 0.01)
})

test_that("compare_set_aside() compares predictors, never the outcome, and is recorded", {
  table <- withr::with_seed(
    4,
    data.frame(x = rnorm(300), k = sample(c("a", "b"), 300, TRUE), when = 1:300, y = rnorm(300))
  )
  table$x[241:300] <- table$x[241:300] + 2
  job <- set_aside(brief(table, "y", time = "when"), share = 0.2)
  found <- compare_set_aside(job)
  expect_identical(found$column[1], "x")
  expect_equal(
    found$difference[1],
    unname(suppressWarnings(ks.test(table$x[1:240], table$x[241:300])$statistic))
  )
  shares <- rbind(prop.table(table(table$k[1:240])), prop.table(table(table$k[241:300])))
  expect_equal(found$difference[2], sum(abs(shares[1, ] - shares[2, ])) / 2)
  expect_false("y" %in% found$column)
  expect_identical(job$sealed$compared, 1L)
  expect_error(compare_set_aside(brief(table, "y")), class = "kw_error_set_aside")
})

test_that("associations equal their published formulas", {
  withr::with_seed(2, {
    a <- sample(1:3, 200, TRUE)
    b <- (a + sample(0:1, 200, TRUE)) %% 3 + 1
    x <- rnorm(200) + a
  })
  table <- table(a, b)
  chi <- unname(suppressWarnings(chisq.test(table, correct = FALSE)$statistic))
  phi <- chi / 200 - 4 / 199
  expect_equal(kw("cramers_v")(a, b), sqrt(phi / (3 - 4 / 199 - 1)))
  expect_equal(kw("correlation_ratio")(x, a)^2, summary(lm(x ~ factor(a)))$r.squared)
  expect_equal(
    kw("f_statistics")(cbind(x), factor(a)),
    unname(summary(aov(x ~ factor(a)))[[1]]$`F value`[1]),
    ignore_attr = TRUE
  )
  joint <- prop.table(table)
  expect_equal(
    kw("mutual_information")(a, b),
    sum(joint * log(joint / outer(rowSums(joint), colSums(joint))), na.rm = TRUE)
  )
  expect_equal(
    kw("f_statistics")(cbind(x), x + a),
    unname(summary(lm(I(x + a) ~ x))$fstatistic[1]),
    ignore_attr = TRUE
  )
})

test_that("figures of the data show its numbers", {
  job <- pots_brief()
  data <- kw("column_figure_data")(job, c("kiln", "wall_mm"), 16)$bars
  pots <- demo_pots()
  kiln <- data[data$column == "kiln", ]
  expect_equal(
    kiln$height,
    as.numeric(tapply(pots$cracked == "yes", pots$kiln, mean)[c("north", "south", "test")])
  )
  expect_equal(sum(data$rows[data$column == "wall_mm"]), nrow(pots))
  gaps <- kw("missing_figure_data")(job, 30)
  expect_equal(
    unname(gaps$labels["0000"]),
    format(sum(complete.cases(job$table[names(job$schema)])), big.mark = ",")
  )
  strength <- kw("correlation_figure_data")(job, 40)$cells
  expect_equal(
    strength$strength[strength$a == "peak_c" & strength$b == "wall_mm"],
    abs(cor(pots$peak_c, pots$wall_mm))
  )
  groups <- kw("group_figure_data")(job, job$table$cracked, "firing_id")$groups
  expect_equal(
    groups$mean, unname(sort(as.vector(tapply(pots$cracked == "yes", pots$firing_id, mean))))
  )
  for (plot in list(
    draw_columns(job), draw_missing(job), draw_correlation(job), draw_outcome(job),
    draw_outcome(brief(pots, "grade", ignore = "pot_id")),
    draw_outcome(brief(pots, "shrinkage_pct", ignore = "pot_id")),
    draw_columns(brief(pots, "grade", ignore = "pot_id")),
    draw_columns(brief(pots, "shrinkage_pct", ignore = "pot_id"))
  )) {
    expect_gt(length(ggplot2::ggplot_build(plot)$data), 0)
  }
  expect_error(draw_missing(toy_brief()), class = "kw_error_draw")
})

test_that("columns of few values have a bin for each in the figure, also where there is one", {
  table <- withr::with_seed(6, data.frame(
    flag = rbinom(80, 1, 0.3), same = 3, year = 2011:2018, day = as.Date("2031-05-01") + 0:3,
    later = sample(2001:2030, 80, TRUE), only = factor("s", c("s", "m"), ordered = TRUE),
    gaps = c(rnorm(3), rep(NA, 77)), y = sample(c("sound", "cracked"), 80, TRUE)
  ))
  job <- brief(table, "y", event = "cracked")
  data <- kw("column_figure_data")(job, NULL, 16)
  of <- function(name) data$bars[data$bars$column == name, ]
  labels_of <- function(name) data$ticks$label[data$ticks$column == name]
  expect_identical(of("flag")$rows, as.vector(table(table$flag)))
  expect_equal(of("flag")$height, as.vector(tapply(table$y == "cracked", table$flag, mean)))
  expect_identical(labels_of("flag"), c("0", "1"))
  expect_identical(of("same")$rows, 80L)
  expect_identical(labels_of("same"), "3")
  expect_identical(labels_of("day"), paste0("2031-05-0", c(1, 2, 4)))
  expect_true(all(labels_of("year") %in% 2011:2018))
  # of more values by quantiles, and years are told apart
  expect_identical(nrow(of("later")), 10L)
  expect_true(all(labels_of("later") %in% 2001:2030))
  expect_silent(ggplot2::ggplot_build(draw_columns(job)))
  # nothing in it is associated
  expect_silent(ggplot2::ggplot_build(draw_correlation(brief(table[c("flag", "later", "y")], "y"))))
})

test_that("show_prepared() shows what the steps do, as the engine does it", {
  job <- pots_brief()
  shown <- show_prepared(
    pipeline(pre_missing(), pre_scale(columns = wall_mm), pre_text(top = 3), fam_tree()), job
  )
  expect_named(shown, c("untouched", "pre_missing", "pre_scale", "pre_text"))
  walls <- demo_pots()$wall_mm
  expect_equal(shown$pre_scale$wall_mm, ((walls - mean(walls)) / sd(walls))[1:5])
  expect_length(grep("^notes_", names(shown$pre_text)), 3)
  lines <- capture.output(print(shown))
  expect_lte(max(nchar(lines)), 80)
  expect_match(lines, "works on wall_mm", all = FALSE)
  expect_error(
    show_prepared(list(pre_balance()), brief(demo_pots(), "shrinkage_pct")),
    "evens out classes",
    class = "kw_error_plan"
  )
})

test_that("list_steps() and describe_step() speak from the definitions", {
  listed <- list_steps()
  expect_setequal(sub("pre_", "", listed$step), names(kw("shipped_members")("step")))
  for (name in sub("pre_", "", listed$step)) {
    expect_output(print(describe_step(name)), paste0("pre_", name))
  }
  expect_output(print(describe_step("pre_text")), "Most terms that are kept")
  expect_error(describe_step("skwe"), "skew", class = "kw_error_argument")
})

test_that("two-valued and counted columns are no disguised gaps; zeros that stand apart are", {
  table <- withr::with_seed(6, {
    n <- 400
    data.frame(
      owner = rbinom(n, 1, 0.3), rare = rbinom(n, 1, 0.02), children = rpois(n, 1),
      insulin = ifelse(runif(n) < 0.4, 0, round(20 + rlnorm(n, 4, 0.6))),
      rain = ifelse(runif(n) < 0.4, 0, round(rexp(n, 1 / 5) + 0.1, 1)),
      mostly = c(rep(0, n - 13), 100 + 1:13)
    )
  })
  table$y <- table$owner + withr::with_seed(7, rnorm(nrow(table)))
  found <- found_in(table)
  expect_false("disguised_missing" %in% found$code)
  expect_identical(found$where[found$code == "zeros_apart"], "insulin")
  # the remedy would lose true zeros, so it is not taken by itself
  mended <- apply_remedies(brief(table, "y"), found)
  expect_identical(mended$brief$table$owner, as.double(table$owner))
  expect_false(anyNA(mended$brief$table$insulin))
  named <- apply_remedies(brief(table, "y"), found, also = "zeros_apart")
  expect_identical(sum(is.na(named$brief$table$insulin)), sum(table$insulin == 0))
})

test_that("remedies by consent: rows and strong columns go only if named, and come back", {
  table <- withr::with_seed(9, {
    x <- rnorm(40)
    data.frame(x = x, z = rep(1:4, 10), y = 3 * x + rnorm(40, sd = 0.01))
  })
  table <- rbind(table, table[1:5, ])
  job <- brief(table, "y")
  found <- inspect_data(job)
  expect_true(all(c("duplicate_rows", "gives_outcome_away") %in% found$code))
  by_itself <- apply_remedies(job, found)
  expect_identical(nrow(by_itself$brief$table), 45L)
  expect_true("x" %in% names(by_itself$brief$schema))
  expect_false(any(by_itself$changes$applied))
  expect_match(by_itself$changes$detail, "deletes 5 rows", all = FALSE)
  both <- apply_remedies(job, found, also = c("duplicate_rows", "gives_outcome_away"))
  expect_identical(nrow(both$brief$table), 40L)
  expect_false("x" %in% names(both$brief$schema))
  expect_output(print(both$brief), "Changed \\(duplicate rows\\): deletes 5 rows")
  back <- undo_remedies(both$brief, "duplicate_rows")
  expect_identical(nrow(back$table), 45L)
  expect_false("x" %in% names(back$schema))
  expect_equal(undo_remedies(both$brief)$table, job$table)
  expect_error(apply_remedies(job, found, also = "duplicates"), class = "kw_error_argument")
})

test_that("changes are taken back after rows were set aside, and the seal stays", {
  job <- brief(demo_pots(), "cracked", event = "yes", ignore = c("shrinkage_pct", "grade"))
  mended <- apply_remedies(job, inspect_data(job))$brief
  sealed <- set_aside(mended, 0.2, seed = 1)
  back <- undo_remedies(sealed, "disguised_missing")
  expect_identical(back$roles$group, "firing_id")
  expect_true("n/r" %in% back$table$glaze)
  expect_identical(back$rows, sealed$rows)
  expect_identical(back$sealed$fingerprint, sealed$sealed$fingerprint)
})

test_that("a strong column of a small table does not all but tell the outcome", {
  table <- withr::with_seed(10, data.frame(w = rnorm(32), h = rnorm(32)))
  table$y <- -2 * table$w + withr::with_seed(11, rnorm(32, sd = 1.2))
  expect_false("gives_outcome_away" %in% found_in(table)$code)
})

test_that("an outcome with a long tail and one that is counted are found, others left alone", {
  n <- 200
  z <- withr::with_seed(12, matrix(rnorm(2 * n), n))
  of <- function(y, ...) inspect_data(brief(data.frame(x = z[, 2], y = y), "y", ...))
  about_outcome <- function(found) found$code[found$where == "y"]
  price <- exp(3 + z[, 1])
  found <- of(price)
  expect_identical(about_outcome(found), "skewed_outcome")
  deviation <- price - mean(price)
  expect_match(found$detail, format(round(mean(deviation^3) / mean(deviation^2)^1.5, 1)),
    all = FALSE)
  expect_match(found$remedy, "outcome_scale = c(\"none\", \"log\")", fixed = TRUE, all = FALSE)
  expect_match(of(replace(price, 1:3, 0))$remedy, "\"log1p\"", all = FALSE)
  expect_identical(about_outcome(of(price, outcome_scale = "log")), character())
  stage <- seq_len(n) %% 3
  expect_identical(about_outcome(found <- of(stage)), "codes_for_classes")
  expect_match(found$detail, "only 3 values, 0, 1, 2: classes", all = FALSE)
  job <- brief(data.frame(x = z[, 2], y = stage), "y", read_as = list(y = "category"))
  expect_identical(job$levels, c("0", "1", "2"))
  expect_identical(apply_remedies(brief(data.frame(x = z[, 2], y = stage), "y"),
    found)$brief$kind, "number")
  expect_identical(about_outcome(of(stage, outcome_kind = "number")), character())
  expect_identical(about_outcome(of(stage / 2)), character())
  cracks <- withr::with_seed(13, rpois(n, exp(z[, 2])))
  found <- of(cracks)
  expect_identical(about_outcome(found), "counts")
  job <- brief(data.frame(x = z[, 2], y = cracks), "y")
  expect_identical(apply_remedies(job, found)$brief$kind, "number")
  expect_identical(about_outcome(of(cracks, outcome_kind = "count")), character())
  # weights, ages, years, marks, changes, and a tail that no logarithm straightens
  others <- list(
    round(60 + 10 * z[, 1]), 1 + seq_len(n) %% 90, 1990 + seq_len(n) %% 30, 1 + seq_len(n) %% 6,
    z[, 1]^3, z[, 1], replace(10 + z[, 1] / 10, 1, 30)
  )
  for (y in others) expect_identical(about_outcome(of(y)), character(), info = y[1:3])
})

test_that("levels and classes in several writings are said", {
  table <- data.frame(
    glaze = rep(c("Celadon", "celadon ", "oribe", "Ash"), 20), x = seq_len(80) / 7,
    done = rep(c("Yes", "no", "yes", "No", "no"), 16)
  )
  found <- inspect_data(brief(table, "done"))
  alike <- found[found$code == "alike_levels", ]
  expect_identical(alike$where, c("glaze", "done"))
  expect_match(alike$detail[1], "'Celadon', 'celadon '")
  for (line in alike$remedy) eval(parse(text = sub(", before brief()", "", line, fixed = TRUE)))
  again <- inspect_data(brief(table, "done"))
  expect_false("alike_levels" %in% again$code)
  expect_identical(sort(unique(table$done)), c("no", "yes"))
})

test_that("groups are found by how the table is made", {
  measured <- withr::with_seed(12, {
    child <- rep(sprintf("c%02d", 1:27), each = 4)
    own <- rnorm(27, sd = 2)[rep(1:27, each = 4)]
    data.frame(
      child = child, age = rep(c(8, 10, 12, 14), 27), sex = rep(c("f", "m", "m"), each = 36),
      size = own + rep(c(8, 10, 12, 14), 27) + rnorm(108)
    )
  })
  found <- inspect_data(brief(measured, "size"))
  expect_identical(found$where[found$code == "groups"], "child")
  measured$sex <- NULL
  measured$child <- as.integer(factor(measured$child))
  points <- inspect_data(brief(measured, "size"))
  expect_match(points$detail[points$code == "groups"], "same values of age")
  # a category that only goes with the outcome is none
  glaze <- withr::with_seed(13, sample(sprintf("g%02d", 1:25), 500, TRUE))
  plain <- data.frame(glaze = glaze, x = withr::with_seed(14, rnorm(500)))
  plain$y <- as.integer(factor(glaze)) + plain$x
  expect_false("groups" %in% inspect_data(brief(plain, "y"))$code)
})

test_that("codes and declared factors are no numbers stored as text, and remedies are R code", {
  table <- withr::with_seed(15, data.frame(
    "post code" = sprintf("%05d", sample(100:900, 300, TRUE)),
    grade = factor(sample(1:9, 300, TRUE)), "as text" = sample(as.character(1:40), 300, TRUE),
    "when was" = format(as.Date("2031-01-05") + sample(200, 300, TRUE), "%d/%m/%Y"),
    early = sample(c("01/02/2031", "03/04/2031", "05/06/2031", "07/08/2031", "02/09/2031",
      "11/10/2031", "12/11/2031", "04/12/2031"), 300, TRUE),
    y = rnorm(300), check.names = FALSE
  ))
  found <- inspect_data(brief(table, "y"))
  expect_identical(found$where[found$code == "number_as_text"], "as text")
  expect_identical(found$where[found$code == "ambiguous_date"], "early")
  for (code in c("number_as_text", "date_as_text")) {
    said <- sub("(...", "(table, \"y\"", found$remedy[found$code == code], fixed = TRUE)
    column <- found$columns[found$code == code][[1]]
    read <- eval(parse(text = said))$table[[column]]
    expect_true(is.numeric(read) || inherits(read, "Date"))
    expect_false(anyNA(read))
  }
  mended <- apply_remedies(brief(table, "y"), found)
  expect_identical(mended$brief$schema[["when was"]]$format, "%d/%m/%Y")
  expect_identical(mended$brief$schema[["as text"]]$kind, "number")
})

test_that("a finding whose step is unknown is left over, and settings of actions are used", {
  found <- inspect_data(brief(planted(), "y"))
  found$action[[which(found$code == "rare_levels")[1]]]$settings$at_least <- 7
  found$action[[which(found$code == "skewed")[1]]]$step <- "straighten"
  mended <- apply_remedies(brief(planted(), "y"), found)
  expect_true("skewed" %in% mended$left$code)
  rare <- Filter(function(step) step$definition$name == "rare_levels", mended$steps)
  expect_identical(rare[[1]]$settings$at_least, 7)
})

test_that("many findings of one kind are one paragraph, and hardly any gaps are no 0 %", {
  wide <- withr::with_seed(16, as.data.frame(matrix(rlnorm(400 * 30, 0, 1.4), 400)))
  wide$y <- withr::with_seed(17, rnorm(400))
  shown <- capture.output(print(inspect_data(brief(wide, "y"))))
  expect_lt(length(shown), 12L)
  expect_match(shown, "skewed, [0-9]+ times", all = FALSE)
  long <- data.frame(x = c(NA, seq_len(4999)), y = withr::with_seed(18, rnorm(5000)))
  expect_match(found_in(long)$detail, "x: 1 row missing", all = FALSE)
})
