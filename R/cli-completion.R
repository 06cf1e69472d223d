# Completion for shells, made from the commands themselves.

member_command_completion <- function() {
  new_command("completion", "write completion for a shell: source <(kilnwright completion bash)",
    "shell", list(),
    example = "source <(kilnwright completion bash)",
    run = function(positional, options) {
      check_choice(positional$shell, names(completions), "SHELL")
      writeLines(completions[[positional$shell]](completed_words()))
    }
  )
}

#' What the command line can do
#'
#' All commands of `kilnwright` with their options, as `--help` tells of them one by one.
#'
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A tibble, one row an option (one row with an empty option for a command that has none):
#'   `command`, `does`, `arguments` (what follows the command, those in brackets may be left out),
#'   `option`, `value` (what follows the option, empty for a switch), `says`, `example`.
#' @section Errors:
#' `kw_error_package` where package optparse is not installed.
#' @examplesIf requireNamespace("optparse", quietly = TRUE)
#' list_commands()
#' @export
list_commands <- function(...) {
  no_more(...)
  need("optparse", "The command line")
  table <- lapply(shipped_members("command"), function(make) {
    one <- make()
    options <- one$arguments
    of <- function(read) if (length(options) == 0L) "" else vapply(options, read, "")
    tibble::tibble(
      command = one$name, does = one$does,
      arguments = paste(words_of_positional(one), collapse = " "),
      option = of(function(option) option@long_flag),
      value = of(function(option) {
        if (option@action == "store_true") "" else sub("^--", "", toupper(option@long_flag))
      }),
      says = of(function(option) {
        sub("%default", format(option@default), option@help, fixed = TRUE)
      }),
      example = paste(one$example, collapse = "; ")
    )
  })
  table <- tibble::as_tibble(data.table::rbindlist(table))
  listing(table,
    title = paste(
      count_of(length(unique(table$command)), "command"), "with",
      count_of(sum(nzchar(table$option)), "option")
    ),
    hide = c("does", "example"), texts = "says", rows = Inf
  )
}

# By command: what it does, and its options, where TRUE says that a value follows.
completed_words <- function() {
  lapply(shipped_members("command"), function(make) {
    command <- make()
    flags <- vapply(command$arguments, function(one) one@long_flag, "")
    valued <- vapply(command$arguments, function(one) one@action != "store_true", NA)
    helps <- vapply(command$arguments, function(one) sub(" *\\[.*", "", one@help), "")
    list(
      does = command$does, options = c("--help", flags), valued = c(FALSE, valued),
      helps = c("say more", helps)
    )
  })
}

# Options after a dash, files otherwise; names of shells, where one is wanted.
completions <- list(
  bash = function(words) {
    cases <- vapply(names(words), function(name) {
      paste0("    ", name, ") options=\"", paste(words[[name]]$options, collapse = " "), "\" ;;")
    }, "")
    c(
      "_kilnwright() {",
      "  local word=\"${COMP_WORDS[COMP_CWORD]}\" command=\"${COMP_WORDS[1]}\" options=\"\"",
      "  if [ \"$COMP_CWORD\" -eq 1 ]; then",
      paste0(
        "    COMPREPLY=($(compgen -W \"", paste(names(words), collapse = " "),
        " --help --version --with\" -- \"$word\"))"
      ),
      "    return",
      "  fi",
      "  case \"$command\" in", cases, "  esac",
      "  if [ \"$command\" = completion ]; then",
      "    COMPREPLY=($(compgen -W \"bash zsh\" -- \"$word\"))",
      "  elif [ \"${word:0:1}\" = - ]; then",
      "    COMPREPLY=($(compgen -W \"$options\" -- \"$word\"))",
      "  else",
      "    local IFS=$'\\n'",
      "    COMPREPLY=($(compgen -f -- \"$word\"))",
      "  fi",
      "}",
      "complete -o filenames -F _kilnwright kilnwright"
    )
  },
  zsh = function(words) {
    plain <- function(text) gsub("['\\[\\]:\\\\]", "", text, perl = TRUE)
    listed <- paste0(
      "    '", names(words), ":", plain(vapply(words, `[[`, "", "does")), "'"
    )
    cases <- unlist(lapply(names(words), function(name) {
      one <- words[[name]]
      more <- if (name == "completion") "shell:(bash zsh)" else "file:_files"
      c(
        paste0("    ", name, ")"),
        paste0("      _arguments '1: :' \\"),
        paste0(
          "        '", one$options, "[", plain(one$helps), "]",
          ifelse(one$valued, ":value:_files", ""), "' \\"
        ),
        paste0("        '*:", more, "' ;;")
      )
    }))
    c(
      "#compdef kilnwright",
      "_kilnwright() {",
      "  local -a commands",
      "  commands=(", listed, "  )",
      "  if (( CURRENT == 2 )); then",
      "    _describe command commands",
      "    return",
      "  fi",
      "  case \"${words[2]}\" in", cases, "  esac",
      "}",
      "compdef _kilnwright kilnwright"
    )
  }
)
