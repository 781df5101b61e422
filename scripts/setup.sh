#!/usr/bin/env bash
# Checks the tools and installs the Debian packages that make demo and make
# test need. Works as root, and as a user who may sudo without a password; else
# it prints the one line to run.
set -euo pipefail

fail() {
  echo "$1" >&2
  exit 1
}

# at_least WANTED HAVE: whether a version is recent enough.
at_least() { [ "$(printf '%s\n%s\n' "$1" "$2" | sort -V | head -n1)" = "$1" ]; }

command -v go >/dev/null || fail "Go is missing: install Go 1.26 or later from https://go.dev/dl/."
go_version=$(go env GOVERSION)
at_least 1.26 "${go_version#go}" || fail "Go ${go_version#go} is too old: install Go 1.26 or later."
command -v node >/dev/null || fail "Node.js is missing: install Node.js 20.19 or later."
node_version=$(node --version)
at_least 20.19 "${node_version#v}" || fail "Node.js ${node_version#v} is too old: install Node.js 20.19 or later."
command -v npm >/dev/null || fail "npm is missing: install it with Node.js."
at_least 10 "$(npm --version 2>/dev/null)" || fail "npm $(npm --version 2>/dev/null) is too old: install npm 10 or later."

packages=()
compgen -G '/usr/lib/postgresql/*/bin/postgres' >/dev/null || packages+=(postgresql)
if [ "${1:-}" = test ]; then
  command -v chromium >/dev/null || packages+=(chromium)
  command -v firefox-esr >/dev/null || packages+=(firefox-esr)
  [ -x /usr/sbin/nginx ] || packages+=(nginx-light)
  [ -x /usr/sbin/haproxy ] || packages+=(haproxy)
  [ -x /usr/sbin/apache2 ] || packages+=(apache2-bin)
  [ -x /usr/sbin/lighttpd ] || packages+=(lighttpd)
  command -v gunicorn >/dev/null || packages+=(gunicorn)
  [ -e /usr/lib/nginx/modules/ngx_http_headers_more_filter_module.so ] || packages+=(libnginx-mod-http-headers-more-filter)
  compgen -G '/usr/share/lua/5.3/socket.lua' >/dev/null || packages+=(lua-socket)
  [ -r /usr/share/iso-codes/json/iso_3166-1.json ] || packages+=(iso-codes)
  [ -r /usr/share/zoneinfo/zone.tab ] || packages+=(tzdata)
  for font in fonts-noto-core fonts-noto-color-emoji; do
    dpkg-query -W -f='${Status}' "$font" 2>/dev/null | grep -q 'install ok installed' || packages+=("$font")
  done
fi
[ ${#packages[@]} -gt 0 ] || exit 0

command -v apt-get >/dev/null || fail "These Debian packages are missing: ${packages[*]}. Install what your system calls them."
install="apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends ${packages[*]}"
echo "Installing ${packages[*]} …" >&2
if [ "$(id -u)" = 0 ]; then
  bash -c "$install" >/dev/null
elif command -v sudo >/dev/null && sudo -n true 2>/dev/null; then
  sudo -n bash -c "$install" >/dev/null
else
  fail "Debian packages are missing. Run this once, then make again:
  sudo sh -c '$install'"
fi
