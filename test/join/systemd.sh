#!/bin/sh
# Runs the join line for real on a Debian of its own: a root made by debootstrap, with its own processes and network, in which
# systemd is the first process. Needs root and debootstrap. Call: systemd.sh BIN [ROOT]; ROOT is used again when it is there.
set -eu
BIN=$(cd "$1" && pwd)
ROOT=${2:-$(mktemp -d)/root}
if [ "${BOOT:-}" = yes ]; then
	mount --bind "$ROOT" "$ROOT"
	mount -t proc proc "$ROOT/proc"
	mount --rbind /dev "$ROOT/dev"
	mount -t tmpfs tmpfs "$ROOT/run"
	mount -t tmpfs tmpfs "$ROOT/tmp"
	mount -t tmpfs tmpfs "$ROOT/sys"
	mkdir -p "$ROOT/sys/fs/cgroup" "$ROOT/programs"
	mount -t cgroup2 none "$ROOT/sys/fs/cgroup"
	mount --bind "$BIN" "$ROOT/programs"
	: >"$ROOT/etc/machine-id"
	cp "$(dirname "$0")/catalogue.yaml" "$ROOT/"
	ip link set lo up
	exec chroot "$ROOT" /usr/bin/env -i container=trial PATH=/usr/sbin:/usr/bin:/sbin:/bin /lib/systemd/systemd --log-target=null --show-status=false --unit=multi-user.target
fi
rm -rf "$ROOT/var/lib/synaxis-agent" "$ROOT/etc/systemd/system/synaxis-agent.service" "$ROOT/etc/systemd/system/multi-user.target.wants/synaxis-agent.service" "$ROOT/srv/out" "$ROOT/opt/out" "$ROOT/var/log/scans"
[ -x "$ROOT/lib/systemd/systemd" ] || debootstrap --variant=minbase --include=systemd,systemd-sysv,curl,ca-certificates stable "$ROOT"
BOOT=yes unshare --mount --pid --net --uts --cgroup --fork --kill-child sh "$0" "$BIN" "$ROOT" </dev/null >/dev/null 2>&1 &
outer=$!
trap 'kill -9 $outer 2>/dev/null' EXIT INT TERM
first=
n=0
while [ -z "$first" ] || ! nsenter -t "$first" -m -p -n chroot "$ROOT" systemctl is-system-running 2>/dev/null | grep -q 'running\|degraded'; do
	n=$((n + 1))
	[ $n -lt 100 ] || { echo "systemd does not start here" >&2; exit 1; }
	sleep 0.3
	first=$(cat "/proc/$outer/task/$outer/children" 2>/dev/null | tr -d ' ')
done
nsenter -t "$first" -m -p -n -u -C chroot "$ROOT" env SYSTEMD_IGNORE_CHROOT=1 sh -eu <<'EOF'
cd /tmp
: >service.log
/programs/synaxisd --data /tmp/data --listen 127.0.0.1:7800 --tls-auto 2>service.log &
service=$!
n=0
until grep -q msg=listening service.log; do n=$((n + 1)); [ $n -lt 100 ] || exit 1; sleep 0.1; done
export SYNAXIS_URL=https://127.0.0.1:7800 SYNAXIS_TOKEN=$(cat data/admin.token) SYNAXIS_PIN=$(grep -o 'sha256:[0-9a-f]*' service.log | head -1)
/programs/synaxis draft load /catalogue.yaml >/dev/null
/programs/synaxis draft publish 1 >/dev/null
line=$(/programs/synaxis join-token create --label role=relay | grep join.sh)
mkdir -m 1777 /srv/out
echo "$ $line --name relay-1"
sh -c "$line --name relay-1"
echo "$ systemctl status synaxis-agent"
systemctl status synaxis-agent --no-pager | head -8
[ "$(systemctl is-enabled synaxis-agent)" = enabled ]
pid=$(systemctl show -p MainPID --value synaxis-agent)
grep '^CapAmb' /proc/$pid/status
grep -q '^CapAmb:.*0400$' /proc/$pid/status # CAP_NET_BIND_SERVICE and nothing else
[ "$(stat -c %U /proc/$pid)" = synaxis-agent ]
[ "$(systemctl show -p MemoryMax --value synaxis-agent)" = 67108864 ]
[ "$(systemctl show -p CPUQuotaPerSecUSec --value synaxis-agent)" = 200ms ]
echo "$ what the unit closes"
[ "$(systemctl show -p ProtectSystem --value synaxis-agent)" = strict ]
[ "$(systemctl show -p PrivateTmp --value synaxis-agent)" = yes ]
systemctl show -p ReadWritePaths --value synaxis-agent | tee /dev/stderr | grep -q /srv/out
! grep -l "$(sed 's/.*SYNAXIS_JOIN_TOKEN=\([^ ]*\).*/\1/' <<LINE
$line
LINE
)" /proc/[0-9]*/cmdline
echo "$ a record, into the folder that the unit opens"
mkdir -p /var/log/scans
echo "a record" >/var/log/scans/lane-1.log
awk 'BEGIN { RS = ORS = "---\n" } !/bridge|away/' /catalogue.yaml >plain.yaml # this agent has no listeners
sed -i 's/hosts: {role: relay}/hosts: {role: shelf}/' plain.yaml
/programs/synaxis host label relay-1 role=shelf >/dev/null
/programs/synaxis draft load plain.yaml >/dev/null
/programs/synaxis draft publish 2 >/dev/null
/programs/synaxis rollout start >/dev/null
n=0
until grep -q "a record" /srv/out/scans.ndjson 2>/dev/null; do n=$((n + 1)); [ $n -lt 100 ] || { journalctl -u synaxis-agent | tail -20; exit 1; }; sleep 0.1; done
cat /srv/out/scans.ndjson
echo "$ another folder is refused, with what to do"
sed 's#/srv/out/#/opt/out/#' plain.yaml >other.yaml
mkdir -p /opt/out
/programs/synaxis draft load other.yaml >/dev/null
/programs/synaxis draft publish 3 >/dev/null
/programs/synaxis rollout start >/dev/null
n=0
until /programs/synaxis host show relay-1 -o json | grep "paste the join line"; do n=$((n + 1)); [ $n -lt 50 ] || { /programs/synaxis host show relay-1; exit 1; }; sleep 0.1; done
echo "$ a link in the agent's folder gets no file of root"
echo untouched >/etc/precious
systemctl stop synaxis-agent
rm -f /var/lib/synaxis-agent/identity.json
ln -sf /etc/precious /var/lib/synaxis-agent/join-token
line=$(/programs/synaxis join-token create --host relay-1 | grep join.sh)
sh -c "$line --name relay-1" >/dev/null
[ "$(cat /etc/precious)" = untouched ] && [ "$(stat -c %U /etc/precious)" = root ]
echo "$ synaxis host list"
/programs/synaxis host list
echo "$ sh /usr/local/lib/synaxis-agent/join.sh --uninstall --purge"
sh /usr/local/lib/synaxis-agent/join.sh --uninstall --purge --name relay-1
! systemctl cat synaxis-agent >/dev/null 2>&1
[ ! -e /usr/local/bin/synaxis-agent ] && [ ! -e /var/lib/synaxis-agent ]
kill $service
echo "All as it should be."
EOF
