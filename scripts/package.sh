#!/usr/bin/env bash
# Makes packages in target/package: a .deb, an .rpm and a .tar.zst with the program, manual pages, completions, units, recipes,
# schemas and documents. `scripts/package.sh --layout` only lays the files out. Needs cargo-deb and cargo-generate-rpm, and installs
# them where they are missing.
#
# The program is the one that is measured; docs/PERFORMANCE.md says why none that is smaller is taken. GULLET_VERSION=1.2.3 gives the .deb
# another version.
set -eu
cd "$(dirname "$0")/.."
target=()
# Where the toolchain has it, the program needs no library of the system.
if rustup target list --installed 2>/dev/null | grep -qx "$(uname -m)-unknown-linux-musl" && command -v musl-gcc >/dev/null; then
  target=(--target "$(uname -m)-unknown-linux-musl")
fi
cargo build --quiet --release --package gullet ${target[@]+"${target[@]}"}
program=target/${target[1]:+${target[1]}/}release/gullet
program=$PWD/$program

package=target/package root=target/package/root
rm -rf "$package"
mkdir -p "$root"/usr/{bin,lib/systemd/system} "$root"/usr/share/{man/man1,doc/gullet,bash-completion/completions,zsh/vendor-completions,fish/vendor_completions.d,gullet}
install -m 755 "$program" "$root/usr/bin/gullet"
"$program" manual "$root/usr/share/man/man1" --quiet
gzip -9 -n "$root"/usr/share/man/man*/*
"$program" completions bash >"$root/usr/share/bash-completion/completions/gullet"
"$program" completions zsh >"$root/usr/share/zsh/vendor-completions/_gullet"
"$program" completions fish >"$root/usr/share/fish/vendor_completions.d/gullet.fish"

# The units are those that `gullet timer` writes, with the places of a package. None of them is enabled.
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cp crates/gullet-model/src/definition/reference/examples/*.toml "$work"
"$program" --definition "$work/desk.toml" timer --every-minute systemd --install --folder "$work" --quiet >/dev/null
for unit in gullet-boot.service gullet-due.service gullet-due.timer; do
  sed "s|$program|/usr/bin/gullet|; s|$work/desk.toml|/etc/gullet/gullet.toml|" "$work/$unit" >"$root/usr/lib/systemd/system/$unit"
done

doc=$root/usr/share/doc/gullet
cp README.md CHANGELOG.md FORMAT.md LICENSE-APACHE LICENSE-MIT "$doc"
cp -r docs/definition.md docs/commands.md docs/reference docs/schemas "$doc"
[ ! -d docs/guide ] || cp -r docs/guide "$doc"
install -m 644 docs/reader.py "$doc/reader.py"
mkdir -p "$doc/examples" "$root/usr/share/gullet/recipes"
cp crates/gullet-model/src/definition/reference/examples/*.toml "$doc/examples"
"$program" new --recipes --json | sed -n 's/^ *"name": "\(.*\)",*$/\1/p' | while read -r recipe; do
  "$program" new example --recipe "$recipe" --out "$root/usr/share/gullet/recipes/$recipe.toml" --quiet >/dev/null
done
find "$root" -type f ! -path '*/bin/*' -exec chmod 644 {} +
[ "${1:-}" != --layout ] || exit 0

command -v cargo-deb >/dev/null || cargo install --quiet cargo-deb --locked
command -v cargo-generate-rpm >/dev/null || cargo install --quiet cargo-generate-rpm --locked
cargo deb --quiet --no-build --no-strip --package gullet --output "$package/" ${GULLET_VERSION:+--deb-version "$GULLET_VERSION"}
cargo generate-rpm --package crates/gullet --output "$package/"
version=$(sed -n 's/^version = "\(.*\)"/\1/p' Cargo.toml | head -1)
tar --create --zstd --owner=0 --group=0 --sort=name --file "$package/gullet-$version-$(uname -m).tar.zst" --directory "$root" usr
ls -l "$package"/*.deb "$package"/*.rpm "$package"/*.tar.zst
