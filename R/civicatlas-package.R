#' civicatlas: spatial frames, overlay and choropleth maps
#'
#' Load vector layers into [spatial frames][spatial_frame()], put them on one coordinate reference system, join them
#' by location, aggregate attributes by region and draw the result.
#'
#' Options: `civicatlas.threads` (threads the core may use; all cores by default, 2 under `R CMD check`) and
#' `civicatlas.quiet` (`TRUE` to leave out the one-line accounts that verbs give).
#'
#' Facts of coordinate reference systems come from the EPSG Geodetic Parameter Dataset (IOGP).
#' @useDynLib civicatlas, .registration = TRUE
#' @importFrom Rcpp evalCpp
#' @importFrom rlang .data %||% :=
#' @importFrom vctrs obj_print_header vec_cast vec_proxy_compare vec_proxy_equal vec_proxy_order vec_ptype2
#' @importFrom vctrs vec_ptype_abbr vec_ptype_full vec_restore
#' @keywords internal
"_PACKAGE"

.onLoad <- function(libname, pkgname) {
  core_start()
  core_load_registry(system.file("crs", "registry.tsv.gz", package = pkgname, lib.loc = libname))
  core_set_threads(thread_option())
}

thread_option <- function() {
  checking <- nzchar(Sys.getenv("_R_CHECK_LIMIT_CORES_"))
  as.integer(getOption("civicatlas.threads", if (checking) 2L else 0L))
}
