# What files register by name while the package is loaded: formats (see data-format.R) and operations (see op-record.R). `make` gives the record when
# it is first asked for, as what it names may come after it in the sources; so these need no order but that of their names.

formats <- new.env(parent = emptyenv())
register_format <- function(name, make) {
  formats$makers[[name]] <- make
  formats$records <- NULL
}

operation_makers <- new.env(parent = emptyenv())
register_operation <- function(name, make) {
  operation_makers$all[[name]] <- make
  operation_makers$made <- operation_makers$words <- NULL
}
