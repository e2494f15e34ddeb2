# Installs the R packages that a goal needs and that are missing or too old:
# Debian's built packages where they are new enough, else CRAN, in parallel.
# usage: Rscript tools/setup.R demo|test|bench|lint|docs|check

extras <- list(
  demo = "ragg",
  test = c("chromote", "ggiraph", "httpuv", "httr2", "nanoparquet", "ragg", "readxl", "RPostgres", "svglite", "testthat", "withr"),
  bench = c("bench", "data.table", "ragg"),
  lint = "lintr",
  docs = "roxygen2",
  check = c("bench", "chromote", "ggiraph", "httpuv", "httr2", "knitr", "nanoparquet", "ragg", "readxl", "rmarkdown", "RPostgres", "svglite", "testthat", "withr")
)

# "a (>= 1.2), b" as a named vector of least versions ("0.0" where none is asked for).
parse_needs <- function(fields) {
  items <- trimws(unlist(strsplit(gsub("\\s+", " ", fields[!is.na(fields)]), ",")))
  items <- items[nzchar(items) & !grepl("^R( |\\(|$)", items)]
  names <- trimws(sub("\\(.*", "", items))
  versions <- ifelse(grepl(">=", items), sub(".*>= *([0-9.-]+).*", "\\1", items), "0.0")
  stats::setNames(versions, names)
}

needs_of_project <- function(goal) {
  fields <- read.dcf("DESCRIPTION", c("Imports", "LinkingTo", "Suggests"))[1, ]
  suggested <- parse_needs(fields["Suggests"])
  extra <- extras[[goal]]
  known <- ifelse(extra %in% names(suggested), suggested[extra], "0.0")
  c(parse_needs(fields[c("Imports", "LinkingTo")]), stats::setNames(known, extra))
}

new_enough <- function(version, least) {
  !is.na(version) & package_version(ifelse(is.na(version), "0.0", version)) >= package_version(least)
}

installed_versions <- function() {
  found <- utils::installed.packages()
  found <- found[!duplicated(found[, "Package"]), , drop = FALSE]
  stats::setNames(found[, "Version"], found[, "Package"])
}

debian_version <- function(name) {
  if (Sys.which("apt-cache") == "" || Sys.info()[["user"]] != "root") return(NA_character_)
  debian <- paste0("r-cran-", tolower(name))
  policy <- suppressWarnings(system2("apt-cache", c("policy", debian), stdout = TRUE, stderr = FALSE))
  candidate <- grep("Candidate:", policy, value = TRUE)
  if (!length(candidate) || grepl("(none)", candidate, fixed = TRUE)) return(NA_character_)
  sub("^[0-9]+:", "", sub("[+-][^-]*$", "", sub(".*Candidate: *", "", sub("[+]dfsg", "", candidate))))
}

# Walks the needs breadth first and decides for each package: present, Debian or CRAN.
plan_installation <- function(needs, present, cran) {
  plan <- character()
  asked <- character()
  while (length(needs)) {
    name <- names(needs)[1]
    least <- needs[[1]]
    needs <- needs[-1]
    if (name %in% names(asked) && new_enough(asked[[name]], least)) next
    asked[[name]] <- least
    if (new_enough(present[name], least) && !identical(unname(plan[name]), "cran")) next
    if (identical(unname(plan[name]), "cran")) next
    debian <- if (is.na(present[name])) debian_version(name) else NA
    plan[[name]] <- if (new_enough(debian, least)) "debian" else "cran"
    if (plan[[name]] == "debian") next
    if (!name %in% rownames(cran)) stop("CRAN does not serve the package ", name, call. = FALSE)
    needs <- c(needs, parse_needs(cran[name, c("Depends", "Imports", "LinkingTo")]))
  }
  plan
}

writable_library <- function() {
  first <- .libPaths()[1]
  if (file.access(first, 2) == 0) return(first)
  user <- path.expand(strsplit(Sys.getenv("R_LIBS_USER"), .Platform$path.sep)[[1]][1])
  dir.create(user, recursive = TRUE, showWarnings = FALSE)
  .libPaths(c(user, .libPaths()))
  user
}

install_from_cran <- function(names) {
  Sys.setenv(R_MAKEVARS_USER = normalizePath("tools/Makevars.dependencies"))
  cores <- max(1L, parallel::detectCores(), na.rm = TRUE)
  utils::install.packages(names, lib = writable_library(), Ncpus = cores, dependencies = NA, quiet = TRUE)
  failed <- setdiff(names, rownames(utils::installed.packages()))
  if (length(failed)) stop("could not install from CRAN: ", toString(failed), call. = FALSE)
}

main <- function(goal) {
  if (!goal %in% names(extras)) stop("unknown goal: ", goal, call. = FALSE)
  writable_library()
  needs <- needs_of_project(goal)
  present <- installed_versions()
  if (all(new_enough(present[names(needs)], needs))) return(invisible())

  mirror <- getOption("repos")[["CRAN"]]
  if (is.null(mirror) || mirror == "@CRAN@") options(repos = c(CRAN = "https://cloud.r-project.org"))
  base <- rownames(utils::installed.packages(priority = "base"))
  needs <- needs[!names(needs) %in% base]
  present[base] <- "99.0"
  plan <- plan_installation(needs, present, utils::available.packages(filters = c("R_version", "duplicates")))

  debian <- names(plan)[plan == "debian"]
  if (length(debian)) {
    message("set-up: R packages from Debian: ", toString(sort(debian)))
    if (system2("tools/apt-install.sh", paste0("r-cran-", tolower(debian)))) stop("apt-get failed", call. = FALSE)
  }
  cran <- names(plan)[plan == "cran"]
  if (length(cran)) {
    message("set-up: R packages from CRAN, some minutes the first time: ", toString(sort(cran)))
    install_from_cran(cran)
  }
}

main(commandArgs(trailingOnly = TRUE)[1])
