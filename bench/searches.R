# How many fits searches need until they are near the best of a whole field: within 1 % of the
# field's range of its best mean. Fields are look-up tables (fields.R), so that nothing is fitted
# here; medians over 100 seeds, with quartiles, and the ratio to random draws. What is proposed at
# once is looked at in an order that is drawn: a search has no say in which of it is fitted first.
# Of random and evenly spread draws ten orders each are looked at, since every ratio has the median
# of random ones in it. A guided search proposes something plain at first, alone, and so comes to
# the linear table's best at once. `steps`: the same tables with six choices of steps before each of
# three families, and eight more tables, on which changes of the searches were tried.
# Seconds are what a search takes for itself, of the processor, here with another run beside it.

source("bench/fields.R")
internal <- function(name) getFromNamespace(name, "kilnwright")

# The conversation of a search with a field that is known, until it has found something as good as
# the goal: how good settings are, in which round and by which fit they are scored.
replay <- function(field, search, seed, goal = Inf) {
  plan <- field$plan
  metric <- plan$metrics[[plan$decide]]
  seats <- internal("search_seats")(search, names(plan$spaces))
  splits <- seq_along(plan$splits)
  asked <- internal("first_round")(plan$spaces, seats, metric, seed, splits)
  seats <- asked$seats
  tables <- lapply(asked$round, `[[`, "settings")
  work <- internal("new_work")(plan$spaces)
  known <- paste(field$results$candidate, unlist(lapply(field$results$tables, keys_of)))
  spent <- 0
  rounds <- integer()
  repeat {
    if (sum(vapply(tables, nrow, 1L)) == 0L) break
    work <- internal("extend_work")(work, tables)
    more <- length(work$settings$fit) - length(rounds)
    rounds <- c(rounds, rep(max(rounds, 0L) + 1L, more))
    now <- paste(
      work$settings$candidate,
      unlist(lapply(work$tables, keys_of))[order(order(work$settings$candidate, work$settings$row))]
    )
    at <- match(now, known)
    stopifnot(!anyNA(at))
    scores <- lapply(field$results$scores, function(s) s[at, , drop = FALSE])
    failed <- which(rowSums(is.na(scores[[plan$decide]])) > 0)
    results <- list(
      candidate = work$settings$candidate, row = work$settings$row, tables = work$tables,
      scores = scores, seconds = field$results$seconds[at, , drop = FALSE],
      failures = list(list(settings = failed)), unscored = list(),
      partial = data.frame(setting = integer(), split = integer(), share = 1[0], score = 1[0])
    )
    mean <- rowMeans(scores[[plan$decide]])
    good <- if (metric$direction == "higher") mean else -mean
    if (any(good >= goal, na.rm = TRUE)) break
    started <- processor_seconds()
    history <- internal("search_history")(results, plan)
    found <- internal("propose_all")(seats, plan$spaces, metric, history, splits)
    spent <- spent + processor_seconds() - started
    seats <- found$seats
    tables <- lapply(found$round, `[[`, "settings")
  }
  list(good = good, rounds = rounds, fit = work$settings$fit, seconds = spent)
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

# Where all fits of a round are looked at in an order that `seed` draws.
fits_until <- function(run, goal, seed) {
  set.seed(seed)
  order <- order(run$rounds, sample(max(run$fit))[run$fit])
  at <- which(run$good[order] >= goal)[1]
  if (is.na(at)) Inf else sum(!duplicated(run$fit[order][seq_len(at)]))
}

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
        "%-17s %-10s fits until within 1 %%: median %5.0f (%.0f to %.0f), %.2f of random; ",
        "%.2f s a search\n"
      ),
      name, search, stats::median(fits), stats::quantile(fits, 0.25, type = 1),
      stats::quantile(fits, 0.75, type = 1), stats::median(fits) / stats::median(found$random$fits),
      found[[search]]$seconds
    ))
  }
}
