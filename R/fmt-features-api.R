# OGC API - Features (17-069r4): collections read page by page, the window and the CRS asked of the server.

register_format("features", function() {
  new_format("OGC API - Features", "OGC 17-069r4", c("shapes", "tables", "columns", "layers", "coded CRS"), read = read_features,
             layers = layers_of_features, header = header_of_features)
})

# Base address and collection in an address such as …/collections/rooms/items?limit=10, or NULL.
features_place <- function(url) {
  path <- sub("[?#].*$", "", url)
  if (!grepl("/collections(/[^/]+(/items)?)?/?$", path)) return(NULL)
  collection <- if (grepl("/collections/[^/]+", path)) utils::URLdecode(sub(".*/collections/([^/]+).*", "\\1", path))
  list(base = sub("/collections(/.*)?$", "", path), collection = collection, query = features_query(url))
}

# Parameters of the address that go with every request; paging and window are set anew.
features_query <- function(url) {
  parameters <- httr2::url_parse(url)$query
  parameters[setdiff(names(parameters), c("limit", "offset", "f"))]
}

# Is a fetched document the landing page of an API?
features_landing <- function(file, url) {
  if (file.size(file) > 1e6 || !identical(format_of_bytes(core(core_read_bytes(file, 512))), "geojson")) return(NULL)
  document <- tryCatch(parse_json(rawToChar(core(core_read_bytes(file, -1))), simplifyVector = FALSE), error = function(e) NULL)
  if (is.null(document$links) || identical(document$type, "FeatureCollection")) return(NULL)
  rels <- vapply(document$links, function(link) link$rel %||% "", "")
  if (any(grepl("(^|/)(data|conformance)$", rels))) list(base = sub("/?([?#].*)?$", "", url), query = features_query(url))
}

features_get <- function(url, call, query = list(), accept = "application/json") {
  request <- web_request(url, accept)
  if (length(query)) request <- httr2::req_url_query(request, !!!query)
  response <- web_perform(request, call)
  list(bytes = httr2::resp_body_raw(response), crs = httr2::resp_header(response, "Content-Crs"))
}

features_json <- function(url, call, query = list()) {
  found <- features_get(url, call, query)
  tryCatch(parse_json(rawToChar(found$bytes), simplifyVector = FALSE), error = function(e) {
    fail("format", "{.url {shown_address(url)}} answers with something that is no JSON.", call = call)
  })
}

open_features <- function(place, layer, call, listing, asked) {
  collections <- features_json(paste0(place$base, "/collections"), call, place$query)$collections
  names <- vapply(collections, function(collection) collection$id %||% "", "")
  opened <- new_source("features", place$base, query = place$query, names = names, name = shown_address(asked))
  if (listing) return(opened)
  if (!length(names)) fail("format", "{.url {shown_address(asked)}} has no collections.", call = call)
  opened$layer <- choose_layer(layer, names, shown_address(asked), call)
  opened$collection <- collections[[match(opened$layer, names)]]
  opened
}

layers_of_features <- function(source) {
  list(layer = source$names, format = rep("features", length(source$names)), geometry_type = rep(NA_character_, length(source$names)))
}

read_features <- function(source, query) {
  asked <- features_crs(source, query)
  query$crs <- NULL
  query <- settle_window(query, asked$crs)
  parameters <- c(source$query, list(limit = getOption("civicatlas.page_size", 1000)), asked$parameters, features_window(query$within, asked),
                  features_filter(source, query))
  url <- paste0(source$path, "/collections/", utils::URLencode(source$layer, reserved = TRUE), "/items")
  pages <- list()
  visited <- character()
  rows <- 0
  bar <- new_progress(paste("Reading", source$layer))
  repeat {
    page <- features_get(url, query$call, parameters, accept = "application/geo+json")
    about <- features_page(page$bytes)
    content <- read_source(new_source("geojson", url, content = page$bytes, name = shown_address(url)), query)
    rows <- rows + content$rows
    if (!is.null(content$shapes)) attr(content$shapes, "crs") <- asked$crs
    pages[[length(pages) + 1]] <- content
    bar(rows / max(about$matched %||% rows, 1))
    if (is.null(about$following) || !content$rows) break
    visited <- c(visited, url)
    url <- next_page(about$following, url, visited, query$call)
    parameters <- list()
  }
  if (!is.null(about$matched) && about$matched > rows) {
    caution("data", "{.url {source$name}} announced {format_count(about$matched)} features and gave {format_count(rows)}.")
  }
  columns <- stack_columns(lapply(pages, `[[`, "columns"), vapply(pages, function(page) length(page$shapes), 0L))
  layer_content(columns, vctrs::vec_c(!!!lapply(pages, `[[`, "shapes")), rows, query)
}

# The address of the next page, on the same server and not asked before.
next_page <- function(following, url, visited, call) {
  address <- address_to_follow(following, url, call)
  if (address %in% visited) fail("format", "{.url {shown_address(url)}} names a page as the next that was read before, without end.", call = call)
  most <- getOption("civicatlas.web_pages", 10000)
  if (length(visited) >= most) {
    fail("file", c("{.url {shown_address(url)}} has more than {counted(most, 'page')}, which is all that is allowed.",
                   i = allow_web("web_pages = 1e5")), call = call)
  }
  address
}

# What a page says of itself: how many features match in all, and the address of the next page.
features_page <- function(bytes) {
  document <- parse_json(rawToChar(bytes), simplifyVector = FALSE)
  following <- Filter(function(link) identical(link$rel, "next"), document$links)
  list(matched = document$numberMatched, following = if (length(following)) following[[1]]$href)
}

# The CRS to ask for: that of `crs` or of the window's frame where the collection offers it, else longitude and latitude.
features_crs <- function(source, query) {
  plain <- list(crs = crs_by_code(4326, query$call))
  wanted <- query$crs %||% if (!is.null(query$within) && !is.numeric(query$within)) crs_of(query$within)
  if (is.null(wanted) || same_crs(wanted, plain$crs)) return(plain)
  code <- if (!is.na(wanted$code)) sub("EPSG:", "", wanted$code)
  offered <- unlist(source$collection$crs)
  address <- grep(paste0("/EPSG/[^/]*/", code, "$"), offered, value = TRUE)
  if (length(address)) return(list(crs = wanted, parameters = list(crs = address[1]), address = address[1]))
  fail("crs", c("{.url {source$name}} does not offer {crs_label(wanted)}.",
                i = "Read it on longitude and latitude, then use {.fn reproject_to}; offered: {.val {offered %||% 'CRS84'}}."), call = query$call)
}

# A condition in CQL2 as it is, for a server that declares that it takes filters in it (OGC 19-079r2, sections 6 and 8); what it sends is looked
# at here once more.
features_filter <- function(source, query) {
  ours <- function(tree) is_of_r(tree) || length(nodes_where(tree, function(node) node$kind == "call" || is_operation(node, "case")))
  if (!has_where(query) || ours(query$where) || !takes_filters(source, query)) return(NULL)
  list(filter = text_of_condition(query$where), `filter-lang` = "cql2-text")
}

takes_filters <- function(source, query) {
  declared <- tryCatch(features_json(paste0(source$path, "/conformance"), query$call, source$query)$conformsTo, civicatlas_error = function(e) NULL)
  declared <- as.character(unlist(declared))
  any(grepl("/conf/cql2-text$", declared)) && any(grepl("ogcapi-features-3/.*/conf/(features-)?filter$", declared))
}

features_window <- function(window, asked) {
  if (is.null(window)) return(NULL)
  c(list(bbox = paste(core(core_number_text(window, -1L)), collapse = ",")), if (!is.null(asked$address)) list(`bbox-crs` = asked$address))
}

header_of_features <- function(source) {
  url <- paste0(source$path, "/collections/", utils::URLencode(source$layer, reserved = TRUE), "/items")
  page <- features_get(url, NULL, c(source$query, list(limit = 10)), accept = "application/geo+json")
  about <- features_page(page$bytes)
  sample <- read_source(new_source("geojson", url, content = page$bytes, name = source$name), new_query())
  box <- as.double(unlist(source$collection$extent$spatial$bbox)[1:4])
  list(rows = as.double(about$matched %||% NA), kinds = NA_character_, extent = box, crs = crs_by_code(4326, NULL),
       fields = tibble::tibble(name = names(sample$columns) %||% character(), type = vapply(sample$columns, class_in_words, "")))
}
