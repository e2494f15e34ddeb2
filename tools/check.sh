#!/usr/bin/env bash
# Builds the package with its vignettes and checks it: no error, no warning, and no note that tools/check-notes.md does not
# explain under the name of its check. CHECK_ARGS: what else R CMD check is given.
set -euo pipefail
cd "$(dirname "$0")/.."
folder=.build/check
rm -rf $folder && mkdir -p $folder/civicatlas
git ls-files -z -co --exclude-standard | xargs -0 cp --parents -t $folder/civicatlas  # R would copy .build too
export R_MAKEVARS_USER=$PWD/tools/Makevars.check MAKEFLAGS=-j$(nproc) _R_CHECK_FORCE_SUGGESTS_=true
cd $folder
R CMD build civicatlas >build.log 2>&1 || { tail -n 40 build.log; exit 1; }
R CMD check --no-manual ${CHECK_ARGS:-} civicatlas_*.tar.gz || true

log=civicatlas.Rcheck/00check.log
grep -q '^Status: ' $log || { echo "check: it broke off"; exit 1; }
code=0
if grep -E '^Status: .*(ERROR|WARNING)' $log; then code=1; fi
while read -r name; do
  grep -qF "$name" ../../tools/check-notes.md || { echo "check: the note of \"$name\" is not explained in tools/check-notes.md" && code=1; }
done < <(sed -n 's/^\* \(checking .*\) \.\.\. NOTE$/\1/p' $log)
exit $code
