#!/usr/bin/env bash
# The long proofs, run by hand; dated results belong into docs/PROOFS.md.
set -eu
cd "$(dirname "$0")/.."
echo "crash matrix: SIGKILL at every event of a run, and 500 times at random moments"
GULLET_KILLS=500 cargo test -p gullet --test crash -- --nocapture
