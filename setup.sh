#!/usr/bin/env bash
# Installs from Debian's packages what the demo and the tests need and this machine lacks.
set -euo pipefail

missing=()
ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || missing+=(postgresql)
command -v chromium >/dev/null || missing+=(chromium fonts-dejavu-core)
command -v node >/dev/null || missing+=(nodejs npm)
command -v column >/dev/null || missing+=(bsdextrautils)

if ! command -v go >/dev/null; then
  echo "Go is missing: install the version that go.mod names." >&2
  exit 1
fi
if [ ${#missing[@]} -gt 0 ]; then
  run=()
  [ "$(id -u)" -eq 0 ] || run=(sudo)
  echo "Installing ${missing[*]} ..."
  # Debian's PostgreSQL would start a server of its own; the demo and the tests start theirs.
  "${run[@]}" apt-get update -qq
  "${run[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
fi
