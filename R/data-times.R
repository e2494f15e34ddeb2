# Dates and times as texts.

# Times as ISO 8601 writes them, with a fraction of a second and an offset from UTC, which is UTC where there is none (RFC 3339, section 5.6).
as_datetime <- function(text) {
  if (!is.character(text)) return(text)
  to_second <- grepl("^.{13}:[0-9]{2}:", text)
  length <- ifelse(to_second, 19L, 16L)
  clock <- paste0(sub("T", " ", substr(text, 1, length), fixed = TRUE), ifelse(to_second, "", ":00"))
  rest <- substring(text, length + 1L)
  kinds <- unique(rest)
  shift <- vapply(kinds, seconds_behind_clock, 0)[match(rest, kinds)]
  as.POSIXct(unname(as.double(as.POSIXct(strptime(clock, "%Y-%m-%d %H:%M:%S", tz = "UTC"))) + shift), origin = "1970-01-01", tz = "UTC")
}

# What ".25+05:30" and the like add to the time before it; NA for anything else.
seconds_behind_clock <- function(rest) {
  parts <- regmatches(rest, regexec("^([.,][0-9]+)?(Z|z|([+-])([0-9]{2}):?([0-9]{2})?)?$", rest))[[1]]
  if (!length(parts)) return(NA_real_)
  fraction <- if (nzchar(parts[2])) as.double(sub(",", ".", paste0("0", parts[2]), fixed = TRUE)) else 0
  if (!nzchar(parts[4])) return(fraction)
  minutes <- 60 * as.double(parts[5]) + if (nzchar(parts[6])) as.double(parts[6]) else 0
  fraction - (if (parts[4] == "-") -60 else 60) * minutes
}

as_date <- function(text) as.Date(strptime(as.character(text), "%Y-%m-%d", tz = "UTC"))
