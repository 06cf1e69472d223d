# Minutes as a budget: when a run ends, what part of the workers' seconds went into steps, fits,
# predictions and scores, and how many settings were scored in full. Two workers that are already
# up. Wanted: the end within the minutes and two seconds; 95 % of the seconds.

source("bench/fields.R")

given <- commandArgs(TRUE)
seconds <- if (length(given) > 0L) as.numeric(given[1]) else 30
chosen <- if (length(given) > 1L) given[-1] else c("additive", "interacting")
screens <- list(none = NULL, splits = screen_splits(), rows = screen_rows())

mirai::daemons(2, .compute = "kilnwright")
for (name in chosen) {
  for (screen in names(screens)) {
    plan <- field_plan(name, 10, screen = screens[[screen]])
    # workers have loaded what they need
    run_comparison(plan, limits = limits(settings = 40), quiet = TRUE)
    started <- proc.time()[["elapsed"]]
    cmp <- suppressWarnings(
      run_comparison(plan, limits = limits(minutes = seconds / 60), quiet = TRUE)
    )
    took <- proc.time()[["elapsed"]] - started
    spent <- sum(cmp$results$spent[c("steps", "fits", "predictions", "scoring")])
    cat(sprintf(
      paste0(
        "%-11s screen %-6s: %.0f s asked, %.1f s taken; %.0f %% of the workers' seconds; ",
        "%d settings in full\n"
      ),
      name, screen, seconds, took, 100 * spent / (2 * took), sum(!is.na(standings(cmp)$place))
    ))
  }
}
mirai::daemons(0, .compute = "kilnwright")
