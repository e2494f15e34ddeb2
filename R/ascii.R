# The letters of ASCII alone, whatever the locale: in a Turkish one, tolower("I") is no "i".
ascii_lower <- function(text) chartr("ABCDEFGHIJKLMNOPQRSTUVWXYZ", "abcdefghijklmnopqrstuvwxyz", text)
ascii_upper <- function(text) chartr("abcdefghijklmnopqrstuvwxyz", "ABCDEFGHIJKLMNOPQRSTUVWXYZ", text)
