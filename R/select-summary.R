#' A comparison in sentences
#'
#' What was compared, on how much, who leads, who is tied with it, what to look at.
#'
#' @param object A comparison from [run_comparison()].
#' @param ... Not used.
#' @return A `kw_summary`: a character vector of sentences, printed as paragraphs.
#' @section Errors:
#' `kw_error_select` when nothing is ranked.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(baseline = fam_baseline(), tree = fam_tree()),
#'   splits = split_kfold(5), seed = 1, quiet = TRUE
#' )
#' summary(cmp)
#' @export
summary.kw_comparison <- function(object, ...) {
  cmp <- object
  plan <- cmp$plan
  metric <- cmp_metric(cmp)
  what <- paste0(
    count_of(sum(looked_at(cmp)[c("full", "part")]), "setting"), " of ",
    count_of(length(plan$spaces), "candidate"), " (",
    enumerate(names(plan$spaces), 8L), ") were compared to predict ",
    outcome_words(plan$brief), " on ",
    count_of(nrow(plan$brief$table), "working row"), ", by ", plan$splitter$label, "."
  )
  stopped <- if (!is.null(cmp$stopped)) {
    paste0(
      "The run was stopped by ", cmp$stopped,
      ", so that not all of them have all their scores."
    )
  }
  what <- c(what, search_sentence(cmp), settled_sentence(cmp))
  best <- best_of_candidates(cmp)
  if (length(best) == 0L) {
    return(structure(
      c(what, stopped, "No setting is ranked: see failures(cmp) and diagnose(cmp)."),
      class = "kw_summary"
    ))
  }
  summary <- score_summary(cmp, metric$name)
  leader <- best[1]
  leads <- paste0(
    "By ", metric$label, " (", metric$direction, " is better) ",
    choice_name(cmp, leader), " leads with ",
    with_spread(summary$mean[leader], summary$se[leader]),
    if (!is.na(summary$sd[leader])) {
      paste0(
        ", sd ", round_to(summary$sd[leader], summary$sd[leader]),
        if (plan$pooled) " over the repeats" else " over the splits"
      )
    },
    if (is.na(summary$se[leader])) {
      ". There is one split only, and so no spread: how sure this is cannot be said"
    }, "."
  )
  choice <- leading_choice(cmp)
  worth <- if (!is.null(choice)) honest_text(choice, leader = TRUE)
  structure(
    c(what, stopped, leads, worth, tie_sentence(cmp), finding_sentence(cmp)),
    class = "kw_summary"
  )
}

# How many settings were looked at, how far, and by which search; NULL where everything that was
# asked for has all its scores.
search_sentence <- function(cmp) {
  seen <- looked_at(cmp)
  searches <- unique(vapply(cmp$plan$seats, function(seat) seat$search$label, ""))
  all_there_are <- all(vapply(cmp$plan$seats, function(seat) seat$search$exhaustive, NA))
  if (all_there_are && seen[["part"]] + seen[["none"]] == 0L) return(NULL)
  paste0(
    "The search (", paste(searches, collapse = "; "), ") looked at ",
    if (seen[["none"]] > 0L) {
      paste(
        format(sum(seen) - seen[["none"]], big.mark = ","), "of the",
        count_of(sum(seen), "setting"), "that it asked for"
      )
    } else {
      count_of(sum(seen), "setting")
    }, ": ", format(seen[["full"]], big.mark = ","),
    " scored on all splits",
    if (seen[["part"]] > 0L) {
      paste0(", ", format(seen[["part"]], big.mark = ","), " in part, on some splits or fewer rows")
    },
    "."
  )
}

# Numbers of settings with all their scores (or failures), with some, with none; `among`: of these.
looked_at <- function(cmp, among = TRUE) {
  done <- rowSums(cmp$results$done)
  full <- rowSums(!cmp$results$done[, splits_of_all(cmp$plan), drop = FALSE]) == 0L
  some <- done > 0 | seq_along(done) %in% cmp$results$partial$setting
  c(full = sum(full[among]), part = sum((some & !full)[among]), none = sum(!some[among]))
}

tie_sentence <- function(cmp) {
  near <- tryCatch(shortlist(cmp), kw_error_select = function(e) NULL)
  if (is.null(near)) return(NULL)
  about <- attr(near, "about")
  if (about$of < 2L) return(NULL)
  if (anyNA(near$answer[-1])) {
    return("With fewer than five splits in common it cannot be said who is as good.")
  }
  others <- setdiff(unique(near$candidate), near$candidate[1])
  said <- shortlist_counts(about)
  substr(said, 1L, 1L) <- toupper(substr(said, 1L, 1L))
  paste0(
    said,
    if (length(others) > 0L) {
      paste0("; among those that may be as good are some of ", enumerate(others))
    },
    " (a screen: the leader was itself picked)."
  )
}

finding_lines <- function(found) {
  if (nrow(found) == 0L) return(character())
  paste0(
    words_of_code(found$code), " (", found$where, "): ", sub("[.]$", "", found$detail), ". ",
    found$remedy
  )
}

finding_sentence <- function(cmp) {
  found <- diagnose(cmp)
  if (nrow(found) == 0L) return("Nothing else looks odd.")
  shown <- utils::head(found, 6L)
  c(
    "To look at:",
    paste("-", finding_lines(shown)),
    if (nrow(found) > 6L) paste0("- and ", nrow(found) - 6L, " more: see diagnose(cmp).")
  )
}
