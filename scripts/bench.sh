#!/usr/bin/env bash
# Measures the whole program against general tools on the same data in the same run. Needs root (it mounts filesystems),
# time and some 20 GiB in /var/tmp. Arguments: names of benches (all when there are none), --times N, --out FILE.
set -eu
cd "$(dirname "$0")/.."
cargo build --release --workspace
exec python3 scripts/bench.py "$@"
