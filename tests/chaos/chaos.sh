#!/usr/bin/env bash
# Writers that are killed, one of them on a disk that is full, and a reader that looks at all it reads: every format at once.
# usage: tests/chaos/chaos.sh [minutes, 30 by default]
set -euo pipefail
cd "$(dirname "$0")/../.."
Rscript tests/chaos/chaos.R watch "${1:-30}"
