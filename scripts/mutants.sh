#!/usr/bin/env bash
# Changes the program in 200 places, one at a time, and looks whether a test notices: `scripts/mutants.sh [FOLDER]`.
#
# The places are the same every time for one state of the code: a sample by a fixed seed of all that cargo-mutants finds in the
# store, the state machine, the hold, the marks, the selection, verification, sweeping and status. First each crate's own tests
# look (but for the slowest); then, for what they did not notice, the others, and those tests of the program that are about it. What nothing notices stands in
# FOLDER/survivors.txt. The results go into docs/PROOFS.md by hand.
set -eu
cd "$(dirname "$0")/.."
folder=${1:-target/mutants}
places=${GULLET_MUTANTS:-200}
mkdir -p "$folder"
command -v cargo-mutants >/dev/null || cargo install cargo-mutants --locked
command -v cargo-nextest >/dev/null || cargo install cargo-nextest --locked

files=(crates/gullet-store/src/{deposit,packing,payload,reader,seal,store,verify,location,document}.rs
  crates/gullet-store/src/{listing,location}/'*.rs'
  crates/gullet-logbook/src/{sweep,verify}.rs crates/gullet-logbook/src/verify/'*.rs' crates/gullet-core/src/status.rs
  crates/gullet-run/src/sequence.rs crates/gullet-run/src/hold/'*.rs'
  crates/gullet-capture/src/part/marks.rs crates/gullet-restore/src/restore/select.rs)
chosen=()
for file in "${files[@]}"; do chosen+=(--file "$file"); done

# `shuf` takes its chance from a fixed text.
cargo mutants --workspace --list "${chosen[@]}" | LC_ALL=C sort >"$folder/all.txt"
shuf -n "$places" --random-source=<(yes 20261128) "$folder/all.txt" | LC_ALL=C sort >"$folder/sample.txt"
echo "$(wc -l <"$folder/sample.txt") of $(wc -l <"$folder/all.txt") places"

# Own tests that take long come with the program's: few mutants need them.
quick=(-E 'not test(/every_changed_byte|taking_blocks_over|two_listings_of_any|a_passphrase_protects|very_many_chunks|a_payload_file_of_anything|cost_without_end/)')
# The tests of the program that are about these rooms.
about=(-E 'binary(cli) and test(/^(held|guard|attended|green|trust|place|racing|store|capture|sweep)::/) or not package(gullet)')

# Survivors and timeouts are results; anything else ends this, such as being stopped.
tried() {
  local code=0
  cargo mutants --workspace "${chosen[@]}" "$@" || code=$?
  [ "$code" = 0 ] || [ "$code" = 2 ] || [ "$code" = 3 ] || exit "$code"
}

wanted() { # FILE: arguments that mean exactly its lines
  while IFS= read -r name; do
    printf '%s\0' --re "^$(sed 's/[][\.*^$+?(){}|/]/\\&/g' <<<"$name")\$"
  done <"$1"
}

mapfile -d '' -t these < <(wanted "$folder/sample.txt")
tried "${these[@]}" --output "$folder/own" --timeout 120 --jobs "${GULLET_MUTANTS_JOBS:-2}" \
  --test-tool nextest --no-shuffle --colors never -- "${quick[@]}"
cp "$folder/own/mutants.out/missed.txt" "$folder/missed.txt"
echo "$(wc -l <"$folder/missed.txt") of them are not noticed by the crates' own tests"

: >"$folder/survivors.txt"
if [ -s "$folder/missed.txt" ]; then
  mapfile -d '' -t these < <(wanted "$folder/missed.txt")
  tried "${these[@]}" --output "$folder/program" --timeout 400 --jobs "${GULLET_MUTANTS_JOBS:-2}" \
    --test-tool nextest --no-shuffle --colors never --test-workspace true -- "${about[@]}"
  cp "$folder/program/mutants.out/missed.txt" "$folder/survivors.txt"
fi
count() { cat "$folder"/own/mutants.out/"$1".txt | wc -l; }
viable=$(($(count caught) + $(count timeout) + $(count missed)))
echo "$((viable - $(wc -l <"$folder/survivors.txt"))) of $viable that build were noticed; the others:"
cat "$folder/survivors.txt"
