#!/bin/bash
# Asks what is known against the packages that are installed with it and that the console is made of; says so where nobody answers.
# Usage: audit.sh VENV_BIN
set -u
bin=$1
unasked() { echo "not audited: $1 (nobody answers from here, or not in words that are understood)"; }
if "$bin/python" -m venv build/audit && build/audit/bin/python -m pip --quiet --disable-pip-version-check install pip-audit 2>build/audit.log; then
    build/audit/bin/pip-audit --require-hashes --disable-pip -r requirements/run.txt >build/audit.log 2>&1
    found=$?
    if grep -q "No known vulnerabilities" build/audit.log; then echo "Python packages: nothing is known against them"
    elif grep -q "^Found" build/audit.log; then cat build/audit.log; exit $found
    else unasked "Python packages"; fi
else unasked "Python packages"; fi
tools/with-node.sh "$bin" npm --prefix console audit --json >build/audit.json 2>/dev/null
python3 - 2>/dev/null <<'END' || unasked "packages of the console"
import json, sys
told = json.load(open("build/audit.json"))
counted = told["metadata"]["vulnerabilities"]
print("packages of the console:", "nothing is known against them" if not counted["total"] else counted)
END
