#' Rule lists
#'
#' If-then rules that a person can read: for classes by package C50, for numbers,
#' with a linear model in every rule, by package Cubist. [show_rules()] prints those
#' of a final model. Categories and missing values are taken as they are.
#'
#' @eval family_help("rules")
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A family for [pipeline()] and [candidates()].
#' @references Quinlan (1993), C4.5: Programs for machine learning; Quinlan (1992),
#'   Learning with continuous classes.
#' @section Errors:
#' `kw_error_argument` for a value that a hyperparameter cannot have.
#' @examples
#' fam_rules(rounds = among(1, 10), min_leaf = among(2, 10, 30))
#' @export
fam_rules <- function(rounds = 1, min_leaf = 2, confidence = 0.25, most_rules = 100, ...) {
  no_more(...)
  new_family(member_fam_rules(), list(
    rounds = rounds, min_leaf = min_leaf, confidence = confidence,
    most_rules = most_rules
  ))
}

member_fam_rules <- function() {
  family_definition("rules", "Rule list", c("number", "two_class", "many_class"),
    hyperparameters = list(
      rounds = hyperparameter("whole", 1,
        min = 1, max = 100,
        sensible = function(rows, columns, classes) among(1, 5, 20),
        meaning = "Number of rule lists that are combined.",
        rising = "Less bias and less variance; slower, and no longer readable."
      ),
      min_leaf = hyperparameter("whole", 2,
        min = 1, active_when = for_classes,
        sensible = function(rows, columns, classes) among(2, 10, 30),
        meaning = "Fewest training rows in at least two branches of a question.",
        rising = "Fewer, broader rules: less variance, more bias."
      ),
      confidence = hyperparameter(
        "number",
        0.25,
        min = 0,
        max = 1,
        open_min = TRUE,
        active_when = for_classes,
        sensible = function(rows, columns, classes) among(0.05, 0.25, 0.5),
        meaning = "How little evidence a rule needs to stay.",
        rising = "More rules: less bias, more variance."
      ),
      most_rules = hyperparameter("whole", 100,
        min = 1, max = 1000000, active_when = for_numbers,
        sensible = function(rows, columns, classes) among(5, 20, 100),
        meaning = "At most this many rules in a list.",
        rising = "Finer rules: less bias, more variance."
      )
    ),
    complexity_rank = 42,
    simplicity = function(settings) {
      list(settings$rounds, -settings$min_leaf, settings$most_rules, settings$confidence)
    },
    accepts = list(factors = TRUE, missing = TRUE, weights = TRUE,
      most_levels = function(kind) 200),
    random = TRUE, fit = fit_rules, predict = predict_rules, script = script_rules,
    packages = function(settings, kind) if (has_classes(kind)) "C50" else "Cubist",
    does = "Makes if-then rules that a person can read."
  )
}

fit_rules <- function(x, y, weights, settings, seed, threads) {
  levels <- lapply(x, function(column) if (is.factor(column)) seen_levels(column))
  names <- safe_names(names(x))
  x <- stats::setNames(tree_columns(x, levels), names)
  fit <- if (is.factor(y)) {
    C50::C5.0(x, y,
      trials = settings$rounds, rules = TRUE, weights = weights,
      control = C50::C5.0Control(
        CF = settings$confidence, minCases = settings$min_leaf,
        seed = seed %% 4096L, earlyStopping = FALSE
      )
    )
  } else {
    Cubist::cubist(x, y,
      committees = settings$rounds, weights = weights,
      control = Cubist::cubistControl(
        rules = settings$most_rules, seed = seed %% 4096L
      )
    )
  }
  fit$call <- NULL
  list(fit = fit, levels = levels, names = names, is_class = is.factor(y))
}

# The packages write names into a text of their own, in which some signs have a
# meaning.
safe_names <- function(names) make.unique(gsub("[^A-Za-z0-9_.]", "_", names), sep = "_")

predict_rules <- function(model, x) {
  columns <- stats::setNames(tree_columns(x, model$levels), model$names)
  if (!model$is_class) return(as.double(stats::predict(model$fit, columns)))
  unname(stats::predict(model$fit, columns, type = "prob"))
}

#' Read the rules of a final model
#'
#' @param model A model from [fit_final()] whose family is [fam_rules()].
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return The rules, a character vector with one line each, invisibly; printed.
#' @section Errors:
#' `kw_error_argument` for models of other families.
#' @examples
#' \donttest{
#' job <- brief(demo_pots(),
#'   outcome = "shrinkage_pct", id = "pot_id", group = "firing_id",
#'   ignore = c("cracked", "grade", "notes")
#' )
#' cmp <- run_comparison(job, candidates(rules = fam_rules(most_rules = 5)),
#'   splits = split_kfold(3), seed = 1, quiet = TRUE
#' )
#' show_rules(fit_final(select_final(cmp)))
#' }
#' @export
show_rules <- function(model, ...) {
  no_more(...)
  check_class(model, "kw_model", "model", "Make one with fit_final().")
  if (model$family$definition$name != "rules") {
    stop_kw(
      "argument",
      paste0("The model is a fam_", model$family$definition$name, "() and has no rules to read."),
      remedy = "Rules come from fam_rules()."
    )
  }
  lines <- decode_text(rule_lines(model$family$model$fit$output), model$family)
  cat(lines, sep = "\n")
  invisible(lines)
}

# The rules themselves, without the package's heading and closing tables.
rule_lines <- function(output) {
  lines <- gsub("\t", "    ", strsplit(output, "\n", fixed = TRUE)[[1]], fixed = TRUE)
  first <- grep("^ *(Rules:|Rule [0-9]+|Model( [0-9]+)?:|-+ +Trial)", lines)[1]
  last <- grep("^ *(Evaluation on training data|Default class)", lines)
  if (is.na(first)) return("No rule was found: every row gets the same prediction.")
  end <- max(c(
    first, last[grepl("Default", lines[last])],
    utils::head(grep("Evaluation on", lines), 1L) - 1L
  ))
  lines <- lines[first:end]
  lines[nzchar(trimws(lines)) | c(TRUE, nzchar(trimws(lines[-length(lines)])))]
}

script_rules <- function(settings, about) {
  seen <- seen_level_lines(about)
  classes <- !is.null(about$levels)
  w <- if (about$weighted) ", weights = w" else ""
  list(
    fit = c(seen$lines, if (classes) {
      code_lines(r"(
model <- C50::C5.0(<<x>>, y,
  trials = <<rounds>>, rules = TRUE<<w>>,
  control = C50::C5.0Control(
    CF = <<confidence>>, minCases = <<leaf>>, seed = <<seed>>, earlyStopping = FALSE
  )
)
)",
        x = seen$x, rounds = settings$rounds, w = w, confidence = r_text(settings$confidence),
        leaf = settings$min_leaf, seed = about$seed %% 4096L
      )
    } else {
      code_lines(r"(
model <- Cubist::cubist(<<x>>, y,
  committees = <<rounds>><<w>>,
  control = Cubist::cubistControl(rules = <<most>>, seed = <<seed>>)
)
)",
        x = seen$x, rounds = settings$rounds, w = w, most = settings$most_rules,
        seed = about$seed %% 4096L
      )
    }),
    predict = paste0("predict(model, ", seen$x, if (classes) ", type = \"prob\"", ")")
  )
}
