# Installs the R packages that a goal needs and that are missing or too old: Debian's built packages where they are new
# enough, else CRAN's, built side by side with the system libraries they ask for.
# usage: Rscript tools/setup.R GOAL [system packages that are missing too]
for (file in c("tools/setup-plan.R", "tools/setup-build.R")) source(file)

extras <- list(
  demo = NULL,
  test = c("bit64", "blob", "bslib", "chromote", "ggiraph", "httpuv", "httr2", "mirai", "nanoparquet", "processx", "ragg", "readxl", "RPostgres", "shiny", "svglite", "testthat", "tidyr", "withr"),
  threads = NULL,
  windows = NULL,
  bench = c("bench", "data.table", "mirai", "ragg"),
  lint = "lintr",
  docs = "roxygen2",
  site = c("knitr", "pkgdown", "ragg", "rmarkdown"),
  check = c("knitr", "rmarkdown")
)
extras$check <- c(extras$test, extras$check, "bench")

stop_with <- function(...) {
  message("set-up: ", ...)
  quit(save = "no", status = 1)
}

main <- function(goal, system_packages) {
  if (!goal %in% names(extras)) stop_with("unknown goal: ", goal, "; goals: ", toString(names(extras)))
  description <- read.dcf("DESCRIPTION")[1, ]
  need_r(description[["Depends"]])
  library <- writable_library()
  drop_stale_locks(library)
  needs <- needs_of_project(description, extras[[goal]])
  present <- installed_versions()
  if (is.na(present["civicatlas"])) unlink(".build/installed")
  if (all(new_enough(present[names(needs)], needs))) return(install_system(system_packages))

  need_space(library, sum(!new_enough(present[names(needs)], needs)))
  plan <- plan_installation(needs, present)
  if (length(plan$cran)) {
    sources <- download_sources(plan$cran, plan$registry)
    system_packages <- c(system_packages, missing_debian(libraries_for(sources)))
  }
  install_system(c(system_packages, plan$debian))
  if (length(plan$cran)) build_packages(sources, plan$registry, library)
}

arguments <- commandArgs(trailingOnly = TRUE)
main(arguments[1], arguments[-1])
