# What the scripts share: toolchain checks and Debian packages. Sourced, not run.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."

say() { printf '%s\n' "── $*"; }
fail() { printf '%s\n' "error: $*" >&2; exit 1; }

# need NAME LEAST VERSION HOW: fails unless VERSION is LEAST or newer.
need() {
  if [ -z "$3" ]; then fail "$1 is not installed. To do: $4"; fi
  if [ "$(printf '%s\n%s\n' "$2" "$3" | sort -V | head -n 1)" != "$2" ]; then
    fail "$1 is version $3, and $2 or newer is needed. To do: $4"
  fi
}

toolchains() {
  # Debian 12's own rustc and Node are too old, which is said before anything is built.
  need "Rust" 1.95 "$(rustc --version 2>/dev/null | awk '{print $2}')" "install it with rustup (https://rustup.rs)"
  need "Node" 20.19 "$(node --version 2>/dev/null | tr -d v)" "install Node 20.19 or newer (https://nodejs.org)"
  command -v npm >/dev/null || fail "npm is not installed. To do: install it with Node"
  command -v cc >/dev/null || packages gcc libc6-dev
}

# packages NAME…: installs Debian packages that are missing, as root or with sudo.
packages() {
  local missing=() name
  for name in "$@"; do
    dpkg-query -W -f='${Status}' "$name" 2>/dev/null | grep -q 'install ok installed' || missing+=("$name")
  done
  [ ${#missing[@]} -gt 0 ] || return 0
  command -v apt-get >/dev/null || { say "not a Debian machine: install by hand what is like ${missing[*]}"; return 1; }
  local as=()
  if [ "$(id -u)" -ne 0 ]; then
    command -v sudo >/dev/null || { say "neither root nor sudo: ask for ${missing[*]}"; return 1; }
    as=(sudo)
  fi
  say "installing ${missing[*]}"
  # The slapd package would start a server of its own: a policy keeps it from that, for this moment.
  local policy=/usr/sbin/policy-rc.d made=
  if [ ! -e "$policy" ]; then
    printf '#!/bin/sh\nexit 101\n' | "${as[@]}" tee "$policy" >/dev/null
    "${as[@]}" chmod +x "$policy"
    made=yes
  fi
  local code=0
  { "${as[@]}" apt-get update -q &&
    "${as[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends "${missing[@]}"; } >/tmp/eager-tide-apt.$$ 2>&1 || code=$?
  [ "$code" -eq 0 ] || cat /tmp/eager-tide-apt.$$ >&2
  rm -f /tmp/eager-tide-apt.$$
  [ -z "$made" ] || "${as[@]}" rm -f "$policy"
  return "$code"
}

# The console's packages and its built pages, only when they are not up to date.
console() {
  if [ ! -d console/node_modules ] || [ console/package-lock.json -nt console/node_modules/.package-lock.json ]; then
    say "installing the console's packages (about half a minute)"
    (cd console && npm ci --no-audit --no-fund --loglevel=error)
  fi
  if [ ! -f console/dist/index.html ] || [ -n "$(find console/src console/public console/index.html console/vite.config.ts console/openapi.json console/package-lock.json ! -name schema.d.ts -newer console/dist/index.html -print -quit)" ]; then
    say "building the console"
    (cd console && npm run --silent build)
  fi
}
