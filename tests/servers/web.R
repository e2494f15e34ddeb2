# A small web server for the tests: files of a folder, pages that fail, and an OGC API - Features of one collection.
# usage: Rscript web.R FOLDER; writes its port and its process to FOLDER/.port, each request to FOLDER/.log; ends after five minutes.
folder <- commandArgs(TRUE)[1]
port_file <- file.path(folder, ".port")
tries <- new.env()

answer <- function(body, type = "application/json", status = 200L, headers = list()) {
  list(status = status, headers = c(list("Content-Type" = type), headers), body = body)
}

query_of <- function(request) {
  text <- sub("^[?]", "", request$QUERY_STRING)
  if (!nzchar(text)) return(list())
  pairs <- strsplit(strsplit(text, "&")[[1]], "=")
  stats::setNames(lapply(pairs, function(pair) utils::URLdecode(pair[2])), vapply(pairs, function(pair) utils::URLdecode(pair[1]), ""))
}

# Points 1 to 25 at longitude 160 + i / 100; on request in "metres" of EPSG:32757, made up as 100 * i.
items <- function(request, base) {
  query <- query_of(request)
  i <- 1:25
  metres <- grepl("32757", if (is.null(query$crs)) "" else query$crs)
  x <- if (metres) 590000 + 100 * i else 160 + i / 100
  y <- if (metres) 4750000 else -47
  if (!is.null(query$bbox)) {
    box <- as.numeric(strsplit(query$bbox, ",")[[1]])
    i <- i[x[i] >= box[1] & x[i] <= box[3]]
  }
  # Of filters it knows "seats >= number" alone.
  if (!is.null(query$filter)) i <- i[ifelse(i > 10, i + 0.5, i) >= as.double(sub("^seats >= ", "", query$filter))]
  matched <- length(i)
  offset <- as.integer(if (is.null(query$offset)) 0 else query$offset)
  limit <- min(10L, as.integer(if (is.null(query$limit)) 10 else query$limit))
  page <- i[seq_along(i) > offset & seq_along(i) <= offset + limit]
  features <- sprintf("{\"type\":\"Feature\",\"id\":%d,\"properties\":{\"name\":\"room %d\",\"seats\":%s},\"geometry\":{\"type\":\"Point\",\"coordinates\":[%s,%s]}}",
                      page, page, ifelse(page > 10, page + 0.5, page), format(x[page], digits = 15, trim = TRUE), format(y, digits = 15))
  more <- offset + limit < matched
  rest <- query[setdiff(names(query), "offset")]
  following <- paste0(base, "/collections/rooms/items?", paste0(names(rest), "=", vapply(rest, utils::URLencode, "", reserved = TRUE), collapse = "&"), "&offset=", offset + limit)
  if (!is.null(query$trap)) {
    following <- switch(query$trap, file = paste0("file://", folder, "/rooms.geojson"), itself = paste0("http://", request$HTTP_HOST, "/api/collections/rooms/items?trap=itself"),
                        host = sub("127.0.0.1", "localhost", following))
    more <- TRUE
  }
  links <- if (more) sprintf("[{\"rel\":\"next\",\"href\":\"%s\"}]", following) else "[]"
  answer(sprintf("{\"type\":\"FeatureCollection\",\"numberMatched\":%d,\"links\":%s,\"features\":[%s]}", matched, links, paste(features, collapse = ",")), "application/geo+json")
}

api <- function(request, path, base) {
  place <- sub("^/api/?$", "/landing", path)
  switch(sub("^/api", "", place),
    "/landing" = answer(sprintf("{\"links\":[{\"rel\":\"data\",\"href\":\"%s/collections\"}]}", base)),
    "/conformance" = answer("{\"conformsTo\":[\"http://www.opengis.net/spec/cql2/1.0/conf/cql2-text\",\"http://www.opengis.net/spec/ogcapi-features-3/1.0/conf/filter\"]}"),
    "/collections" = answer("{\"collections\":[{\"id\":\"rooms\",\"crs\":[\"http://www.opengis.net/def/crs/OGC/1.3/CRS84\",\"http://www.opengis.net/def/crs/EPSG/0/32757\"],\"extent\":{\"spatial\":{\"bbox\":[[160,-48,161,-47]]}}}]}"),
    "/collections/rooms/items" = items(request, base),
    answer("{}", status = 404L)
  )
}

respond <- function(request) {
  path <- utils::URLdecode(request$PATH_INFO)
  cat(path, request$QUERY_STRING, "\n", sep = "", file = file.path(folder, ".log"), append = TRUE)
  base <- paste0("http://", request$HTTP_HOST, "/api")
  if (startsWith(path, "/api")) return(api(request, path, base))
  if (path == "/secret.geojson") return(answer("no", status = 401L))
  if (path == "/flaky.geojson") {
    tries$count <- (if (is.null(tries$count)) 0 else tries$count) + 1
    if (tries$count < 3) return(answer("busy", status = 503L))
    path <- "/rooms.geojson"
  }
  if (path == "/moved") return(answer("", status = 302L, headers = list(Location = query_of(request)$to)))
  if (path == "/named") return(answer(readBin(file.path(folder, "rooms.geojson"), "raw", 1e7), "application/geo+json"))
  file <- file.path(folder, path)
  if (!file.exists(file) || dir.exists(file)) return(answer("no such file", "text/plain", 404L))
  answer(readBin(file, "raw", file.size(file)), "application/octet-stream")
}

port <- httpuv::randomPort()
server <- httpuv::startServer("127.0.0.1", port, list(call = respond))
writeLines(as.character(c(port, Sys.getpid())), port_file)
ends <- Sys.time() + 300
while (Sys.time() < ends) httpuv::service(50)
httpuv::stopServer(server)
