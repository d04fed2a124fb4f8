#!/bin/sh
# Without permission for a camera's node every command names it, its group, and what to do; none says that there is no camera.
# denied.sh PATH-OF-BAMBINO    As root, in a mount namespace of its own.
set -eu
command=$(readlink -f "$1")
if [ -z "${BAMBINO_APART:-}" ]; then
    [ "$(id -u)" = 0 ] && unshare -m true 2>/dev/null || { echo "no namespace of its own can be had"; exit 77; }
    BAMBINO_APART=1 exec unshare -m "$0" "$command"
fi
folder=$(mktemp -d)
trap 'rm -rf "$folder"' EXIT
install -m 0755 "$command" "$folder/bambino"
chmod 0755 "$folder"
mount -t tmpfs none /dev
mknod -m 0666 /dev/null c 1 3 && mknod -m 0444 /dev/urandom c 1 9 && mknod -m 0660 /dev/video0 c 81 0 || exit 77
chgrp video /dev/video0
failed=0
as_nobody() { setpriv --reuid 65534 --regid 65534 --clear-groups "$folder/bambino" "$@" </dev/null 2>&1 || true; }
for words in "run --for 1" "cameras" "photo --out $folder/p.jpg" "cameras --write $folder/c.ini"; do
    # shellcheck disable=SC2086
    said=$(as_nobody $words)
    case $said in
    *"/dev/video0 may be used by the group \"video\" alone"*"usermod -aG video"*) ;;
    *) failed=1 && printf 'FAILED: %s: %s\n' "$words" "$said" ;;
    esac
    case $said in *[Nn]"o camera is attached"*) failed=1 && printf 'FAILED: %s says that there is none: %s\n' "$words" "$said" ;; esac
done
[ $failed = 1 ] || echo "4 passed, 0 failed"
exit $failed
