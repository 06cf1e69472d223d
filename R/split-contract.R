# What a splitter is: a name, its arguments, and
#   generate(about) -> list of splits, called under a seed
# `about` has n, outcome, group and time of the working rows. A split has integer
# vectors `training` and `validation` (rows of the working table; training rows
# may repeat), `rep` and `part` numbers.
#   spread: how the standard error of a mean over the splits is had: "folds",
#           "draws" or "plain"
splitter <- function(name, arguments, generate, spread, label) {
  structure(list(name = name, arguments = arguments, generate = generate, spread = spread,
                 label = label), class = "kw_splitter")
}

# The splits of a brief's working rows.
make_splits <- function(splitter, job, seed) {
  about <- list(n = nrow(job$table), outcome = job$table[[job$outcome]],
                group = if (!is.null(job$roles$group)) job$table[[job$roles$group]],
                group_name = job$roles$group,
                time = if (!is.null(job$roles$time)) job$table[[job$roles$time]])
  splits <- with_seed(derive_seed(seed, "splits"), splitter$generate(about))
  lapply(splits, function(split) {
    split$key <- short_hash(paste(hash_numbers(split$training), hash_numbers(split$validation)))
    split
  })
}

new_split <- function(training, validation, rep, part) {
  list(training = as.integer(training), validation = as.integer(validation), rep = rep, part = part)
}

about_group <- function(about, keep_groups) if (keep_groups) about$group
