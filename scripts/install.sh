#!/usr/bin/env bash
# Installs what is missing of the Debian packages that are named by what they are needed for, and says
# so: install.sh server|devices|browser|tools|compiler …
set -euo pipefail

as_root() { if [ "$(id -u)" = 0 ]; then "$@"; else sudo "$@"; fi; }

updated=
install() { # why, package …
	local why=$1
	shift
	if ! command -v apt-get >/dev/null; then
		echo "install $* (needed for $why) with this system's own means, then run make again" >&2
		exit 1
	fi
	echo "== installing $* ($why)"
	[ -n "$updated" ] || as_root apt-get update -q >/dev/null
	updated=yes
	as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends "$@" >/dev/null
}

devices() {
	if ! command -v mosquitto_pub >/dev/null || [ ! -x /usr/sbin/mosquitto ]; then
		install "a broker of devices, for the demo and the tests" mosquitto mosquitto-clients
		# Its package would run it from now on: the demo and the tests run their own.
		! command -v systemctl >/dev/null || as_root systemctl disable --quiet --now mosquitto || true
	fi
}

has_server() { compgen -G '/usr/lib/postgresql/*/bin/postgres' >/dev/null || command -v postgres >/dev/null; }

for need in "$@"; do
	case $need in
	server)
		if ! has_server; then
			# The package would make and start a cluster of its own, unless this says otherwise first.
			install "where PostgreSQL's packages keep their settings" postgresql-common
			as_root sed -ri "s/^#?\s*create_main_cluster\s*=.*/create_main_cluster = false/" /etc/postgresql-common/createcluster.conf
			install "the database of the service" postgresql
		fi
		;;
	browser)
		command -v chromium >/dev/null || install "the console's tests" chromium fonts-dejavu-core
		;;
	devices)
		devices
		;;
	tools)
		devices
		command -v curl >/dev/null || install "a foreign client that posts, for the tests" curl
		command -v ip >/dev/null || install "a network of its own, for the tests" iproute2
		command -v pgrep >/dev/null || install "a look at processes, for the tests" procps
		command -v kcat >/dev/null || install "a foreign client for the broker's tests" kcat
		if ! command -v promtool >/dev/null && [ ! -x bin/tools/usr/bin/promtool ]; then
			# It comes in the package of a server, which is neither needed nor to be started: unpacked only.
			echo "== unpacking promtool from the package prometheus into bin/tools (checks /metrics in the tests)"
			[ -n "$updated" ] || as_root apt-get update -q >/dev/null
			updated=yes
			mkdir -p bin/tools
			(cd bin/tools && apt-get download -q -o APT::Sandbox::User=root prometheus >/dev/null && dpkg-deb -x prometheus_*.deb . && rm prometheus_*.deb)
		fi
		;;
	compiler)
		command -v gcc >/dev/null || install "the race detector" gcc libc6-dev
		;;
	*)
		echo "install.sh: nothing is known of $need" >&2
		exit 2
		;;
	esac
done
