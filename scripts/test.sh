#!/usr/bin/env bash
# Passes all tests on a fresh machine: installs what is missing from Debian's packages when it can, says what is missing
# when it cannot, then runs `cargo test`. Arguments go to `cargo test`.
set -eu
cd "$(dirname "$0")/.."

# program: the Debian package that has it
needed=(
  "cc:gcc" "setfattr:attr" "setfacl:acl" "zstd:zstd" "script:bsdutils" "pgrep:procps" "mount:mount" "find:findutils"
  "tar:tar" "sha256sum:coreutils" "python3:python3" "pip3:python3-pip" "unshare:util-linux" "fallocate:util-linux" "systemd-analyze:systemd"
  "hostname:hostname" "curl:curl" "/usr/lib/postgresql/15/bin/postgres:postgresql-15" "mariadbd:mariadb-server-core" "mariadb:mariadb-client-core"
  "mariadb-dump:mariadb-client" "redis-server:redis-server" "redis-cli:redis-tools" "slapd:slapd" "ldapsearch:ldap-utils"
  "faketime:faketime" "age:age" "jq:jq" "ssh-keygen:openssh-client" "exim4:exim4-daemon-light" "openssl:openssl" "apache2:apache2-bin" "nginx:nginx-light" "sshd:openssh-server" "chromium:chromium" "tidy:tidy" "mkfs.btrfs:btrfs-progs" "mkfs.xfs:xfsprogs" "mkfs.ext4:e2fsprogs"
)
missing=()
PATH="$PATH:/usr/sbin:/sbin"
for pair in "${needed[@]}"; do
  command -v "${pair%%:*}" >/dev/null 2>&1 || missing+=("${pair##*:}")
done
# Python has no time zones of its own.
[ -e /usr/share/zoneinfo/Europe/Lisbon ] || missing+=("tzdata")
# Modules of a web server; a library, which stands in for a directory of accounts.
[ -e /usr/lib/nginx/modules/ngx_http_dav_ext_module.so ] || missing+=("libnginx-mod-http-dav-ext")
compgen -G "/usr/lib/*/libnss_wrapper.so" >/dev/null || missing+=("libnss-wrapper")
if [ ${#missing[@]} -gt 0 ]; then
  echo "missing: ${missing[*]}"
  if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null; then
    apt-get update -qq
    DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}"
  else
    echo "cannot install them: not root, or no apt-get. Install them and run this again." >&2
    exit 1
  fi
fi
# Readers of open formats by others, and two object storages (a good and a careless one), from PyPI.
if ! python3 -c 'import pyzstd, blake3, prometheus_client, moto.server, nanio' 2>/dev/null; then
  packages=(pyzstd blake3 prometheus_client "moto[server,s3]" nanio)
  python3 -m pip install --quiet "${packages[@]}" 2>/dev/null ||
    python3 -m pip install --quiet --break-system-packages "${packages[@]}" ||
    { echo "missing: Python packages (python3 -m pip install ${packages[*]})" >&2; exit 1; }
fi
if [ "$(id -u)" != 0 ]; then
  echo "the tests mount small filesystems and change owners, which needs root" >&2
  exit 1
fi
if ! command -v cargo >/dev/null; then
  echo "missing: cargo. Install a Rust toolchain (1.89 or newer)." >&2
  exit 1
fi
# Most tests wait for processes most of the time.
export RUST_TEST_THREADS="${RUST_TEST_THREADS:-$(($(nproc) * 2))}"
exec cargo test --workspace "$@"
