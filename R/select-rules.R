# The rules that come with the package.

member_rule_best_mean <- function() {
  rule_definition("best_mean", choose_best_mean, does = "The best mean over the splits.")
}

member_rule_one_se <- function() {
  rule_definition("one_se", choose_one_se, does = paste(
    "The simplest that is not worse than the best by more than one standard error of the",
    "difference."
  ))
}

member_rule_one_se_1984 <- function() {
  rule_definition("one_se_1984", choose_one_se_1984, does = paste(
    "The simplest within one standard error of the best mean (Breiman, Friedman, Olshen & Stone",
    "1984)."
  ))
}

member_rule_no_worse <- function() {
  rule_definition("no_worse", choose_no_worse,
    margin = "by metric",
    does = "The simplest that the best is hardly likely (10 %) to be better than by the margin."
  )
}

member_rule_within <- function() {
  rule_definition("within", choose_within,
    margin = "needed", does = "The simplest within a margin of the best mean."
  )
}

member_rule_steady <- function() {
  rule_definition("steady", choose_steady,
    margin = 1,
    does = "The best mean after as many standard deviations as the margin are taken off."
  )
}

# What a rule picks, and why; nobody reads why it picks what it does on drawn splits.
new_pick <- function(field, at, reason) list(at = at, reason = if (!isTRUE(field$drawn)) reason)

choose_best_mean <- function(field) {
  best <- which(field$goodness == max(field$goodness))
  at <- best[which.min(field$from_simple[best])]
  new_pick(field, at, paste0(
    field$name(at), " has the best mean ", field$metric$label, ", ",
    with_spread(field$mean[at], field$se[at]), if (length(best) > 1L) {
      paste0("; of ", length(best), " settings with that mean it is the simplest")
    }, "."
  ))
}

choose_one_se <- function(field) {
  leader <- choose_best_mean(field)$at
  refuse_one_split(field, leader)
  found <- worse_than(field, leader)
  if (is.null(found)) return(choose_one_se_1984(field))
  near <- which(is.finite(field$goodness) & found$difference <= found$se)
  at <- near[which.min(field$from_simple[near])]
  new_pick(field, at, if (at == leader) {
    paste0(
      field$name(at), " has the best mean ", field$metric$label, ", ",
      with_spread(field$mean[at], field$se[at]),
      ", and every simpler setting is worse by more than one standard error of the difference."
    )
  } else {
    paste0(
      field$name(at), " is the simplest of ", count_of(length(near), "setting"),
      " that are worse than the best (", field$name(leader), ", ", field$metric$label, " ",
      with_spread(field$mean[leader], field$se[leader]),
      ") by no more than one standard error of the difference: its own mean is ",
      round_to(field$mean[at], field$se[leader]),
      if (found$difference[at] > 1e-9 * abs(field$mean[leader])) {
        paste0(", worse by ", with_spread(found$difference[at], found$se[at]), ".")
      } else {
        ", no worse."
      }
    )
  })
}

# How much worse all settings are than the leader on the splits, with the standard error of the
# difference; NULL where splits depend on one another.
worse_than <- function(field, leader) {
  paired <- field$paired
  if (is.null(paired)) return(NULL)
  all <- seq_along(field$goodness)
  found <- differences_apart(paired, rep(leader, length(all)), all)
  margin <- paired$margin %||% default_margin(paired, leader)
  c(found, list(df = pmax(found$n - 1, 1), margin = margin))
}

refuse_one_split <- function(field, leader) {
  if (is.na(field$se[leader])) {
    stop_kw("select", "The one-standard-error rule needs at least two splits.",
      remedy = "Use rule = \"best_mean\", or run more splits."
    )
  }
}

choose_one_se_1984 <- function(field) {
  leader <- choose_best_mean(field)$at
  refuse_one_split(field, leader)
  near <- which(field$goodness >= field$goodness[leader] - field$se[leader])
  at <- near[which.min(field$from_simple[near])]
  new_pick(field, at, one_se_reason(field, leader, at, near))
}

choose_no_worse <- function(field) {
  leader <- choose_best_mean(field)$at
  refuse_one_split(field, leader)
  found <- worse_than(field, leader)
  if (is.null(found)) {
    stop_kw(
      "select", "The rule \"no_worse\" needs splits whose differences say which setting is better.",
      remedy = "In time, use rule = \"within\" or \"best_mean\"."
    )
  }
  margin <- field$margin %||% found$margin
  sure <- three_answers(found$difference, found$se, found$df, margin)$p_better <= 0.1
  near <- union(leader, which(is.finite(field$goodness) & sure))
  at <- near[which.min(field$from_simple[near])]
  if (at == leader) {
    return(new_pick(field, at, paste0(
      field$name(at), " has the best mean ", field$metric$label, ", ",
      with_spread(field$mean[at], field$se[at]), ", and no simpler setting is, with a probability ",
      "of 0.9 or more, worse by no more than ", format(signif(margin, 2)), "."
    )))
  }
  new_pick(field, at, paste0(
    field$name(at), " is the simplest of ", count_of(length(near), "setting"),
    " that with a probability of 0.9 or more are worse than the best (",
    field$name(leader), ", ", field$metric$label, " ",
    with_spread(field$mean[leader], field$se[leader]), ") by no more than ",
    format(signif(margin, 2)), "; its own mean is ", round_to(field$mean[at], field$se[leader]), "."
  ))
}

choose_within <- function(field) {
  leader <- choose_best_mean(field)$at
  near <- which(field$goodness >= field$goodness[leader] - field$margin - 1e-12)
  at <- near[which.min(field$from_simple[near])]
  new_pick(field, at, paste0(
    field$name(at), " is the simplest of ", count_of(length(near), "setting"), " whose mean ",
    field$metric$label, " lies within ",
    format(field$margin), " of the best (", with_spread(field$mean[leader], field$se[leader]),
    ", ", field$name(leader),
    "); its own mean is ", round_to(field$mean[at], field$se[leader]), "."
  ))
}

choose_steady <- function(field) {
  times <- field$margin
  if (field$pooled) {
    stop_kw(
      "select",
      "The rule \"steady\" needs a score of every split, but predictions were scored together.",
      remedy = "Use rule = \"one_se\", or splits with larger validation parts."
    )
  }
  if (all(is.na(field$sd[is.finite(field$goodness)]))) {
    stop_kw(
      "select",
      "The rule \"steady\" needs at least two splits.",
      remedy = "Use rule = \"best_mean\", or run more splits."
    )
  }
  steady <- field$goodness - times * field$sd
  best <- which(steady == max(steady, na.rm = TRUE))
  at <- best[which.min(field$from_simple[best])]
  new_pick(field, at, paste0(
    field$name(at), " has the best mean ", field$metric$label, " less ",
    if (times == 1) "one standard deviation" else
      paste(format(times), "standard deviations"), " over the splits: mean ",
    with_spread(field$mean[at], field$sd[at], "sd"), "."
  ))
}

one_se_reason <- function(field, leader, at, near) {
  best <- with_spread(field$mean[leader], field$se[leader])
  if (at == leader) {
    return(paste0(
      field$name(at), " has the best mean ", field$metric$label, ", ", best,
      ", and no simpler setting is within one standard error of it."
    ))
  }
  paste0(
    field$name(at), " is the simplest of ", count_of(length(near), "setting"),
    " within one standard error of the best mean ", field$metric$label, " (", best, ", ",
    field$name(leader), "); its own mean is ", round_to(field$mean[at], field$se[leader]), "."
  )
}
