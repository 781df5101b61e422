#!/usr/bin/env bash
# Prints what has grown long, as advice: files of more than 400 lines written by hand, tests of more
# than 600, packages of more than 2,500 without their tests. A shape is made by sense, not by a count.
set -euo pipefail
cd "$(dirname "$0")/.."
git ls-files --cached --others --exclude-standard '*.go' 'web/src/*.ts' 'web/src/*.tsx' 'web/src/*.css' | grep -v '\.d\.ts$' |
  while read -r file; do
    if [ -e "$file" ] && ! grep -qE '^// Code generated .* DO NOT EDIT\.$' "$file"; then echo "$(wc -l <"$file") $file"; fi
  done |
  awk '
    { test = $2 ~ /_test\.go$|\.test\./; most = test ? 600 : 400 }
    $1 > most { print "advice: " $2 " has " $1 " lines" }
    !test && $2 ~ /\.go$/ { dir = $2; sub(/\/[^\/]*$/, "", dir); lines[dir] += $1 }
    END { for (dir in lines) if (lines[dir] > 2500) print "advice: the package " dir " has " lines[dir] " lines" }'
