# Servers on this machine's own address, started for a test and stopped behind it.

# Starts tests/servers/NAME.R beside a folder of files and gives its address.
local_server <- function(name, folder, env = parent.frame()) {
  script <- normalizePath(testthat::test_path("..", "servers", paste0(name, ".R")))
  port_file <- file.path(folder, ".port")
  system2("Rscript", c("--vanilla", shQuote(script), shQuote(folder)), wait = FALSE, stdout = FALSE, stderr = FALSE)
  for (i in 1:600) {
    if (file.exists(port_file) && length(readLines(port_file)) == 2) break
    Sys.sleep(0.1)
  }
  started <- readLines(port_file)  # its port and its process
  withr::defer(tools::pskill(as.integer(started[2])), envir = env)
  paste0("http://127.0.0.1:", started[1])
}

requests_of <- function(folder) readLines(file.path(folder, ".log"))

postgres_programs <- function() utils::tail(sort(Sys.glob("/usr/lib/postgresql/*/bin")), 1)

# Runs a program of Debian's PostgreSQL, which refuses to be run as root.
run_postgres <- function(program, ...) {
  command <- c(file.path(postgres_programs(), program), ...)
  if (Sys.info()[["user"]] == "root") command <- c("runuser", "-u", "postgres", "--", command)
  system2(command[1], shQuote(command[-1]), stdout = FALSE, stderr = FALSE)
}

# A database cluster of the test's own, in a folder that the server's user may enter.
local_postgres <- function(env = parent.frame()) {
  testthat::skip_if_not_installed("RPostgres")
  if (!length(postgres_programs())) testthat::skip("no PostgreSQL server on this machine")
  folder <- tempfile("cluster", "/tmp")
  dir.create(folder)
  if (Sys.info()[["user"]] == "root") system2("chown", c("postgres", folder))
  run_postgres("initdb", "-D", folder, "-A", "trust", "-U", "atlas", "--no-sync", "-E", "UTF8")
  # By the process, not by chance: a seed that a test has set would give several runs of the tests one port.
  for (port in 20000 + (Sys.getpid() + 997 * 1:20) %% 30000) {
    if (run_postgres("pg_ctl", "-D", folder, "-w", "-l", file.path(folder, "log"), "-o", paste("-p", port, "-h 127.0.0.1 -k", folder), "start") == 0) break
  }
  withr::defer({
    run_postgres("pg_ctl", "-D", folder, "-m", "immediate", "stop")
    unlink(folder, recursive = TRUE)
  }, envir = env)
  list(address = sprintf("postgresql://atlas@127.0.0.1:%d/postgres", port), folder = folder)
}
