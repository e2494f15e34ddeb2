#!/usr/bin/env bash
# Builds the documentation as pages into .build/site, from README, help pages and vignettes; it asks nothing of the network.
set -euo pipefail
cd "$(dirname "$0")/.."
Rscript -e 'options(pkgdown.internet = FALSE)' \
  -e 'pkgdown::build_site(override = list(destination = ".build/site"), preview = FALSE, new_process = FALSE, install = FALSE)' \
  >.build/site.log 2>&1 || { tail -n 30 .build/site.log; exit 1; }
cp -r docs .build/site/  # pictures that the README shows, and the page on how it is built
echo "the pages: $PWD/.build/site/index.html"
