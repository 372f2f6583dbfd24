#!/usr/bin/env bash
# Proves the .deb in a clean Debian: `scripts/package-check.sh [FOLDER]`, after scripts/package.sh. Makes the clean system in FOLDER with
# debootstrap, installs the package in it, tries what it brings, follows every chapter of the guide there word for word, upgrades over an
# older package while an application is held, and removes it again. The dated result belongs into docs/PROOFS.md.
set -eu
cd "$(dirname "$0")/.."
root=${1:-/var/tmp/gullet-clean}
package=$(ls target/package/gullet_*.deb | tail -1)
command -v debootstrap >/dev/null || { echo "missing: debootstrap" >&2; exit 1; }
if [ ! -e "$root/etc/debian_version" ]; then
  debootstrap --variant=minbase --include=postgresql,postgresql-client,iproute2,man-db,bash-completion,procps,tzdata bookworm "$root" >/dev/null
fi
say() { printf '\n== %s\n' "$*"; }
inside() { # COMMAND: as root of the clean system, in namespaces of its own
  unshare --mount --pid --uts --net --fork --kill-child bash -c '
    mount -t proc proc "$0/proc"; mount --rbind /dev "$0/dev"; mount -t tmpfs tmpfs "$0/run"
    exec chroot "$0" env -i PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin HOME=/root TERM=dumb LC_ALL=C.UTF-8 bash -euo pipefail -c "ip link set lo up; $1"' "$root" "$1"
}
cp "$package" "$root/root/gullet.deb"
# What an earlier check left that did not come to its end.
inside 'dpkg -P gullet >/dev/null 2>&1 || true; rm -rf /etc/gullet /var/lib/gullet /srv/* /etc/systemd/system/*.wants/gullet-*'

say "install"
inside 'dpkg -i /root/gullet.deb >/dev/null; dpkg -L gullet | wc -l; gullet --version
  test ! -e /etc/gullet; test ! -e /var/lib/gullet
  ! find /etc/systemd/system -name "gullet*" | grep -q .'

say "it starts by itself nowhere, and brings what it should"
inside 'gullet tour > /tmp/tour 2>&1; tail -3 /tmp/tour; rm /tmp/tour
  man -w gullet gullet-run gullet.toml
  man gullet.toml 2>/dev/null | grep -c must_contain
  source /usr/share/bash-completion/bash_completion; _comp_load gullet 2>/dev/null || __load_completion gullet; complete -p gullet
  cd /usr/share/gullet/recipes && for recipe in *.toml; do gullet --definition "$recipe" agenda >/dev/null 2>&1 || [ $? = 3 ] && echo -n "$recipe "; done; echo
  mkdir -p /etc/gullet && printf "state = \"/var/lib/gullet\"\n[store.depot]\nlocation = \"/srv/depot\"\n[app.a]\nno_hold = \"x\"\n[[app.a.part]]\nname = \"a\"\ncommand = [\"true\"]\n" > /etc/gullet/gullet.toml
  ! gullet timer --every-minute systemd --check
  ln -s /usr/lib/systemd/system/gullet-due.timer -t "$(mkdir -p /etc/systemd/system/timers.target.wants && echo /etc/systemd/system/timers.target.wants)"
  ln -s /usr/lib/systemd/system/gullet-boot.service -t "$(mkdir -p /etc/systemd/system/multi-user.target.wants && echo /etc/systemd/system/multi-user.target.wants)"
  gullet timer --every-minute systemd --check
  rm -r /etc/gullet /var/lib/gullet /etc/systemd/system/timers.target.wants/gullet-due.timer /etc/systemd/system/multi-user.target.wants/gullet-boot.service'

say "the guide, word for word"
began=$(date +%s)
[ "${2:-}" = quick ] || GULLET_ROOT=$root RUST_TEST_THREADS=1 cargo test --workspace --quiet --test cli guide:: -- --skip every_chapter_is
echo "$(($(date +%s) - began)) s for all chapters"

say "upgrade over an older package while an application is held, and remove"
old=$(mktemp -d)
dpkg-deb --raw-extract "$package" "$old/tree"
sed -i 's/^Version: .*/Version: 0.0.1/' "$old/tree/DEBIAN/control"
dpkg-deb --build --root-owner-group "$old/tree" "$root/root/old.deb" >/dev/null
rm -rf "$old"
inside 'dpkg -i /root/old.deb 2>&1 | grep -i downgrading; dpkg-query -W gullet
  mkdir -p /etc/gullet; echo serving > /srv/state
  cat > /etc/gullet/gullet.toml <<END
[store.depot]
location = "/srv/depot"
[app.a]
[[app.a.hold]]
name = "desk"
enter = { script = "echo held > /srv/state" }
entered = { run = ["cat", "/srv/state"], prints = "held" }
release = { script = "echo serving > /srv/state" }
released = { run = ["cat", "/srv/state"], prints = "serving" }
manual_release = "x"
[[app.a.part]]
name = "a"
command = ["true"]
END
  gullet store new depot --quiet; gullet hold a --limit 5m
  # Main and guard die, and the note stays.
  for process in /proc/[0-9]*; do
    case $(readlink "$process/exe" || true) in /usr/bin/gullet*) kill -9 "${process#/proc/}" ;; esac
  done
  sleep 1; test "$(cat /srv/state)" = held
  dpkg -i /root/gullet.deb >/dev/null; dpkg-query -W gullet
  gullet release --forgotten; cat /srv/state; test "$(cat /srv/state)" = serving
  gullet run a --quiet || test $? = 6
  dpkg -r gullet >/dev/null; test ! -e /usr/bin/gullet
  ls -d /etc/gullet/gullet.toml /var/lib/gullet/machine.json /srv/depot/store.json
  test -z "$(find / -xdev -name "*gullet*" -not -path "/proc/*" -not -path "/root/*" -not -path "/etc/gullet*" -not -path "/var/lib/gullet*" -not -path "/var/lib/dpkg/*" -not -path "/srv/*" -not -path "/var/cache/*" -not -path "/tmp/*" | head)"
  rm -rf /etc/gullet /var/lib/gullet /srv/depot /srv/state'
say "all of it held"
