# First looks: a search may have new settings scored on few splits, and on the others only what may
# be better than the best. Most settings of a field are plainly worse, which one split shows.
#
# Every generation is looked at on other splits, so that none hides what is good from all of them,
# and a setting is compared with the leader on the splits that it has: by what it is behind, less a
# part of the standard error of that. What is left behind may go on later, as every setting that is
# scored in full says more of how differences spread.

# Is there anything to gain? Not where a screen decides on which splits settings are scored, where
# predictions of several splits are scored together, or where splits are few.
can_look_first <- function(field, first) {
  splits <- length(field$splits)
  !field$screened && splits >= fewest_screen_splits && first < splits
}

# What is new, on some splits only. `round`: what is proposed, by candidate; `generation`: the
# number of the look.
as_looks <- function(round, field, first, generation) {
  all <- length(field$splits)
  at <- ((generation - 1L) * first + seq_len(first) - 1L) %% all + 1L
  splits <- field$splits[sort(at)]
  Map(function(one, name) {
    task <- list(candidate = name, settings = one$settings, splits = splits, share = 1)
    c(one, list(tasks = if (nrow(one$settings) > 0L) list(task) else list()))
  }, round, names(round))
}

# Of what was looked at, and not asked for again in vain, the points that may be better than the
# leader, the most promising first, and at most so many, since their scores change what the others
# have to beat: a frame with candidate (its number), row (of its settings), known (on how many
# splits) and key. Where no more will be proposed (`last`), then also what a rule may choose.
# `asked`: keys of what was asked for; where it is still the same there was no time for it.
worth_the_rest <- function(known, field, history, asked, most, last) {
  seen <- looks_of_field(known, field, history)
  part <- which(seen$known > 0L & seen$known < length(field$splits) & !is.na(seen$good) &
    !seen$key %in% asked)
  apart <- apart_from_leader(seen)
  # a point is as good as the best of its values along the path
  part <- part[order(apart$mean[part], seen$row[part])]
  part <- part[!duplicated(seen$key[part])]
  more <- utils::head(part[apart$low[part] <= 0], most)
  if (last && length(more) == 0L) more <- for_rules(part, seen, apart, known, field)
  frame_of_rows(seen[c("candidate", "row", "known", "key")], more)
}

# Of some points, the best first, those of which a rule may choose one: the best of every candidate
# of which nothing is scored in full, and such as are hardly behind the leader where all that are
# simpler are further behind.
for_rules <- function(part, seen, apart, known, field) {
  whole <- seen$candidate[seen$known == length(field$splits) & !is.na(seen$good)]
  own <- part[!duplicated(seen$candidate[part]) & !seen$candidate[part] %in% whole]
  good <- split(seen$good, factor(seen$candidate, seq_along(known$points)))
  parents <- parents_of(known, Map(function(one, good) {
    best_of_points(good, one$point)
  }, known$points, good), 1L)
  front <- paste(parents$candidate, parents$row)[parents$front]
  close <- part[apart$mean[part] <= 2 * apart$error]
  union(own, close[paste(seen$candidate, seen$point)[close] %in% front])
}

# A point goes on if it may lead were it better than it seems by so many standard errors.
look_errors <- 0.25

# All settings of a field: candidate (its number), row, on how many splits it is known, good (NA
# where it failed, diverged or does not meet the constraints, see told_goods()), its point, and the
# key of that with the number of splits. Beside it the goodness by split (`scores`).
looks_of_field <- function(known, field, history) {
  history <- history[names(field$spaces)]
  sizes <- vapply(history, function(told) nrow(told$settings), 1L)
  sign <- if (field$metric$direction == "higher") 1 else -1
  scores <- sign * do.call(rbind, lapply(history, `[[`, "scores"))
  candidate <- rep(seq_along(sizes), sizes)
  done <- as.integer(rowSums(!is.na(scores)))
  good <- unlist(told_goods(field, history), use.names = FALSE)
  point <- unlist(lapply(known$points, `[[`, "point"), use.names = FALSE)
  good[unlist(lapply(history, `[[`, "failed"), use.names = FALSE) | !is.finite(good)] <- NA
  list(
    candidate = candidate, row = sequence(sizes), known = done, good = good, point = point,
    key = paste(candidate, point, done), scores = scores
  )
}

# By setting: how far its mean is behind the leader's on the splits that both have, and the least
# that it may be on all of them: by the usual spread of differences from the leader, which come
# from a whole of as many as there are splits. `error`: the standard error of a difference on all
# splits. Where nothing is scored in full: behind the best.
apart_from_leader <- function(seen) {
  all <- ncol(seen$scores)
  whole <- which(seen$known == all & !is.na(seen$good))
  if (length(whole) == 0L) {
    behind <- max(seen$good, -Inf, na.rm = TRUE) - seen$good
    return(list(mean = behind, low = rep(0, length(behind)), error = 0))
  }
  leader <- whole[which.max(seen$good[whole])]
  apart <- rep(seen$scores[leader, ], each = nrow(seen$scores)) - seen$scores
  mean <- rowMeans(apart, na.rm = TRUE)
  rivals <- setdiff(whole[seen$good[whole] >= stats::median(seen$good[whole])], leader)
  spread <- sqrt(rowSums((apart[rivals, , drop = FALSE] - mean[rivals])^2) / (all - 1))
  spread <- spread[spread > 0]
  # little is known at first: they are taken to spread as the leader's scores do
  usual <- if (length(spread) > 1L) stats::median(spread) else stats::sd(seen$scores[leader, ])
  list(
    mean = mean, low = mean - look_errors * usual * sqrt(1 / seen$known - 1 / all),
    error = usual / sqrt(all)
  )
}

# What is asked for of the points that go on, as a round has it: ten times as many splits as they
# have, or all.
as_further_looks <- function(field, history, more) {
  round <- list()
  for (i in seq_len(nrow(more))) {
    name <- names(field$spaces)[more$candidate[i]]
    told <- history[[name]]
    settings <- frame_of_rows(told$settings, more$row[i])
    round[[name]] <- round[[name]] %||% proposed(frame_of_rows(settings, integer()))
    done <- which(!is.na(told$scores[more$row[i], ]))
    task <- list(
      candidate = name, settings = settings, splits = next_splits(field$splits, done), share = 1
    )
    round[[name]]$tasks <- c(round[[name]]$tasks, list(task))
  }
  round
}

look_growth <- 10L

# `done`: which of the splits are. None stand for all of them.
next_splits <- function(splits, done) {
  to <- look_growth * length(done)
  if (to > 0.8 * length(splits)) return(integer())
  others <- setdiff(c(seq(max(done), length(splits)), seq_len(max(done))), done)
  splits[sort(c(done, utils::head(others, to - length(done))))]
}
