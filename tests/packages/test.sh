#!/bin/sh
# The packages in a clean root: installed, used, upgraded over an older build with changed settings, removed, purged. As
# root. tests/packages/test.sh FOLDER-OF-PACKAGES
set -eu
cd "$(dirname "$0")/../.."
packages=$(realpath "$1")
own=$(dpkg --print-architecture)
version=$(sed -n 's/^#define BMB_VERSION "\(.*\)"$/\1/p' include/bambino/version.h)
scripts/debian-root build/roots/clean "$own" man-db adduser
root=$(realpath build/roots/clean)-$$
cp -a build/roots/clean "$root"
mounted=""
leave() {
    for m in $mounted; do umount "$m"; done
    rm -rf --one-file-system "$root"
}
trap leave EXIT
mount -t proc proc "$root/proc"
mounted="$root/proc"
passed=0 failed=0
check() { # what it is, and a command that must succeed
    what=$1
    shift
    if "$@" >"$root/tmp/said" 2>&1; then passed=$((passed + 1)); else failed=$((failed + 1)); echo "FAILED: $what"; sed 's/^/    /' "$root/tmp/said"; fi
}
inside() { chroot "$root" env -i PATH=/usr/sbin:/usr/bin:/sbin:/bin HOME=/root LANG=C.UTF-8 DEBIAN_FRONTEND=noninteractive "$@"; }
not() { ! "$@"; }
install() { inside apt-get install -y -q --no-install-recommends -o Dpkg::Options::=--force-confdef -o Dpkg::Options::=--force-confold "$@"; }

for file in /etc/resolv.conf /etc/hosts /etc/apt/apt.conf.d/*proxy*; do [ ! -e "$file" ] || cp -L "$file" "$root$file"; done
inside apt-get update -q >/dev/null 2>&1

# An older build: the same files under an older version, with a configuration of other comments.
mkdir "$root/packages"
cp "$packages"/*_"$own".deb "$packages"/*_all.deb "$root/packages/"
dpkg-deb -R "$packages/bambino_${version}_$own.deb" "$root/older"
sed -i "s/^Version: .*/Version: 0.0.9/" "$root/older/DEBIAN/control"
sed -i '1i # An older one.' "$root/older/etc/bambino/bambino.ini"
rm "$root/older/DEBIAN/md5sums"
dpkg-deb --root-owner-group -b "$root/older" "$root/packages/older.deb" >/dev/null

# What a package can be asked for before anything runs.
check "it installs" install ./packages/older.deb
check "the service has a user of its own" inside id -u bambino
check "the service starts with the machine" test -L "$root/etc/systemd/system/multi-user.target.wants/bambino.service"
check "its unit names the configuration" grep -q '^ExecStart=/usr/bin/bambino run /etc/bambino/bambino.ini$' "$root/lib/systemd/system/bambino.service"
check "the configuration is fine" inside bambino run --check /etc/bambino/bambino.ini
check "without a camera it waits for one" inside bambino run /etc/bambino/bambino.ini --http 127.0.0.1:0 --rtsp 127.0.0.1:0 --for 1
check "commands have pages" inside sh -c 'for c in $(bambino completion bash | sed -n "s/^        words=\"\(.*\) --help --version\"$/\1/p"); do man "bambino-$c" | grep -q "EXIT STATUS" || exit 1; done'
check "the configuration has a page, with every key" inside sh -c 'MANWIDTH=300 man bambino.ini >/tmp/page; bambino keys | sed -n "s/^| \`\([a-z0-9-]*\)\` .*/\1/p" | while read -r key; do grep -q "^ *$key = " /tmp/page || { echo "$key"; exit 1; }; done'
check "bash completes commands and options" inside bash -c '. /usr/share/bash-completion/completions/bambino; COMP_WORDS=(bambino che) COMP_CWORD=1; _bambino; [ "${COMPREPLY[*]}" = check ] || exit 1
    COMP_WORDS=(bambino service in) COMP_CWORD=2; _bambino; [ "${COMPREPLY[*]}" = install ] || exit 1; COMP_WORDS=(bambino photo --ov) COMP_CWORD=2; _bambino; [ "${COMPREPLY[*]}" = --overwrite ]'
check "without its data the demo says what to install" not inside bambino demo --for 1
check "… which package that is" inside sh -c 'bambino demo 2>&1 | grep -q "demo data"'
install ./packages/bambino-demo_"$version"_all.deb ./packages/bambino-doc_"$version"_all.deb >"$root/tmp/said" 2>&1
check "the demo runs" inside bambino demo --http 127.0.0.1:0 --rtsp 127.0.0.1:0 --tcp 127.0.0.1:0 --for 1
check "boards are there" inside bambino boards
check "guides are there" test -e "$root/usr/share/doc/bambino/docs/on-your-board.md.gz"

# Over the older one, with what an administrator changed and what the service kept.
sed -i 's/^listen = :8554$/listen = :9554/' "$root/etc/bambino/bambino.ini"
mkdir -p "$root/var/lib/bambino"
echo kept >"$root/var/lib/bambino/users"
check "it upgrades" install "./packages/bambino_${version}_$own.deb"
check "it is the new one" sh -c "chroot '$root' dpkg-query -W -f='\${Version}' bambino | grep -qx '$version'"
check "what was changed stays" grep -q '^listen = :9554$' "$root/etc/bambino/bambino.ini"
check "the new file lies beside it" test -e "$root/etc/bambino/bambino.ini.dpkg-dist"
check "what was kept stays" grep -q kept "$root/var/lib/bambino/users"
check "the service still starts with the machine" test -L "$root/etc/systemd/system/multi-user.target.wants/bambino.service"

check "it is removed" inside apt-get remove -y -q bambino
check "the command is gone" not test -e "$root/usr/bin/bambino"
check "its configuration stays" test -e "$root/etc/bambino/bambino.ini"
check "what was kept stays, too" test -e "$root/var/lib/bambino/users"
check "it is purged" inside apt-get purge -y -q bambino bambino-demo bambino-doc
check "the configuration is gone" not test -e "$root/etc/bambino"
check "what was kept is gone" not test -e "$root/var/lib/bambino"
check "nothing is left to start" not test -e "$root/etc/systemd/system/multi-user.target.wants/bambino.service"

# The library, for a program of one's own.
dpkg-deb -x "$packages/libbambino-dev_${version}_$own.deb" "$root/library"
triple=$(dpkg-architecture -q DEB_HOST_MULTIARCH)
check "a program is built with it" sh -c "PKG_CONFIG_PATH='$root/library/usr/lib/$triple/pkgconfig' PKG_CONFIG_SYSROOT_DIR='$root/library' sh -c 'cc examples/smallest.c -o \"$root/smallest\" \$(pkg-config --cflags --libs bambino)'"

echo "$passed passed, $failed failed"
[ $failed = 0 ]
