# Layers at web addresses: files are fetched whole, collections of an OGC API - Features page by page.

open_web <- function(url, layer, call, listing) {
  need_package("httr2", "Reading from the web", call)
  place <- features_place(url)
  if (!is.null(place)) return(open_features(place, layer %||% place$collection, call, listing, asked = url))
  folder <- tempfile("web")
  dir.create(folder)
  keep <- FALSE
  on.exit(if (!keep) unlink(folder, recursive = TRUE, expand = FALSE))
  file <- fetch_file(url, folder, call)
  landing <- features_landing(file, url)
  if (!is.null(landing)) return(open_features(landing, layer, call, listing, asked = url))
  if (ascii_lower(tools::file_ext(file)) %in% c("shp", "dbf")) fetch_members(url, folder, call)
  opened <- open_file(file, layer, call, listing, name = shown_address(url))
  opened$temporary <- c(opened$temporary, folder)
  keep <- TRUE
  opened
}

# The address without what should not be shown: a password, a long query.
shown_address <- function(url) without_secrets(url)

# By http and https alone. Where a server sends on to, web_perform() looks at first.
web_request <- function(url, accept = NULL) {
  http <- 3L  # CURLPROTO_HTTP and CURLPROTO_HTTPS
  request <- httr2::request(url) |>
    httr2::req_user_agent(paste0("civicatlas/", utils::packageVersion("civicatlas"))) |>
    httr2::req_error(is_error = function(response) FALSE) |>
    httr2::req_options(connecttimeout = 15, protocols = http, followlocation = FALSE,
                       low_speed_limit = 100, low_speed_time = as.integer(getOption("civicatlas.web_timeout", 30)),
                       timeout = as.integer(getOption("civicatlas.web_time", 3600)))
  if (is.null(accept)) request else httr2::req_headers(request, Accept = accept)
}

web_tries <- 3
passing_statuses <- c(429, 502, 503, 504)
web_bytes <- function() as.double(getOption("civicatlas.web_bytes", 1e10))

# Performs a request, and those that its server sends on to. A connection that fails and a server that is busy are tried again, which is
# said; what goes wrong in the end is an error that names the address.
web_perform <- function(request, call, path = NULL, label = NULL) {
  for (step in seq_len(web_steps)) {
    response <- web_ask(request, call, path, label)
    to <- sent_on_to(response, request$url, call)
    if (is.null(to)) return(response)
    request <- httr2::req_url(request, to)
  }
  fail("file", "{.url {shown_address(request$url)}} sends on without end.", call = call)
}

web_steps <- 10

# The address that a server sends on to, which may be asked; NULL where it does not.
sent_on_to <- function(response, asked, call) {
  to <- if (httr2::resp_status(response) %in% c(301, 302, 303, 307, 308)) httr2::resp_header(response, "Location")
  if (!is.null(to)) address_to_follow(to, asked, call)
}

# The whole address that a server names, which may be asked; with the login of the one that was asked on the same server.
address_to_follow <- function(named, asked, call) {
  address <- xml2::url_absolute(named, without_login(asked))
  need_same_origin(address, asked, call)
  if (identical(origin_of(address), origin_of(asked))) with_login_of(address, asked) else address
}

without_login <- function(url) sub("^([a-z]+://)[^/?#]*@", "\\1", url, ignore.case = TRUE)
with_login_of <- function(url, other) {
  login <- regmatches(other, regexpr("(?<=://)[^/?#]*@", other, perl = TRUE))
  if (length(login)) sub("://", paste0("://", login), url, fixed = TRUE) else url
}

web_ask <- function(request, call, path, label) {
  url <- shown_address(request$url)
  for (try in seq_len(web_tries)) {
    answer <- web_try(request, call, path, label)
    if (answer$arrived) return(answer$response)
    if (!answer$passing || try == web_tries) break
    wait <- getOption("civicatlas.retry_wait", 1) * try
    say("{.url {url}} cannot be read yet ({answer$why}); trying again in {wait} s.")
    Sys.sleep(wait)
  }
  if (!is.null(answer$response)) refused_by_server(answer$response, url, call)
  fail("file", c("{.url {url}} cannot be read.", x = "{answer$why}", i = "Check the address and the connection."), call = call)
}

# One try: the response or NULL, whether it is one that was asked for, and otherwise why not and whether that may pass.
web_try <- function(request, call, path, label) {
  watch <- watch_transfer(label)
  response <- tryCatch(httr2::req_perform(watch$on(request), path = path), error = identity)
  if (watch$too_long()) too_much_web(shown_address(request$url), call)
  if (inherits(response, "error")) {
    why <- said_by(response$parent %||% response)
    if (grepl("aborted by an application callback", why)) rlang::interrupt()
    return(list(arrived = FALSE, passing = TRUE, why = why))
  }
  status <- httr2::resp_status(response)
  list(response = response, arrived = status < 400, passing = status %in% passing_statuses, why = paste("it answers", status))
}

# Ends a transfer that brings more than it may, and shows how far it is. `on(request)` is the request that is watched.
watch_transfer <- function(label) {
  over <- FALSE
  most <- web_bytes()
  bar <- if (!is.null(label)) new_progress(label, env = rlang::caller_env(2))
  step <- function(down, up) {
    over <<- down[2] > most
    if (!is.null(bar) && down[1] > 0) bar(down[2] / down[1])
    !over
  }
  list(on = function(request) httr2::req_options(request, noprogress = FALSE, xferinfofunction = step), too_long = function() over)
}

too_much_web <- function(url, call) {
  fail("file", c("{.url {url}} sends more than the {format_size(web_bytes())} that are allowed.", i = allow_web("web_bytes = 1e11")), call = call)
}

allow_web <- function(option) {
  code <- paste0("options(civicatlas.", option, ")")
  paste0("If you trust it, allow more: {.code ", code, "}.")
}

# Scheme, name and port of an address.
origin_of <- function(url) {
  parsed <- httr2::url_parse(url)
  scheme <- ascii_lower(parsed$scheme)
  port <- parsed$port %||% c(http = "80", https = "443")[[scheme]]
  list(scheme = scheme, host = ascii_lower(parsed$hostname %||% ""), port = as.character(port))
}

# May an address that a server names be asked, which was itself asked at another one? On the same server, or its secure side, or on one of
# those that are allowed.
may_follow <- function(address, asked) {
  if (!grepl("^https?://", address, ignore.case = TRUE)) return(FALSE)
  to <- origin_of(address)
  from <- origin_of(asked)
  secured <- from$scheme == "http" && to$scheme == "https" && from$port == "80" && to$port == "443"
  same <- to$host == from$host && ((to$scheme == from$scheme && to$port == from$port) || secured)
  same || to$host %in% ascii_lower(getOption("civicatlas.web_hosts", character()))
}

need_same_origin <- function(address, asked, call) {
  if (may_follow(address, asked)) return(invisible())
  host <- if (grepl("^https?://", address, ignore.case = TRUE)) origin_of(address)$host
  fail("file", c("{.url {shown_address(asked)}} sends on to {.url {shown_address(address)}}, which is not on the same server.",
                 i = if (!is.null(host)) allow_web(sprintf("web_hosts = \"%s\"", host))), call = call)
}

refused_by_server <- function(response, url, call) {
  status <- httr2::resp_status(response)
  hint <- "Try again later."
  if (status %in% c(401, 403)) hint <- "The server wants a login: put user:password@ before its name."
  if (status == 404) hint <- "Check the address."
  absent <- if (status %in% 400:499) "web_absent"
  fail(c(absent, "file"), c("{.url {url}} cannot be read.", x = "The server answers {status} {httr2::resp_status_desc(response)}.", i = hint), call = call)
}

fetch_file <- function(url, folder, call) {
  beside <- file.path(folder, "download")
  response <- web_perform(web_request(url), call, path = beside, label = "Fetching")
  size <- file.size(beside)
  stated <- suppressWarnings(as.double(httr2::resp_header(response, "Content-Length") %||% NA))
  if (is.null(httr2::resp_header(response, "Content-Encoding")) && !is.na(stated) && stated != size) {
    fail("file", "{.url {shown_address(url)}} broke off after {format_count(size)} of {format_count(stated)} bytes.", call = call)
  }
  say("Fetched {.url {shown_address(url)}}: {format_size(size)}.")
  file <- file.path(folder, name_of_response(response, url))
  file.rename(beside, file)
  file
}

# The name that the server gives, else the end of the address, with an ending where the type of content tells one.
name_of_response <- function(response, url) {
  disposition <- httr2::resp_header(response, "Content-Disposition") %||% ""
  given <- grepl("filename=", disposition)
  name <- if (given) sub(".*filename=\"?([^\";]+)\"?.*", "\\1", disposition) else utils::URLdecode(basename(sub("[?#].*$", "", url)))
  name <- gsub("[^A-Za-z0-9._ -]", "_", basename(name))
  if (!nzchar(name) || name %in% c(".", "..")) name <- "layer"
  ending <- ending_of_type(httr2::resp_content_type(response))
  known <- !is.na(format_with(ending_of(name)))
  if (known || is.na(ending)) name else paste0(name, ".", ending)
}

# The ending that goes with a media type; NA where none does.
ending_of_type <- function(type) {
  types <- unlist(unname(lapply(known_formats(), `[[`, "media_types")))
  unname(types[type %||% ""])
}

# The side files of a shapefile, where the server has them.
fetch_members <- function(url, folder, call) {
  path <- sub("[?#].*$", "", url)
  query <- substring(url, nchar(path) + 1)
  for (member in setdiff(shapefile_members, ascii_lower(tools::file_ext(path)))) {
    beside <- paste0(tools::file_path_sans_ext(path), ".", member)
    response <- tryCatch(web_perform(web_request(paste0(beside, query)), call), civicatlas_error_web_absent = function(e) NULL)
    if (!is.null(response)) writeBin(httr2::resp_body_raw(response), file.path(folder, utils::URLdecode(basename(beside))))
  }
}
