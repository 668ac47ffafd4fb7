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
"$venv/bin/ruff" check
"$venv/bin/ruff" format --check
"$venv/bin/mypy"
"$venv/bin/pytest" -n auto --dist loadfile "$@"
