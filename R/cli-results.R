# The folder of results: tables as CSV, facts as JSON, figures as PNG, the model. Every part is
# written by itself, the tables first, and one that cannot be made costs no other. The marker
# says which files are ours: nothing else in the folder is ever touched.

results_marker <- "comparison.json"

# The page to begin with.
results_report <- "report.html"

# Before anything is run: the folder is there, can be written, and holds nothing that would be
# in the way.
prepare_results_folder <- function(folder, replace, journal = NULL) {
  if (file.exists(folder) && !dir.exists(folder)) {
    stop_kw("results", paste0(quoted(folder), " is a file, not a folder."),
      remedy = "Choose another --out."
    )
  }
  if (!dir.exists(folder) && !suppressWarnings(dir.create(folder, mode = "0700"))) {
    parent <- dirname(folder)
    stop_kw("results", paste0("The folder ", quoted(folder), " cannot be made."),
      where = if (dir.exists(parent)) {
        paste0(quoted(parent), " cannot be written to, or ", quoted(folder), " leads nowhere.")
      } else {
        paste0(quoted(parent), " does not exist.")
      },
      remedy = "Choose another --out."
    )
  }
  check_results_replaced(folder, replace, journal)
  if (file.access(folder, 2L) != 0L) {
    stop_kw("results", paste0("The folder ", quoted(folder), " cannot be written to."),
      remedy = "Choose another --out."
    )
  }
}

# The journal of the run may lie in the folder.
check_results_replaced <- function(folder, replace, journal) {
  there <- list.files(folder, all.files = TRUE, no.. = TRUE)
  if (!is.null(journal) && same_path(dirname(journal), folder)) {
    there <- setdiff(there, journal_files(basename(journal)))
  }
  if (length(there) == 0L) return(invisible())
  ours <- file.exists(file.path(folder, results_marker))
  if (ours && replace) return(invisible())
  if (ours) {
    stop_kw("results", paste0("The folder ", quoted(folder), " holds results already."),
      remedy = "Choose another --out, or say --replace."
    )
  }
  stop_kw(
    "results",
    paste0("The folder ", quoted(folder), " holds something else than results."),
    where = paste0("There is ", enumerate(quoted(clean_line(there)), 3L), "."),
    remedy = "Choose another --out: it will not be replaced."
  )
}

same_path <- function(a, b) {
  identical(normalizePath(a, mustWork = FALSE), normalizePath(b, mustWork = FALSE))
}

results_names <- c(
  "plan.yml", "standings.csv", "scores_by_split.csv", "failures.csv", "set_aside.csv",
  "choice.json", "summary.txt", "model.kilnwright", results_report, "README.txt"
)

# Writes what there is; `choice`, `model` and `aside` may be NULL. The report there is the one that
# needs no further fits. Returns what could not be
# made, one line each.
write_results <- function(folder, plan_file, cmp, choice, model, aside, said, report = TRUE) {
  # which may be that of the older results
  plan_bytes <- readBin(plan_file, "raw", file.size(plan_file))
  remove_old_results(folder)
  written <- character()
  trouble <- character()
  part <- function(name, write) {
    failed <- tryCatch(
      {
        for_owner_only(write(file.path(folder, name)))
        written <<- c(written, name)
        NULL
      },
      error = function(e) paste0(name, ": ", plain_message(e))
    )
    trouble <<- c(trouble, failed)
  }
  table <- function(name, make) part(name, function(file) write_whole(file, csv_bytes(make())))
  table("standings.csv", function() all_standings(cmp))
  table("scores_by_split.csv", function() scores_by_split(cmp))
  table("failures.csv", function() failures(cmp))
  if (!is.null(aside)) table("set_aside.csv", function() aside)
  part("plan.yml", function(file) write_whole(file, plan_bytes))
  if (!is.null(choice)) {
    part("choice.json", function(file) write_whole(file, json_bytes(describe_choice(choice))))
  }
  if (!is.null(model)) part("model.kilnwright", function(file) save_model(model, file))
  part("summary.txt", function(file) write_whole(file, said))
  dir.create(file.path(folder, "figures"), showWarnings = FALSE, mode = "0700")
  figure <- function(name, draw) {
    part(file.path("figures", name), function(file) save_png(draw(), file))
  }
  placed <- with(standings_rows(cmp), unique(candidate[!is.na(place)]))
  if (length(placed) > 0L) figure("standings.png", function() draw_standings(cmp))
  varied <- intersect(names(which(lengths(varied_by_candidate(cmp)) > 0L)), placed)
  names <- make.unique(paste0("tuning-", file_word(varied), recycle0 = TRUE), "-")
  for (i in seq_along(varied)) {
    figure(paste0(names[i], ".png"), function() draw_tuning(cmp, varied[i]))
  }
  if (report && requireNamespace("htmltools", quietly = TRUE)) {
    part(results_report, function(file) write_report(model %||% cmp, file, explain = FALSE))
  }
  part("README.txt", function(file) {
    about <- system.file("results-readme.txt", package = "kilnwright", mustWork = TRUE)
    write_whole(file, readLines(about))
  })
  facts <- c(describe_comparison(cmp), list(files = I(written), trouble = I(trouble)))
  part(results_marker, function(file) write_whole(file, json_bytes(facts)))
  trouble
}

# The files that the marker of older results names, and no others; never outside the folder.
remove_old_results <- function(folder) {
  marker <- file.path(folder, results_marker)
  if (!file.exists(marker)) return(invisible())
  files <- tryCatch(unlist(jsonlite::read_json(marker)$files), error = function(e) NULL)
  ours <- files[files %in% results_names | grepl("^figures/[A-Za-z0-9_-]+[.]png$", files)]
  # reason: names that write_results() gives, in the folder itself
  unlink(file.path(folder, c(ours, results_marker)))
}

# The standings by every metric, the deciding one first.
all_standings <- function(cmp) {
  metrics <- union(deciding_metric(cmp), names(metrics_of(cmp)))
  data.table::rbindlist(lapply(metrics, function(metric) standings_rows(cmp, metric = metric)))
}

describe_comparison <- function(cmp) {
  plan <- cmp$plan
  list(
    kind = "kilnwright comparison", outcome = plan$brief$outcome, event = plan$brief$event,
    working_rows = nrow(plan$brief$table), set_aside_rows = plan$brief$sealed$n %||% 0L,
    rows_without_outcome = plan$brief$n_without_outcome,
    splits = splits_label(plan), decide = plan$decide,
    metrics = lapply(plan$metrics, `[[`, "direction"), seed = plan$seed,
    settings = length(cmp$results$candidate), fits = fits_done(cmp),
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
    sd = choice$sd, se = choice$se, honest = as.list(honest_score(choice))
  )
}

file_word <- function(name) gsub("[^A-Za-z0-9_-]+", "-", name)

# What the run found on the rows set aside stands in its folder, and is the model's too where the
# same setting is chosen: they are not opened again for a report.
with_saved_aside <- function(model, folder) {
  files <- file.path(folder, c("set_aside.csv", "choice.json"))
  if (!all(file.exists(files))) return(model)
  choice <- model$origin$choice
  read <- data.table::fread(files[1], dec = ".", data.table = FALSE, na.strings = "")
  scores <- tibble::as_tibble(read)
  chosen <- jsonlite::read_json(files[2])
  same <- identical(chosen$candidate, candidate_names(choice$cmp)[choice$at]) &&
    identical(as.integer(chosen$setting), choice$cmp$results$row[choice$at]) &&
    identical(scores$metric, model$scores$metric) &&
    isTRUE(all.equal(scores$validation, model$scores$validation))
  if (same) model$origin$set_aside <- aside_listing(scores)
  model
}

read_saved_standings <- function(folder) {
  file <- file.path(folder, "standings.csv")
  if (!file.exists(file) || !file.exists(file.path(folder, results_marker))) {
    stop_kw("results", paste0(quoted(folder), " is no folder of results."),
      remedy = "Make one with kilnwright run PLAN --out FOLDER."
    )
  }
  as.data.frame(data.table::fread(file, dec = ".", data.table = FALSE, na.strings = ""))
}
