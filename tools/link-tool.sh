#!/usr/bin/env bash
# Puts the command-line tool on the path, where a folder of the path may be written to.
set -euo pipefail
tool=$(Rscript -e 'cat(system.file("exec", "civicatlas", package = "civicatlas"))')
for folder in /usr/local/bin "$HOME/.local/bin"; do
  if [ -d "$folder" ] && [ -w "$folder" ]; then
    ln -sf "$tool" "$folder/civicatlas"
    exit 0
  fi
done
