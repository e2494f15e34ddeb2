# A server that promises more bytes than it sends and hangs up. usage: Rscript broken.R FOLDER
folder <- commandArgs(TRUE)[1]
port <- httpuv::randomPort()
listening <- serverSocket(port)
writeLines(as.character(c(port, Sys.getpid())), file.path(folder, ".port"))
for (i in 1:4) {
  con <- socketAccept(listening, blocking = TRUE, open = "r+b", timeout = 30)
  while (nzchar(readLines(con, 1))) NULL  # the request's headers
  writeBin(charToRaw("HTTP/1.1 200 OK\r\nContent-Type: application/geo+json\r\nContent-Length: 5000\r\n\r\n{\"type\":"), con)
  close(con)
}
