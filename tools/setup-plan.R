# What has to be installed, and from where.

# "a (>= 1.2), b" as a named vector of least versions ("0.0" where none is asked for).
parse_needs <- function(fields) {
  items <- trimws(unlist(strsplit(gsub("\\s+", " ", fields[!is.na(fields)]), ",")))
  items <- items[nzchar(items) & !grepl("^R( |\\(|$)", items)]
  names <- trimws(sub("\\(.*", "", items))
  versions <- ifelse(grepl(">=", items), sub(".*>= *([0-9.-]+).*", "\\1", items), "0.0")
  needs <- stats::setNames(versions, names)
  needs[!names %in% base_packages()]
}

base_packages <- function() rownames(utils::installed.packages(.Library, priority = "base"))

needs_of_project <- function(description, extra) {
  suggested <- parse_needs(description["Suggests"])
  known <- ifelse(extra %in% names(suggested), suggested[extra], "0.0")
  c(parse_needs(description[c("Imports", "LinkingTo")]), stats::setNames(known, extra))
}

new_enough <- function(version, least) {
  !is.na(version) & package_version(ifelse(is.na(version), "0.0", version)) >= package_version(least)
}

# Versions of the packages that are there whole: R writes Meta/package.rds last of all.
installed_versions <- function() {
  found <- utils::installed.packages()
  found <- found[file.exists(file.path(found[, "LibPath"], found[, "Package"], "Meta", "package.rds")), , drop = FALSE]
  found <- found[!duplicated(found[, "Package"]), , drop = FALSE]
  stats::setNames(found[, "Version"], found[, "Package"])
}

is_root <- function() Sys.info()[["user"]] == "root"
on_debian <- function() all(nzchar(Sys.which(c("apt-cache", "apt-get", "dpkg-query"))))

need_r <- function(depends) {
  least <- sub(".*R \\(>= *([0-9.]+)\\).*", "\\1", gsub("\\s+", " ", depends))
  if (getRversion() >= least) return(invisible())
  stop_with("this is R ", format(getRversion()), ", and R ", least, " or later is needed. Debian 12 and later have it (sudo apt-get install r-base); ",
            "for older systems see https://cran.r-project.org/bin/linux/")
}

# Room for sources, their builds and the packages, before anything is fetched.
need_space <- function(library, packages) {
  megabytes <- 500 + 50 * packages
  for (folder in unique(c(library, tempdir(), "."))) {
    free <- suppressWarnings(system2("df", c("-Pm", shQuote(folder)), stdout = TRUE, stderr = FALSE))
    free <- as.numeric(strsplit(utils::tail(free, 1), " +")[[1]][4])
    if (length(free) && !is.na(free) && free < megabytes) {
      stop_with("only ", free, " MB are free where ", normalizePath(folder), " lies, and up to ", megabytes, " MB are needed. Make room, or have R use ",
                "another place: export TMPDIR=FOLDER for what is built, export R_LIBS_USER=FOLDER for what is kept")
    }
  }
}

registry <- function() {
  mirror <- getOption("repos")[["CRAN"]]
  if (is.null(mirror) || mirror == "@CRAN@") options(repos = c(CRAN = "https://cloud.r-project.org"))
  options(timeout = max(300, getOption("timeout")))
  for (try in 1:3) {
    found <- suppressWarnings(utils::available.packages(filters = c("R_version", "duplicates"), ignore_repo_cache = TRUE))
    if (nrow(found)) return(found)
  }
  stop_with("the package registry ", getOption("repos")[["CRAN"]], " does not answer. Is there a network? Another mirror is set in ~/.Rprofile: ",
            "options(repos = c(CRAN = \"https://...\"))")
}

# The versions that Debian has of R packages, by one question for all of them.
debian_versions <- function(names) {
  if (!on_debian() || !is_root()) return(stats::setNames(rep(NA_character_, length(names)), names))
  if (system2("tools/apt-install.sh", "--refresh")) quit(save = "no", status = 1)
  lines <- system2("apt-cache", c("policy", debian_name(names)), stdout = TRUE, stderr = FALSE)
  asked <- sub(":$", "", grep("^r-cran-.*:$", lines, value = TRUE))
  candidates <- sub(".*Candidate: *", "", grep("Candidate:", lines, value = TRUE))
  candidates[candidates == "(none)"] <- NA
  versions <- sub("[+~].*", "", sub("-[^-]*$", "", sub("^[0-9]+:", "", candidates)))  # without epoch, revision and repacking
  stats::setNames(versions[match(debian_name(names), asked)], names)
}

debian_name <- function(names) paste0("r-cran-", tolower(names), recycle0 = TRUE)

# Walks the needs breadth first and decides for each package: present, Debian or CRAN.
plan_installation <- function(needs, present) {
  cran <- registry()
  closure <- union(names(needs), unlist(tools::package_dependencies(names(needs), cran, recursive = TRUE)))
  debian <- debian_versions(setdiff(closure, base_packages()))
  least <- character()
  from <- character()
  while (length(needs)) {
    name <- names(needs)[1]
    asked <- needs[[1]]
    needs <- needs[-1]
    if (name %in% names(least) && new_enough(least[[name]], asked)) next
    least[[name]] <- asked
    if (identical(unname(from[name]), "cran") || (new_enough(present[name], asked) && !name %in% names(from))) next
    from[[name]] <- if (is.na(present[name]) && new_enough(debian[name], asked)) "debian" else "cran"
    if (from[[name]] == "debian") next
    if (!name %in% rownames(cran) || !new_enough(cran[name, "Version"], asked)) {
      stop_with("neither Debian nor ", getOption("repos")[["CRAN"]], " has the R package ", name, " (>= ", asked, ") for R ", format(getRversion()),
                "; a newer R will: https://cran.r-project.org/bin/linux/")
    }
    needs <- c(needs, parse_needs(cran[name, c("Depends", "Imports", "LinkingTo")]))
  }
  chosen <- function(source) as.character(names(from)[from == source])
  list(debian = debian_name(chosen("debian")), cran = chosen("cran"), registry = cran)
}

# The first library that may be written to; the user's own is made where there is none.
writable_library <- function() {
  first <- .libPaths()[1]
  if (file.access(first, 2) == 0) return(first)
  user <- path.expand(strsplit(Sys.getenv("R_LIBS_USER"), .Platform$path.sep)[[1]][1])
  if (!dir.exists(user) && !dir.create(user, recursive = TRUE, showWarnings = FALSE)) {
    stop_with("no library of R packages may be written to; name a folder of your own: export R_LIBS_USER=FOLDER")
  }
  .libPaths(c(user, .libPaths()))
  user
}

missing_debian <- function(packages) {
  if (!on_debian() || !length(packages)) return(character())
  lines <- suppressWarnings(system2("dpkg-query", c("-W", "-f='${Package} ${Status}\\n'", packages), stdout = TRUE, stderr = FALSE))
  setdiff(packages, sub(" install ok installed", "", grep("install ok installed", lines, value = TRUE)))
}

# Installs Debian packages where we may, else lists what has to be installed and stops.
install_system <- function(packages) {
  packages <- unique(packages)
  if (!length(packages)) return(invisible())
  if (!is_root()) stop_with("these system packages are missing; install them, then run this again:\n  sudo apt-get install ", paste(packages, collapse = " "))
  message("set-up: from Debian: ", paste(packages, collapse = " "))
  if (system2("tools/apt-install.sh", packages)) quit(save = "no", status = 1)
}
