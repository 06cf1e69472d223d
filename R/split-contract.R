# What a splitter is: a name, its arguments, and
#   generate(about) -> list of splits, called under a seed
# `about` has n, outcome, weights, group, time of the working rows and column(name), which
# gives any other column. A split has integer vectors `training` and `validation`
# (rows of the working table; training rows may repeat), `rep` and `part` numbers.
#   spread   how the standard error of a mean over the splits is had: "folds",
#            "draws", or "dependent" (splits that are no independent repetitions)
#   scored   "per_split", or "pooled": one score a repeat over all held-out
#            predictions. Whatever is asked, splits whose median validation part has
#            fewer than 10 rows are pooled.
#   paired   do differences of settings on these splits say which is better?
#   more_by  name of the argument that says how often it is repeated; more of it must leave the
#            first splits as they are. NULL: it cannot be repeated
#   summary  NULL, "632" or "632plus": the bootstrap's correction, which adds an
#            apparent split (repeat 0: all rows on both sides)
splitter <- function(
  name, arguments, generate, spread, label, scored = "per_split",
  summary = NULL, paired = TRUE, more_by = NULL
) {
  structure(list(
    name = name, arguments = arguments, generate = generate, spread = spread,
    label = label, scored = scored, summary = summary, paired = paired, more_by = more_by
  ), class = "kw_splitter")
}

smallest_scored_part <- 10L

# The splits of a brief's working rows, each with a key of its own: of its rows, and of how many
# with the same rows are before it, since repeats may deal few rows alike.
make_splits <- function(splitter, brief, seed) {
  about <- list(
    n = nrow(brief$table), outcome = brief$table[[brief$outcome]], weights = row_weights(brief),
    group = if (!is.null(brief$roles$group)) brief$table[[brief$roles$group]],
    group_name = brief$roles$group,
    time = if (!is.null(brief$roles$time)) brief$table[[brief$roles$time]],
    column = function(name) split_column(brief, name)
  )
  splits <- with_seed(derive_seed(seed, "splits"), splitter$generate(about))
  if (!is.null(splitter$summary)) {
    splits <- c(splits, list(new_split(seq_len(about$n), seq_len(about$n), 0L, 0L)))
  }
  keys <- vapply(splits, function(split) {
    short_hash(paste(hash_numbers(split$training), hash_numbers(split$validation)))
  }, "")
  time <- stats::ave(seq_along(keys), keys, FUN = seq_along)
  keys[time > 1L] <- vapply(paste(keys, time)[time > 1L], short_hash, "")
  Map(function(split, key) c(split, list(key = key)), splits, keys)
}

# Are there repeats, of which each holds out the same parts, as where a fold is one group?
repeats_alike <- function(splits) {
  splits <- splits[!is_apparent(splits)]
  parts <- lapply(split(splits, vapply(splits, `[[`, 1L, "rep")), function(of_rep) {
    held_out <- unname(lapply(of_rep, `[[`, "validation"))
    held_out[order(vapply(held_out, min, 1L))]
  })
  length(parts) > 1L && all(vapply(parts[-1], identical, NA, parts[[1]]))
}

split_column <- function(brief, name) {
  if (!name %in% names(brief$table)) {
    stop_kw(
      "splits",
      paste0("The splits name the column ", quoted(name), ", which the table does not have."),
      remedy = did_you_mean(name, names(brief$table), "Columns")
    )
  }
  brief$table[[name]]
}

new_split <- function(training, validation, rep, part) {
  list(
    training = as.integer(training), validation = as.integer(validation), rep = as.integer(rep),
    part = as.integer(part)
  )
}

is_apparent <- function(splits) vapply(splits, function(split) split$rep == 0L, logical(1))

# Are held-out predictions of a repeat scored together?
is_pooled <- function(splitter, splits) {
  sizes <- vapply(
    splits[!is_apparent(splits)], function(split) length(split$validation), integer(1)
  )
  splitter$scored == "pooled" || stats::median(sizes) < smallest_scored_part
}

about_group <- function(about, keep_groups) if (keep_groups) about$group
