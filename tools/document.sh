#!/usr/bin/env bash
# Writes NAMESPACE, man/, the Rcpp exports and the overview of the command line from the sources, and installs.
set -euo pipefail
cd "$(dirname "$0")/.."
Rscript -e 'Rcpp::compileAttributes()'
Rscript -e 'suppressMessages(roxygen2::roxygenise(load_code = "source"))'
MAKEFLAGS=-j2 R CMD INSTALL --no-test-load .
Rscript -e 'cat(civicatlas:::overview(), file = "inst/cli/overview.txt")'
