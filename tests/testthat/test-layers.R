# A room calls only those before it, so that there are no circles.
rooms <- c(
  "base", "outcome", "data", "space", "metric", "split", "fam", "step", "pipe", "work", "search",
  "journal", "run", "standings", "select", "final", "explain", "progress", "print", "draw",
  "page", "report", "view", "serve", "cli"
)
face <- c("progress", "print", "draw", "page", "report", "view", "serve", "cli")
interface_packages <- c(
  "ggplot2", "htmltools", "optparse", "scales", "patchwork", "ragg",
  "svglite"
)

room_of <- function(file) match(sub("-.*", "", basename(file)), rooms)

is_face <- function(file) rooms[room_of(file)] %in% face

# Text files (name -> lines) -> what breaks the layering, one line each.
layer_breaches <- function(sources) {
  sources <- sources[!is.na(room_of(names(sources)))]
  parsed <- lapply(sources, function(lines) parse(text = lines, keep.source = TRUE))
  home <- homes_of(parsed)
  unlist(lapply(names(parsed), function(file) {
    lapply(seq_along(parsed[[file]]), function(i) {
      text <- as.character(attr(parsed[[file]], "srcref")[[i]])
      if (!any(grepl("# layer-ok: .", text))) breaches_of(parsed[[file]][[i]], file, home)
    })
  }))
}

# In which file every name is defined.
homes_of <- function(parsed) {
  home <- new.env()
  for (file in names(parsed)) for (expr in parsed[[file]]) {
    if (is.call(expr) && as.character(expr[[1]])[1] == "<-") {
      home[[as.character(expr[[2]])[1]]] <- file
    }
  }
  home
}

breaches_of <- function(expr, file, home) {
  used <- names_used(expr, function(name) {
    !is.null(home[[name]]) && room_of(home[[name]]) > room_of(file)
  })
  later <- as.character(used$names)
  calls <- sprintf("%s calls %s of %s", file, later, unlist(mget(later, home)))
  if (is_face(file)) return(calls)
  shown <- intersect(used$packages, interface_packages)
  drawn <- grep("^(cli_|cat_|rule|boxx|spark)", used$cli, value = TRUE)
  c(calls, sprintf("%s uses %s", file, shown), sprintf("%s uses cli::%s", file, drawn))
}

# Names of functions of later rooms, for which `above(name)` is TRUE; packages; what is used of cli.
names_used <- function(expr, above) {
  f <- function() NULL
  body(f) <- expr
  # which names are globals takes long to find out, and nearly no expression has such a name at all
  named <- any(vapply(unique(all.names(expr)), above, NA))
  found <- if (named) codetools::findGlobals(f, merge = TRUE)
  packages <- character()
  cli <- character()
  walk <- function(e) {
    if (!is.call(e)) return(invisible())
    head <- if (is.symbol(e[[1]])) as.character(e[[1]]) else ""
    if (head %in% c("::", ":::")) {
      packages <<- c(packages, as.character(e[[2]]))
      if (as.character(e[[2]]) == "kilnwright") found <<- c(found, as.character(e[[3]]))
      if (as.character(e[[2]]) == "cli") cli <<- c(cli, as.character(e[[3]]))
    }
    if (head %in% c("do.call", "match.fun", "get")) {
      found <<- c(found, unlist(Filter(is.character, as.list(e))))
    }
    for (part in as.list(e)) if (!missing(part)) walk(part)
  }
  if (any(c("::", ":::", "do.call", "match.fun", "get") %in% all.names(expr))) walk(expr)
  list(names = Filter(above, unique(found)), packages = unique(packages), cli = unique(cli))
}

test_that("no name is given twice in the package", {
  sources <- list.files(file.path(source_folder(), "R"), "[.]R$", full.names = TRUE)
  given <- unlist(lapply(sources, function(file) {
    vapply(as.list(parse(file)), function(expr) {
      if (is.call(expr) && identical(expr[[1]], as.symbol("<-"))) deparse(expr[[2]])[1] else ""
    }, "")
  }))
  expect_identical(given[duplicated(given) & nzchar(given)], character())
})

test_that("no file calls a later room, and none below the face uses an interface package", {
  files <- list.files(file.path(source_folder(), "R"), pattern = "[.]R$", full.names = TRUE)
  sources <- stats::setNames(lapply(files, readLines), basename(files))
  known <- c(rooms, "RcppExports.R", "kilnwright", "zzz")
  expect_identical(setdiff(sub("-.*", "", names(sources)), known), character())
  expect_gt(length(sources), 40)
  expect_identical(layer_breaches(sources), character())
})

test_that("what is compiled at installing is there, and is compiled", {
  lines <- readLines(file.path(source_folder(), "R", "zzz-compiled.R"))
  named <- strsplit(trimws(grep("^  [a-z_. ]+$", lines, value = TRUE)), " ")
  home <- asNamespace("kilnwright")
  expect_gt(length(unlist(named)), 150)
  expect_identical(setdiff(unlist(named), ls(home, all.names = TRUE)), character())
  compiled <- vapply(unlist(named), function(name) {
    any(grepl("<bytecode: ", utils::capture.output(print(get(name, home)))))
  }, NA)
  expect_identical(names(compiled)[!compiled], character())
})

test_that("planted breaches are caught", {
  planted <- list(
    "base-a.R" = "low <- function(x) high(x)",
    "run-b.R" = "high <- function(x) x",
    "data-c.R" = "sneaky <- function() do.call('high', list())",
    "step-d.R" = "far <- function() kilnwright::high(1)",
    "fam-e.R" = "pretty <- function(d) ggplot2::ggplot(d)",
    "work-f.R" = "loud <- function() cli::cli_alert('x')",
    "metric-g.R" = "fine <- function() {\n  high(1) # layer-ok: a test\n}",
    "draw-h.R" = "drawing <- function(d) ggplot2::ggplot(high(d))",
    "space-i.R" = "meeting <- function(x) met(x)",
    "pipe-j.R" = "met <- function(x) x"
  )
  found <- layer_breaches(planted)
  for (file in c("base-a", "data-c", "step-d", "fam-e", "work-f", "space-i")) {
    expect_match(found, file, all = FALSE)
  }
  expect_length(found, 6)
})

test_that("the core runs with no interface package loaded", {
  script <- paste(
    "library(kilnwright)",
    paste(
      "job <- brief(demo_pots(), 'shrinkage_pct', id = 'pot_id', ignore = c('cracked',",
      "'grade', 'notes'))"
    ),
    paste(
      "cmp <- run_comparison(job, candidates(t = fam_tree()), splits = split_kfold(2), seed =",
      "1, quiet = TRUE)"
    ),
    "invisible(fit_final(select_final(cmp)))",
    "stopifnot(!any(c('ggplot2', 'optparse', 'htmltools') %in% loadedNamespaces()))",
    sep = "; "
  )
  status <- system2(
    file.path(R.home("bin"), "Rscript"), c("-e", shQuote(script)),
    stdout = FALSE, stderr = FALSE
  )
  expect_identical(status, 0L)
})

test_that("whatever could run code or remove files has its reason beside it", {
  calls <- "(^|[^_.a-zA-Z])(unserialize|readRDS|eval|parse|str2lang|system2?|file[.]copy|unlink)\\("
  sources <- list.files(file.path(source_folder(), "R"), full.names = TRUE)
  bare <- unlist(lapply(sources, function(f) {
    lines <- readLines(f)
    hits <- which(grepl(calls, lines) & !grepl("^ *#", lines))
    reasoned <- vapply(hits, function(at) {
      any(grepl("# reason", lines[max(1, at - 5):at], fixed = TRUE))
    }, NA)
    paste0(basename(f), ":", hits[!reasoned], recycle0 = TRUE)
  }))
  expect_identical(as.character(bare), character())
})
