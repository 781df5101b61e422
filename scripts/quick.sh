#!/usr/bin/env bash
# Tests what one is working on: the Go packages that differ from a commit, with the packages that
# use them directly, and the console's tests of what differs there. The commit is the first
# argument, or the newest one; where nothing differs from that, the one before it.
set -euo pipefail
cd "$(dirname "$0")/.."
base=${1:-HEAD}
changed() { { git diff --name-only "$base"; git ls-files --others --exclude-standard; } | sort -u; }
[ -n "$(changed)" ] || base=HEAD~1
files=$(changed)

dirs=$(grep -E '^(api|cmd|internal|porch|tools)/.*' <<<"$files" | xargs -r -n1 dirname | sed -E 's#/(testdata|dist|migrations)(/.*)?$##' | sort -u || true)
mine=""
for dir in $dirs; do
  if compgen -G "$dir/*.go" >/dev/null; then mine+="eastporch/$dir "; fi
done
if [ -n "$mine" ]; then
  users=$(go list -f '{{.ImportPath}} {{join .Imports " "}} {{join .TestImports " "}} {{join .XTestImports " "}}' ./... |
    awk -v mine="$mine" 'BEGIN{split(mine,m," ")} {for(i in m) for(j=1;j<=NF;j++) if($j==m[i]){print $1; next}}' | grep -vE '/internal/(e2e|meta)' || true)
  go vet $mine
  go test -timeout 20m $users
fi
if grep -q '^web/' <<<"$files"; then
  cd web
  npx --no-install tsc --noEmit & types=$!
  npx --no-install vitest run --changed "$base" --passWithNoTests
  wait $types
fi
