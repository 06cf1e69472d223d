# How many fits searches need until they are near the best of a whole field: until a setting within
# 1 % of the field's range of its best mean is scored on all splits. Fields are look-up tables
# (fields.R), so that nothing is fitted here; medians over 100 seeds, with quartiles, and the ratio
# to random draws. A fit is one on all five splits, or as much on some of them: evolution looks at
# new settings on one split first. What is asked for at once is done in an order that is drawn: a
# search has no say in which of it is fitted first. Of random and evenly spread draws ten orders
# each are looked at, since every ratio has the median of random ones in it. A guided search
# proposes something plain at first, alone, and so comes to the linear table's best at once.
# `steps`: the same tables with six choices of steps before each of three families, and eight more
# tables, on which changes of the searches were tried.
# Seconds are what a search takes for itself, of the processor, here with another run beside it.

source("bench/fields.R")
internal <- function(name) getFromNamespace(name, "kilnwright")

# The conversation of a search with a field that is known, until it has found something as good as
# the goal: which cells (fit, split) were done, stage after stage as the run would, and how good the
# best setting of each fit is.
replay <- function(field, search, seed, goal = Inf) {
  plan <- field$plan
  metric <- plan$metrics[[plan$decide]]
  seats <- internal("search_seats")(search, names(plan$spaces))
  splits <- seq_along(plan$splits)
  asked <- internal("first_round")(plan$spaces, seats, metric, seed, splits)
  seats <- asked$seats
  round <- asked$round
  work <- internal("new_work")(plan$spaces)
  known <- paste(field$results$candidate, unlist(lapply(field$results$tables, keys_of)))
  done <- matrix(FALSE, 0L, length(splits))
  stages <- list()
  spent <- 0
  while (internal("has_proposals")(round)) {
    work <- internal("extend_work")(work, lapply(round, `[[`, "settings"))
    more <- max(work$settings$fit) - nrow(done)
    new <- rep(c(FALSE, TRUE), c(nrow(done), more))
    done <- rbind(done, matrix(FALSE, more, length(splits)))
    for (cells in cells_of_round(round, work, new, first = length(stages) == 0L, splits)) {
      stages <- c(stages, list(cells & !done))
      done <- done | cells
    }
    now <- paste(
      work$settings$candidate,
      unlist(lapply(work$tables, keys_of))[order(order(work$settings$candidate, work$settings$row))]
    )
    at <- match(now, known)
    stopifnot(!anyNA(at))
    told <- results_so_far(field, work, at, done)
    mean <- rowMeans(told$scores[[plan$decide]])
    good <- if (metric$direction == "higher") mean else -mean
    if (any(good >= goal, na.rm = TRUE)) break
    started <- processor_seconds()
    history <- internal("search_history")(told, plan)
    found <- internal("propose_all")(seats, plan$spaces, metric, history, splits)
    spent <- spent + processor_seconds() - started
    seats <- found$seats
    round <- found$round
  }
  best <- tapply(good, work$settings$fit, function(x) max(x, -Inf, na.rm = TRUE))
  list(good = as.vector(best), stages = stages, seconds = spent)
}

# Which cells are done in the stages of a round: what is looked at in part before the rest, and
# before that the simplest setting in full.
cells_of_round <- function(round, work, new, first, splits) {
  cells <- function(fits, at) {
    asked <- matrix(FALSE, length(new), length(splits))
    asked[fits, at] <- TRUE
    asked
  }
  tasks <- internal("tasks_of_round")(round)
  if (is.null(tasks)) return(list(cells(which(new), splits)))
  stages <- internal("stages_of_tasks")(tasks, work, new)
  c(
    if (first) list(cells(internal("simplest_fit")(work), splits)),
    lapply(stages$parts, function(part) cells(part$fits, part$splits)),
    list(cells(c(stages$again, which(stages$new)), splits))
  )
}

# As a run would tell of them: `at`, rows of the field.
results_so_far <- function(field, work, at, done) {
  seen <- done[work$settings$fit, , drop = FALSE]
  failed <- logical(length(at))
  scores <- lapply(field$results$scores, function(scores) {
    scores <- scores[at, , drop = FALSE]
    failed <<- failed | rowSums(is.na(scores) & seen) > 0
    scores[!seen] <- NA
    scores
  })
  list(
    candidate = work$settings$candidate, row = work$settings$row, tables = work$tables,
    scores = scores, seconds = field$results$seconds[at, , drop = FALSE],
    failures = list(list(settings = which(failed))), unscored = list(),
    partial = data.frame(setting = integer(), split = integer(), share = 1[0], score = 1[0])
  )
}

processor_seconds <- function() sum(proc.time()[1:2])

keys_of <- function(table) {
  if (nrow(table) == 0L) return(character())
  if (length(table) == 0L) return(rep("", nrow(table)))
  internal("row_texts")(table)
}

goal_of <- function(field) {
  plan <- field$plan
  mean <- rowMeans(field$results$scores[[plan$decide]])
  good <- if (plan$metrics[[plan$decide]]$direction == "higher") mean else -mean
  max(good, na.rm = TRUE) - 0.01 * diff(range(good, na.rm = TRUE))
}

# Where all fits of a stage are done in an order that `seed` draws, each on all that is asked for.
fits_until <- function(run, goal, seed) {
  set.seed(seed)
  spent <- 0
  done <- integer(length(run$good))
  for (cells in run$stages) {
    asked <- rowSums(cells)
    for (fit in shuffled(which(asked > 0))) {
      spent <- spent + asked[fit]
      done[fit] <- done[fit] + asked[fit]
      if (done[fit] == ncol(cells) && run$good[fit] >= goal) return(spent / ncol(cells))
    }
  }
  Inf
}

shuffled <- function(x) x[sample.int(length(x))]

searches <- list(
  random = function() search_random(200), hypercube = function() search_hypercube(200),
  guided = function() search_guided(100), evolve = function() search_evolve(200)
)

given <- commandArgs(TRUE)
seeds <- if (length(given) > 0L) as.integer(given[1]) else 100L
# tables by name, or "table steps" for a field in which mostly steps are chosen
chosen <- given[-1]
if (length(chosen) == 0L) {
  chosen <- c(names(made_up), paste(c(names(made_up), names(practice)), "steps"))
}
for (name in chosen) {
  parts <- strsplit(name, " ")[[1]]
  field <- scored_field(parts[1], field = if (length(parts) > 1L) parts[2] else "values")
  goal <- goal_of(field)
  found <- lapply(stats::setNames(nm = names(searches)), function(one) {
    search <- searches[[one]]
    orders <- if (one %in% c("random", "hypercube")) 0:9 else 0
    fits <- lapply(seq_len(seeds), function(seed) {
      run <- replay(field, search(), seed, goal)
      vapply(seed + 1000 * orders, fits_until, 1, run = run, goal = goal)
    })
    # some of them to the end, for their own cost
    whole <- lapply(seq_len(3), function(seed) replay(field, search(), seed))
    list(
      fits = unlist(fits),
      seconds = mean(vapply(whole, `[[`, 1, "seconds"))
    )
  })
  for (search in names(found)) {
    fits <- found[[search]]$fits
    cat(sprintf(
      paste0(
        "%-17s %-10s fits until within 1 %%: median %5.1f (%.1f to %.1f), %.2f of random; ",
        "%.2f s a search\n"
      ),
      name, search, stats::median(fits), stats::quantile(fits, 0.25, type = 1),
      stats::quantile(fits, 0.75, type = 1), stats::median(fits) / stats::median(found$random$fits),
      found[[search]]$seconds
    ))
  }
}
