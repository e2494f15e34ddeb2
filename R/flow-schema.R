#' The schema of workflows
#'
#' A JSON Schema (draft 2020-12) of the language of workflows, with every command, option and choice that this version knows: editors complete and check
#' YAML files by it, which name it on their first line: `# yaml-language-server: $schema=workflow.schema.json`.
#'
#' @param file Path of the schema to write; `NULL` for its text.
#' @return The text, invisibly where it is written.
#' @examples
#' substr(workflow_schema(), 1, 300)
#' @export
workflow_schema <- function(file = NULL) {
  commands <- commands_of_workflows()
  object <- function(properties, required = NULL, ...) {
    c(list(type = "object", properties = properties), if (length(required)) list(required = as.list(required)), list(...))
  }
  steps <- lapply(commands, schema_of_command)
  schema <- c(
    list("$schema" = "https://json-schema.org/draft/2020-12/schema", title = "A workflow of Civic Atlas"),
    object(list(
      version = list(const = 1), title = list(type = "string"),
      inputs = list(type = "object", additionalProperties = list(oneOf = unname(lapply(names(input_keys), schema_of_input)))),
      steps = list(type = "object", additionalProperties = list(oneOf = steps)),
      outputs = list(type = "object", additionalProperties = list(type = "string", description = "the step that gives it")),
      answer = object(list(text = list(type = "string"), value = list(type = "string"), of = list(type = "string"), column = list(type = "string"),
                           digits = list(type = "integer")), c("text", "value", "of"), additionalProperties = FALSE),
      totals = list(type = "array", items = list(type = "string"), description = "columns that may be summed")
    ), c("version", "steps"), additionalProperties = FALSE)
  )
  text <- write_json(schema, pretty = 2)
  if (is.null(file)) return(text)
  write_lines(text, file)
  invisible(text)
}

schema_of_input <- function(type) {
  texts <- list(oneOf = list(list(type = "string"), list(type = "array", items = list(type = "string"))))
  keys <- lapply(stats::setNames(nm = input_keys[[type]]), function(key) {
    switch(key, least = , most = list(type = "number"), shapes = , columns = , values = texts, list(type = "string"))
  })
  list(type = "object", properties = c(list(type = list(const = type), title = list(type = "string"), default = stats::setNames(list(), character())), keys),
       required = list("type"), additionalProperties = FALSE)
}

schema_of_command <- function(name) {
  record <- operation_record(name)
  options <- record$options[setdiff(names(record$options), options_of_files)]
  roles <- ascii_lower(intersect(record$role, c("LAYER", "OTHER", "LAYERS", "TABLE", "CONDITION")))
  reference <- function(role) list(description = if (role == "condition") "a condition on columns" else "an input or step", type = "string")
  takes <- lapply(stats::setNames(nm = roles), function(role) if (role == "layers") list(type = "array", items = reference(role)) else reference(role))
  needed <- c("command", roles, names(options)[vapply(options, `[[`, NA, "required")])
  list(type = "object", description = record$summary, properties = c(list(command = list(const = name)), takes, lapply(options, schema_of_option)),
       required = as.list(needed), additionalProperties = FALSE)
}

# A number may also be the name of an input in braces.
schema_of_option <- function(option) {
  value <- switch(option$type,
    flag = list(type = "boolean"), number = , whole = list(type = list("number", "string")),
    numbers = , columns = list(type = list("string", "array", "number")),
    choice = list(anyOf = list(list(enum = as.list(option$values)), list(type = "string", pattern = "[{].*[}]"))), list(type = list("string", "number"))
  )
  c(list(description = option$help), value)
}
