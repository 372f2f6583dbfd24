#!/usr/bin/env bash
# Changes the program in 200 places and looks whether a test notices: `scripts/mutants.sh [FOLDER] [OPTIONS]`; `--places N` for
# another number, `--go-on` after it was stopped, `--again` to try once more what was not noticed, `--only FILE` for the places that
# a file names.
#
# The places are a sample by a fixed seed of all that cargo-mutants finds in the store, the state machine, the hold, the marks, the
# selection, verification, sweeping and status. How they are tried is said in scripts/mutants.py. What nothing notices stands at the
# end and in FOLDER/results.json; the results go into docs/PROOFS.md by hand. It takes about an hour and a half of two cores.
set -eu
cd "$(dirname "$0")/.."
folder=target/mutants
case "${1:-}" in "" | -*) ;; *) folder=$1 && shift ;; esac
command -v cargo-mutants >/dev/null || cargo install cargo-mutants --locked
if ! python3 -c 'import tree_sitter, tree_sitter_rust' 2>/dev/null; then
  packages=(tree_sitter tree_sitter_rust)
  python3 -m pip install --quiet "${packages[@]}" 2>/dev/null ||
    python3 -m pip install --quiet --break-system-packages "${packages[@]}"
fi
# What a change does in an endless loop must not take the machine's memory with it.
ulimit -v 12000000
exec python3 -B scripts/mutants.py "$folder" "$@"
