# The folder of results: tables as CSV, facts as JSON, figures as PNG, the model.
# It is made beside its place and moved there when it is whole.

results_marker <- "comparison.json"

# Before anything is run: could the folder be written?
check_results_folder <- function(folder, replace) {
  parent <- dirname(folder)
  if (file.exists(folder) && !dir.exists(folder)) {
    stop_kw(
      "results",
      paste0(quoted(folder), " is a file, not a folder."),
      remedy = "Choose another --out."
    )
  }
  if (dir.exists(folder) && length(list.files(folder)) > 0L) {
    if (!replace) {
      stop_kw("results", paste0("The folder ", quoted(folder), " is there already."),
        remedy = "Choose another --out, or say --replace."
      )
    }
    if (!file.exists(file.path(folder, results_marker))) {
      stop_kw(
        "results",
        paste0("The folder ", quoted(folder), " holds something else than results."),
        remedy = "Choose another --out: it will not be replaced."
      )
    }
  }
  if (!dir.exists(parent) || file.access(parent, 2) != 0L) {
    stop_kw("results", paste0("The folder ", quoted(folder), " cannot be made."),
      where = paste0(
        quoted(parent),
        if (dir.exists(parent)) " cannot be written to." else " does not exist."
      ),
      remedy = "Choose another --out."
    )
  }
}

write_results <- function(folder, replace, plan_file, cmp, choice, model, aside, said) {
  made <- tempfile(".kilnwright-results-", tmpdir = dirname(folder))
  dir.create(made)
  on.exit(unlink(made, recursive = TRUE))
  at <- function(...) file.path(made, ...)
  file.copy(plan_file, at("plan.yml"))
  data.table::fwrite(all_standings(cmp), at("standings.csv"))
  data.table::fwrite(scores_by_split(cmp), at("scores_by_split.csv"))
  data.table::fwrite(failures(cmp), at("failures.csv"))
  if (!is.null(aside)) data.table::fwrite(aside, at("set_aside.csv"))
  write_facts(describe_comparison(cmp), at(results_marker))
  write_facts(describe_choice(choice), at("choice.json"))
  writeLines(said, at("summary.txt"))
  save_model(model, at("model.kilnwright"))
  dir.create(at("figures"))
  save_png(draw_standings(cmp), at("figures", "standings.png"))
  for (candidate in names(which(lengths(varied_by_candidate(cmp)) > 0L))) {
    save_png(
      draw_tuning(cmp, candidate), at("figures", paste0("tuning-", file_word(candidate), ".png"))
    )
  }
  if (dir.exists(folder)) unlink(folder, recursive = TRUE)
  if (!file.rename(made, folder)) {
    stop_kw("results", paste0("The results could not be moved to ", quoted(folder), "."))
  }
}

# The standings by every metric, the deciding one first.
all_standings <- function(cmp) {
  metrics <- union(cmp$plan$decide, names(cmp$plan$metrics))
  data.table::rbindlist(lapply(metrics, function(metric) standings(cmp, metric = metric)))
}

write_facts <- function(facts, file) {
  jsonlite::write_json(
    facts, file,
    auto_unbox = TRUE, pretty = TRUE, digits = NA, null = "null", na = "null"
  )
}

describe_comparison <- function(cmp) {
  plan <- cmp$plan
  list(
    kind = "kilnwright comparison", outcome = plan$brief$outcome, event = plan$brief$event,
    working_rows = nrow(plan$brief$table), set_aside_rows = plan$brief$sealed$n %||% 0L,
    splits = paste0(plan$splitter$label, split_words(plan)), decide = plan$decide,
    metrics = lapply(plan$metrics, `[[`, "direction"), seed = plan$seed,
    settings = length(cmp$results$candidate), fits = cmp$results$fits * length(plan$splits),
    seconds = cmp$seconds, data_fingerprint = plan$brief$fingerprint,
    versions = lapply(cmp$versions, as.list)
  )
}

describe_choice <- function(choice) {
  cmp <- choice$cmp
  list(
    candidate = candidate_names(cmp)[choice$at], setting = cmp$results$row[choice$at],
    values = setting_values(
      cmp$results$tables[[cmp$results$candidate[choice$at]]], cmp$results$row[choice$at]
    ),
    rule = choice$rule, reason = choice$reason, metric = choice$metric, mean = choice$mean,
    sd = choice$sd, se = choice$se
  )
}

file_word <- function(name) gsub("[^A-Za-z0-9_-]+", "-", name)

read_saved_standings <- function(folder) {
  file <- file.path(folder, "standings.csv")
  if (!file.exists(file) || !file.exists(file.path(folder, results_marker))) {
    stop_kw("results", paste0(quoted(folder), " is no folder of results."),
      remedy = "Make one with kilnwright run PLAN --out FOLDER."
    )
  }
  as.data.frame(data.table::fread(file, data.table = FALSE, na.strings = ""))
}
