#!/bin/sh
# Installs the Debian packages that are missing for what is asked:
#   install-missing.sh run     what the demo needs: PostgreSQL
#   install-missing.sh test    and what the tests need: a browser
#   install-missing.sh shots   and what the pictures need: a terminal to photograph
# Go and Node.js are expected to be there.
set -eu

missing=""
need() { # need PACKAGE TEST…
	package=$1
	shift
	"$@" >/dev/null 2>&1 || missing="$missing $package"
}
has_postgres() { ls /usr/lib/postgresql/*/bin/initdb; }

case "${1:-run}" in
shots)
	need xvfb command -v Xvfb
	need xterm command -v xterm
	need imagemagick command -v import
	need fonts-dejavu-core test -e /usr/share/fonts/truetype/dejavu/DejaVuSansMono.ttf
	need chromium command -v chromium
	;;
test)
	need chromium command -v chromium
	;;
esac
need postgresql-15 has_postgres

for tool in go node npm; do
	command -v "$tool" >/dev/null || {
		echo "$tool is not installed. Install Go 1.26 and Node.js 20 or newer first." >&2
		exit 1
	}
done
[ -z "$missing" ] && exit 0

echo "Installing:$missing"
as_root=""
if [ "$(id -u)" != 0 ]; then
	command -v sudo >/dev/null || {
		echo "Not root, and there is no sudo. As root: apt-get install$missing" >&2
		exit 1
	}
	as_root=sudo
fi
# Debian starts a cluster of its own when the server package arrives; ours is
# private, and theirs is not wanted.
if [ ! -e /etc/postgresql-common/createcluster.conf ]; then
	$as_root mkdir -p /etc/postgresql-common
	echo "create_main_cluster = false" | $as_root tee /etc/postgresql-common/createcluster.conf >/dev/null
fi
$as_root apt-get update -qq
# shellcheck disable=SC2086
$as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing
