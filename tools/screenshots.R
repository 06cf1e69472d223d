# Makes docs/screenshots/ from the demo data. Terminal views are what the command
# prints, set in a monospaced font on a page that headless Chromium photographs at
# 1280x800. Figures are the package's own.

library(kilnwright)

folder <- file.path("docs", "screenshots")
dir.create(folder, recursive = TRUE, showWarnings = FALSE)
results <- file.path(tempdir(), "demo-results")
rscript <- file.path(R.home("bin"), "Rscript")

chromium <- Sys.which(c("chromium", "chromium-browser", "google-chrome"))
chromium <- chromium[nzchar(chromium)][1]
if (is.na(chromium)) {
  system2("apt-get", c("-qq", "-y", "install", "chromium"), stdout = FALSE)
  chromium <- Sys.which("chromium")
}

escape <- function(x) {
  gsub(
    ">",
    "&gt;",
    gsub("<", "&lt;", gsub("&", "&amp;", x, fixed = TRUE), fixed = TRUE),
    fixed = TRUE
  )
}

# Runs R and photographs the lines it writes (the last ones, if there are many).
photograph <- function(name, words, shown, most = 38L) {
  log <- tempfile()
  status <- system2(rscript, shQuote(words), stdout = log, stderr = log)
  stopifnot(status == 0L)
  lines <- gsub(dirname(results), "~", readLines(log), fixed = TRUE)
  lines <- lines[!grepl("^\\[[= ]+\\] ", lines)]
  text <- c(shown, lines)
  if (length(text) > most) text <- c(text[1], "...", utils::tail(text, most - 2L))
  page <- tempfile(fileext = ".html")
  writeLines(c(
    paste(
      "<html><meta charset='utf-8'><body",
      "style='margin:0;background:#1e1e1e;width:1280px;height:800px;overflow:hidden'>"
    ),
    paste(
      "<div style='background:#3a3a3a;color:#ddd;font:15px sans-serif;padding:7px",
      "14px'>Terminal</div>"
    ),
    "<pre style='margin:14px 18px;color:#e6e6e6;font:16.5px/1.2 \"DejaVu Sans Mono\",monospace'>",
    escape(paste(text, collapse = "\n")), "</pre></body></html>"
  ), page)
  photograph_page(page, name)
}

# A page that a command serves.
photograph_view <- function(name) {
  log <- tempfile()
  system2(rscript, c("exec/kilnwright", "view", results, "--no-browser"),
    stdout = log, stderr = FALSE, wait = FALSE
  )
  while (!file.exists(log) || length(readLines(log)) == 0L) Sys.sleep(0.2)
  photograph_page(readLines(log)[1], name)
  system2("pkill", c("-f", shQuote(paste("view", results))))
}

photograph_page <- function(page, name) {
  profile <- tempfile("profile-")
  system2(
    chromium,
    c(
      "--headless", "--no-sandbox", "--disable-gpu", "--hide-scrollbars", "--no-first-run",
      "--disable-background-networking", "--disable-component-update",
      "--disable-sync",
      paste0("--user-data-dir=", profile), "--window-size=1280,800",
      paste0("--screenshot=", normalizePath(folder), "/", name, ".png"),
      "--virtual-time-budget=8000", if (startsWith(page, "http")) page else paste0("file://", page)
    ),
    stdout = FALSE,
    stderr = FALSE,
    env = paste0("TMPDIR=", shQuote(tempdir()))
  )
}

plan <- file.path("inst", "extdata", "pots-plan.yml")
photograph("demo", c("exec/kilnwright", "demo", "--out", results), "$ kilnwright demo")
photograph("preview", c("exec/kilnwright", "preview", plan), "$ kilnwright preview pots-plan.yml")
photograph(
  "command-standings",
  c("exec/kilnwright", "standings", results, "--metric", "log_loss", "--top", "10"),
  "$ kilnwright standings demo-results --metric log_loss --top 10"
)
photograph_view("view")
file.copy(
  file.path(results, "figures", "standings.png"),
  file.path(folder, "standings.png"),
  overwrite = TRUE
)
file.copy(
  file.path(results, "figures", "tuning-tree.png"),
  file.path(folder, "tuning.png"),
  overwrite = TRUE
)

look <- paste(
  "job <- brief(demo_pots(), outcome = 'cracked', event = 'yes', ignore =",
  "c('shrinkage_pct', 'grade'))"
)
photograph(
  "findings", c("-e", paste0("library(kilnwright); ", look, "; inspect_data(job)")),
  c(
    "> job <- brief(demo_pots(), outcome = \"cracked\", event = \"yes\",",
    "+              ignore = c(\"shrinkage_pct\", \"grade\"))",
    "> inspect_data(job)"
  )
)
job <- brief(
  demo_pots(),
  outcome = "cracked",
  event = "yes",
  id = "pot_id",
  group = "firing_id",
  ignore = c("shrinkage_pct", "grade"),
  missing_codes = list(glaze = "n/r", drying_days = -999)
)
save_figure <- getFromNamespace("save_png", "kilnwright")
save_figure(draw_columns(job), file.path(folder, "columns.png"))

photograph(
  "describe-family",
  c(
    "-e",
    paste0(
      "library(kilnwright); ", sub("\\)$", ", id = 'pot_id', group = 'firing_id')", look),
      "; describe_family('forest', job)"
    )
  ),
  "> describe_family(\"forest\", job)",
  most = 44L
)
all <- file.path(tempdir(), "all-results")
stopifnot(system2(
  rscript,
  shQuote(c("exec/kilnwright", "demo", "--all", "--out", all)),
  stdout = FALSE,
  stderr = FALSE
) == 0L)
file.copy(
  file.path(all, "figures", "standings.png"),
  file.path(folder, "all-families.png"),
  overwrite = TRUE
)
curves <- run_comparison(
  job,
  candidates(boosted = fam_boosted(
    trees = from_to(10, 400, points = 14), rate = 0.05, depth = among(1, 4)
  )),
  splits = split_kfold(5, repeats = 3),
  metrics = c("auc", "log_loss"),
  decide = "log_loss",
  seed = 41,
  keep = "training_scores",
  quiet = TRUE
)
verdict <- c(
  "library(kilnwright)", "cmp <- readRDS(Sys.getenv('CMP'))", "summary(cmp)",
  "shortlist(cmp)"
)
ready <- list(pre_missing(), pre_rare_levels(at_least = 20), pre_onehot())
sealed <- set_aside(job, share = 0.2, seed = 7)
cmp <- run_comparison(sealed, candidates(
  baseline = fam_baseline(),
  penalised = pipeline(
    ready,
    pre_scale(),
    fam_penalised(penalty = from_to(1e-3, 1, "log", 6), lasso_share = among(0, 1))
  ),
  tree = pipeline(
    pre_missing(),
    fam_tree(pruning = from_to(1e-3, 0.1, "log", 8), min_leaf = among(2, 5, 10, 20))
  ),
  forest = pipeline(ready, fam_forest(trees = 200, min_node = among(2, 10)))
),
splits = split_kfold(10), metrics = c("auc", "log_loss"), seed = 41,
keep = c("training_scores", "all_predictions"), quiet = TRUE
)
kept <- tempfile(fileext = ".rds")
saveRDS(cmp, kept)
Sys.setenv(CMP = kept)
photograph(
  "shortlist",
  c("-e", paste(verdict, collapse = "; ")),
  c("> summary(cmp); shortlist(cmp)"),
  most = 44L
)
choice <- select_final(cmp)
model <- fit_final(choice)
invisible(score_set_aside(model))
save_figure(draw_roc(cmp), file.path(folder, "roc.png"))
save_figure(draw_tuning_map(cmp, "tree"), file.path(folder, "tuning-map.png"))

guided <- read_plan(system.file("extdata", "pots-guided.yml", package = "kilnwright"))
searched <- run_comparison(guided, quiet = TRUE)
save_figure(draw_screen(searched), file.path(folder, "screen.png"))
save_figure(draw_front(searched), file.path(folder, "front.png"))
save_figure(draw_importance(column_importance(choice)), file.path(folder, "importance.png"))
# pots of one kiln, thrown with thicker walls, whose outcome nobody knows yet
later <- demo_pots()[demo_pots()$kiln == "south", ]
later$wall_mm <- later$wall_mm + 1.5
later$cracked <- NULL
save_figure(draw_drift(watch_drift(model, later)), file.path(folder, "drift.png"))
page <- tempfile(fileext = ".html")
write_report(model, page)
photograph_page(page, "report")
save_figure(draw_tuning(curves, "boosted"), file.path(folder, "training-curves.png"))
