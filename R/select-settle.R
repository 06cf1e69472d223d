#' Spend more splits where they matter
#'
#' Repeats the splits for the leader, and for the settings of which it cannot be said yet whether
#' they are as good, until it can be said of each or `repeats` or `minutes` are spent. All others
#' stay as they are, with their spread over the splits that they had.
#'
#' After every repeat (of bootstrap draws and holdouts: every five draws) each setting is compared
#' with the leader as in [shortlist()]. What is worse for sure, or practically the same, gets no
#' further repeat; what had been left behind comes back when the leader changes and it is undecided
#' against the new one. Since looking again and again finds differences that are not there, every
#' look is held to `1 - (1 - level) / looks` (Bonferroni's correction, for as many looks as may
#' come).
#'
#' More repeats take out the luck of how rows were divided, not that of which rows there are: as
#' training rows are in common, the error of a difference has a floor, and some questions stay open
#' however many repeats there are.
#'
#' @param cmp A comparison from [run_comparison()] with k folds, holdouts or bootstrap draws.
#' @param repeats At most so many more repeats of the folds (five times as many draws).
#' @param level How sure it must be, over all looks.
#' @param margin A difference that does not matter, as in [shortlist()].
#' @param minutes At most so many, or `NULL`.
#' @param ... Further arguments of [run_comparison()], such as `workers`, `quiet` or a new
#'   `journal`.
#' @return The comparison with more splits. Its element `settled` is a tibble with one row a look:
#'   `splits` (so far), `leader`, `undecided`, `same`, `worse` (how many settings), `fits` (done
#'   since the look before). [standings()], [shortlist()] and [select_final()] go by all scores that
#'   a setting has.
#' @section Errors:
#' `kw_error_argument` for an argument that it does not have or one out of range, `kw_error_splits`
#' for splits that cannot be repeated, `kw_error_select` when no setting is ranked or there are
#' fewer than five splits.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(tree = fam_tree(pruning = sensible())),
#'   splits = split_kfold(5), seed = 1, quiet = TRUE
#' )
#' settle(cmp, repeats = 2, quiet = TRUE)$settled
#' @export
settle <- function(cmp, repeats = 5, level = 0.95, margin = NULL, minutes = NULL, ...) {
  no_more_but(setdiff(run_arguments, "limits"), ...)
  check_class(cmp, "kw_comparison", "cmp", "Make one with run_comparison().")
  check_number(repeats, "repeats", min = 1, max = 100, whole = TRUE)
  if (!is.null(minutes)) check_number(minutes, "minutes", min = 0, open_min = TRUE)
  # level and margin are checked, and what cannot be compared is refused, before anything is made
  selection_field(cmp)
  paired_field(cmp, NULL, level, margin, "none")
  check_enough_to_settle(cmp)
  cmp <- without_blends(cmp)
  of_folds <- splitter_of(cmp)$spread == "folds"
  wider <- with_more_splits(cmp$plan, repeats * if (of_folds) 1 else 5, earlier_only = TRUE)
  blocks <- blocks_of_splits(wider$plan, setdiff(seq_along(wider$plan$splits), wider$at))
  level <- 1 - (1 - level) / (length(blocks) + 1)
  looks <- list()
  settled <- carry_out(wider$plan,
    keep = kept_of(cmp), before = on_more_splits(cmp, wider), asked = character(),
    limits = if (!is.null(minutes)) limits(minutes = minutes),
    more = function(plan, run, crew) {
      for (i in seq_len(length(blocks) + 1L)) {
        look <- look_at_leader(plan, run, crew, level, margin)
        looks[[i]] <<- look$facts
        if (length(look$open) == 0L || i > length(blocks)) return(NULL)
        # those that come back have earlier repeats to make up for
        splits <- unlist(blocks[seq_len(i)])
        stage <- list(fits = look$open, splits = splits, share = 1)
        stopped <- run_stage(plan, run, stage, crew)
        if (!is.null(stopped)) return(stopped)
      }
    }, ...
  )
  settled$settled <- looks_table(looks)
  settled
}

check_enough_to_settle <- function(cmp) {
  n <- sum(counted_splits(cmp, deciding_metric(cmp)) & !is_apparent(all_splits(cmp)))
  if (n >= fewest_splits) return(invisible())
  stop_kw("select", paste0(
    "With ", count_of(n, "split"), " nothing can be said of differences, so that nobody knows ",
    "where more of them matter."
  ),
  remedy = "Use extend_comparison(cmp, repeats = 1), or more splits from the start."
  )
}

# Further splits in the parts after which is looked: a repeat of folds, five draws.
blocks_of_splits <- function(plan, splits) {
  rep <- vapply(plan$splits[splits], `[[`, numeric(1), "rep")
  part <- match(rep, unique(rep))
  if (plan$splitter$spread != "folds") part <- (part - 1L) %/% 5L
  unname(split(splits, part))
}

# Who leads, and of which it cannot be said yet whether they are as good: list(open, fits with the
# leader's, none where all is settled; facts for the record).
look_at_leader <- function(plan, run, crew, level, margin) {
  results <- crew$sink$results()
  cmp <- new_comparison(plan, results)
  field <- paired_field(cmp, NULL, 0.95, margin, "none")
  field$level <- level
  mean <- score_summary(cmp, plan$decide)$mean
  ranked <- setdiff(which(!is.na(mean) & meets_constraints(cmp)), results$dropped$at)
  # of equal ones the simplest, as in standings
  leader <- order_settings(cmp, replace(mean, -ranked, NA), field$metric)[1]
  others <- setdiff(ranked, leader)
  answer <- if (length(others) > 0L) {
    paired_differences(field, rep(leader, length(others)), others)$answer
  }
  open <- others[answer %in% c("cannot tell", "worse")]
  list(
    open = if (length(open) > 0L) unique(run$work$settings$fit[c(leader, open)]),
    facts = list(
      splits = sum(colSums(results$done) > 0L & !is_apparent(plan$splits)),
      leader = choice_name(cmp, leader), undecided = length(open),
      same = sum(answer %in% "the same"), worse = sum(answer %in% "better"),
      fits = length(crew$sink$ledger()$fit)
    )
  )
}

# "34 of 46 settings, the leader among them, were scored on up to 25 splits ..."; NULL where all
# are scored on all splits.
settled_sentence <- function(cmp) {
  if (is.null(cmp$plan$everywhere)) return(NULL)
  real <- !is_apparent(all_splits(cmp))
  more <- which(real & !seq_along(real) %in% cmp$plan$everywhere)
  on_more <- sum(rowSums(cmp$results$done[, more, drop = FALSE]) > 0L)
  all <- length(cmp$results$candidate)
  first <- sum(real) - length(more)
  if (on_more == 0L) {
    return(paste0("No setting was scored on more than the first ", count_of(first, "split"), "."))
  }
  paste0(
    on_more, " of ", count_of(all, "setting"), " were scored on up to ",
    count_of(sum(real), "split"),
    if (on_more < all) paste0(", the others, which it took no more to judge, on ", first), "."
  )
}

looks_table <- function(looks) {
  table <- tibble::as_tibble(data.table::rbindlist(looks))
  table$fits <- c(0L, diff(table$fits))
  listing(table, title = "What each look found")
}
