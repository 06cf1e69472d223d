# What leaves the session - to workers, journals and model files - is an expression or a
# function plus the values that it needs, and nothing else: no environment that happens to be
# around it, no source text.

# A value to be captured: plain data as it is, functions by themselves.
portable_value <- function(x, what) {
  if (is.function(x)) return(portable_function(x, what))
  if (is.environment(x) || is.symbol(x) || typeof(x) == "externalptr") {
    stop_kw("definition", paste0(what, " is ", describe_value(x), ", which cannot travel."),
      remedy = "Use plain values: numbers, texts, lists of them."
    )
  }
  x
}

portable_code <- function(expr) {
  if (is.call(expr)) utils::removeSource(expr) else expr
}

# A function of the user's with the values that it uses from around it, and no more. Functions
# of packages are found in their packages; functions of the user's that it calls share its
# `home`, so that they find one another there.
portable_function <- function(f, what, home = new.env(parent = globalenv())) {
  if (is.primitive(f) || isNamespace(environment(f))) return(f)
  around <- environment(f)
  f <- utils::removeSource(f)
  environment(f) <- home
  used <- unlist(codetools::findGlobals(f, merge = FALSE), use.names = FALSE)
  for (name in setdiff(used, ls(home, all.names = TRUE))) {
    value <- own_value(name, around)
    if (is.null(value)) next
    # held before it is filled in: functions may call one another
    assign(name, value, envir = home)
    name_of <- paste0(quoted(name), " in ", what)
    value <- if (is.function(value)) {
      portable_function(value, name_of, home)
    } else {
      portable_value(value, name_of)
    }
    assign(name, value, envir = home)
  }
  if (length(ls(home, all.names = TRUE)) == 0L) environment(f) <- globalenv()
  f
}

# What a call is made of, without the arguments that are left empty, as in x[, 1].
call_parts <- function(expr) {
  parts <- as.list(expr)
  empty <- vapply(parts, identical, logical(1), formals(function(x) NULL)$x)
  parts[!empty]
}

# What a name stands for around a function, if it is the user's own: NULL for what packages
# have. Base names are not looked for in the workspace, so that a variable called `c` or
# `letters` there changes nothing.
own_value <- function(name, around) {
  while (!identical(around, emptyenv()) && !isNamespace(around)) {
    own <- identical(around, globalenv()) || !nzchar(environmentName(around))
    if (own && exists(name, envir = around, inherits = FALSE)) {
      if (identical(around, globalenv()) && is_base_name(name)) return(NULL)
      return(get(name, envir = around, inherits = FALSE))
    }
    around <- parent.env(around)
  }
  NULL
}

is_base_name <- function(name) {
  any(vapply(c("base", "stats", "utils", "methods"), function(package) {
    exists(name, envir = asNamespace(package), inherits = FALSE)
  }, logical(1)))
}

# User functions may use base R, attached packages by `::`, and their arguments.
check_self_contained <- function(functions, name) {
  for (role in names(functions)) {
    f <- functions[[role]]
    if (is.primitive(f)) next
    used <- codetools::findGlobals(f, merge = TRUE)
    known <- vapply(used, function(symbol) {
      any(vapply(c("base", "stats", "utils", "methods"), function(package) {
        exists(symbol, envir = asNamespace(package), inherits = FALSE)
      }, logical(1)))
    }, logical(1))
    if (any(!known)) {
      stop_kw("definition", paste0(
        "`", role, "` of ", quoted(name), " uses ",
        enumerate(quoted(used[!known])), " from outside itself."
      ),
      remedy = "Define helpers inside the function, and call packages with `package::name`."
      )
    }
  }
}
