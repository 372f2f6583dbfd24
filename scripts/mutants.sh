#!/usr/bin/env bash
# Changes the program in 200 places, one at a time, and looks whether a test notices: `scripts/mutants.sh [FOLDER]`.
#
# The places are the same every time for one state of the code: a sample by a fixed seed of all that cargo-mutants finds in the
# store, the state machine, the hold, the marks, the selection, verification, sweeping and status. First each crate's own tests
# look (but for the slowest); then, for what they did not notice, those tests of the program that are about its crate. What
# nothing notices stands in FOLDER/survivors.txt. The results go into docs/PROOFS.md by hand.
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
  crates/gullet-run/src/{sequence.rs,sequence/reply.rs} crates/gullet-run/src/hold/'*.rs' crates/gullet-run/src/hold/note/head.rs
  crates/gullet-capture/src/part/{marks.rs,marks/mark.rs} crates/gullet-restore/src/restore/select.rs)
chosen=()
for file in "${files[@]}"; do chosen+=(--file "$file"); done

# `shuf` takes its chance from a fixed text.
cargo mutants --workspace --list "${chosen[@]}" | LC_ALL=C sort >"$folder/all.txt"
shuf -n "$places" --random-source=<(yes 20261128) "$folder/all.txt" | LC_ALL=C sort >"$folder/sample.txt"
echo "$(wc -l <"$folder/sample.txt") of $(wc -l <"$folder/all.txt") places"

# Own tests that take long come with the program's: few mutants need them.
quick=(-E 'not test(/every_changed_byte|taking_blocks_over|two_listings_of_any|a_passphrase_protects|very_many_chunks|a_payload_file_of_anything|cost_without_end/)')
# What a mutant does in an endless loop must not take the machine's memory with it.
ulimit -v 12000000

# The tests of the program that are about each crate.
declare -A about=(
  [gullet-store]='binary(cli) and test(/^(store|sweep|sealed|restore|capture|copies)::/) or binary(services) and test(/^(far|dav|ssh)::/) or package(gullet-restore) or package(gullet-logbook)'
  [gullet-logbook]='binary(cli) and test(/^(sweep|store|green)::/)'
  [gullet-core]='binary(cli) and test(/^(green|output)::/)'
  [gullet-run]='binary(cli) and test(/^(held|guard|attended|hold|exit_codes|planned)::/)'
  [gullet-capture]='binary(cli) and test(/^(capture|racing|store)::/)'
  [gullet-restore]='binary(cli) and test(/^(restore|place)::/)'
)

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

# Tests of the program are in its own crate, whatever crate a mutant is in.
packages=(--test-package gullet --test-package gullet-restore --test-package gullet-logbook)

mapfile -d '' -t these < <(wanted "$folder/sample.txt")
tried "${these[@]}" --output "$folder/own" --timeout 120 --jobs "${GULLET_MUTANTS_JOBS:-2}" \
  --test-tool nextest --no-shuffle --colors never -- "${quick[@]}"
cp "$folder/own/mutants.out/missed.txt" "$folder/missed.txt"
echo "$(wc -l <"$folder/missed.txt") of them are not noticed by the crates' own tests"

: >"$folder/survivors.txt"
for crate in "${!about[@]}"; do
  grep "^crates/$crate/" "$folder/missed.txt" >"$folder/missed-$crate.txt" || continue
  mapfile -d '' -t these < <(wanted "$folder/missed-$crate.txt")
  tried "${these[@]}" --output "$folder/program-$crate" --timeout 400 --jobs "${GULLET_MUTANTS_JOBS:-2}" \
    --test-tool nextest --no-shuffle --colors never "${packages[@]}" -- -E "${about[$crate]}"
  cat "$folder/program-$crate/mutants.out/missed.txt" >>"$folder/survivors.txt"
done
count() { cat "$folder"/own/mutants.out/"$1".txt | wc -l; }
viable=$(($(count caught) + $(count timeout) + $(count missed)))
echo "$((viable - $(wc -l <"$folder/survivors.txt"))) of $viable that build were noticed; the others:"
cat "$folder/survivors.txt"
