#!/usr/bin/env bash
# The long proofs, run by hand; dated results belong into docs/PROOFS.md. `scripts/prove.sh mutants` runs that one alone, which takes
# hours.
set -eu
cd "$(dirname "$0")/.."
[ "${1:-}" != mutants ] || exec scripts/mutants.sh
echo "services: PostgreSQL and MariaDB captured under load, ten times each"
GULLET_TRIES=10 cargo test --workspace --test services -- --nocapture a_cluster_that_works databases_are_exported_and_counted the_files_are_captured without_a_log
echo "crash matrix: SIGKILL at every event of a run, and 500 times at random moments"
GULLET_KILLS=500 cargo test --workspace --test crash killed -- --nocapture
echo "faults: the guard killed or stopped, main stopped, both killed, each at every event of a run"
GULLET_FAULTS=all cargo test --workspace --test crash the_guard -- --nocapture
echo "Ceph with its S3 gateway: all that a location must do, killed in the middle of copies, locks against a thief, and 500 runs with a copy"
echo "  through a proxy that cuts, stalls, flips and refuses"
if ! command -v radosgw >/dev/null; then
  apt-get update -qq
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends ceph-mon ceph-osd radosgw ceph-common
fi
cargo test --workspace --test services ceph:: -- --ignored --nocapture --test-threads 1
echo "racing writer: 200 rounds, 50 with each way of capturing"
GULLET_RACES=50 cargo test --workspace --test cli racing::a_writer -- --nocapture
echo "models: runs, thinnings, sweeps, kills and restores in 40 random orders; the same by two machines with clocks that jump"
for seed in $(seq 1001 1040); do
  MODEL_SEED=$seed cargo test --workspace --quiet --test cli model::
done
