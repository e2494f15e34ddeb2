#' civicatlas: spatial frames, overlay and choropleth maps
#'
#' Load vector layers into [spatial frames][spatial_frame()], put them on one coordinate reference system, join them
#' by location, aggregate attributes by region and draw the result.
#'
#' Options are described in [civicatlas_options].
#'
#' Facts of coordinate reference systems come from the EPSG Geodetic Parameter Dataset (IOGP).
#' @useDynLib civicatlas, .registration = TRUE
#' @importFrom Rcpp evalCpp
#' @importFrom rlang .data %||% :=
#' @importFrom vctrs obj_print_header obj_str_data obj_str_footer vec_cast vec_proxy_compare vec_proxy_equal vec_ptype2
#' @importFrom vctrs vec_ptype_abbr vec_ptype_full vec_restore
#' @keywords internal
"_PACKAGE"

#' Options
#'
#' Set with `options(civicatlas.quiet = TRUE)`, for a session or in `~/.Rprofile`.
#'
#' | option | by default | what it does |
#' |---|---|---|
#' | `civicatlas.quiet` | `FALSE` | `TRUE` leaves out the one-line accounts and the progress bars; warnings and errors stay |
#' | `civicatlas.threads` | all cores | threads that the core may use; 2 under `R CMD check` |
#' | `civicatlas.grids` | none | files or folders of NTv2 grids for datum shifts, as `grids` of [reproject_to()] |
#' | `civicatlas.web_timeout` | 30 | seconds of fewer than 100 bytes each after which a web address is given up |
#' | `civicatlas.web_time` | 3600 | seconds that a transfer may take in all |
#' | `civicatlas.web_bytes` | 1e10 | bytes that a web address may send |
#' | `civicatlas.web_pages` | 10000 | pages that an OGC API may have |
#' | `civicatlas.web_hosts` | none | names of other servers that a server may send on to |
#' | `civicatlas.retry_wait` | 1 | seconds before a web address that failed is asked again; twice as many the next time |
#' | `civicatlas.page_size` | 1000 | features that an OGC API is asked for at a time |
#' | `civicatlas.unpack_limit` | 100 times the size of the source, at least 1e9 | bytes that a packed source may unpack to |
#' | `civicatlas.index_bytes` | 1.6e8 | bytes that spatial indexes of layers of 1,000 rows and more may take between calls, see [forget_indexes()] |
#' | `civicatlas.kept_bytes` | 2e9 | bytes that the kept results of workflows may take in a folder; those used longest ago go first |
#' | `civicatlas.upload_bytes` | 5e8 | bytes that a file uploaded to a page may have |
#' | `civicatlas.open_files` | 500 | files that [tile_up()] may have open at once, at least 2; what would need more is sorted in several rounds |
#' | `civicatlas.daemon_wait` | 30 | seconds that [run_tiles()] waits for a daemon before it does the rest itself |
#' | `civicatlas.daemon_bytes` | `Inf` | bytes that all daemons together may take; by what the largest of them took, fewer work at a time |
#' | `civicatlas.no_shared_folder` | `FALSE` | `TRUE` on a daemon: tiles are sent to it, even where it seems to see their folder |
#' | `civicatlas.busy_wait` | 5000 | milliseconds to wait for a GeoPackage or shapefile that another process is writing, or a workflow's folder |
#'
#' `OutDec` of base R is heeded in the keys of maps.
#' @name civicatlas_options
#' @examples
#' old <- options(civicatlas.quiet = TRUE, civicatlas.threads = 1)
#' wards <- read_layer(demo_file("wards.shp"))
#' options(old)
NULL

.onLoad <- function(libname, pkgname) {
  register_methods_on_tiles(topenv())
  core_start()
  core_load_registry(system.file("crs", "registry.tsv.gz", package = pkgname, lib.loc = libname))
  set_limits()
}

# What options say of the core, before each of its calls.
set_limits <- function() core_set_limits(thread_option(), unpack_option(), as.double(getOption("civicatlas.index_bytes", 1.6e8)))

# In bytes; 0 for the core's own rule.
unpack_option <- function() as.double(getOption("civicatlas.unpack_limit", 0))

thread_option <- function() {
  checking <- nzchar(Sys.getenv("_R_CHECK_LIMIT_CORES_"))
  as.integer(getOption("civicatlas.threads", if (checking) 2L else 0L))
}
