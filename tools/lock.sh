#!/usr/bin/env bash
# Write the lock files anew from the .in files, with hashes, for Python 3.11 and later.
set -euo pipefail
cd "$(dirname "$0")/.."
uv pip compile --universal --python-version 3.11 --generate-hashes -q requirements.in -o requirements.lock
uv pip compile --universal --python-version 3.11 --generate-hashes -q requirements-test.in -c requirements.lock -o requirements-test.lock
