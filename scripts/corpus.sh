#!/bin/sh
# Fetches what a distribution's own people have signed, for the test of the OpenPGP core on
# real material: corpus.sh DIRECTORY. It needs the distribution's package manager, and changes
# nothing of the machine's: lists and caches go below the directory.
set -eu
dir=$1
# Packages of many ages and maintainers.
packages="${2:-bash bc busybox coreutils cpio curl dash diffutils dosfstools e2fsprogs ed file findutils gawk grep gzip hello iproute2 jq less lsof make mawk nano ncurses openssh patch procps rsync sed strace sudo tar time tzdata units util-linux vim wget which xz-utils zlib zsh}"
mkdir -p "$dir/lists/partial" "$dir/cache/archives/partial" "$dir/signed"
dir=$(cd "$dir" && pwd)
command -v apt-get >/dev/null || { echo "There is no apt-get here." >&2; exit 1; }

# The same places as the machine's own, for sources too.
for from in /etc/apt/sources.list /etc/apt/sources.list.d/*.list; do
	[ -f "$from" ] && sed -n 's/^deb /deb-src /p; /^deb /p' "$from"
done > "$dir/sources.list" 2>/dev/null || true
mkdir -p "$dir/parts"
for from in /etc/apt/sources.list.d/*.sources; do
	[ -f "$from" ] && sed 's/^Types:.*/Types: deb deb-src/' "$from" > "$dir/parts/$(basename "$from")"
done
apt() {
	apt-get -q -o Dir::Etc::sourcelist="$dir/sources.list" -o Dir::Etc::sourceparts="$dir/parts" \
		-o Dir::State::lists="$dir/lists" -o Dir::Cache="$dir/cache" -o APT::Sandbox::User=root "$@"
}
apt update >/dev/null
cd "$dir/signed"
apt download debian-keyring >/dev/null 2>&1 && dpkg-deb -x debian-keyring_*.deb "$dir/keyring" && rm -f debian-keyring_*.deb
for package in $packages; do
	apt source --download-only --dsc-only "$package" >/dev/null 2>&1 || echo "not fetched: $package" >&2
done
find "$dir/lists" -name '*InRelease' -exec cp {} "$dir/signed/" \;
ls "$dir/signed" | wc -l
