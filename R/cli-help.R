# Help, completions for shells and the manual page, all from the records of the commands.

first_page <- function() {
  records <- lapply(operation_names(), operation_record)
  c("usage: civicatlas COMMAND INPUTS [OUTPUT] [OPTIONS]", "", unlist(lapply(operation_groups, function(group) {
    own <- Filter(function(record) record$group == group, records)
    c(paste0(group, ":"), vapply(own, function(record) paste0("\t", record$name, "\t", record$summary), ""), "")
  })), "`civicatlas help COMMAND` tells more, with an example, and `civicatlas help expressions` what conditions and expressions may hold.",
    "Every command has --quiet, and --json for machine-readable output.")
}

command_help <- function(command) {
  own <- Filter(function(option) option$name != "help", command$options)
  c(paste0("usage: civicatlas ", command$name, " ", paste(command$takes, collapse = " "), " [OPTIONS]"), "",
    paste0(capital(command$about), "."), "",
    vapply(own, function(option) paste0("\t--", option_in_help(option), "\t", option_text(option)), ""), "",
    "Example:", paste0("  ", strsplit(command$example, "\n", fixed = TRUE)[[1]]))
}

# All texts that the tool answers with before anything is loaded, each after what asks for it: inst/cli/overview.txt (see inst/cli/door.R).
overview <- function() {
  commands <- stats::setNames(lapply(operation_names(), function(name) command_help(operation_record(name))), paste("help", operation_names()))
  texts <- c(list(help = first_page(), formats = formats_in_lines(), `help expressions` = words_in_lines()), commands)
  paste0("\f", names(texts), "\n", vapply(texts, paste, "", collapse = "\n"), "\n", collapse = "")
}

# Help as the terminal shows it.
show_help <- function(lines) cat(door()$laid_out(lines, door()$terminal_width()), sep = "\n")

# What the tool has before the package is loaded.
door <- function() {
  functions <- rlang::env(baseenv())
  sys.source(system.file("cli", "door.R", package = "civicatlas"), functions)
  functions
}

option_in_help <- function(option) {
  kind <- switch(option$type, flag = "", choice = " WORD", whole = " NUMBER", paste0(" ", ascii_upper(option$type)))
  paste0(option$name, kind)
}

option_text <- function(option) {
  values <- if (length(option$values) && length(option$values) <= 12) paste0(": ", paste(option$values, collapse = ", "))
  default <- if (!is.null(option$default) && option$type != "flag") paste0(" [", option$default, "]") else if (option$required) " (needed)"
  paste0(option$help, values, default)
}

#' Commands of the command-line tool
#'
#' `civicatlas COMMAND INPUTS [OUTPUT] [OPTIONS]`. An input is a file, an address, `-` for standard input or, in a batch, `@name` for a layer in
#' memory; an output is a file, a database, `-` for standard output or `@name`. Conditions and expressions are those of [CQL2][conditions]. Exit
#' codes: 0 done, 1 the work failed, 2 wrong usage, 130 interrupted.
#' Options of the package are set by variables of the environment: `CIVICATLAS_BUSY_WAIT=60000` for `options(civicatlas.busy_wait = 60000)`. In a
#' locale of ASCII, as cron's, texts are taken and given in UTF-8.
#' @eval commands_in_help()
#' @name commands
#' @examples
#' run_command_line(c("help", "buffer"))
NULL

# A section a command for the help page; options that all have come once, at the end.
commands_in_help <- function() {
  shared <- options_by_name(c(reading_options(), list(match_option()), writing_options(),
              common_options()))
  # Brackets would be links, braces and percent signs something else.
  safe <- function(text) gsub("{name}", "`{name}`", gsub("%", "\\%", sub("\\[([^]]*)\\]$", "(by default `\\1`)", text), fixed = TRUE), fixed = TRUE)
  item <- function(option) sprintf("* `--%s`: %s", option_in_help(option), safe(option_text(option)))
  sections <- unlist(lapply(operation_names(), function(name) {
    record <- operation_record(name)
    own <- record$options[setdiff(names(record$options), names(shared))]
    c(paste0("@section ", name, ":"), paste0(capital(record$about), ". `civicatlas ", paste(c(name, record$takes), collapse = " "), "`"), "",
      vapply(own, item, ""), "", paste0("Example: `", gsub("%", "\\%", record$example, fixed = TRUE), "`"))
  }))
  c(sections, "@section Options that many share:", "", vapply(shared, item, ""))
}

# --- for shells ------------------------------------------------------------------------------------------------------------

# The texts of completions by shell: "bash", "zsh" and "fish".
completions <- function() {
  records <- lapply(operation_names(), operation_record)
  list(bash = bash_completion(records), zsh = zsh_completion(records), fish = fish_completion(records))
}

flags_of <- function(record) paste0("--", names(record$options))

bash_completion <- function(records) {
  cases <- vapply(records, function(record) sprintf("    %s) words=\"%s\" ;;", record$name, paste(flags_of(record), collapse = " ")), "")
  values <- value_cases(records, "    --%s) COMPREPLY=($(compgen -W \"%s\" -- \"$word\")); return ;;")
  c("# Completion of civicatlas for bash.", "_civicatlas() {", "  local word=\"${COMP_WORDS[COMP_CWORD]}\" last=\"${COMP_WORDS[COMP_CWORD-1]}\" words=\"\"",
    "  if [ \"$COMP_CWORD\" -eq 1 ]; then", sprintf("    COMPREPLY=($(compgen -W \"help %s\" -- \"$word\")); return",
                                                    paste(operation_names(), collapse = " ")), "  fi",
    "  case \"$last\" in", values, "  esac", "  case \"${COMP_WORDS[1]}\" in", sprintf("    help) words=\"%s\" ;;", paste(operation_names(), collapse = " ")),
    cases, "  esac",
    "  if [[ \"$word\" == -* || \"${COMP_WORDS[1]}\" == help ]]; then COMPREPLY=($(compgen -W \"$words\" -- \"$word\"))",
    "  else COMPREPLY=($(compgen -f -- \"$word\")); fi",
    "}", "complete -o filenames -F _civicatlas civicatlas")
}

# Values with blanks in them are left to be typed.
offered <- function(values) paste(values[!grepl(" ", values)], collapse = " ")

# Options of which a shell can offer the values, one line each.
value_cases <- function(records, line) {
  options <- unlist(lapply(records, `[[`, "options"), recursive = FALSE)
  options <- Filter(function(option) option$type == "choice", options)
  names <- vapply(options, `[[`, "", "name")
  vapply(unique(names), function(name) {
    values <- unique(unlist(lapply(options[names == name], `[[`, "values")))
    sprintf(line, name, offered(values))
  }, "", USE.NAMES = FALSE)
}

zsh_completion <- function(records) {
  quoted <- function(text) gsub("'", "'\\''", gsub(":", "\\:", gsub("[][]", "", text), fixed = TRUE), fixed = TRUE)
  names <- vapply(records, function(record) sprintf("    '%s:%s'", record$name, quoted(record$summary)), "")
  cases <- unlist(lapply(records, function(record) {
    options <- vapply(record$options, function(option) {
      value <- switch(option$type, flag = "", choice = sprintf(":%s:(%s)", option$name, offered(option$values)), sprintf(":%s:_files", option$type))
      sprintf("'--%s[%s]%s'", option$name, quoted(option$help), value)
    }, "")
    sprintf("    %s) _arguments %s '*:file:_files' ;;", record$name, paste(options, collapse = " "))
  }))
  c("#compdef civicatlas", "_civicatlas() {", "  local -a commands", "  commands=(", names, "  )",
    "  if (( CURRENT == 2 )); then _describe command commands; return; fi",
    "  local name=$words[2]", "  shift words; (( CURRENT-- ))", "  case $name in", cases, "  esac", "}", "_civicatlas \"$@\"")
}

fish_completion <- function(records) {
  quoted <- function(text) paste0("'", gsub("'", "\\'", text, fixed = TRUE), "'")
  c("# Completion of civicatlas for fish.", unlist(lapply(records, function(record) {
    options <- vapply(record$options, function(option) {
      value <- switch(option$type, flag = "", choice = paste(" -x -a", quoted(offered(option$values))), " -r")
      sprintf("complete -c civicatlas -n '__fish_seen_subcommand_from %s' -l %s%s -d %s", record$name, option$name, value, quoted(option$help))
    }, "")
    c(sprintf("complete -c civicatlas -n __fish_use_subcommand -a %s -d %s", record$name, quoted(record$summary)), options)
  })))
}

# The manual page in the language of man.
manual_page <- function() {
  safe <- function(text) gsub("-", "\\-", sub("^([.'])", "\\\\&\\1", gsub("\\", "\\e", text, fixed = TRUE)), fixed = TRUE)
  commands <- unlist(lapply(operation_names(), function(name) {
    record <- operation_record(name)
    options <- unlist(lapply(record$options, function(option) {
      c(".TP", paste0("\\fB", safe(paste0("--", option_in_help(option))), "\\fR"), safe(option_text(option)))
    }))
    c(paste0(".SS ", safe(paste(name, paste(record$takes, collapse = " ")))), safe(paste0(capital(record$about), ".")), options, ".PP", "Example:", ".PP",
      ".RS", safe(record$example), ".RE")
  }))
  c(".TH CIVICATLAS 1", ".SH NAME", "civicatlas \\- layers on one coordinate reference system, combined, counted and mapped", ".SH SYNOPSIS",
    "\\fBcivicatlas\\fR COMMAND INPUTS [OUTPUT] [OPTIONS]", ".SH DESCRIPTION",
    safe(paste("Messages go to standard error, data to standard output. An input or output of - is standard input or output, a feature a line.",
               "Conditions and expressions are those of OGC CQL2.")),
    ".SH COMMANDS", commands, ".SH EXIT STATUS", "0 done, 1 the work failed, 2 wrong usage, 130 interrupted.")
}

register_operation("completions", function() {
  new_operation("Other", "print or install completions for bash, zsh or fish, and the manual page", character(), list(
    new_option("shell", "choice", "whose completions to print", "bash", c("bash", "zsh", "fish", "man")),
    new_option("install", "flag", "put all into the folders that shells look into, where these are there and writable")
  ), "civicatlas completions --install", completions_command)
})

completions_command <- function(o) {
  texts <- c(completions(), list(man = manual_page()))
  if (!o$install) {
    cat(texts[[o$shell]], sep = "\n")
    return(structure(list(shell = o$shell), class = "shown_already"))
  }
  placed <- unlist(lapply(names(texts), function(shell) {
    folders <- Filter(function(folder) dir.exists(folder) && file.access(folder, 2) == 0, path.expand(completion_folders[[shell]]))
    if (!length(folders)) return(NULL)
    file <- file.path(folders[1], switch(shell, bash = "civicatlas", zsh = "_civicatlas", fish = "civicatlas.fish", man = "civicatlas.1"))
    writeLines(enc2utf8(texts[[shell]]), file, useBytes = TRUE)
    file
  }))
  if (length(placed)) {
    say("Completions and manual: {.file {placed}}.")
  } else {
    say("No folder for completions is there and writable; {.code civicatlas completions} prints them.")
  }
  structure(list(files = placed), class = "shown_already")
}

# Where shells and man look, one's own folders first.
completion_folders <- list(
  bash = c("~/.local/share/bash-completion/completions", "/usr/local/share/bash-completion/completions", "/usr/share/bash-completion/completions"),
  zsh = c("~/.local/share/zsh/site-functions", "/usr/local/share/zsh/site-functions", "/usr/share/zsh/vendor-completions"),
  fish = c("~/.config/fish/completions", "/usr/share/fish/vendor_completions.d"),
  man = c("~/.local/share/man/man1", "/usr/local/share/man/man1", "/usr/local/man/man1")
)
