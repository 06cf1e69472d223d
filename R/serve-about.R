# What a service says of its model, and of itself to programs that write clients.

# So many levels of a column are listed.
most_told_levels <- 200L

served_facts <- function(model) {
  facts <- model$facts
  list(
    outcome = model$outcome, outcome_kind = model$kind, classes = model$levels,
    event = model$event, threshold = model$threshold, types = I(served_types(model)),
    columns = unname(lapply(names(model$schema), function(name) {
      served_column(model$schema[[name]], name)
    })),
    ids = I(as.character(model$id)), scores = as.data.frame(model$scores),
    candidate = facts$candidate, setting = facts$setting, family = facts$family,
    rule = facts$rule, reason = facts$reason, worth = facts$worth,
    working_rows = facts$working_rows, data_fingerprint = facts$data_fingerprint
  )
}

served_column <- function(entry, name) {
  levels <- entry$levels
  list(
    name = name, kind = entry$kind, expected = expected_of(entry),
    levels = if (!is.null(levels)) I(utils::head(levels, most_told_levels)),
    levels_in_all = if (!is.null(levels)) length(levels)
  )
}

# OpenAPI 3.1.
openapi_facts <- function(desk) {
  model <- desk$model
  answer <- function(says, schema, type = "application/json") {
    list(description = says, content = stats::setNames(list(list(schema = schema)), type))
  }
  part <- function(name) list("$ref" = paste0("#/components/schemas/", name))
  refusals <- lapply(c(
    "400" = "No JSON or CSV", "401" = "No token, or another one", "411" = "No length said",
    "413" = "Too large, or too many rows", "415" = "Another kind of content",
    "422" = "Rows that cannot be read", "500" = "The model failed"
  ), answer, schema = part("Refusal"))
  get <- function(says, schema) {
    list(get = list(summary = says, responses = list("200" = answer(says, schema))))
  }
  query <- function(name, says, schema) {
    list(name = name, "in" = "query", required = FALSE, description = says, schema = schema)
  }
  row <- row_schema(model)
  facts <- list(
    openapi = "3.1.0",
    info = list(
      title = paste("Predictions of", model$outcome), version = "1",
      description = paste0("By ", model$facts$candidate, "; at most ",
        format(desk$most_rows, scientific = FALSE), " rows a request.")
    ),
    paths = list(
      "/predict" = list(post = list(
        summary = "Predict rows",
        parameters = list(
          query("type", "what is predicted", list(type = "string", enum = I(served_types(model)))),
          query("level", "of intervals", list(type = "number", default = 0.9))
        ),
        requestBody = list(required = TRUE, content = list(
          "application/json" = list(schema = list(oneOf = list(
            list(type = "array", items = part("Row")),
            list(type = "object", properties = list(rows = list(
              type = "array", items = part("Row")
            )), required = I("rows"))
          ))),
          "text/csv" = list(schema = list(type = "string"))
        )),
        responses = c(list("200" = list(
          description = "Predictions, in the order of the rows",
          content = list(
            "application/json" = list(schema = part("Predictions")),
            "text/csv" = list(schema = list(type = "string"))
          )
        )), refusals)
      )),
      "/health" = get("That it works, and what was answered so far", list(type = "object")),
      "/model" = get("What the model is", list(type = "object")),
      "/openapi.json" = get("This description", list(type = "object"))
    ),
    components = list(schemas = list(
      Row = row, Predictions = predictions_schema(model), Refusal = refusal_schema()
    ))
  )
  if (!is.null(desk$token)) {
    facts$components$securitySchemes <- list(token = list(type = "http", scheme = "bearer"))
    facts$security <- list(list(token = I(character())))
  }
  facts
}

row_schema <- function(model) {
  column <- function(entry) {
    type <- switch(entry$kind, number = "number",
      if (identical(entry$levels, c("FALSE", "TRUE"))) "boolean" else "string"
    )
    few <- length(entry$levels) %in% seq_len(most_told_levels) && type == "string"
    c(
      list(type = I(c(type, "null")), description = expected_of(entry)),
      if (few) list(examples = I(utils::head(entry$levels, 5L)))
    )
  }
  list(
    type = "object", properties = lapply(model$schema, column),
    required = I(names(model$schema))
  )
}

predictions_schema <- function(model) {
  text <- list(type = "string")
  number <- list(type = "number")
  named <- if (has_classes(model$kind)) {
    p <- stats::setNames(rep(list(number), length(model$levels)), paste0("p_", model$levels))
    c(list(class = text), p)
  } else if (is_wide(model$kind)) {
    stats::setNames(rep(list(number), length(model$levels)), model$levels)
  } else {
    list(value = number)
  }
  whole <- list(type = "integer")
  list(type = "object", properties = list(
    predictions = list(type = "array", items = list(type = "object", properties = named)),
    rows = whole, mended = whole, never_seen = whole,
    remarks = list(type = "array", items = list(type = "object", properties = list(
      code = text, where = text, detail = text
    )))
  ))
}

refusal_schema <- function() {
  text <- list(type = "string")
  list(type = "object", required = I("error"), properties = list(
    error = text, problems_in_all = list(type = "integer"),
    problems = list(type = "array", items = list(type = "object", properties = list(
      row = list(type = "integer"), column = text, expected = text, got = text
    )))
  ))
}
