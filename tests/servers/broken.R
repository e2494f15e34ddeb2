# A server that misbehaves by the path: /endless never stops sending, /slow sends a byte now and then, anything else promises
# more bytes than it sends and hangs up. usage: Rscript broken.R FOLDER; ends after twenty requests.
folder <- commandArgs(TRUE)[1]
port <- httpuv::randomPort()
listening <- serverSocket(port)
writeLines(as.character(c(port, Sys.getpid())), file.path(folder, ".port"))

send <- function(con, text) writeBin(charToRaw(text), con)
for (i in 1:20) {
  con <- socketAccept(listening, blocking = TRUE, open = "r+b", timeout = 60)
  path <- strsplit(readLines(con, 1), " ")[[1]][2]
  while (nzchar(readLines(con, 1))) NULL  # the request's headers
  send(con, "HTTP/1.1 200 OK\r\nContent-Type: application/geo+json\r\n")
  if (path == "/endless") {
    send(con, "\r\n")
    try(repeat send(con, strrep(" ", 1e6)), silent = TRUE)
  } else if (path == "/slow") {
    send(con, "\r\n")
    try(repeat {
      send(con, " ")
      Sys.sleep(0.1)
    }, silent = TRUE)
  } else {
    send(con, "Content-Length: 5000\r\n\r\n{\"type\":")
  }
  close(con)
}
