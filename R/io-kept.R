# Values of R that are kept in files for a later run: data alone, with a checksum, so that nobody's code is in them and no byte of them was changed.

kept_mark <- "civicatlas data 1\n"

# Keeps a value; FALSE for one that holds more than data, as a function or a call, which is kept nowhere.
keep_data <- function(value, path) {
  bytes <- serialize(value, NULL, xdr = TRUE, version = 2)
  if (!core(core_is_plain_data(bytes))) return(FALSE)
  beside <- name_beside(path)
  on.exit(unlink(beside, expand = FALSE))
  con <- file(beside, "wb")
  tryCatch(writeBin(c(charToRaw(paste0(kept_mark, rlang::hash(bytes), "\n")), bytes), con), finally = close(con))
  file.rename(beside, path)
}

# What was kept; NULL where there is nothing, or another thing than keep_data() makes.
kept_data <- function(path) {
  size <- file.size(path)
  if (is.na(size) || core(core_is_special(path))) return(NULL)
  bytes <- tryCatch(readBin(path, "raw", size), error = function(e) raw(), warning = function(w) raw())
  head <- nchar(kept_mark) + 33L
  if (length(bytes) <= head || !identical(bytes[seq_len(nchar(kept_mark))], charToRaw(kept_mark))) return(NULL)
  content <- bytes[-seq_len(head)]
  told <- rawToChar(bytes[nchar(kept_mark) + 1:32])
  if (identical(told, rlang::hash(content)) && core(core_is_plain_data(content))) unserialize(content)
}
