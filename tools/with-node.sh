#!/bin/bash
# Runs a command with Node 20.19 or newer: the system's, else that of the Node wheel from PyPI.
# Usage: with-node.sh VENV_BIN COMMAND…
set -eu
bin=$1
shift
new_enough() {
    command -v node >/dev/null && command -v npm >/dev/null &&
        node -e 'const [a, b] = process.versions.node.split(".").map(Number); process.exit(a > 20 || (a === 20 && b >= 19) ? 0 : 1)'
}
if ! new_enough; then
    wheel=.node
    if [ ! -x "$wheel/bin/node" ]; then
        echo "setting up: Node from its wheel (the system's is missing or older than 20.19)"
        "$bin/python" -m venv --without-pip "$wheel"
        "$bin/python" -m pip --disable-pip-version-check --quiet --python "$wheel/bin/python" install -r requirements/node.txt
    fi
    PATH=$PWD/$wheel/bin:$PATH
    export PATH
fi
exec "$@"
