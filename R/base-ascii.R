# The letters of ASCII alone, whatever the locale: in a Turkish one, tolower("I") is no "i".
ascii_lower <- function(text) chartr("ABCDEFGHIJKLMNOPQRSTUVWXYZ", "abcdefghijklmnopqrstuvwxyz", text)
ascii_upper <- function(text) chartr("abcdefghijklmnopqrstuvwxyz", "ABCDEFGHIJKLMNOPQRSTUVWXYZ", text)

accented_letters <- paste0(
  "\u00e0\u00e1\u00e2\u00e3\u00e4\u00e5\u0101\u0103\u0105\u00e7\u0107\u010d\u010f\u0111\u00e8\u00e9\u00ea\u00eb\u0113\u0117",
  "\u0119\u011b\u011f\u00ec\u00ed\u00ee\u00ef\u012b\u012f\u0131\u013a\u013e\u0142\u00f1\u0144\u0148\u00f2\u00f3\u00f4\u00f5",
  "\u00f6\u00f8\u014d\u0151\u0155\u0159\u015b\u015f\u0161\u0219\u0163\u0165\u021b\u00f9\u00fa\u00fb\u00fc\u016b\u016f\u0171",
  "\u0173\u00fd\u00ff\u017a\u017c\u017e\u00c0\u00c1\u00c2\u00c3\u00c4\u00c5\u0100\u0102\u0104\u00c7\u0106\u010c\u010e\u0110",
  "\u00c8\u00c9\u00ca\u00cb\u0112\u0116\u0118\u011a\u011e\u00cc\u00cd\u00ce\u00cf\u012a\u012e\u0139\u013d\u0141\u00d1\u0143",
  "\u0147\u00d2\u00d3\u00d4\u00d5\u00d6\u00d8\u014c\u0150\u0154\u0158\u015a\u015e\u0160\u0218\u0162\u0164\u021a\u00d9\u00da",
  "\u00db\u00dc\u016a\u016e\u0170\u0172\u00dd\u0178\u0179\u017b\u017d"
)
plain_letters <- paste0(
  "aaaaaaaaacccddeeeeeeeegiiiiiiilllnnnoooooooorrsssstttuuuuuuuuyyzzz",
  "aaaaaaaaacccddeeeeeeeegiiiiiilllnnnoooooooorrsssstttuuuuuuuuyyzzz"
)

# Letters of Latin script in lower case and without their accents, whatever the locale and the system's iconv().
without_accents <- function(text) {
  text <- chartr(accented_letters, plain_letters, ascii_lower(text))
  for (pair in list(c("\u00df", "ss"), c("\u00e6", "ae"), c("\u00c6", "ae"), c("\u0153", "oe"), c("\u0152", "oe"))) {
    text <- gsub(pair[1], pair[2], text, fixed = TRUE)
  }
  text
}
