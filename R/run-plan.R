#' Plan a comparison
#'
#' Brings brief, candidates, splits, search and metrics together and checks them
#' against each other, before anything is fitted. Here minimal steps are written
#' out, sensible ranges get their numbers and the families' needs are checked.
#'
#' @param brief A [brief()].
#' @param candidates [candidates()]; without them baseline, penalised regression, tree
#'   and forest with minimal steps.
#' @param splits A splitter, e.g. [split_kfold()].
#' @param search [search_grid()] or [search_random()], or a list with one per
#'   candidate.
#' @param metrics Names of metrics (see [list_metrics()]), or a list of names and
#'   metrics such as [metric_cost()]. Without them AUC and log loss for two
#'   classes, log loss and balanced accuracy for more, RMSE and R-squared for
#'   numbers.
#' @param decide The metric that ranks; the first one if not given.
#' @param provided Constraints on means, such as `"recall >= 0.8"`: settings that do
#'   not meet all of them get no place and are not chosen. Their metrics are added.
#' @param screen [screen_splits()] or [screen_rows()]: settings that are clearly worse are dropped
#'   before they are scored in full. `NULL`: every setting is scored on all splits.
#' @param margin A difference of the deciding metric, in its unit, that does not matter to you: what
#'   [shortlist()], [compare_pairs()], [select_final()] and the report go by unless they are given
#'   another one. `NULL`: a hundredth, see [shortlist()]. It changes no score.
#' @param seed Whole number from which all randomness is derived. A missing one is
#'   drawn, printed and kept.
#' @param search_seed Seed of the searches alone, so that one can be repeated on the same splits;
#'   `NULL`: that of everything.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A `kw_plan` for [preview()] and [run_comparison()].
#' @section Errors:
#' `kw_error_plan`, `kw_error_splits`, `kw_error_rule`, `kw_error_argument`: each
#' names what does not fit and what to do.
#' @examples
#' job <- brief(demo_pots(),
#'   outcome = "cracked", event = "yes", id = "pot_id",
#'   group = "firing_id"
#' )
#' plan <- plan_comparison(job, candidates(baseline = fam_baseline(), tree = sensible(fam_tree())),
#'   splits = split_kfold(5), seed = 41
#' )
#' preview(plan)
#' @export
plan_comparison <- function(
  brief, candidates = NULL, splits = split_kfold(),
  search = search_grid(points = 5),
  metrics = NULL, decide = NULL, provided = NULL, seed = NULL, screen = NULL,
  search_seed = NULL, margin = NULL, ...
) {
  no_more(...)
  check_class(brief, "kw_brief", "brief", "Make one with brief().")
  if (is.null(candidates)) candidates <- default_candidates(brief)
  check_class(candidates, "kw_candidates", "candidates", "Make them with candidates().")
  check_class(
    splits, "kw_splitter", "splits", "Make one with split_kfold() or another split_...()."
  )
  seats <- search_seats(search, names(candidates$pipelines))
  if (!is.null(screen)) {
    check_class(screen, "kw_screen", "screen", "Make one with screen_splits() or screen_rows().")
  }
  check_seed(seed)
  check_seed(search_seed, "search_seed")
  if (!is.null(margin)) check_number(margin, "margin", min = 0)
  seed_drawn <- is.null(seed)
  if (seed_drawn) seed <- draw_seed()
  divided <- make_splits(splits, brief, seed)
  pooled <- is_pooled(splits, divided)

  provided <- lapply(provided, read_constraint)
  metrics <- find_metrics(metrics %||% usual_metrics(brief, divided, pooled), brief$kind)
  metrics <- with_constrained(metrics, provided, brief$kind)
  decide <- decide %||% names(metrics)[1]
  check_choice(decide, names(metrics), "decide")
  if (pooled) check_poolable(metrics, brief, divided)
  if (!is.null(splits$summary)) check_row_wise(metrics, splits)
  met <- meet_brief(candidates, brief, divided[[1]], seed)
  undefined <- undefined_splits(metrics, brief, divided, pooled)
  check_something_left(met$spaces, seats, seed)
  asked <- first_round(
    met$spaces, seats, metrics[[decide]], search_seed %||% seed,
    single_splits(pooled, undefined[[decide]]), screened = !is.null(screen)
  )
  round <- asked$round
  check_rules(candidates$rules, met$spaces, asked)
  if (pooled) {
    check_pooled_size(brief, divided, sum(vapply(round, function(r) nrow(r$settings), integer(1))))
  }
  plan <- new_plan(
    brief = without_sealed(brief), candidates = candidates, spaces = met$spaces,
    splitter = splits, splits = divided, pooled = pooled, undefined = undefined,
    metrics = metrics, decide = decide, provided = provided,
    seats = asked$seats, round = round, screen = screen,
    seed = seed, seed_drawn = seed_drawn, search_seed = search_seed,
    notes = c(met$notes, split_notes(splits, divided, pooled)), margin = margin
  )
  if (!is.null(screen)) screen$check(plan)
  plan
}

# All that a plan holds:
#   brief        with the working rows, without those that are set aside
#   candidates   as they were given; spaces: what can be set in each, by candidate
#   splitter     as it was given; splits: list(training, validation, key, rep) each
#   pooled       are held-out predictions scored together?
#   undefined    by metric: why a split has no score of it, NA where it has one
#   metrics      by name; decide: the name of the one that ranks; provided: constraints
#   seats        searches, their states and candidates; round: what they propose first
#   screen       or NULL
#   seed         and was it drawn; search_seed: of the searches alone, or NULL
#   notes        what the user should know before it runs
#   minutes      budget of a run, or NULL
#   rule         how is to be chosen, list(name, margin, blend), each or all NULL where nothing was
#                said; blend: TRUE, or the names of candidates to blend first
#   margin       difference of the deciding metric that does not matter, or NULL
#   everywhere   numbers of the splits on which all settings are scored, or NULL: all of them; on
#                the others only those are that settle() chose
new_plan <- function(
  brief, candidates, spaces, splitter, splits, pooled, undefined, metrics, decide, provided,
  seats, round, screen, seed, seed_drawn, search_seed, notes, minutes = NULL, rule = NULL,
  margin = NULL, everywhere = NULL
) {
  new_record("kw_plan",
    brief = brief, candidates = candidates, spaces = spaces, splitter = splitter,
    splits = splits, pooled = pooled, undefined = undefined, metrics = metrics,
    decide = decide, provided = provided, seats = seats, round = round, screen = screen,
    seed = seed, seed_drawn = seed_drawn, search_seed = search_seed, notes = notes,
    minutes = minutes, rule = rule, margin = margin, everywhere = everywhere
  )
}

# The first settings of every candidate (a list by candidate), and the seats with their states.
first_round <- function(spaces, seats, metric, seed, splits, screened = FALSE) {
  seats <- lapply(seats, function(seat) {
    field <- new_field(spaces[seat$candidates], metric, splits, screened)
    seat$state <- seat$search$start(field, seed)
    seat
  })
  asked <- propose_all(seats, spaces, metric, NULL, splits, screened)
  asked$round <- complete_round(asked$round, spaces)
  refuse_empty_round(asked$round)
  asked
}

# Numbers of the splits that each have a score of the deciding metric.
single_splits <- function(pooled, undefined) if (pooled) integer() else which(is.na(undefined))

# What every search proposes: list(round, seats).
propose_all <- function(seats, spaces, metric, history, splits, screened = FALSE) {
  round <- list()
  for (i in seq_along(seats)) {
    seat <- seats[[i]]
    field <- new_field(spaces[seat$candidates], metric, splits, screened)
    found <- seat$search$propose(seat$state, field, history[seat$candidates])
    round[names(found$round)] <- found$round
    seat["state"] <- list(found$state)
    seats[[i]] <- seat
  }
  list(round = round, seats = seats)
}

# Candidates of which a search wants nothing yet.
complete_round <- function(round, spaces) {
  lapply(stats::setNames(nm = names(spaces)), function(name) {
    round[[name]] %||% proposed(plain_frame(list(), 0L))
  })
}

# A search that goes on may leave a candidate for later. Where the usual setting cannot be tried,
# draws tell whether any can.
check_something_left <- function(spaces, seats, seed) {
  goes_on <- Filter(function(seat) !seat$search$at_once, seats)
  for (space in spaces[unlist(lapply(goes_on, `[[`, "candidates"))]) {
    if (nrow(clean_settings(space, usual_setting(space))$settings) > 0L) next
    drawn <- with_seed(derive_seed(seed, "is anything left"), draw_settings(space, 400L))
    refuse_empty_round(stats::setNames(list(drawn), space$candidate))
  }
}

refuse_empty_round <- function(proposals) {
  is_empty <- vapply(proposals, function(p) nrow(p$settings) == 0L, logical(1))
  removed <- vapply(proposals, function(p) p$counts[["combinations"]] > 0, logical(1))
  empty <- names(proposals)[is_empty & (removed | all(is_empty))]
  if (length(empty) == 0L) return(invisible())
  if (!any(removed)) {
    stop_kw("search", "The search proposes nothing to try.",
      remedy = "In its first round, where `history` is NULL, it has to propose what can work."
    )
  }
  why <- unique(proposals[[empty[1]]]$left_out$why)
  stop_kw(
    "rule",
    paste0(
      "No setting of the candidate ", quoted(empty[1]), " is left to try: all were ",
      "ruled out or cannot work."
    ),
    where = if (length(why) > 0L) paste0("Since ", paste(why, collapse = "; "), "."),
    remedy = "Loosen rule_out(), or widen its values.", candidate = empty[1], why = why
  )
}

# A rule that removes nothing is most likely mistaken. Random draws may miss it.
check_rules <- function(rules, spaces, asked) {
  for (rule in rules) {
    removed <- 0
    random <- FALSE
    for (name in names(spaces)) {
      at <- which(vapply(spaces[[name]]$rules, identical, logical(1), rule))
      if (length(at) == 0L) next
      removed <- removed + sum(asked$round[[name]]$by_rule[at])
      random <- random || !search_of(asked$seats, name)$exhaustive
    }
    if (removed == 0 && !random) {
      stop_kw("rule", paste0("rule_out(", rlang::expr_deparse(rule$expr), ") removes no setting."),
        remedy = "Check the values: do any settings meet the condition?"
      )
    }
  }
}

# Splits on which a metric is undefined whatever is predicted: by metric, one
# reason (or NA) a split.
undefined_splits <- function(metrics, brief, splits, pooled) {
  if (pooled) return(lapply(metrics, function(metric) rep(NA_character_, length(splits))))
  truth <- truth_of(brief_target(brief))
  weights <- row_weights(brief)
  reasons <- lapply(metrics, function(metric) {
    vapply(splits, function(split) {
      if (split$rep == 0L) return("the apparent score is no validation score")
      metric$undefined(truth[split$validation], weights[split$validation]) %||% NA_character_
    }, character(1))
  })
  for (metric in names(reasons)) {
    if (all(!is.na(reasons[[metric]]))) {
      stop_kw("splits", paste0(
        "The metric ", quoted(metric), " is undefined on every split: ",
        reasons[[metric]][1], "."
      ),
      remedy = "Use fewer, larger validation parts, or another metric."
      )
    }
  }
  reasons
}

purge_note <- function(splits) {
  purged <- unlist(lapply(splits, `[[`, "purged"))
  if (sum(purged) == 0) return(NULL)
  paste0(
    "training rows of groups that reach into the validation part are left out: ",
    if (length(unique(purged)) == 1L) purged[1] else paste(min(purged), "to", max(purged)),
    " a split"
  )
}

split_notes <- function(splitter, splits, pooled) {
  sizes <- vapply(splits, function(split) length(split$validation), integer(1))
  c(
    if (pooled) {
      paste0(
        "validation parts have a median of ", count_of(stats::median(sizes), "row"),
        paste(
          ": held-out predictions of a repeat are scored together, with the jackknife's",
          "standard error"
        )
      )
    },
    purge_note(splits),
    if (repeats_alike(splits)) {
      "all repeats hold out the same parts, so that they say no more than one of them would"
    },
    if (splitter$spread == "dependent") {
      "these splits are not independent of one another: take the standard error as a rough guide"
    }
  )
}

check_row_wise <- function(metrics, splitter) {
  others <- names(Filter(function(metric) !metric$row_wise, metrics))
  if (length(others) == 0L) return(invisible())
  stop_kw(
    "plan",
    paste0(
      "score = \"", splitter$summary, "\" needs metrics that are means of one number a row; ",
      enumerate(quoted(others)), if (length(others) == 1L) " is" else " are",
      " none."
    ),
    remedy = "Use e.g. log_loss, brier, accuracy or mae, or score = \"out_of_bag\"."
  )
}

# "recall >= 0.8" in parts; never evaluated.
read_constraint <- function(text) {
  check_string(text, "provided")
  grammar <- paste0(
    "^\\s*([A-Za-z][A-Za-z0-9_.]*)\\s*(>=|<=|>|<)\\s*",
    "([+-]?[0-9.]+(?:[eE][+-]?[0-9]+)?)\\s*$"
  )
  parts <- regmatches(text, regexec(grammar, text, perl = TRUE))[[1]]
  bound <- suppressWarnings(as.numeric(parts[4]))
  if (length(parts) != 4L || is.na(bound)) {
    stop_kw("argument", paste0("`provided` cannot read ", quoted(text), "."),
      remedy = "Write metric, comparison and number, e.g. \"recall >= 0.8\"."
    )
  }
  list(text = trimws(text), metric = parts[2], comparison = parts[3], bound = bound)
}

with_constrained <- function(metrics, provided, kind) {
  for (constraint in provided) {
    if (!constraint$metric %in% names(metrics)) {
      metrics <- c(metrics, find_metrics(constraint$metric, kind))
    }
  }
  metrics
}

# The same plan with other rows, candidates, searches or seed.
plan_like <- function(
  plan, brief = plan$brief, candidates = plan$candidates,
  search = structure(plan$seats, class = "kw_seats"), seed = plan$seed
) {
  like <- plan_comparison(
    brief,
    candidates,
    splits = plan$splitter,
    search = search,
    metrics = plan$metrics,
    decide = plan$decide,
    provided = vapply(plan$provided, `[[`, "", "text"),
    seed = seed,
    search_seed = plan$search_seed,
    screen = plan$screen,
    margin = plan$margin
  )
  like[c("minutes", "rule")] <- plan[c("minutes", "rule")]
  like
}

as_plan <- function(plan, ...) {
  if (inherits(plan, "kw_plan")) {
    check_record(plan, "kw_plan", "plan")
    if (...length() > 0L) {
      stop_kw("argument", "A plan is complete in itself; it takes no further arguments.",
        remedy = "Put them into plan_comparison()."
      )
    }
    return(plan)
  }
  known <- setdiff(names(formals(plan_comparison)), "...")
  given <- ...names()
  strange <- given[nzchar(given) & is.na(pmatch(given, known, duplicates.ok = TRUE))]
  if (length(strange) > 0L) {
    stop_kw("argument", paste0("There is no argument `", strange[1], "`."),
      remedy = did_you_mean(strange[1], known, "Arguments")
    )
  }
  plan_comparison(plan, ...)
}

# What the plan says about choosing: list(name, margin, blend).
planned_rule <- function(plan) {
  # plans of older journals have the name alone
  said <- if (is.character(plan$rule)) list(name = plan$rule) else plan$rule
  list(name = said$name %||% "one_se", margin = said$margin, blend = said$blend %||% FALSE)
}
