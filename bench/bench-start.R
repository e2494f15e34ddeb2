# How long it takes until the work begins: loading the package, and the command-line tool.

# Least of some runs of a whole process, in seconds.
process_seconds <- function(command, args, times = 7) {
  min(vapply(seq_len(times), function(i) system.time(system2(command, args, stdout = FALSE, stderr = FALSE))[["elapsed"]], 0))
}

imports <- names(tools:::.split_dependencies(utils::packageDescription("civicatlas")$Imports))
r <- process_seconds("Rscript", c("-e", "1"))
needs <- process_seconds("Rscript", c("-e", shQuote(sprintf("for (p in c(%s)) loadNamespace(p)", toString(shQuote(imports, "cmd"))))))
package <- process_seconds("Rscript", c("-e", shQuote(sprintf("for (p in c(%s)) loadNamespace(p); library(civicatlas)", toString(shQuote(imports, "cmd"))))))
alone <- process_seconds("Rscript", c("-e", shQuote("library(civicatlas)")))
report("library(civicatlas), over loading what it imports", sprintf("%.2f s; alone %.2f s, R itself %.2f s", package - needs, alone, r), "at most 0.25 s",
       package - needs <= 0.25)
tool <- system.file("exec", "civicatlas", package = "civicatlas")
help <- process_seconds(tool, "--help")
report("civicatlas --help, against Rscript -e 1", sprintf("%.2f s, %.1f times", help, help / r), "under 0.3 s", help < 0.3)
for (line in list(c("help", "buffer"), "--version", "formats")) {
  asked <- process_seconds(tool, line)
  report(sprintf("civicatlas %s, against Rscript -e 1", paste(line, collapse = " ")), sprintf("%.2f s, %.1f times", asked, asked / r), "under 0.3 s", asked < 0.3)
}
described <- process_seconds(tool, c("describe", shQuote(demo_file("wards.shp"))))
report("civicatlas describe wards.shp, against Rscript -e 1", sprintf("%.2f s, %.1f times", described, described / r), "under 0.8 s", described < 0.8)
