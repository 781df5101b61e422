#!/usr/bin/env bash
# Installs the npm packages of a folder as its lock file has them. What was installed once is kept
# in the user's cache and linked from there, since unpacking takes a minute.
set -euo pipefail
cd "$1"
kept=${XDG_CACHE_HOME:-$HOME/.cache}/eastporch/modules/$(cat package.json package-lock.json | sha256sum | cut -c1-32)
rm -rf node_modules
if [ -d "$kept" ] && cp -al "$kept" node_modules 2>/dev/null; then
  exit 0
fi
rm -rf node_modules
npm ci --no-audit --no-fund --loglevel=error
# Whole or not at all; where it cannot be kept, nothing is lost but time.
mkdir -p "$(dirname "$kept")" 2>/dev/null && rm -rf "$kept.$$" && cp -al node_modules "$kept.$$" 2>/dev/null && mv -T "$kept.$$" "$kept" 2>/dev/null || rm -rf "$kept.$$"
