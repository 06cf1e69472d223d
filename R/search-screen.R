# What a screen is: it decides, stage after stage, on which splits and on which share of the
# training rows the settings of a round are scored, and drops those that need no more of it.
#   check(plan)   an error where the plan's splits do not allow it
#   begin(about)  -> list(following(view), dropped())
# `about` says what a round is made of, see screen_about(); `view` what is known, see
# screen_view(). following() gives the next stage, list(fits, splits, share, part), or NULL;
# part: how much of the time that is left it may use, if there is a deadline; what is not scored
# when a stage is over had no time and is let go of. dropped() gives
# a data frame: candidate, setting (numbers), splits (on which it was scored), share, behind (by
# how much it was worse than the leader), why. All settings of a fit are dropped or none, since
# one fit serves them all.
new_screen <- function(name, arguments, label, check, begin) {
  structure(
    list(name = name, arguments = arguments, label = label, check = check, begin = begin),
    class = "kw_screen"
  )
}

fewest_screen_splits <- 5L

#' Drop settings before they are scored in full
#'
#' A screen goes with any search, as `screen` in [plan_comparison()]. What it drops is never
#' ranked nor chosen; `standings(cmp, level = "all")` lists it with what is known and why it was
#' dropped, [draw_screen()] shows how the field thinned out. The simplest setting is scored in full
#' before anything else, so that there is a model at any stop.
#'
#' `screen_splits()` scores every setting on the first splits, then drops what is clearly worse than
#' the leader, and goes on so split after split. A setting is compared with the leader
#' by the differences of their scores on the same splits, with the variance correction that the
#' [shortlist()] uses too. The leader on a split is the setting that leads on the *other* ones,
#' so that its own luck on that split does not count; settings that tie with it, or are behind by
#' less than the margin, stay. It never drops anything before three splits are done, and a setting
#' that failed on a split, which could not be ranked, goes as well.
#'
#' `screen_rows()` begins with a small share of the training rows on some of the splits, keeps the
#' better part, goes on with a larger share, and scores what is left in full (successive
#' halving); in later rounds of a search, what is among the better part of all so far. Smaller
#' shares lie within larger ones; classes keep their shares and groups stay whole. The best setting
#' of each candidate always goes on, since families differ in how much
#' they gain from more rows.
#'
#' @param first On so many splits every setting is scored, at least three.
#' @param level How sure it must be that a setting is worse before it is dropped. The default keeps
#'   what is worse by no more than some one standard error of the difference, of which the usual
#'   rule of [select_final()] may choose the simplest.
#' @param margin Difference of scores that does not matter; default a thousandth of the leader's
#'   spread.
#' @param at_least So many settings (of `screen_rows()`: fits) are kept, whatever the
#'   differences, those of earlier rounds of a search included.
#' @param shares Shares of the training rows of the stages before the last one.
#' @param keep Share of the fits that goes on after a stage; one fit may serve many settings.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A screen for `plan_comparison(screen = )`.
#' @section Errors:
#' `kw_error_splits` by [plan_comparison()]: a screen needs at least five splits, and scores of
#' single splits.
#' @references Nadeau & Bengio (2003), Inference for the generalization error, Machine Learning
#'   52. Maron & Moore (1994), Hoeffding races, NIPS 6. Jamieson & Talwalkar (2016),
#'   Non-stochastic best arm identification and hyperparameter optimization, AISTATS 19.
#' @examples
#' screen_splits(first = 3)
#' screen_rows(shares = c(0.1, 0.3))
#' @export
screen_splits <- function(first = 3, level = 0.85, margin = NULL, at_least = 5, ...) {
  no_more(...)
  check_number(first, "first", min = 3, whole = TRUE)
  check_number(level, "level", min = 0.5, max = 0.9999)
  if (!is.null(margin)) check_number(margin, "margin", min = 0)
  check_number(at_least, "at_least", min = 1, whole = TRUE)
  new_screen("splits",
    list(first = first, level = level, margin = margin, at_least = at_least),
    label = paste("split after split, from", count_of(first, "split"), "on"),
    check = function(plan) check_screen_splits(plan, first),
    begin = function(about) begin_screen_splits(about, first, level, margin, at_least)
  )
}

member_screen_splits <- function() {
  maker_definition("screen", "splits", screen_splits,
    "Drops what is clearly worse than the leader, split after split."
  )
}

#' @rdname screen_splits
#' @export
screen_rows <- function(shares = c(0.1, 0.3), keep = 0.2, first = 4, at_least = 5, ...) {
  no_more(...)
  fine <- is.numeric(shares) && length(shares) > 0L && !anyNA(shares) && all(shares > 0) &&
    all(shares < 1) && !is.unsorted(shares, strictly = TRUE)
  check_argument(fine, "shares", "rising numbers between 0 and 1", shares)
  check_number(keep, "keep", min = 0, max = 1, open_min = TRUE)
  check_number(first, "first", min = 3, whole = TRUE)
  check_number(at_least, "at_least", min = 1, whole = TRUE)
  new_screen("rows",
    list(shares = shares, keep = keep, first = first, at_least = at_least),
    label = paste0("from ", format(100 * shares[1]), " % of the training rows on"),
    check = function(plan) check_screen_splits(plan, first),
    begin = function(about) begin_screen_rows(about, shares, keep, first, at_least)
  )
}

member_screen_rows <- function() {
  maker_definition("screen", "rows", screen_rows,
    "Begins with some of the training rows; the better part goes on with more."
  )
}

check_screen_splits <- function(plan, first) {
  refuse <- function(problem, remedy) stop_kw("splits", problem, remedy = remedy)
  if (plan$pooled) {
    refuse(
      "A screen needs scores of single splits, but here predictions are scored together.",
      "Use larger validation parts, or leave out `screen`."
    )
  }
  usable <- sum(is.na(plan$undefined[[plan$decide]]))
  if (usable < fewest_screen_splits || usable <= first) {
    refuse(
      paste0(
        "A screen that begins with ", count_of(first, "split"), " needs more than those, and at ",
        "least ", fewest_screen_splits, "; there are ", usable, "."
      ),
      "Use more splits, such as split_kfold(10), or leave out `screen`."
    )
  }
}

# `fits`: numbers of the round's fits; `splits`: all of them, those that count for the deciding
# metric first; `usable`: how many count; `ratio`: rows of validation to training parts.
screen_about <- function(plan, work, new) {
  counts <- is.na(plan$undefined[[plan$decide]])
  list(
    fits = which(new), settings = which(work$settings$fit %in% which(new)),
    fit = work$settings$fit, candidate = work$settings$candidate, row = work$settings$row,
    splits = c(which(counts), which(!counts)), usable = sum(counts),
    ratio = mean(vapply(plan$splits[counts], function(s) {
      length(s$validation) / length(unique(s$training))
    }, numeric(1)))
  )
}

# good: goodness by the deciding metric, settings x splits, of what was scored on all training
# rows; partial: the same for every share, a list by share; meets: does a setting meet the
# constraints, as far as is known; failed.
screen_view <- function(results, plan) {
  metric <- plan$metrics[[plan$decide]]
  failed <- logical(length(results$candidate))
  for (one in c(results$failures, results$unscored)) failed[one$settings] <- TRUE
  list(
    good = goodness(results$scores[[plan$decide]], metric), partial = results$partial,
    sign = if (metric$direction == "higher") 1 else -1, meets = meet_so_far(results, plan),
    failed = failed
  )
}

begin_screen_splits <- function(about, first, level, margin, at_least) {
  begin_by_splits(about, first, function(view, alive, used) {
    worse_beyond_doubt(view, about, alive, used, level, margin, at_least)
  })
}

# Split after split; `drop(view, alive, used)` gives the rows of dropped() that go after the splits
# that are done.
begin_by_splits <- function(about, first, drop) {
  alive <- about$settings
  seen <- 0L
  gone <- NULL
  list(
    following = function(view) {
      if (seen > 0L && seen < length(about$splits)) {
        used <- about$splits[seq_len(min(seen, about$usable))]
        found <- drop(view, alive, used)
        gone <<- rbind(gone, found)
        known <- view$failed | rowSums(is.na(view$good[, used, drop = FALSE])) == 0L
        alive <<- setdiff(alive[known[alive]], which_settings(about, found))
      }
      if (seen == length(about$splits)) return(NULL)
      to <- if (seen == 0L) first else seen + max(1L, seen %/% 3L)
      if (to >= about$usable) to <- length(about$splits)
      mine <- about$splits[seq(seen + 1L, to)]
      part <- if (seen == 0L) 0.5
      seen <<- to
      if (length(alive) == 0L) return(NULL)
      list(fits = unique(about$fit[alive]), splits = mine, share = 1, part = part)
    },
    dropped = function() gone
  )
}

which_settings <- function(about, table) {
  if (is.null(table)) return(integer())
  match(paste(table$candidate, table$setting), paste(about$candidate, about$row))
}

# Rows of dropped(), of settings among the living.
worse_beyond_doubt <- function(view, about, alive, used, level, margin, at_least) {
  good <- view$good[, used, drop = FALSE]
  rivals <- which(rowSums(is.na(good)) == 0L & !view$failed)
  able <- rivals[view$meets[rivals]]
  failed <- alive[view$failed[alive]]
  behind <- if (length(able) > 0L) behind_leader(good, able, about$ratio, level, margin)
  whole <- intersect(alive, rivals)
  out <- whole[behind$surely[whole]]
  # the best stay, whatever the differences; those of earlier rounds count
  mean <- rowMeans(good)
  best <- utils::head(rivals[order(-mean[rivals])], at_least)
  out <- of_whole_fits(union(setdiff(out, best), failed), alive, about$fit)
  dropped_rows(
    about, out, length(used), 1, if (length(able) > 0L) behind$mean[out] else NA_real_,
    ifelse(view$failed[out], "it failed on a split", "clearly worse than the leader")
  )
}

# Fits of which all settings that live are to go.
of_whole_fits <- function(out, alive, fit) {
  staying <- unique(fit[setdiff(alive, out)])
  out[!fit[out] %in% staying]
}

dropped_rows <- function(about, at, splits, share, behind, why) {
  data.frame(
    candidate = about$candidate[at], setting = about$row[at], splits = rep(splits, length(at)),
    share = rep(share, length(at)), behind = rep_len(behind, length(at)),
    why = rep_len(why, length(at))
  )
}

# `able`: settings that may lead. By setting: mean of the differences from those that lead on the
# other splits, and whether the setting is behind by more than the margin for sure.
behind_leader <- function(good, able, ratio, level, margin) {
  n <- ncol(good)
  total <- rowSums(good[able, , drop = FALSE])
  leading <- vapply(seq_len(n), function(j) {
    able[which.max(total - good[able, j])]
  }, integer(1))
  apart <- sweep(-good, 2L, good[cbind(leading, seq_len(n))], `+`)
  mean <- rowMeans(apart)
  se <- sqrt((1 / n + ratio) * rowSums((apart - mean)^2) / (n - 1))
  if (is.null(margin)) margin <- 1e-3 * stats::sd(good[able[which.max(total)], ])
  surely <- mean - stats::qt(level, n - 1) * se > margin + 1e-12
  list(mean = mean, surely = surely %in% TRUE)
}

begin_screen_rows <- function(about, shares, keep, first, at_least) {
  alive <- about$settings
  stage <- 0L
  gone <- NULL
  splits <- about$splits[seq_len(first)]
  list(
    following = function(view) {
      if (stage > length(shares)) return(NULL)
      if (stage > 0L) {
        found <- lesser_part(view, about, alive, splits, shares[stage], keep, at_least)
        gone <<- rbind(gone, found$dropped)
        alive <<- found$alive
      }
      stage <<- stage + 1L
      if (length(alive) == 0L) return(NULL)
      last <- stage > length(shares)
      list(
        fits = unique(about$fit[alive]), splits = if (last) about$splits else splits,
        share = if (last) 1 else shares[stage],
        part = if (!last) 1 / (length(shares) + 2 - stage)
      )
    },
    dropped = function() gone
  )
}

# The settings that do not go on after a stage on a share of the rows, and those that do: those
# of earlier rounds are in the ranking, too.
lesser_part <- function(view, about, alive, splits, share, keep, at_least) {
  known <- view$partial[view$partial$share == share & view$partial$split %in% splits, ]
  score <- tapply(known$score, factor(known$setting, seq_along(about$fit)), function(x) {
    if (length(x) < length(splits)) NA else mean(x)
  })
  good <- view$sign * as.vector(score)
  able <- which(!is.na(good) & !view$failed)
  # where time was short there may be others
  alive <- alive[alive %in% able | view$failed[alive]]
  order <- able[order(!view$meets[able], -good[able])]
  # a fit is as good as the best of its settings
  fits <- unique(about$fit[order])
  n <- max(at_least, ceiling(keep * length(unique(about$fit[union(alive, able)]))))
  best <- about$fit[order[!duplicated(about$candidate[order])]]
  out <- alive[!about$fit[alive] %in% c(utils::head(fits, n), best)]
  dropped <- dropped_rows(
    about, out, length(splits), share, max(good[able], -Inf) - good[out],
    ifelse(view$failed[out], "it failed on a split", "not among the better part")
  )
  list(alive = setdiff(alive, out), dropped = dropped)
}
