#!/bin/sh
# Install what the tests need into a virtual environment of their own, then run every check and test.
#
#   sh tools/check.sh [VENV]       (default: .venv beside this folder)
#
# More arguments after VENV go to pytest.
set -eu
cd "$(dirname "$0")/.."
venv=${1:-.venv}
[ $# -gt 0 ] && shift
[ -x "$venv/bin/python" ] || "${PYTHON:-python3}" -m venv "$venv"
"$venv/bin/python" -m pip install --quiet --disable-pip-version-check --editable '.[test]'
# The ledger is tested on PostgreSQL too, where a server is to be had.
if ! command -v initdb >/dev/null && ! ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1; then
    if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null; then
        { apt-get update -qq && apt-get install -y -qq postgresql; } >/dev/null 2>&1 || true
    fi
fi
"$venv/bin/ruff" check
"$venv/bin/ruff" format --check
"$venv/bin/mypy"
# Many tests wait for something, so that there is room for one more than there are cores.
"$venv/bin/pytest" -n "$(($(getconf _NPROCESSORS_ONLN) + 1))" --dist loadfile "$@"
