#!/bin/bash
# Installs the Debian packages named, if they are missing; or says exactly what is missing and what to type.
set -u
missing=()
for package in "$@"; do
    dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing+=("$package")
done
[ ${#missing[@]} -eq 0 ] && exit 0
say() {
    echo "These packages are missing: ${missing[*]}" >&2
    echo "$1" >&2
    exit 1
}
command -v apt-get >/dev/null || say "This is no Debian: install them the way your system does."
sudo=()
if [ "$(id -u)" -ne 0 ]; then
    command -v sudo >/dev/null || say "As root, type: apt-get install ${missing[*]}"
    sudo=(sudo)
fi
echo "setting up: Debian packages ${missing[*]}"
export DEBIAN_FRONTEND=noninteractive
log=$(mktemp)
for attempt in 1 2 3; do
    if { "${sudo[@]}" apt-get update -qq && "${sudo[@]}" apt-get install -y -qq --no-install-recommends "${missing[@]}"; } >"$log" 2>&1; then
        rm -f "$log"
        exit 0
    fi
    sleep $((attempt * 2))
done
tail -n 5 "$log" >&2
say "apt-get could not install them. Type: ${sudo[*]} apt-get install ${missing[*]}"
