# Fetches R packages from CRAN and builds them side by side.

# Fetches the sources that are not there whole yet, and gives a table of them.
download_sources <- function(names, registry) {
  folder <- ".build/sources"
  dir.create(folder, recursive = TRUE, showWarnings = FALSE)
  files <- paste0(names, "_", registry[names, "Version"], ".tar.gz")
  urls <- file.path(registry[names, "Repository"], files)
  paths <- file.path(folder, files)
  whole <- function() unname(tools::md5sum(paths)) %in% registry[names, "MD5sum"]
  message("set-up: from CRAN, some minutes the first time: ", paste(sort(names), collapse = " "))
  for (try in 1:3) {
    rest <- !whole()
    if (!any(rest)) break
    try(suppressWarnings(utils::download.file(urls[rest], paths[rest], method = "libcurl", quiet = TRUE)), silent = TRUE)
  }
  if (!all(whole())) stop_with("the registry broke off in the middle of ", toString(files[!whole()]), ". What came whole is kept; run this again to go on")
  stats::setNames(normalizePath(paths), names)
}

# What is known of R packages that are built: the Debian packages it takes, and the seconds where they are many.
known_packages <- function() utils::read.delim("tools/r-packages.tsv", na.strings = "")

# The Debian packages that R packages are built with: those of our table, and those that their own SystemRequirements name.
libraries_for <- function(sources) {
  table <- stats::na.omit(known_packages()[c("package", "debian")])
  known <- unlist(strsplit(table$debian[table$package %in% names(sources)], " "))
  declared <- unlist(lapply(names(sources), function(name) declared_libraries(name, sources[[name]])))
  unique(c(known, declared))
}

# Words of SystemRequirements and the Debian packages they mean.
requirement_words <- c(
  cairo = "libcairo2-dev", fontconfig = "libfontconfig1-dev", freetype = "libfreetype6-dev", fribidi = "libfribidi-dev", gmp = "libgmp-dev",
  harfbuzz = "libharfbuzz-dev", icu = "libicu-dev", jpeg = "libjpeg-dev", curl = "libcurl4-openssl-dev", png = "libpng-dev", postgresql = "libpq-dev",
  libpq = "libpq-dev", openssl = "libssl-dev", tiff = "libtiff-dev", webp = "libwebp-dev", libxml2 = "libxml2-dev", zlib = "zlib1g-dev",
  libgit2 = "libgit2-dev", libsodium = "libsodium-dev", libuv = "libuv1-dev"
)
requirements_met <- "c[+][+]|gnu make|pandoc|chrom|sqlite|optional|gfortran"

declared_libraries <- function(name, source) {
  text <- description_of(name, source)["SystemRequirements"]
  if (is.na(text)) return(character())
  text <- tolower(text)
  hits <- vapply(names(requirement_words), grepl, NA, x = text, fixed = TRUE)
  if (!any(hits) && !grepl(requirements_met, text)) {
    message("set-up: ", name, " declares a requirement that this set-up does not know: ", text, ". If it fails to build, install that first")
  }
  unname(requirement_words[hits])
}

description_of <- function(name, source) {
  folder <- tempfile("description")
  on.exit(unlink(folder, recursive = TRUE))
  utils::untar(source, files = file.path(name, "DESCRIPTION"), exdir = folder)
  read.dcf(file.path(folder, name, "DESCRIPTION"), c("Package", "SystemRequirements"))[1, ]
}

# Locks that a killed installation left behind; those of a living one are left alone. One that installs from a folder does
# not say which packages are its.
drop_stale_locks <- function(library, living = installing_commands()) {
  locks <- list.files(library, "^00LOCK", full.names = TRUE)
  if (!length(locks)) return(invisible())
  from_folder <- any(!grepl("[.]tar[.]gz", living))
  busy <- vapply(locks, function(lock) from_folder || any(grepl(sub("^00LOCK-?", "", basename(lock)), living, fixed = TRUE)), NA)
  unlink(locks[!busy], recursive = TRUE)
  if (any(busy)) stop_with("another R is installing into ", library, " (", toString(basename(locks[busy])), "); wait for it, then run this again")
}

installing_commands <- function() grep("nextArg|CMD INSTALL|install.packages", living_commands(), value = TRUE)

living_commands <- function() {
  vapply(Sys.glob("/proc/[0-9]*/cmdline"), function(file) {
    bytes <- tryCatch(readBin(file, "raw", 1e5), error = function(e) raw(), warning = function(w) raw())  # it may have ended meanwhile
    rawToChar(replace(bytes, bytes == 0, charToRaw(" ")))
  }, "", USE.NAMES = FALSE)
}

# Builds the packages side by side, each after those it needs, and says how far it is.
build_packages <- function(sources, registry, library) {
  logs <- normalizePath(".build/sources")
  needs <- lapply(stats::setNames(nm = names(sources)), function(name) {
    intersect(names(parse_needs(registry[name, c("Depends", "Imports", "LinkingTo")])), names(sources))
  })
  cores <- max(1L, parallel::detectCores(), na.rm = TRUE)
  share <- build_share(sources, registry)
  started <- proc.time()[["elapsed"]]
  waiting <- longest_first(needs, share)
  done <- running <- character()
  while (length(waiting) || length(running)) {
    ready <- Filter(function(name) all(needs[[name]] %in% done), waiting)
    begun <- utils::head(ready, cores - length(running))
    for (name in begun) start_build(name, sources[[name]], library, logs)
    waiting <- setdiff(waiting, begun)
    running <- c(running, begun)
    Sys.sleep(0.1)
    for (name in Filter(function(name) file.exists(status_of(name, logs)), running)) {
      need_built(name, logs)
      running <- setdiff(running, name)
      done <- c(done, name)
      seconds <- proc.time()[["elapsed"]] - started
      message(sprintf("%d of %d \u00b7 %s%s", length(done), length(sources), name, time_left(seconds, sum(share[done]) + sum(share[running]) / 2)))
    }
  }
}

# What share of the work each package is: 5 seconds, or 10 where there is something to compile, unless the table knows better.
build_share <- function(sources, registry) {
  table <- known_packages()
  seconds <- table$seconds[match(names(sources), table$package)]
  unknown <- is.na(seconds)
  seconds[unknown] <- ifelse(registry[names(sources)[unknown], "NeedsCompilation"] %in% "yes", 10, 5)
  stats::setNames(seconds / sum(seconds), names(sources))
}

# Packages in the order of how much work waits behind each.
longest_first <- function(needs, share) {
  behind <- share
  repeat {
    further <- share
    for (name in names(needs)) for (need in needs[[name]]) further[[need]] <- max(further[[need]], share[[need]] + behind[[name]])
    if (all(further <= behind)) return(names(sort(behind, decreasing = TRUE)))
    behind <- pmax(behind, further)
  }
}

time_left <- function(seconds, share) {
  if (share >= 0.999) return("")
  left <- seconds * (1 / share - 1)
  sprintf(" \u00b7 about %s left", if (left > 90) paste(round(left / 60), "min") else paste(max(5, 5 * round(left / 5)), "s"))
}

status_of <- function(name, logs) file.path(logs, paste0(name, ".status"))
log_of <- function(name, logs) file.path(logs, paste0(name, ".log"))

start_build <- function(name, source, library, logs) {
  unlink(status_of(name, logs))
  variables <- c(R_MAKEVARS_USER = normalizePath("tools/Makevars.dependencies"), MAKEFLAGS = paste0("-j", max(1L, parallel::detectCores(), na.rm = TRUE)),
                 R_LIBS = paste(.libPaths(), collapse = .Platform$path.sep))
  status <- shQuote(status_of(name, logs))
  system(sprintf("{ env %s %s CMD INSTALL --pkglock -l %s %s; echo $? >%s.part; mv %s.part %s; } >%s 2>&1 </dev/null",
                 paste0(names(variables), "=", shQuote(variables), collapse = " "), shQuote(file.path(R.home("bin"), "R")), shQuote(library), shQuote(source),
                 status, status, status, shQuote(log_of(name, logs))), wait = FALSE)
}

need_built <- function(name, logs) {
  if (readLines(status_of(name, logs)) == "0") return(invisible())
  message(paste(utils::tail(readLines(log_of(name, logs), warn = FALSE), 25), collapse = "\n"))
  stop_with("the R package ", name, " could not be built (the whole of it: ", log_of(name, logs), "). What was built is kept; once the cause is mended, run this again")
}
