#!/usr/bin/env bash
# Prints the packages in whose code or tests things run at once: these are tested with the race
# detector, which takes its time. Those of real set-ups (internal/e2e) are not among them.
set -euo pipefail
cd "$(dirname "$0")/.."
at_once='^[[:space:]]*(go func|go [a-z][A-Za-z.]*\()|\.Go\(|httptest\.NewServer|synctest\.Test|\.RunParallel\('
grep -lE "$at_once" -r --include='*.go' internal porch | grep -vE '^internal/(e2e|testkit|demo)/' | xargs -n1 dirname | sort -u | sed 's|^|eastporch/|'
