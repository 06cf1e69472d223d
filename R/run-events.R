# The engine says what happens; listeners decide what a person sees of it. A
# listener is a function of one event: list(type = "start" | "progress" | "end",
# ...). The default listener is set when the package is loaded.

listener_store <- new.env(parent = emptyenv())

set_default_listener <- function(listener) {
  assign("default", listener, envir = listener_store)
}

choose_listener <- function(quiet) {
  listener <- listener_store$default
  if (quiet || is.null(listener)) function(event) invisible() else listener()
}
