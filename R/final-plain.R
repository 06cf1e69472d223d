# The part of a model file that any language can read: what new rows go through, as numbers and
# texts in JSON. docs/model-file.md describes it, inst/script/read_model.py predicts from it.

most_plain_values <- 5e6

# list(plain = TRUE, ...) or list(plain = FALSE, why = a sentence).
plain_model <- function(model) {
  parts <- model$family$model
  blended <- inherits(parts, "kw_blend_parts")
  members <- if (blended) parts$parts else list(model[c("steps", "family", "value")])
  weights <- if (blended) model$family$settings$weights else 1
  trouble <- unlist(lapply(members, why_not_plain))
  if (length(trouble) > 0L) return(list(plain = jsonlite::unbox(FALSE), why = one_text(trouble[1])))
  list(
    plain = jsonlite::unbox(TRUE),
    outcome = one_text(model$outcome), outcome_kind = one_text(model$kind), classes = model$levels,
    threshold = jsonlite::unbox(model$threshold), columns = lapply(model$schema, json_column),
    missing_codes = lapply(model$missing_codes, as.character),
    members = Map(plain_member, members, weights)
  )
}

one_text <- function(text) jsonlite::unbox(as.character(text))

why_not_plain <- function(member) {
  for (learned in member$steps) {
    make <- learned$definition$plain
    if (is.null(make) || is.null(make(learned$state))) {
      return(paste0("what pre_", learned$definition$name, "() learned here has no plain form"))
    }
  }
  family <- member$family
  name <- paste0("fam_", family$definition$name, "()")
  if (!is.null(family$scale$own)) return("the outcome's scale is made of functions")
  # what costs much to write is of no use as text
  if (utils::object.size(family$model) > 8 * most_plain_values) {
    return(paste0("the model of ", name, " is too large to be of use as text"))
  }
  if (is.null(plain_family(family, member$value))) {
    return(paste0(name, " with these settings has no plain form"))
  }
  NULL
}

json_column <- function(entry) {
  out <- list(kind = one_text(entry$kind))
  if (!is.null(entry$levels)) out$levels <- as.character(entry$levels)
  if (!is.null(entry$commas)) out$commas <- one_text(entry$commas)
  if (!is.null(entry$blanks)) out$blanks <- jsonlite::unbox(TRUE)
  if (!is.null(entry$unit)) out$unit <- lapply(as.list(entry$unit), one_text)
  if (entry$kind == "date") {
    out$moment <- jsonlite::unbox(isTRUE(entry$moment))
    out$format <- one_text(entry$format %||% usual_date_format)
  }
  out
}

plain_member <- function(member, weight) {
  family <- member$family
  out <- list(
    weight = jsonlite::unbox(weight),
    steps = lapply(unname(member$steps), function(learned) {
      c(
        list(step = one_text(learned$definition$name)),
        json_state(learned$definition$plain(learned$state))
      )
    }),
    model = json_form(plain_family(family, member$value)),
    present = family$present
  )
  if (!is.null(family$lowest)) out$lowest <- jsonlite::unbox(family$lowest)
  if (!is.null(family$scale)) out$scale <- json_scale(family$scale)
  if (!is.null(family$recalibration)) {
    out$recalibration <- lapply(unname(family$recalibration$maps[[1]]), json_state)
  }
  out
}

json_scale <- function(scale) {
  list(
    by = one_text(scale$by), power = jsonlite::unbox(scale$power), reach = scale$reach,
    back = one_text(scale$back), errors = as.vector(scale$errors)
  )
}

# Of a step's state lists that hold one value by column, or settings, have it without brackets;
# everything else is an array.
json_state <- function(state) {
  for (name in intersect(names(state), c("by", "cyclic", "constant"))) {
    state[[name]] <- jsonlite::unbox(state[[name]])
  }
  for (name in intersect(names(state), c("fills", "centre", "spread", "centres", "starts"))) {
    state[[name]] <- lapply(as.list(state[[name]]), jsonlite::unbox)
  }
  if ("shares" %in% names(state)) {
    state$shares <- lapply(state$shares, function(column) lapply(column, jsonlite::unbox))
  }
  if (is.list(state$columns)) {
    state$columns <- lapply(state$columns, function(known) {
      one <- names(known) %in% c("shift", "floor", "power")
      known[one] <- lapply(known[one], jsonlite::unbox)
      known
    })
  }
  state
}

json_form <- function(form) {
  for (name in intersect(names(form), c("form", "link", "combine", "equal", "unseen"))) {
    form[[name]] <- one_text(form[[name]])
  }
  if (form$form == "linear") {
    form$outputs <- lapply(form$outputs, function(one) {
      list(intercept = jsonlite::unbox(one$intercept), slopes = one$slopes)
    })
  }
  if (form$form == "hinges") {
    form$terms <- lapply(form$terms, lapply, function(part) lapply(part, jsonlite::unbox))
  }
  form
}

plain_model_bytes <- function(model) {
  # a model is saved all the same
  plain <- tryCatch(plain_model(model), error = function(e) {
    why <- paste0("it could not be written (", plain_message(e), ")")
    list(plain = jsonlite::unbox(FALSE), why = one_text(why))
  })
  text <- jsonlite::toJSON(json_in_full(plain), json_verbatim = TRUE, null = "null")
  charToRaw(enc2utf8(as.character(text)))
}

# Numbers as JSON with all their digits, of which the package writes fifteen: a value that equals a
# cut must do so for every reader. What is missing or infinite is null.
json_in_full <- function(x) {
  if (is.list(x)) {
    x[] <- lapply(x, json_in_full)
    return(x)
  }
  if (!is.numeric(x)) return(x)
  text <- if (is.integer(x)) as.character(x) else number_text(as.double(x))
  text[!is.finite(x)] <- "null"
  single <- inherits(x, "scalar")
  text <- paste0(if (!single) "[", paste(text, collapse = ","), if (!single) "]")
  structure(text, class = "json")
}
