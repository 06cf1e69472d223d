# What a rule is: how a final setting is chosen from what was scored in full.
#   choose(field)  -> list(at, reason); see selection_field()
#   margin         NULL: it takes none; "needed": it must be given; a number: its default;
#                  "by metric": its default is that of shortlist()
#   by_scores      does it look at scores and simplicity alone, so that honest_score() can have it
#                  choose by some of the splits?
rule_definition <- function(name, choose, margin = NULL, does = "", by_scores = TRUE) {
  member("rule", name, does,
    arguments = if (!is.null(margin)) list(margin = margin) else list(),
    capabilities = list(margin = margin, by_scores = by_scores), choose = choose,
    class = "kw_rule"
  )
}

#' Define a rule of your own for choosing the final setting
#'
#' For `rule =` of [select_final()], as it is or, once it is registered by [register_members()], by
#' its name, which plan files take too.
#'
#' @param name One word.
#' @param choose `function(table, margin)`: gets the ranked rows of [standings()] that may be
#'   chosen, best first, and gives the number of the row that it chooses, or
#'   `list(row = , reason = )`.
#' @param margin `NULL` if the rule takes no margin, `"needed"` if one must be given, or the
#'   default.
#' @param does One sentence.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A rule.
#' @section Errors:
#' `kw_error_definition` when `choose` uses something from outside itself.
#' @examples
#' # the quickest of those that are not much worse
#' rule_quick <- define_rule("quick",
#'   choose = function(table, margin) {
#'     near <- which(abs(table$mean - table$mean[1]) <= margin)
#'     near[which.min(table$seconds[near])]
#'   },
#'   margin = 0.01
#' )
#' @export
define_rule <- function(name, choose, margin = NULL, does = "", ...) {
  no_more(...)
  check_word(name, "name")
  check_sentence(does, "does")
  check_argument(
    is.function(choose) && length(formals(choose)) == 2L, "choose", "a function(table, margin)",
    choose
  )
  if (!is.null(margin) && !identical(margin, "needed")) check_number(margin, "margin", min = 0)
  check_self_contained(list(choose = choose), name)
  choose <- portable_function(choose, "`choose`")
  rule <- rule_definition(name, own_choice(choose), margin, does, by_scores = FALSE)
  as_member(rule, "rule", name, function() rule)
}

# A rule by name, as it is, or made of a function of the ranked rows.
find_rule <- function(rule) {
  if (inherits(rule, "kw_rule")) return(rule)
  if (is.function(rule)) {
    choose <- own_choice(function(table, margin) rule(table))
    return(rule_definition("own function", choose, by_scores = FALSE))
  }
  known <- known_members("rule")
  check_choice(rule, names(known), "rule")
  known[[rule]]()
}

# With the margin that is given, or its default.
with_margin <- function(field, rule, margin) {
  if (!is.null(margin)) check_number(margin, "margin", min = 0)
  if (!is.null(margin) && is.null(rule$margin)) {
    taking <- Filter(function(make) !is.null(make()$margin), known_members("rule"))
    stop_kw(
      "argument", paste0("The rule ", quoted(rule$name), " takes no margin."),
      remedy = paste0(
        "Leave it out, or use a rule that does: ", enumerate(quoted(names(taking))), "."
      )
    )
  }
  if (is.null(margin) && identical(rule$margin, "needed")) {
    margin <- planned_margin(field$cmp, field$metric)
  }
  if (is.null(margin) && identical(rule$margin, "needed")) {
    stop_kw(
      "argument",
      paste0("The rule ", quoted(rule$name), " needs a margin, in the unit of the metric."),
      remedy = "For instance margin = 0.01."
    )
  }
  field$margin <- margin %||% usual_margin(rule)
  field
}

# NULL where the rule finds it itself, by the metric.
usual_margin <- function(rule) if (!identical(rule$margin, "by metric")) rule$margin

# A user's rule sees the eligible rows of the standings.
own_choice <- function(choose) {
  function(field) {
    cmp <- field$cmp
    table <- standings_rows(cmp, metric = field$metric$name)
    at <- rows_in_standings(cmp, table)
    table <- table[is.finite(field$goodness[at]), ]
    said <- choose(table, field$margin)
    row <- if (is.list(said)) said$row else said
    fine <- is.numeric(row) && length(row) == 1L && !is.na(row) && row %in% seq_len(nrow(table))
    if (!fine) {
      stop_kw("select", paste0(
        "The rule must give the number of one of the ", nrow(table), " rows that it got; it gave ",
        describe_value(row), "."
      ))
    }
    picked <- rows_in_standings(cmp, table[row, ])
    reason <- if (is.list(said)) said$reason
    list(
      at = picked,
      reason = reason %||% paste0(
        field$name(picked), " was chosen by a function of the user's; its mean ",
        field$metric$label, " is ", with_spread(field$mean[picked], field$se[picked]), "."
      )
    )
  }
}
