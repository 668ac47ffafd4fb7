#!/bin/sh
# Install what the tests need into a virtual environment of their own, then run every check and test.
#
#   sh tools/check.sh [--quick] [VENV]       (default: .venv beside this folder)
#
# More arguments after VENV go to pytest. It ends with installing and using the built package on each supported Python
# that is on this machine. With --quick it checks the code and runs what is tested in the process, in under a minute.
set -eu
cd "$(dirname "$0")/.."
quick=
if [ "${1:-}" = --quick ]; then
    quick=1
    shift
fi
venv=${1:-.venv}
[ $# -gt 0 ] && shift
# The ledger is tested on PostgreSQL too, and subtitles in a browser, where these are to be had.
missing=
command -v initdb >/dev/null || ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || missing=postgresql
command -v pgbouncer >/dev/null || missing="$missing pgbouncer"
command -v chromium >/dev/null || command -v chromium-browser >/dev/null || missing="$missing chromium"
if [ -z "$quick" ] && [ -n "$missing" ] && [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null; then
    export DEBIAN_FRONTEND=noninteractive
    { apt-get update -qq && apt-get install -y -qq --no-install-recommends $missing; } >/dev/null 2>&1 &
fi
[ -x "$venv/bin/python" ] || "${PYTHON:-python3}" -m venv "$venv"
# The versions that everything is known to work with; CONSTRAINTS= takes the newest ones.
if [ -z "$quick" ] || [ ! -x "$venv/bin/pytest" ]; then
    # Compiling all of every package takes half of the time of installing it, and a part of it is used.
    "$venv/bin/python" -m pip install --quiet --no-compile --disable-pip-version-check \
        ${CONSTRAINTS=--constraint constraints.txt} --editable '.[test]'
fi
# Many tests start the command, which would be compiled anew each time.
unset PYTHONDONTWRITEBYTECODE
"$venv/bin/ruff" check
"$venv/bin/ruff" format --check
if [ -n "$quick" ]; then
    "$venv/bin/mypy"
    exec "$venv/bin/pytest" -n "$(getconf _NPROCESSORS_ONLN)" tests/test_house.py tests/transcript tests/subtitles \
        tests/exports/test_formats.py tests/cards tests/engines/test_card.py \
        tests/jobs/test_life.py tests/pipeline/test_options_given.py tests/review/test_doubts.py "$@"
fi
wait
# Types are checked beside the tests: half a minute that nobody has to wait for. Those of the manual's examples too, as
# files of their own.
typed=$(mktemp)
examples=$(mktemp -d)
{ "$venv/bin/python" tools/examples.py "$examples" && "$venv/bin/mypy" src tests tools benchmarks "$examples"; } \
    >"$typed" 2>&1 &
types=$!
# As a user would install it, on every Python that is here, with the newest versions that pip finds. It runs beside the
# tests, with as much of the machine as one of their workers: with what they leave of it, it went on for minutes after
# them, on one core.
told=$(mktemp)
"$venv/bin/python" tools/smoke_pythons.py >"$told" 2>&1 &
smoke=$!
# Many tests wait for something, so that there is room for two more than there are cores. The longest files come first
# (tests/conftest.py), so that none is left alone at the end.
"$venv/bin/pytest" -n "$(($(getconf _NPROCESSORS_ONLN) + 2))" --dist loadfile --no-loadscope-reorder "$@" || failed=1
wait "$types" || failed=1
wait "$smoke" || failed=1
cat "$typed" "$told"
rm -rf "$typed" "$told" "$examples"
exit "${failed:-0}"
