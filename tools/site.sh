#!/usr/bin/env bash
# Builds the documentation as pages into .build/site, from README, help pages and vignettes.
set -euo pipefail
cd "$(dirname "$0")/.."
Rscript -e 'pkgdown::build_site_github_pages(dest_dir = ".build/site", new_process = FALSE, install = FALSE, clean = TRUE)' >.build/site.log 2>&1 ||
  { tail -n 30 .build/site.log; exit 1; }
echo "the pages: $PWD/.build/site/index.html"
