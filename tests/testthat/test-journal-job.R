# A journal gives back the scores of its own job only: whatever a call can say is changed, one
# thing at a time, and the scores must be those of a fresh run, or the journal be refused.

job_table <- function() {
  table <- toy(72, seed = 4)
  table$leak <- as.integer(table$two == "yes") + table$x1 / 10
  table$row <- sprintf("r%03d", seq_len(72))
  table$load <- rep(c(1, 3), 36)
  table$when <- as.Date("2031-01-01") + seq_len(72)
  table$size <- rep(c("s", "m", "l"), 24)
  table
}

own_score <- function(times) {
  define_metric("own",
    kinds = "two_class", direction = "lower",
    score = local({
      factor <- times
      eval(bquote(function(truth, prediction, weights) {
        .(factor) * mean((as.integer(truth) - 1 - prediction[, 2])^2)
      }))
    })
  )()
}

own_family <- function(add = 0, weights = FALSE, random = FALSE, factors = TRUE) {
  define_family("own", "two_class",
    fit = eval(bquote(function(x, y, weights, settings, seed, threads) {
      hit <- as.integer(y) == 2
      rate <- if (is.null(weights)) mean(hit) else sum(weights * hit) / sum(weights)
      noise <- if (.(random)) stats::runif(1, 0, 0.01) else 0
      min(1, max(0, rate + .(add) + noise))
    })),
    predict = function(model, x) cbind(rep(1 - model, nrow(x)), model),
    weights = weights, random = random, factors = factors
  )
}

own_step <- function(times = 1, columns = "number") {
  define_step("own",
    learn = function(frame, target, settings, seed) {
      list(state = settings$columns, training = NULL)
    },
    use = eval(bquote(function(state, frame) {
      for (name in state) frame$columns[[name]] <- frame$columns[[name]] * .(times)
      frame
    })),
    columns = columns
  )
}

# The call of which one thing at a time is changed.
job_call <- function() {
  list(
    table = job_table(),
    brief = list(
      outcome = "two", event = "yes", ignore = c("number", "three", "batch", "row", "when"),
      id = NULL, weight = NULL
    ),
    aside = NULL,
    candidates = function() {
      candidates(
        near = pipeline(
          pre_missing(), own_step()(), pre_onehot(), fam_neighbours(neighbours = among(1, 5))
        ),
        own = pipeline(pre_missing(), own_family()()), tree = fam_tree(pruning = among(0.001, 0.1))
      )
    },
    rules = function(candidates) candidates,
    plan = list(
      splits = split_kfold(5), search = search_grid(), seed = 5, decide = "auc", provided = NULL,
      metrics = list("auc", metric_cost(1, 1), own_score(1))
    )
  )
}

plan_of <- function(call) {
  brief <- do.call(brief, c(list(call$table), call$brief))
  if (!is.null(call$aside)) brief <- do.call(set_aside, c(list(brief), call$aside))
  do.call(plan_comparison, c(list(brief, call$rules(call$candidates())), call$plan))
}

changed_calls <- function() {
  base <- job_call()
  # replaced whole, one level down
  change <- function(...) {
    call <- base
    for (part in names(list(...))) {
      new <- list(...)[[part]]
      if (part %in% c("brief", "plan")) call[[part]][names(new)] <- new else call[[part]] <- new
    }
    call
  }
  with_candidates <- function(make) {
    base$candidates <- make
    base
  }
  tree <- function(...) {
    with_candidates(function() {
      candidates(tree = pipeline(pre_missing(), ..., fam_tree(pruning = among(0.001, 0.1))))
    })
  }
  list(
    nothing = base,
    ignore = change(brief = list(ignore = c(base$brief$ignore, "leak"))),
    id = change(brief = list(id = "size")),
    group = change(brief = list(group = "batch", ignore = setdiff(base$brief$ignore, "batch"))),
    weight = change(brief = list(weight = "load")),
    time = change(brief = list(time = "when", ignore = setdiff(base$brief$ignore, "when"))),
    event = change(brief = list(event = "no")),
    outcome = change(
      brief = list(outcome = "colour", event = NULL, ignore = c(base$brief$ignore, "two")),
      plan = list(metrics = "log_loss", decide = "log_loss"), candidates = function() {
        candidates(tree = fam_tree(pruning = among(0.001, 0.1)))
      }
    ),
    ordered = change(brief = list(ordered = list(size = c("s", "m", "l")))),
    text = change(brief = list(text = "size")),
    missing_codes = change(brief = list(missing_codes = list(size = "m"))),
    aside = change(aside = list(share = 0.2, seed = 1)),
    table = change(table = utils::modifyList(base$table, list(x1 = base$table$x1 + 1))),
    order = change(table = base$table[72:1, ]),
    levels = change(table = utils::modifyList(
      base$table, list(colour = factor(base$table$colour, c("red", "green", "blue")))
    )),
    other_values = with_candidates(function() {
      candidates(
        near = pipeline(
          pre_missing(), own_step()(), pre_onehot(), fam_neighbours(neighbours = among(1, 9))
        )
      )
    }),
    own_family_code = with_candidates(function() {
      candidates(own = pipeline(pre_missing(), own_family(0.1)()))
    }),
    own_family_weights = change(
      brief = list(weight = "load"), candidates = function() {
        candidates(own = pipeline(pre_missing(), own_family(weights = TRUE)()))
      }
    ),
    own_family_random = with_candidates(function() {
      candidates(own = pipeline(pre_missing(), own_family(random = TRUE)()))
    }),
    own_step_code = with_candidates(function() {
      candidates(near = pipeline(
        pre_missing(), own_step(10)(), pre_onehot(), fam_neighbours(neighbours = among(1, 5))
      ))
    }),
    own_step_columns = with_candidates(function() {
      candidates(near = pipeline(
        pre_missing(), own_step(columns = "date")(), pre_onehot(),
        fam_neighbours(neighbours = among(1, 5))
      ))
    }),
    steps = tree(pre_skew()), step_columns = tree(pre_drop(columns = c(x1, leak))),
    step_values = tree(pre_bins(bins = 3)), formula = tree(pre_derive(both = x1 * 2)),
    rules = change(rules = function(candidates) rule_out(candidates, neighbours == 1)),
    splits = change(plan = list(splits = split_kfold(4))),
    repeats = change(plan = list(splits = split_kfold(3, repeats = 2))),
    stratify = change(plan = list(splits = split_kfold(3, stratify = FALSE))),
    bootstrap = change(plan = list(splits = split_bootstrap(3))),
    search = change(plan = list(search = search_random(2))),
    screen = change(plan = list(screen = screen_splits())),
    seed = change(plan = list(seed = 6)),
    decide = change(plan = list(decide = "own")),
    provided = change(plan = list(provided = "auc >= 0.9")),
    metric_values = change(plan = list(metrics = list("auc", metric_cost(10, 1), own_score(1)))),
    metric_code = change(plan = list(metrics = list("auc", metric_cost(1, 1), own_score(2)))),
    metric_more = change(plan = list(metrics = list("auc", metric_cost(1, 1), "brier")))
  )
}

test_that("whatever a call says, a journal gives the scores of a fresh run or is refused", {
  calls <- changed_calls()
  file <- journal_file()
  quiet_run(plan_of(calls$nothing), journal = file, workers = 1)
  refused <- vapply(names(calls), function(name) {
    plan <- plan_of(calls[[name]])
    copy <- journal_file()
    file.copy(file, copy)
    resumed <- tryCatch(
      quiet_run(plan, journal = copy, workers = 1),
      kw_error_journal = function(e) conditionMessage(e)
    )
    if (is.character(resumed)) return(resumed)
    expect_identical(numbers_of(resumed), numbers_of(quiet_run(plan, workers = 1)), info = name)
    ""
  }, "")
  taken <- names(calls)[refused == ""]
  # what changes no score of what was fitted goes on with the journal
  expect_setequal(taken, c(
    "nothing", "other_values", "own_family_code", "own_family_random",
    "own_step_code", "own_step_columns", "steps", "step_columns", "step_values", "formula",
    "rules", "decide", "provided"
  ))
  expect_match(refused[["search"]], "differs in the searches")
  expect_match(refused[["screen"]], "differs in the screen")
  expect_match(refused[c("ignore", "id", "event")], "roles or types", all = TRUE)
  expect_match(refused[["metric_values"]], "what the metrics measure")
})

test_that("a value of the workspace that is called like a column changes no derived column", {
  home <- new.env(parent = globalenv())
  home$job <- brief(toy(80)[c("x1", "x2", "x3", "number")], "number")
  scores <- function() {
    plan <- eval(quote(kilnwright::plan_comparison(job, kilnwright::candidates(
      f = kilnwright::pipeline(
        kilnwright::pre_derive(r = x1 / x2), kilnwright::fam_forest(trees = 20)
      )
    ), splits = kilnwright::split_kfold(3), seed = 1)), home)
    standings(quiet_run(plan, workers = 1))$mean
  }
  before <- scores()
  home$x1 <- 5
  expect_identical(scores(), before)
})

test_that("what a journal keeps of a plan comes back as it was, whatever names and texts it has", {
  again <- function(x) {
    form <- kw("write_plain")(x, function(x) stop("not as text"))
    kw("read_plain")(kw("of_json")(kw("json_of")(form)), function(form) stop(), function(i) NULL)
  }
  latin <- `Encoding<-`("gr\xfcn", "latin1")
  for (x in list(
    "NA", NA_character_, "", "a \"b\"\n\\", "\u00e9", c("x", NA), character(), TRUE, NA,
    c(a = TRUE), c(a = "b"), list(), structure(list(), names = character()),
    list(a = NULL, b = list(NULL)), list(a = 1, a = 2), list(1, b = "2"),
    list(o = 1, k = "k", a = list(s = "t")), structure(list(1), names = NA_character_),
    list("a \"name\"" = 1L, "\u00e9" = c(0.1, NaN, NA, -Inf, 1 / 3)),
    structure("x", class = "own"), structure(FALSE, note = "n"), factor(c("b", "a")),
    data.frame(n = c(1, NA), t = c("u", NA)), as.Date("2024-02-29"), table(c("b", "a", "b")),
    array(1:3, 3, list(c("u", "v", "w")))
  )) {
    expect_identical(again(x), x)
  }
  expect_identical(again(list(latin)), list(enc2utf8(latin)))
  # numbers of any size to the last bit, and how long the row numbers of a table are as text
  set.seed(6)
  numbers <- c(
    runif(500, -1, 1) * 10^sample(-307:308, 500, TRUE), 5e-324, 2^53 + 2, 1e22, 123456789012345678,
    0.1 + 0.2, Inf
  )
  expect_identical(again(list(numbers, 3:200000, c(4L, NA, 5:1), 7:4)),
    list(numbers, 3:200000, c(4L, NA, 5:1), 7:4))
  expect_identical(kw("write_plain")(3:200000, identity), list(r = "3 200000"))
  # code is written, or kept apart, and never run
  code <- list(quote(stop("run")), as.name("no_such_value"), y ~ stop("run"), quote(a + log(b)))
  kept <- list()
  forms <- kw("write_plain")(code, function(x) length(kept <<- c(kept, list(x))))$list
  expect_identical(kept, code[c(1, 3)])
  expect_identical(lapply(forms, names), list(
    c("apart", "text"), "code", c("apart", "text"), "code"
  ))
  expect_identical(again(code[c(2, 4)]), code[c(2, 4)])
  # numbers of what is kept apart, beside flags
  apart <- kw("write_plain")(list(TRUE, quote(quit()), FALSE), function(x) 7L)
  expect_equal(kw("of_json")(kw("json_of")(apart))$list[[2]]$apart, 7)
  mixed <- list(list(TRUE, 12), list(FALSE))
  expect_identical(kw("of_json")(kw("json_of")(mixed)), mixed)
  # as earlier versions wrote it
  earlier <- '{"list":[{"s":["x"]},{"l":"TRUE"},null],"k":["a","b","c"]}'
  expect_identical(
    kw("read_plain")(kw("of_json")(earlier), identity, identity), list(a = "x", b = TRUE, c = NULL)
  )
  # a part that stands in itself or in none that there is; columns of different lengths
  columns <- '{"up":[0,%s],"name":["","a"],"kind":["named","text"],"text":[null,"x"%s]}'
  expect_identical(kw("of_json")(sprintf(columns, 1, "")), list(a = "x"))
  for (up in c("2", "7", "-1", "null")) {
    expect_error(kw("of_json")(sprintf(columns, up, "")), class = "kw_error_plain")
  }
  expect_error(kw("of_json")(sprintf(columns, 1, ",\"y\"")), class = "kw_error_plain")
})
